// Package events is the view of what happened in the session, the newest first.
package events

import (
	"fmt"

	"pilotrix/core/event"
	"pilotrix/tui/paint"
	"pilotrix/tui/theme"
	"pilotrix/tui/view"
)

// Events is the view's model.
type Events struct {
	*view.Page
	kept []event.Event
}

// mostKept is how many events are told; all of them are in the logbook.
const mostKept = 4000

// New makes the view.
func New() *Events {
	v := &Events{}
	v.Page = view.NewPage(func(r view.Room) []paint.Line { return v.lines(r.Theme, r.Width) })
	return v
}

// Apply takes events in. What comes many times a second is told elsewhere.
func (v *Events) Apply(batch []event.Event) {
	for _, e := range batch {
		switch e.Body.(type) {
		case event.In, event.Transfer, event.StepNow, event.Probe, event.Rung, event.Shelf:
		default:
			v.kept = append(v.kept, e)
		}
	}
	if over := len(v.kept) - mostKept; over > 0 {
		v.kept = append(v.kept[:0], v.kept[over:]...)
	}
}

func (v *Events) lines(t theme.Theme, width int) []paint.Line {
	lines := []paint.Line{{paint.In(t.Quiet, "newest first; every byte is in the logbook: pilotrix logbook list")}, nil}
	for i := len(v.kept) - 1; i >= 0; i-- {
		e := v.kept[i]
		text, loud := event.Tell(e.Body)
		if text == "" {
			continue
		}
		look := paint.In(t.Text, text)
		if loud {
			look = paint.Strong(t.Here, text)
		}
		lines = append(lines, paint.Line{paint.In(t.Faint, e.At.Format("15:04:05.000  ")), paint.In(t.Quiet, fmt.Sprintf("%-15s", event.KindOf(e.Body))), look}.Cut(width))
	}
	return lines
}
