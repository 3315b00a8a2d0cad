package dialect

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"pilotrix/core/device"
)

const gated = `
dialect: gated
modes: [{mode: ready, prompt: '^> $'}]
readings: [{reading: self, command: self, facts: [{fact: running.release, pattern: 'release (\S+)', as: release}]}]
actions:
  - {action: all-in-one, command: sweep, done: swept, since: "5.4", instead: it is done one by one}
  - {action: by-floppy, command: insert, done: inserted, until: "6.0"}
  - {action: always, command: go, done: gone}
`

func TestAReleaseLacksWhatIsThereBeforeOrBehindIt(t *testing.T) {
	d, err := Parse("gated.yaml", []byte(gated))
	require.NoError(t, err)
	for release, want := range map[string]map[string]any{
		"5.3.9":   {"all_in_one": false, "by_floppy": true, "always": true},
		"5.4-rc1": {"all_in_one": false, "by_floppy": true, "always": true},
		"5.4":     {"all_in_one": true, "by_floppy": true, "always": true},
		"5.10":    {"all_in_one": true, "by_floppy": true, "always": true},
		"6.0":     {"all_in_one": true, "by_floppy": false, "always": true},
	} {
		running, err := device.ParseRelease(release)
		require.NoError(t, err)
		assert.Equal(t, want, d.Can(running), release)
	}
	old, err := device.ParseRelease("5.2")
	require.NoError(t, err)
	assert.Equal(t, "5.2 has no “all-in-one”: it is there from 5.4 on; it is done one by one",
		d.Action("all-in-one").Lacks(old))
	late, err := device.ParseRelease("6.1")
	require.NoError(t, err)
	assert.Equal(t, "6.1 has no “by-floppy” any more: it was there before 6.0", d.Action("by-floppy").Lacks(late))
	for name, known := range map[string]bool{"can.all_in_one": true, "lacks.all_in_one": true, "can": true, "can.fly": false, "lacks.all-in-one": false} {
		assert.Equal(t, known, d.Knows(name), name)
	}
	assert.Equal(t, "5.2 has no “all-in-one”: it is there from 5.4 on; it is done one by one",
		d.Lacking(old)["all_in_one"])
}

// TestWhatTheReleaseRefusesIsHeldAtItsEnter, whoever types it, once it is known which one runs.
func TestWhatTheReleaseRefusesIsHeldAtItsEnter(t *testing.T) {
	d, err := Parse("gated.yaml", []byte(gated))
	require.NoError(t, err)
	k := d.NewInterlocks()
	assert.True(t, k.Any())
	assert.Empty(t, k.Stops("sweep all"))
	k.Runs("5.2")
	assert.Equal(t, "will be refused: 5.2 has no “all-in-one”: it is there from 5.4 on; it is done one by one",
		k.Stops(" sweep  all"))
	assert.Empty(t, k.Stops("sweeping"))
	assert.Empty(t, k.Stops("go"))
	k.Restarted()
	assert.Empty(t, k.Stops("sweep all"), "another one may run")
	k.Runs("5.4")
	assert.Empty(t, k.Stops("sweep all"))
}
