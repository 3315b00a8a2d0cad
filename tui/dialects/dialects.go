// Package dialects is the view in which it is said how the device talks: the dialects that fit what it has written,
// with what speaks for each, then all others.
package dialects

import (
	"slices"
	"strings"

	tea "charm.land/bubbletea/v2"

	"pilotrix/core/dialect"
	"pilotrix/tui/keys"
	"pilotrix/tui/paint"
	"pilotrix/tui/view"
)

// Dialects is the view's model.
type Dialects struct {
	choice view.Choice
	likely []dialect.Likely
	all    []*dialect.Dialect // likely ones first
	learn  func(*dialect.Dialect) tea.Cmd
	enter  func() tea.Cmd
}

// New makes the view. learn takes what is chosen; enter presses Enter once.
func New(learn func(*dialect.Dialect) tea.Cmd, enter func() tea.Cmd) *Dialects {
	return &Dialects{learn: learn, enter: enter}
}

// Show lists dialects, those that are likely first.
func (v *Dialects) Show(likely []dialect.Likely, all []*dialect.Dialect) {
	v.likely, v.all = likely, nil
	for _, one := range likely {
		v.all = append(v.all, one.Dialect)
	}
	for _, d := range all {
		if !slices.ContainsFunc(v.all, func(k *dialect.Dialect) bool { return k.Dialect == d.Dialect }) {
			v.all = append(v.all, d)
		}
	}
	v.choice.To(v.choice.At, len(v.all))
}

// Keys implements view.View.
func (v *Dialects) Keys() keys.Map {
	return append(
		v.choice.Keys(func() int { return len(v.all) }),
		keys.New("Enter", "it talks so", func() tea.Cmd { return v.learn(v.all[v.choice.At]) }, "enter").
			If(len(v.all) > 0).
			Explain("has prompts, questions and dangers known by the chosen dialect; it is remembered for a device that is kept"),
		keys.New("e", "press Enter once", v.enter, "e").
			Explain("presses Enter for the device to show its prompt; it ends whatever stands on the device's line"),
	)
}

// Update implements view.View.
func (v *Dialects) Update(tea.Msg) tea.Cmd { return nil }

// Draw implements view.View.
func (v *Dialects) Draw(r view.Room) []paint.Line {
	t := r.Theme
	lines := []paint.Line{{paint.Strong(t.Bright, "How does this device talk?")}, nil}
	if len(v.likely) == 0 {
		for _, row := range paint.Wrap("Nothing that it has written so far speaks for one of them. A prompt tells most: e presses Enter once, which ends whatever stands on its line.",
			max(20, r.Width-2)) {
			lines = append(lines, paint.Line{paint.In(t.Text, row)})
		}
		lines = append(lines, nil)
	}
	from, to := 0, 0
	for i, d := range v.all {
		if i == v.choice.At {
			from = len(lines)
		}
		lines = append(lines, v.row(r, i, d)...)
		if i == v.choice.At {
			to = len(lines)
		}
	}
	v.choice.InSight(from, to, r.Rows)
	return v.choice.Window(lines, r.Rows)
}

const maxReasons = 4

func (v *Dialects) row(r view.Room, i int, d *dialect.Dialect) []paint.Line {
	t, chosen := r.Theme, i == v.choice.At
	mark, name := "   ", paint.In(t.Text, d.Title)
	if chosen {
		mark, name = " ▸ ", paint.Strong(t.Bright, d.Title)
	}
	line := paint.Line{paint.Strong(t.Here, mark), name, paint.In(t.Faint, "  "+d.Dialect)}
	if i < len(v.likely) {
		line = append(line, paint.In(t.Good, "  fits"))
	}
	if chosen {
		line = line.Fit(r.Width).On(t.Strip)
	}
	lines := []paint.Line{line}
	add := func(look paint.Look, text string) {
		lines = append(lines, paint.Paragraph("     ", look, text, r.Width)...)
	}
	if i < len(v.likely) {
		reasons := v.likely[i].Reasons
		add(paint.Look{FG: t.Quiet}, "it wrote "+strings.Join(reasons[:min(len(reasons), maxReasons)], ", "))
	}
	if chosen {
		add(paint.Look{FG: t.Text}, d.About)
	}
	return lines
}
