package main

import (
	"bytes"
	"encoding/json"
	"io"
	"strings"
	"testing"

	"github.com/spf13/cobra"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestWhatIsListedHasASchema asks every command that prints JSON for the schema of it, without any argument.
func TestWhatIsListedHasASchema(t *testing.T) {
	listed := 0
	var each func(cmd *cobra.Command)
	each = func(cmd *cobra.Command) {
		for _, one := range cmd.Commands() {
			each(one)
		}
		if cmd.Flags().Lookup("json-schema") == nil {
			return
		}
		listed++
		var out bytes.Buffer
		root := (&program{out: &out, err: io.Discard}).root()
		root.SetArgs(append(strings.Fields(cmd.CommandPath())[1:], "--json-schema", "--logbook", "none"))
		require.NoError(t, root.Execute(), cmd.CommandPath())
		var schema map[string]any
		require.NoError(t, json.Unmarshal(out.Bytes(), &schema), cmd.CommandPath())
		assert.Contains(t, schema["$schema"], "json-schema.org", cmd.CommandPath())
		assert.Contains(t, []any{"array", "object"}, schema["type"], cmd.CommandPath())
	}
	each((&program{out: io.Discard, err: io.Discard}).root())
	assert.GreaterOrEqual(t, listed, 11)
}
