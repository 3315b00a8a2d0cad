// Package device is the view of what is known of the device: its banks, and every fact that was read, with the command
// that told it, when, and what it was before.
package device

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	tea "charm.land/bubbletea/v2"

	"pilotrix/core/state"
	"pilotrix/tui/attached"
	"pilotrix/tui/banks"
	"pilotrix/tui/flash"
	"pilotrix/tui/keys"
	"pilotrix/tui/layers"
	"pilotrix/tui/paint"
	"pilotrix/tui/stack"
	"pilotrix/tui/systems"
	"pilotrix/tui/theme"
	"pilotrix/tui/view"
)

// Device is the view's model.
type Device struct {
	choice view.Choice
	state  *state.State
	again  func() tea.Cmd
	source func(command string)
	dryRun func() // shows it
}

// New makes the view of a session. again reads the device again, nil where nothing can be; source shows where a command
// was typed; dryRun shows what a dry run foresaw.
func New(s *state.State, again func() tea.Cmd, source func(string), dryRun func()) *Device {
	v := &Device{state: s, again: again, source: source, dryRun: dryRun}
	v.choice.At = -1
	return v
}

// Keys implements view.View.
func (v *Device) Keys() keys.Map {
	at := v.choice.At
	return append(keys.Map{
		keys.New("r", "read it anew", v.again, "r").
			Explain("reads the device anew, as far as that goes where it is").
			If(v.again != nil),
		keys.New("Enter", "show where it was read", keys.Just(func() { v.source(v.facts()[at].Source) }), "enter").
			Explain("shows the chosen fact's command and answer in the console").If(at >= 0 && at < len(v.state.Facts)),
		keys.New("d", "dry run", keys.Just(v.dryRun), "d").
			Explain("shows what a dry run foresaw: what restarts, how long, what refuses").
			If(v.state.DryRun != nil),
	}, v.choice.Keys(func() int { return len(v.state.Facts) })...)
}

// Update implements view.View.
func (v *Device) Update(tea.Msg) tea.Cmd { return nil }

// facts are all of them, in an order that does not change while they are read again.
func (v *Device) facts() []state.Fact {
	all := slices.Clone(v.state.Facts)
	slices.SortFunc(all, func(a, b state.Fact) int { return strings.Compare(a.Name, b.Name) })
	return all
}

// Draw implements view.View.
func (v *Device) Draw(r view.Room) []paint.Line {
	t := r.Theme
	var lines []paint.Line
	switch {
	case len(v.state.Units) > 0:
		lines = append(stack.View(t, v.state, r.Width), nil)
	case len(v.state.Banks) > 0:
		lines = append(banks.View(t, v.state, r.Width), nil)
	}
	if v.state.Flash != nil {
		lines = append(append(lines, flash.View(t, v.state, r.Width)...), nil)
	}
	if len(v.state.Systems) > 0 {
		lines = append(append(lines, systems.View(t, v.state, r.Width)...), nil)
	}
	if len(v.state.Layers) > 0 {
		lines = append(lines, layers.View(t, v.state, r.Width)...)
	}
	if len(v.state.Attached) > 0 {
		lines = append(append(lines, attached.View(t, v.state, r.Width)...), nil)
	}
	facts := v.facts()
	if len(facts) == 0 {
		return v.choice.Window(append(lines, paint.Line{paint.In(t.Quiet, "Nothing was read of this device yet.")}),
			r.Rows)
	}
	lines = append(lines,
		paint.Rule(paint.Look{FG: t.Faint}, paint.Line{paint.Strong(t.Quiet, "what was read")},
			paint.Line{paint.In(t.Quiet, "by which command, when")}, r.Width))
	from, to := 0, 0
	for i, f := range facts {
		if i == v.choice.At {
			from = len(lines)
		}
		lines = append(lines, row(t, v.state, f, i == v.choice.At, r.Width)...)
		if i == v.choice.At {
			to = len(lines)
		}
	}
	v.choice.InSight(from, to, r.Rows)
	return v.choice.Window(lines, r.Rows)
}

const nameWidth = 24

func row(t theme.Theme, s *state.State, f state.Fact, chosen bool, width int) []paint.Line {
	mark, name := "  ", paint.In(t.Quiet, fmt.Sprintf("%-*s ", nameWidth, f.Name))
	value := paint.Line{paint.In(t.Text, f.Value)}
	if f.Changed() {
		mark, value = "⇢ ", paint.Line{paint.In(t.Quiet, f.Before+" ⇢ "), paint.Strong(t.Bright, f.Value)}
	}
	source := f.Source
	if f.Hand {
		source += "  typed by hand"
	}
	when := paint.In(t.Faint, f.At.Format("15:04:05"))
	if s.Old(f.At) {
		when = paint.In(t.Here, "old: "+f.At.Format("15:04:05"))
	}
	right := paint.Line{paint.In(t.Faint, source+"  "), when}
	left := append(paint.Line{paint.Strong(t.Here, mark), name}, value...)
	if left.Width()+right.Width()+2 > width {
		right = paint.Line{when}
	}
	line := paint.Between(left, right, width)
	if !chosen {
		return []paint.Line{line}
	}
	lines := []paint.Line{line.Fit(width).On(t.Strip)}
	for _, one := range f.Rows {
		var words []string
		for _, column := range slices.Sorted(maps.Keys(one)) {
			words = append(words, column+" "+one[column])
		}
		lines = append(lines, paint.Line{paint.In(t.Quiet, "    "+strings.Join(words, "   "))}.Cut(width))
	}
	return lines
}
