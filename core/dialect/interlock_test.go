package dialect

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const locks = `
dialect: locks
modes: [{mode: ready, prompt: '^> $'}]
pending:
  - {pending: choice, after: '^favour\b', until: '^stow\b', says: the choice}
  - {pending: name, after: '^name\b', until: '^stow\b', says: the name}
  - {pending: trial, after: '^try\b', until: '^keep\b', within: 5m, says: the old release comes back}
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
	k.Typed("favour  B", noon)
	k.Typed("name x", noon)
	assert.Equal(t, "restarts the device, and this is lost by it: the choice; the name", k.Stops("power off"))
	k.Typed("stow", noon)
	assert.Empty(t, k.Stops("recommence"))
	k.Typed("favour A", noon)
	k.Restarted()
	assert.Empty(t, k.Pending())
	assert.True(t, k.Any())
	assert.EqualValues(t, 90_000, d.FetchRate())
	assert.True(t, d.Headers()[0].InName)
}

func TestWithoutADialectNothingIsStopped(t *testing.T) {
	var d *Dialect
	k := d.NewInterlocks()
	k.Typed("favour A", noon)
	assert.Empty(t, k.Stops("recommence"))
	assert.False(t, k.Any())
	assert.Equal(t, "\r", d.Enter())
}

var noon = time.Date(2026, 3, 2, 12, 0, 0, 0, time.UTC)

func TestWhatRunsOutByItselfHasADeadline(t *testing.T) {
	d, err := Parse("locks.yaml", []byte(locks))
	require.NoError(t, err)
	k := d.NewInterlocks()
	opened, dealt := k.Typed("try 8.1", noon)
	assert.Equal(t, []Open{{"trial", "the old release comes back", noon.Add(5 * time.Minute)}}, opened)
	assert.Empty(t, dealt)
	assert.Equal(t, "restarts the device while this is pending: the old release comes back", k.Stops("recommence"))
	opened, _ = k.Typed("try 8.2", noon.Add(time.Minute))
	assert.Equal(t, noon.Add(6*time.Minute), opened[0].Until, "begun anew")
	assert.Len(t, k.Pending(), 1)
	assert.Empty(t, k.RanOut(noon.Add(5*time.Minute)))
	assert.Len(t, k.RanOut(noon.Add(6*time.Minute)), 1)
	assert.Empty(t, k.Pending())
	k.Typed("try 8.1", noon)
	_, dealt = k.Typed("keep", noon)
	assert.Len(t, dealt, 1)
	assert.Empty(t, k.Stops("recommence"))
}
