package test

import (
	"bytes"
	"encoding/json"
	"os"
	"path/filepath"
	"testing"

	"github.com/goccy/go-yaml"
	"github.com/santhosh-tekuri/jsonschema/v6"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"pilotrix/core/dialect"
	"pilotrix/core/image"
	"pilotrix/core/runbook"
	"pilotrix/core/source"
)

// schemaOf compiles the schema that the program prints for editors, with a validator that shares nothing with
// what has made it.
func schemaOf(t *testing.T, document any) *jsonschema.Schema {
	t.Helper()
	text, err := json.Marshal(source.Schema(document))
	require.NoError(t, err)
	parsed, err := jsonschema.UnmarshalJSON(bytes.NewReader(text))
	require.NoError(t, err)
	const whole = "file:///schema.json" // a name alone would be looked for in this folder, whose own may have a blank in it
	compiler := jsonschema.NewCompiler()
	require.NoError(t, compiler.AddResource(whole, parsed))
	schema, err := compiler.Compile(whole)
	require.NoError(t, err)
	return schema
}

// asJSON is YAML as an editor's validator sees it.
func asJSON(t *testing.T, text []byte) any {
	t.Helper()
	var value any
	require.NoError(t, yaml.Unmarshal(text, &value))
	data, err := json.Marshal(value)
	require.NoError(t, err)
	value, err = jsonschema.UnmarshalJSON(bytes.NewReader(data))
	require.NoError(t, err)
	return value
}

func TestEditorsAcceptWhatTheProgramAccepts(t *testing.T) {
	for folder, document := range map[string]any{"dialects": &dialect.Document{}, "runbooks": &runbook.Document{}, "upgrade-paths": &image.UpgradePaths{}} {
		schema := schemaOf(t, document)
		files, err := filepath.Glob(filepath.Join("../core/shipped", folder, "*.yaml"))
		require.NoError(t, err)
		require.NotEmpty(t, files, folder)
		for _, path := range files {
			text, err := os.ReadFile(path)
			require.NoError(t, err)
			assert.NoError(t, schema.Validate(asJSON(t, text)), path)
		}
	}
}

// TestEditorsComplainOfWhatTheProgramComplainsOf has one fault of form in each, which both find.
func TestEditorsComplainOfWhatTheProgramComplainsOf(t *testing.T) {
	dialects, books := schemaOf(t, &dialect.Document{}), schemaOf(t, &runbook.Document{})
	const modes = "modes: [{mode: m, prompt: '^x$'}]\n"
	for _, text := range []string{
		modes, "dialect: d\n", "dialect: d\nmods: []\n" + modes, "dialect: d\n" + modes + "line: {speed: fast}\n", "dialect: d\n" + modes + "line: {flow: some}\n",
		"dialect: d\n" + modes + "actions: [{command: x}]\n", "dialect: d\n" + modes + "actions: [{action: a, command: x, timeout: 10}]\n",
		"dialect: d\n" + modes + "noise: ''\n", "dialect: d\n" + modes + "noise: ['']\n",
	} {
		_, err := dialect.Parse("d.yaml", []byte(text))
		assert.Error(t, err, text)
		assert.Error(t, dialects.Validate(asJSON(t, []byte(text))), text)
	}
	const head = "runbook: r\nphases: [{phase: one, steps: ["
	for _, step := range []string{
		"{note: x}", "{step: x, notes: y}", "{step: x, note: y, timeout: 10}", "{step: x, note: y, retry: -1}",
		"{step: x, check: a > b}", "{step: x, read: self}", "{step: x, note: y, on-failure: {do: panic}}",
		"{step: x, compare: [{want: a, got: b}]}",
	} {
		_, err := runbook.Parse("r.yaml", []byte(head+step+"]}]\n"))
		assert.Error(t, err, step)
		assert.Error(t, books.Validate(asJSON(t, []byte(head+step+"]}]\n"))), step)
	}
	fine := head + "{step: x, let: {a: 3, b: true}}, {step: y, check: {holds: true, message: no}}, {step: z, act: {action: a, with: {slot: 3}}}]}]\n"
	assert.NoError(t, books.Validate(asJSON(t, []byte(fine))), "numbers and yes where text is meant")
	_, err := runbook.Parse("r.yaml", []byte(fine))
	assert.NoError(t, err)
}
