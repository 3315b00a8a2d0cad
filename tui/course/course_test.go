package course

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"pgregory.net/rapid"

	"pilotrix/core/event"
	"pilotrix/core/state"
	"pilotrix/tui/paint"
	"pilotrix/tui/theme"
)

func text(line paint.Line) string {
	var out strings.Builder
	for _, piece := range line {
		out.WriteString(piece.Text)
	}
	return out.String()
}

// TestTheBarAlwaysFits draws courses of any length in windows of any width: exactly as wide as asked,
// and as long as there is room, a mark for every step.
func TestTheBarAlwaysFits(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		s := state.New()
		steps := rapid.IntRange(1, 60).Draw(t, "steps")
		here := rapid.IntRange(0, steps-1).Draw(t, "here")
		width := rapid.IntRange(10, 300).Draw(t, "width")
		plans := make([]event.StepPlan, steps)
		for i := range plans {
			plans[i] = event.StepPlan{
				ID:       string(rune('a' + i)),
				Phase:    "phase " + string(rune('a'+i/3)),
				Expected: time.Duration(rapid.IntRange(0, 5000).Draw(t, "expected")) * time.Millisecond,
			}
		}
		now := time.Date(2026, 3, 2, 14, 0, 0, 0, time.UTC)
		s.Apply(event.Event{At: now, Body: event.RunBegin{Steps: plans}})
		for i := range here {
			s.Apply(event.Event{At: now, Body: event.StepEnd{ID: plans[i].ID, Outcome: event.Done}})
		}
		s.Apply(event.Event{At: now, Body: event.StepBegin{ID: plans[here].ID, Try: 1}})
		stops, phases := Bar(theme.Dark(), s, width)
		assert.Equal(t, width, stops.Width())
		assert.Equal(t, width, phases.Width())
		if width > 4*steps+1 {
			bar := text(stops)
			assert.Equal(t, here, strings.Count(bar, "●"))
			assert.Equal(t, 1, strings.Count(bar, "◉"))
			assert.Equal(t, steps-here-1, strings.Count(bar, "○"))
		}
	})
}

func TestMarksAreReportedWithoutColour(t *testing.T) {
	s := state.New()
	now := time.Date(2026, 3, 2, 14, 0, 0, 0, time.UTC)
	bodies := []event.Body{
		event.RunBegin{Title: "Rescue", Rollback: "none", Steps: []event.StepPlan{
			{ID: "1", Phase: "a", Title: "first"},
			{ID: "2", Phase: "a", Title: "second", Hold: true},
			{ID: "3", Phase: "b", Title: "third"},
			{ID: "4", Phase: "b", Title: "fourth", Irreversible: true},
			{ID: "5", Phase: "b", Title: "fifth", Hold: true},
		}},
		event.StepBegin{ID: "1"},
		event.StepEnd{ID: "1", Outcome: event.Failed, Message: "no prompt"},
		event.StepBegin{ID: "1", Try: 2},
		event.StepEnd{ID: "1", Outcome: event.Done},
		event.StepEnd{ID: "2", Outcome: event.Done},
		event.StepEnd{ID: "3", Outcome: event.Skipped},
	}
	for _, body := range bodies {
		s.Apply(event.Event{At: now, Body: body})
	}
	stops, _ := Bar(theme.Dark(), s, 60)
	marks := strings.Map(func(r rune) rune {
		if strings.ContainsRune("●◆·▲◇□", r) {
			return r
		}
		return -1
	}, text(stops))
	assert.Equal(t, "●◆·▲◇□", marks)
	var list strings.Builder
	for _, line := range List(theme.Light(), s, 80) {
		list.WriteString(text(line) + "\n")
	}
	for _, want := range []string{"try 2", "skipped", "cannot be undone", "rollback"} {
		assert.Contains(t, list.String(), want)
	}
	s.Apply(event.Event{At: now, Body: event.RunEnd{Outcome: event.Done}})
	stops, _ = Bar(theme.Dark(), s, 60)
	assert.True(t, strings.HasSuffix(text(stops), "■"))
}
