package main

import (
	"bytes"
	"io"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestTheShellIsOfferedWhatThereIs asks as a shell does while a command is typed.
func TestTheShellIsOfferedWhatThereIs(t *testing.T) {
	for _, c := range []struct {
		typed []string
		want  []string
	}{
		{[]string{"run", ""}, []string{"rescue-over-serial", "standby-bank-upgrade"}},
		{[]string{"open", "--run", "res"}, []string{"rescue-over-serial"}},
		{[]string{"run", "standby-bank-upgrade", "--from", ""}, []string{"read it", "confirm"}},
		{[]string{"run", "standby-bank-upgrade", "--set", ""}, []string{"protocol=sftp", "user="}},
		{[]string{"run", "rescue-over-serial", "--approve", ""}, []string{"all", "Start the image"}},
		{[]string{"logbook", "draw", "1", ""}, []string{"course", "ladder"}},
		{[]string{"logbook", "list", "--end", ""}, []string{"cut off"}},
		{[]string{"bench", ""}, []string{"mare-gw1"}},
		{[]string{"demo", ""}, []string{"bank-upgrade"}},
		{[]string{"open", "bench:x", "--dialect", ""}, []string{"cormel-g2", "none"}},
		{[]string{"--theme", ""}, []string{"light"}},
	} {
		var out bytes.Buffer
		root := (&program{out: io.Discard, err: io.Discard}).root()
		root.SetOut(&out)
		root.SetErr(io.Discard)
		root.SetArgs(append([]string{"__complete"}, c.typed...))
		require.NoError(t, root.Execute(), c.typed)
		for _, want := range c.want {
			assert.Contains(t, out.String(), want, c.typed)
		}
		assert.NotContains(t, out.String(), "password=", "no secret is asked for on a command line")
	}
}
