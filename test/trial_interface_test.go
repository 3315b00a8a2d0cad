//go:build !race

package test

import (
	"regexp"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// untilLike waits for what a pattern finds.
func (term *terminal) untilLike(pattern string) string {
	term.t.Helper()
	re := regexp.MustCompile(pattern)
	var screen string
	require.Eventually(term.t, func() bool {
		screen = term.screen()
		return re.MatchString(screen)
	}, 3*time.Minute, 50*time.Millisecond, "never %s", pattern)
	return screen
}

// pausedOnTrial goes through the demo until the new release runs on trial, with the helm taken while it restarted.
func pausedOnTrial(t *testing.T, cols, rows int) *terminal {
	t.Helper()
	term := startTerminal(t, cols, rows, "demo", "trial", "--time-scale", "16")
	screen := term.until("on trial for 15 minutes")
	assert.Contains(t, screen, "swing 5.4 15", "the strip says what it will type")
	assert.Contains(t, screen, "comes back by itself")
	term.approve()
	term.until("starting marl 5.4")
	term.keys("F10")
	term.until("helm  HAND")
	term.until("account:")
	return term
}

// TestATrialConfirmedInTheInterface gives the helm back when little of the trial is left.
func TestATrialConfirmedInTheInterface(t *testing.T) {
	t.Parallel()
	term := pausedOnTrial(t, 160, 40)
	term.untilLike(`due 0[34]:\d\d`)
	term.keys("F10")
	term.until("Give the helm back")
	screen := term.enters("4 things proved")
	assert.NotContains(t, screen, "STILL OPEN")
	term.keys("F5")
	screen = term.until("runs and lasts")
	assert.Contains(t, screen, "A restart, or a power cut, starts 5.4, as now.")
}

// TestATrialThatRunsOutInTheInterface leaves it alone until the device has gone back.
func TestATrialThatRunsOutInTheInterface(t *testing.T) {
	t.Parallel()
	term := pausedOnTrial(t, 80, 24)
	term.until("the trial is over")
	term.until("starting marl 5.2")
	term.until("account:")
	term.keys("F10")
	term.until("Give the helm back")
	screen := term.enters("want 5.4, the device says 5.2")
	assert.Contains(t, screen, "meanwhile ran out")
	assert.NotContains(t, screen, "due ")
	term.answers("Escape", "✗  failed")
	term.keys("F3")
	screen = term.until("lasting one by itself")
	assert.NotContains(t, screen, "STILL OPEN")
}
