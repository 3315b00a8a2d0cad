package tui

import (
	"strings"
	"testing"
	"time"

	tea "charm.land/bubbletea/v2"
	"github.com/stretchr/testify/assert"

	"pilotrix/core/event"
	"pilotrix/core/logbook"
)

// TestAReplayIsTurnedByKeys gives each key to the player, shows where it is, and starts again in the same view and
// window.
func TestAReplayIsTurnedByKeys(t *testing.T) {
	var asked []logbook.Move
	r := newReplay(t.Context(), ReplayOptions{Theme: "light", Leader: "ctrl+g", Player: &logbook.Player{}})
	again := r.again
	r.again = func() *app {
		a := again()
		a.player = func(m logbook.Move) { asked = append(asked, m) }
		return a
	}
	r.Update(tea.WindowSizeMsg{Width: 120, Height: 30})
	at := time.Date(2026, 3, 2, 14, 0, 0, 0, time.Local)
	events := []event.Event{}
	for i, body := range rescue() {
		events = append(events, event.Event{Seq: int64(i + 1), At: at.Add(time.Duration(i) * time.Second), Body: body})
	}
	r.Update(playedMsg{Events: events, At: at, Speed: 8})
	r.Update(tea.KeyPressMsg{Code: tea.KeyF3})
	text := strings.Join(shown(r.app, 120, 30), "\n")
	assert.Contains(t, text, "Replay, 14:00:00, 8 times as fast.")
	assert.Contains(t, text, "hollow-rtr1")

	r.Update(playedMsg{Again: true, Events: events[:1], At: at, Speed: 16, Paused: true})
	text = strings.Join(shown(r.app, 120, 30), "\n")
	assert.Contains(t, text, "16 times as fast. Paused.")
	assert.Equal(t, "course", r.places[r.app.shown].name, "the view stays")
	assert.Equal(t, 120, r.width)
	assert.False(t, r.theme.Dark)
	assert.Nil(t, r.state.Run, "what comes later is not known yet")

	for _, key := range []tea.KeyPressMsg{{Code: tea.KeySpace, Text: " "}, {Code: 'n', Text: "n"}, {Code: 'b', Text: "b"}, {Code: 'N', Text: "N"}, {Code: 'B', Text: "B"}, {Code: '+', Text: "+"}, {Code: '-', Text: "-"}} {
		r.Update(key)
	}
	assert.Equal(t, []logbook.Move{
		logbook.PauseOrGoOn, logbook.NextStep, logbook.StepBefore, logbook.MinuteOn, logbook.MinuteBack, logbook.Faster,
		logbook.Slower,
	}, asked)
	r.Update(playedMsg{At: at, Speed: 16, Over: true})
	assert.Contains(t, strings.Join(shown(r.app, 120, 30), "\n"), "The replay is over.")
}
