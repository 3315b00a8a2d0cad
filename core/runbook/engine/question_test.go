package engine_test

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"pilotrix/core/event"
	"pilotrix/core/sense"
)

// TestACatchPressesNothingBehindAnUnknownQuestion has a device that somebody left at a question: neither the wake nor
// the hunt for a speed, which presses it too, may answer it.
func TestACatchPressesNothingBehindAnUnknownQuestion(t *testing.T) {
	c := &echoing{baud: 9600, lost: sense.State{Asked: "Really drop all of them? [y] ", Free: true}}
	result := runSteps(t, "      - {step: Find it, catch: {mode: ready}, timeout: 1m}\n", c)
	assert.Equal(t, event.Failed, result.Outcome)
	assert.Empty(t, c.typed)
	assert.Zero(t, c.hunts)
	notes := 0
	for _, e := range c.events {
		if note, ok := e.(event.Note); ok && strings.Contains(note.Text, `"Really drop all of them? [y]"`) {
			notes++
		}
	}
	assert.Equal(t, 1, notes, "it is told once")

	c = &echoing{baud: 9600, lost: sense.State{Asked: "loading ", Free: true}}
	runSteps(t, "      - {step: Find it, catch: {mode: ready}, timeout: 1m}\n", c)
	assert.NotEmpty(t, c.typed)
	assert.NotZero(t, c.hunts)
}

// TestACatchHuntsForNoSpeedThatTextHasProved has a device that was legible and is at work now, without a word.
func TestACatchHuntsForNoSpeedThatTextHasProved(t *testing.T) {
	for _, mode := range []string{sense.Unknown, sense.Silent, "away"} {
		c := &echoing{baud: 9600}
		c.lost = sense.State{Mode: mode, Asked: "loading ", Clean: c.Clock().Now().Add(time.Hour), Free: true}
		runSteps(t, "      - {step: Find it, catch: {mode: ready}, timeout: 1m}\n", c)
		assert.NotEmpty(t, c.typed)
		assert.Zero(t, c.hunts, mode)
	}
}
