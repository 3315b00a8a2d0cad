package events

import (
	"fmt"
	"strings"
	"testing"
	"time"

	tea "charm.land/bubbletea/v2"
	"github.com/stretchr/testify/assert"

	"pilotrix/core/event"
	"pilotrix/tui/theme"
	"pilotrix/tui/view"
)

// happen takes events in, a second apart.
func happen(v *Events, bodies ...event.Body) {
	at := time.Date(2026, 3, 2, 14, 0, 0, 0, time.UTC)
	for i, body := range bodies {
		v.Apply([]event.Event{{Seq: int64(i), At: at.Add(time.Duration(i) * time.Second), Body: body}})
	}
}

func drawn(v *Events, rows int) string {
	var out []string
	for _, line := range v.Draw(view.Room{Theme: theme.Dark(), Width: 100, Rows: rows}) {
		var text strings.Builder
		for _, piece := range line {
			text.WriteString(piece.Text)
		}
		out = append(out, text.String())
	}
	return strings.Join(out, "\n")
}

func press(v *Events, key rune) {
	k := tea.Key{Code: key}
	if key > ' ' && key < 128 {
		k.Text = string(key)
	}
	v.Keys().Press(tea.KeyPressMsg(k))
}

func exchanges() []event.Body {
	return []event.Body{
		event.Helm{Who: event.Hand, Why: "typing"},
		event.Out{Who: event.Hand, Bytes: event.Text("look banks\r")},
		event.In{Bytes: event.Text("look banks\r\n")},
		event.Asked{
			Number: 1,
			Who:    event.Hand,
			Mode:   "admin",
			Prompt: "gw // ",
			Text:   "look banks",
			Seen:   event.SeenDrawn,
		},
		event.In{Bytes: event.Text("  A 7.4\r\n*log: port up\r\n")},
		event.Noise{Text: "*log: port up"},
		event.In{Bytes: event.Text("  B 7.6\r\ngw // ")},
		event.Answered{Number: 1, End: event.EndPrompt, Rows: 2, Took: 400 * time.Millisecond},
		event.Asked{Number: 2, Who: event.Hand, Mode: "admin", Prompt: "gw // ", Seen: event.SeenSecret},
	}
}

// TestWhatWasAskedStandsWithItsAnswer: the command and how long it took, the answer by a key, the keys by another one.
func TestWhatWasAskedStandsWithItsAnswer(t *testing.T) {
	v := New()
	happen(v, exchanges()...)
	all := drawn(v, 20)
	assert.Contains(t, all, "gw // look banks")
	assert.Contains(t, all, "2 rows  0.4 s")
	assert.Contains(t, all, "not shown by the device")
	assert.Contains(t, all, "answering …")
	assert.NotContains(t, all, "B 7.6")
	assert.NotContains(t, all, "typed")
	press(v, tea.KeyDown)
	press(v, tea.KeyDown)
	press(v, tea.KeyEnter)
	assert.Contains(t, drawn(v, 20), "              A 7.4\n                B 7.6", "without the log line")
	press(v, tea.KeyEnter)
	assert.NotContains(t, drawn(v, 20), "B 7.6")
	press(v, 'k')
	assert.Contains(t, drawn(v, 20), `hand typed "look banks\r"`)
}

// TestAStepThatWentWellStandsBehindAKey: what it asked is there.
func TestAStepThatWentWellStandsBehindAKey(t *testing.T) {
	v := New()
	happen(v, event.StepBegin{ID: "1.1", Try: 1}, event.StepEnd{ID: "1.1", Outcome: event.Done},
		event.StepEnd{ID: "1.2", Outcome: event.Failed, Message: "no room"})
	shown := drawn(v, 20)
	assert.Contains(t, shown, "no room")
	assert.NotContains(t, shown, "1.1")
	press(v, 'k')
	shown = drawn(v, 20)
	assert.Contains(t, shown, "1.1, try 1")
	assert.Contains(t, shown, "1.1 done")
}

// TestAnswersAreKeptWithinBounds: of a flood, and of ten thousand exchanges.
func TestAnswersAreKeptWithinBounds(t *testing.T) {
	v := New()
	for n := range 6000 {
		happen(v, event.Asked{Number: n, Text: fmt.Sprint("look ", n), Seen: event.SeenDrawn},
			event.In{Bytes: event.Text(strings.Repeat("x", 8<<10))}, event.Answered{Number: n, Rows: 1})
	}
	assert.LessOrEqual(t, v.size, maxOfAnswers)
	assert.Len(t, v.kept, maxKept)
	v = New()
	happen(v, event.Asked{Number: 1, Text: "log", Seen: event.SeenDrawn})
	for range 1000 {
		happen(v, event.In{Bytes: event.Text(strings.Repeat("x", 8<<10))})
	}
	assert.LessOrEqual(t, v.size, maxOfAnswer)
}
