package dialect

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const locks = `
dialect: locks
modes: [{mode: ready, prompt: '^> $'}]
saves:
  - {after: '^favour\b', by: '^stow\b', says: the choice}
  - {after: '^name\b', by: '^stow\b', says: the name}
restarts: ['^recommence\b', '^power off\b']
dangers: [{pattern: '^wipe bank\b', says: empties a bank}]
fetch: 90 kB
image: [{name: release, pattern: '-(\d+)\.', in: name}]
`

func TestInterlocksKnowWhatARestartLoses(t *testing.T) {
	d, err := Parse("locks.yaml", []byte(locks))
	require.NoError(t, err)
	k := d.NewInterlocks()
	assert.Empty(t, k.Stops("recommence"))
	assert.Equal(t, "empties a bank", k.Stops("  wipe   bank B "))
	k.Typed("favour  B")
	k.Typed("name x")
	assert.Equal(t, "restarts the device, and this is lost by it: the choice; the name", k.Stops("power off"))
	k.Typed("stow")
	assert.Empty(t, k.Stops("recommence"))
	k.Typed("favour A")
	k.Restarted()
	assert.Empty(t, k.Unsaved())
	assert.True(t, k.Any())
	assert.EqualValues(t, 90_000, d.FetchRate())
	assert.True(t, d.Headers()[0].InName)
}

func TestWithoutADialectNothingIsStopped(t *testing.T) {
	var d *Dialect
	k := d.NewInterlocks()
	k.Typed("favour A")
	assert.Empty(t, k.Stops("recommence"))
	assert.False(t, k.Any())
	assert.Equal(t, "\r", d.Enter())
}

func TestComplaintsAboutSavesAndImages(t *testing.T) {
	const head = "dialect: d\nmodes: [{mode: m, prompt: x}]\n"
	for text, says := range map[string]string{
		"saves: [{after: '(', by: x}]":                     "bad pattern",
		"saves: [{after: x}]":                              "the command that saves it (by: …) is missing",
		"restarts: ['(']":                                  "d.yaml:3:12: bad pattern",
		"fetch: quickly":                                   `"quickly" is no size`,
		"image: [{name: a, pattern: '(x)', in: the tail}]": `no place "the tail" to look in; there are header and name`,
		"image: [{name: a, pattern: x}]":                   "the pattern has no group",
	} {
		_, err := Parse("d.yaml", []byte(head+text+"\n"))
		require.Error(t, err, text)
		assert.Contains(t, err.Error(), says)
		assert.Contains(t, err.Error(), "d.yaml:3:")
	}
}
