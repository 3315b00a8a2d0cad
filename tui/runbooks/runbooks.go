// Package runbooks is the view in which one is picked: the runbooks that the device's dialect can carry out, what each
// is for and how long it took last time; the single actions of the dialect; and what cannot be carried out, with why.
package runbooks

import (
	"strings"

	tea "charm.land/bubbletea/v2"

	"pilotrix/core/runbook"
	"pilotrix/core/runbook/engine"
	"pilotrix/tui/field"
	"pilotrix/tui/keys"
	"pilotrix/tui/paint"
	"pilotrix/tui/theme"
	"pilotrix/tui/view"
)

// Entry is a runbook that may be picked, or a single action made into one.
type Entry struct {
	Book   *runbook.Runbook
	Name   string
	Title  string
	About  string
	Last   string  // how it went last time, in words
	Single bool    // it is one action
	ByHand *ByHand // it is done at once, and is no run; nil for a runbook
	WhyNot string  // why it cannot be carried out here
}

// ByHand is how something is done that is no run.
type ByHand struct {
	Needs  engine.Needs
	Values map[string]string // of its inputs, as far as they are known
}

// Runbooks is the view's model.
type Runbooks struct {
	choice  view.Choice
	filter  *field.Field
	entries []Entry
	asked   bool
	load    func() []Entry
	pick    func(Entry) tea.Cmd
	say     func(string)
}

// New makes the view. load lists what there is, beside the interface; pick takes what was chosen.
func New(load func() []Entry, pick func(Entry) tea.Cmd, say func(string)) *Runbooks {
	return &Runbooks{filter: field.New(""), load: load, pick: pick, say: say}
}

// loaded is what there is.
type loaded []Entry

// Load lists again what there is: what is known of the device decides it.
func (v *Runbooks) Load() tea.Cmd {
	v.filter.Set("")
	v.choice.To(0, 1)
	return func() tea.Msg { return loaded(v.load()) }
}

// Keys implements view.View.
func (v *Runbooks) Keys() keys.Map {
	return append(v.choice.Keys(func() int { return len(v.seen()) }),
		keys.New("Enter", "fill it in", v.take,
			"enter").Explain("fills in what the chosen one needs; its plan comes before anything is sent"),
		keys.Typed("letters", "filter"))
}

func (v *Runbooks) take() tea.Cmd {
	seen := v.seen()
	if len(seen) == 0 {
		return nil
	}
	if one := seen[v.choice.At]; one.WhyNot == "" {
		return v.pick(one)
	}
	v.say("it cannot be carried out here: " + seen[v.choice.At].WhyNot)
	return nil
}

// Update implements view.View: what is typed filters.
func (v *Runbooks) Update(msg tea.Msg) tea.Cmd {
	if got, ok := msg.(loaded); ok {
		v.entries, v.asked = got, true
		return nil
	}
	if v.filter.Update(msg) {
		v.choice.To(0, len(v.seen()))
	}
	return nil
}

// seen are the entries that the filter leaves: what can be carried out, single actions, and what cannot.
func (v *Runbooks) seen() (all []Entry) {
	words := strings.Fields(strings.ToLower(v.filter.Text()))
	for _, group := range groups {
		for _, e := range v.entries {
			if group.holds(e) && matches(e, words) {
				all = append(all, e)
			}
		}
	}
	return all
}

func matches(e Entry, words []string) bool {
	text := strings.ToLower(e.Name + " " + e.Title + " " + e.About)
	for _, word := range words {
		if !strings.Contains(text, word) {
			return false
		}
	}
	return true
}

var groups = []struct {
	name  string
	holds func(Entry) bool
}{
	{"runbooks for this device", func(e Entry) bool { return !e.Single && e.WhyNot == "" }},
	{"single actions", func(e Entry) bool { return e.Single && e.WhyNot == "" }},
	{"not here", func(e Entry) bool { return e.WhyNot != "" }},
}

// Draw implements view.View.
func (v *Runbooks) Draw(r view.Room) []paint.Line {
	t := r.Theme
	seen := v.seen()
	head := paint.Line{paint.In(t.Quiet, "filter ")}
	lines := []paint.Line{append(head, v.filter.Draw(t, r.Width-8)...), nil}
	switch {
	case !v.asked:
		return append(lines, paint.Line{paint.In(t.Quiet, "looking at what there is …")})
	case len(v.entries) == 0:
		return append(lines, paint.Line{paint.In(t.Quiet, "There are no runbooks.")})
	case len(seen) == 0:
		return append(lines, paint.Line{paint.In(t.Quiet, "None of them is called so. Backspace widens the filter.")})
	}
	at, from, to := 0, 0, 0
	for _, group := range groups {
		first := true
		for ; at < len(seen) && group.holds(seen[at]); at++ {
			if first {
				lines = append(lines,
					paint.Rule(paint.Look{FG: t.Faint}, paint.Line{paint.Strong(t.Quiet, group.name)}, nil, r.Width))
				first = false
			}
			if at == v.choice.At {
				from = len(lines)
			}
			lines = append(lines, row(t, seen[at], at == v.choice.At, r.Width)...)
			if at == v.choice.At {
				to = len(lines)
			}
		}
		if !first {
			lines = append(lines, nil)
		}
	}
	v.choice.InSight(from, to, r.Rows)
	return v.choice.Window(lines, r.Rows)
}

// indent is before what is said of one.
const indent = "     "

// row is an entry; the chosen one with what it is for.
func row(t theme.Theme, e Entry, chosen bool, width int) []paint.Line {
	mark, look := "   ", paint.In(t.Text, e.Title)
	if e.WhyNot != "" {
		look = paint.In(t.Quiet, e.Title)
	}
	if chosen {
		mark, look = " ▸ ", paint.Strong(t.Bright, e.Title)
	}
	left := paint.Line{paint.Strong(t.Here, mark), look}
	if width >= 90 {
		left = append(left, paint.In(t.Faint, "  "+e.Name))
	}
	lines := []paint.Line{paint.Between(left, paint.Line{paint.In(t.Quiet, e.Last)}, width)}
	if e.WhyNot != "" {
		lines = append(lines, paint.Paragraph(indent, paint.Look{FG: t.Quiet}, "✗ "+e.WhyNot, width)...)
	}
	if !chosen {
		return lines
	}
	lines[0] = lines[0].Fit(width).On(t.Strip)
	return append(lines, paint.Paragraph(indent, paint.Look{FG: t.Text}, e.About, width)...)
}
