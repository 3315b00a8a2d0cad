// Package events is the view of what happened in the session, the newest first: what was asked of the device and what
// it answered, and what else happened in between. By a key every event and every key that was typed stand there
// instead.
package events

import (
	"fmt"
	"slices"
	"strings"

	tea "charm.land/bubbletea/v2"

	"pilotrix/core/event"
	"pilotrix/core/exchange"
	"pilotrix/core/units"
	"pilotrix/tui/keys"
	"pilotrix/tui/paint"
	"pilotrix/tui/theme"
	"pilotrix/tui/view"
)

// Events is the view's model.
type Events struct {
	choice view.Choice
	kept   []*entry
	open   *entry // the exchange that goes on, nil for none
	size   int    // bytes that are kept of answers
	all    bool   // every event is shown
	shows  *entry // whose answer is shown, nil for none
}

// entry is an event, or a whole exchange.
type entry struct {
	event.Event
	asked  bool
	over   *event.Answered
	answer []event.Event // what came until its end
	size   int
}

const (
	// maxKept is how many events are kept; all of them are in the logbook.
	maxKept = 4000
	// maxOfAnswer is how much of one answer is kept, in bytes.
	maxOfAnswer = 256 << 10
	// maxOfAnswers is how much of all of them.
	maxOfAnswers = 8 << 20
)

// New makes the view.
func New() *Events { return &Events{choice: view.Choice{At: -1}} }

// Apply takes events in. What comes many times a second is shown elsewhere.
func (v *Events) Apply(batch []event.Event) {
	for _, e := range batch {
		switch b := e.Body.(type) {
		case event.In:
			v.answered(e, len(b.Bytes))
			continue
		case event.Transfer, event.StepNow, event.Probe, event.Rung, event.Shelf:
			continue
		case event.Noise, event.Terminal:
			v.answered(e, 0)
		case event.Asked:
			v.open = &entry{Event: e, asked: true}
			v.keep(v.open)
			continue
		case event.Answered:
			if v.open != nil && v.open.Body.(event.Asked).Number == b.Number {
				v.answered(e, 0)
				v.open.over, v.open = &b, nil
			}
			continue
		}
		v.keep(&entry{Event: e})
	}
}

func (v *Events) keep(one *entry) {
	v.kept = append(v.kept, one)
	if v.choice.At >= 0 && v.seen(one) {
		v.choice.At++ // the chosen one moves down
	}
	if len(v.kept) > maxKept {
		v.forget(v.kept[0])
		v.kept = v.kept[1:]
	}
}

// forget gives the answer of an exchange up.
func (v *Events) forget(one *entry) {
	v.size -= one.size
	one.answer, one.size = nil, 0
}

// answered keeps what came within the exchange that goes on.
func (v *Events) answered(e event.Event, bytes int) {
	if v.open == nil || v.open.size+bytes > maxOfAnswer {
		return
	}
	v.open.answer = append(v.open.answer, e)
	v.open.size += bytes
	v.size += bytes
	for i := 0; v.size > maxOfAnswers; i++ { // the oldest go first
		v.forget(v.kept[i])
	}
}

// seen reports whether an entry stands in the list now.
func (v *Events) seen(one *entry) bool {
	if one.asked {
		return true
	}
	switch b := one.Body.(type) {
	case event.Out,
		event.Fact,
		event.Mode,
		event.Prompt,
		event.Noise,
		event.Check,
		event.Estimates,
		event.Signals,
		event.StepBegin:
		return v.all
	case event.StepEnd:
		return v.all || b.Outcome != event.Done // what it asked stands there
	case event.Restart:
		return v.all || b.Over
	}
	text, _ := event.Report(one.Body)
	return text != ""
}

// list is what stands there, the newest first.
func (v *Events) list() (all []*entry) {
	for _, one := range slices.Backward(v.kept) {
		if v.seen(one) {
			all = append(all, one)
		}
	}
	return all
}

