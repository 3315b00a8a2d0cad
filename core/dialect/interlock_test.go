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
  - {pending: swung, after: '^swing \S+ (?P<minutes>\d+)$', until: '^settle\b', begins: restart, left: swung.left, says: it swings back}
  - {pending: timed, after: '^restart in (?:(?P<hours>\d+) h )?(?P<minutes>\d+) min$', until: '^restart never$', left: timed.left, says: it restarts}
readings:
  - {reading: state, command: state, facts: [{fact: swung.left, pattern: 'swung (\d+)', as: number}, {fact: timed.left, pattern: 'timed (\d+)', as: number}]}
restarts: ['^recommence\b', '^power off\b', '^swing\b']
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
	assert.Equal(t, []Open{{Name: "trial", Says: "the old release comes back", Until: noon.Add(5 * time.Minute)}},
		opened)
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

func locked(t *testing.T) *Interlocks {
	d, err := Parse("locks.yaml", []byte(locks))
	require.NoError(t, err)
	return d.NewInterlocks()
}

func TestTheCommandSaysHowLongItIsPending(t *testing.T) {
	for command, within := range map[string]time.Duration{
		"swing 5.4 20": 20 * time.Minute, "restart in 5 min": 5 * time.Minute, "restart in 2 h 5 min": 125 * time.Minute,
	} {
		opened, _ := locked(t).Typed(command, noon)
		require.Len(t, opened, 1, command)
		assert.Equal(t, noon.Add(within), opened[0].Until, command)
	}
}

// TestWhatBeginsWithARestartOutlivesItOnce: the next restart ends it.
func TestWhatBeginsWithARestartOutlivesItOnce(t *testing.T) {
	k := locked(t)
	k.Typed("swing 5.4 20", noon)
	assert.True(t, k.Begins())
	assert.Empty(t, k.Restarted())
	assert.Len(t, k.Pending(), 1)
	assert.False(t, k.Begins())
	assert.Len(t, k.Restarted(), 1)
	assert.Empty(t, k.Pending())

	k.Typed("swing 5.4 20", noon)
	assert.Len(t, k.Refused(), 1, "the device came back to a prompt and did not restart")
	assert.Empty(t, k.Pending())
	k.Typed("swing 5.4 20", noon)
	k.Begun()
	assert.Empty(t, k.Refused(), "it went behind a line that was lost")
	assert.Len(t, k.Pending(), 1)
}

func TestAReadingPutsRightWhatWasComputed(t *testing.T) {
	k := locked(t)
	opened, ended := k.Read("swung.left", 90, noon)
	require.Len(t, opened, 1, "found at the start")
	assert.Equal(t, noon.Add(90*time.Second), opened[0].Until)
	assert.Empty(t, ended)
	opened, _ = k.Read("swung.left", 89, noon.Add(time.Second))
	assert.Empty(t, opened, "it is what is known")
	opened, _ = k.Read("swung.left", 300, noon.Add(2*time.Second))
	assert.Len(t, opened, 1, "somebody gave it more")
	assert.Len(t, k.Pending(), 1)
	opened, ended = k.Read("timed.left", 0, noon)
	assert.Empty(t, opened)
	assert.Empty(t, ended)
	_, ended = k.Read("swung.left", 0, noon)
	assert.Len(t, ended, 1)
	opened, ended = k.Read("something.else", 5, noon)
	assert.Empty(t, opened)
	assert.Empty(t, ended)
}

func TestWhatDealsWithIt(t *testing.T) {
	d, err := Parse("locks.yaml", []byte(locks))
	require.NoError(t, err)
	assert.Equal(t, []string{"choice", "name"}, d.DealtWithBy(" stow  all"))
	assert.Empty(t, d.DealtWithBy("restart in 5 min"))
	assert.Equal(t, []string{"choice", "name", "trial", "swung", "timed"}, d.PendingNames())
}
