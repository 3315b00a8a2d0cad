//go:build !race

package test

import (
	"os"
	"os/exec"
	"path/filepath"
	"testing"
	"testing/synctest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"pilotrix/core/event"
	"pilotrix/core/exchange"
	"pilotrix/core/shipped"
)

// tryOn holds a dialect against what a device drew in a run: nothing but garble is unknown, and nothing is looked
// for in vain.
func tryOn(t *testing.T, name string, events []event.Event) {
	t.Helper()
	d, err := shipped.Dialect(name)
	require.NoError(t, err)
	trial := d.NewTrial()
	reader := exchange.NewReader(trial.Exchange, trial.Line)
	for _, e := range events {
		reader.Event(e)
	}
	reader.Rest()
	lines, _ := trial.Result()
	facts := 0
	for _, line := range lines {
		assert.True(t, line.Known(), "nothing knows %q", line.Line)
		assert.Empty(t, line.Faults, line.Line)
		facts += len(line.Matches)
	}
	assert.Greater(t, len(lines), 40)
	assert.Greater(t, facts, len(lines)/2)
}

func TestTheDialectsKnowAllOfBothDemos(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		r := newRig(t, "R40-2", 9600, approveAll, nil)
		defer r.close()
		require.Equal(t, event.Done, r.run().Outcome)
		tryOn(t, "brindle-r40", r.kept())
	})
	inGateway(t, gatewayOptions{}, func(t *testing.T, g *gateway) {
		require.Equal(t, event.Done, g.run().Outcome)
		tryOn(t, "cormel-g2", g.kept())
	})
}

// TestTryFromTheCommandLine tries a dialect on a text, and says by its exit code whether something is missing.
func TestTryFromTheCommandLine(t *testing.T) {
	text := filepath.Join(tempDir(t), "console.txt")
	require.NoError(t,
		os.WriteFile(text,
			[]byte("sill: about\n  model         R40-2\n  monitor       sill 1.3\n  architecture  wren32\n  speed kept    9600\nsill: store\n  nothing of use\nwhat is this\nsill: \n"),
			0o600))
	out, err := exec.Command(program, "dialect", "try", "brindle-r40", text).CombinedOutput()
	require.Error(t, err, "%s", out)
	for _, want := range []string{"prompt monitor · reading about", "fact device.model = R40-2", "✗", "reading store: no store.free", "never seen here: ", "0 of them (?)"} {
		assert.Contains(t, string(out), want)
	}
	out, err = exec.Command(program, "dialect", "try", "brindle-r40").CombinedOutput()
	require.Error(t, err)
	assert.Contains(t, string(out), "say what to try it on")
}