// Keys implements view.View.
func (v *Events) Keys() keys.Map {
	list := v.list()
	at := v.choice.At
	chosen := at >= 0 && at < len(list) && list[at].asked
	name := "every event"
	if v.all {
		name = "what was asked"
	}
	return append(keys.Map{
		keys.New("Enter", "answer", keys.Just(func() { v.toggle(list[at]) }), "enter").
			Explain("shows what the device answered to the chosen command, or hides it").
			If(chosen),
		keys.New("k", name, keys.Just(func() { v.all, v.choice.At, v.shows = !v.all, -1, nil }), "k").
			Explain("shows every event and every key that was typed, or what was asked and answered again"),
	}, v.choice.Keys(func() int { return len(v.list()) })...)
}

func (v *Events) toggle(one *entry) {
	if v.shows == one {
		one = nil
	}
	v.shows = one
}

// Wheel moves by the mouse.
func (v *Events) Wheel(rows int) { v.choice.Wheel(rows) }

// Update implements view.View.
func (v *Events) Update(tea.Msg) tea.Cmd { return nil }

// Draw implements view.View.
func (v *Events) Draw(r view.Room) []paint.Line {
	t := r.Theme
	lines := []paint.Line{{paint.In(t.Quiet, "newest first; every byte is in the logbook: pilotrix logbook list")}, nil}
	from, to := 0, 0
	for i, one := range v.list() {
		if i == v.choice.At {
			from = len(lines)
		}
		line := one.line(t, r.Width)
		if i == v.choice.At {
			line = line.Fit(r.Width).On(t.Strip)
		}
		lines = append(lines, line)
		if one == v.shows {
			lines = append(lines, one.rows(t, r.Width)...)
		}
		if i == v.choice.At {
			to = len(lines)
		}
	}
	v.choice.InSight(from, to, r.Rows)
	return v.choice.Window(lines, r.Rows)
}

// line shows an entry.
func (one *entry) line(t theme.Theme, width int) paint.Line {
	when := paint.In(t.Faint, one.At.Format("15:04:05.000  "))
	if one.asked {
		return one.asks(t, when, width)
	}
	text, loud := event.Report(one.Body)
	look := paint.In(t.Text, text)
	if loud {
		look = paint.Strong(t.Here, text)
	}
	return paint.Line{when, paint.In(t.Quiet, fmt.Sprintf("%-15s", event.KindOf(one.Body))), look}.Cut(width)
}

// asks shows an exchange: who asked what, how long the answer took and how it ended.
func (one *entry) asks(t theme.Theme, when paint.Piece, width int) paint.Line {
	asked := one.Body.(event.Asked)
	text := paint.Strong(t.Bright, asked.Text)
	if asked.Seen == event.SeenSecret {
		text = paint.In(t.Quiet, "not shown by the device, and not recorded")
	}
	left := paint.Line{
		when,
		paint.In(t.Quiet, fmt.Sprintf("%-15s", asked.Who)),
		paint.In(t.Good, strings.TrimLeft(asked.Prompt, " ")),
		text,
	}
	right := paint.Line{paint.In(t.Here, "answering …")}
	if one.over != nil {
		right = paint.Line{
			paint.In(t.Quiet, fmt.Sprintf("%s  %.1f s", units.Many(one.over.Rows, "row"), one.over.Took.Seconds())),
		}
		switch {
		case one.over.Refused != "":
			right = append(paint.Line{paint.Strong(t.Bad, "refused  ")}, right...)
		case one.over.EndText() != "":
			right = append(paint.Line{paint.In(t.Here, one.over.EndText()+"  ")}, right...)
		}
	}
	return paint.Between(left.Cut(max(0, width-right.Width()-1)), right, width).Cut(width)
}

// rows are the answer to an exchange, as it was drawn, and the questions within.
func (one *entry) rows(t theme.Theme, width int) (lines []paint.Line) {
	indent := strings.Repeat(" ", 14)
	if one.answer == nil && one.over != nil && one.over.Rows > 0 {
		return []paint.Line{{paint.In(t.Quiet, indent+"it is not kept here any more; it is in the logbook")}}
	}
	read := exchange.NewReader(func(x exchange.Recorded) {
		for _, row := range x.Answer {
			lines = append(lines, paint.Line{paint.In(t.Text, indent+row)}.Cut(width))
		}
	}, func(string) {})
	read.Event(one.Event)
	for _, e := range one.answer {
		read.Event(e)
	}
	read.End()
	if len(lines) == 0 {
		lines = append(lines, paint.Line{paint.In(t.Quiet, indent+"nothing was answered")})
	}
	return lines
}
