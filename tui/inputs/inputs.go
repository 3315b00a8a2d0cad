// Package inputs is the form in which a runbook is given what it needs: each input is picked from what is available, or
// typed, and checked as it is left.
package inputs

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	tea "charm.land/bubbletea/v2"

	"pilotrix/core/image"
	"pilotrix/core/runbook"
	"pilotrix/core/source"
	"pilotrix/tui/field"
	"pilotrix/tui/keys"
	"pilotrix/tui/paint"
	"pilotrix/tui/theme"
	"pilotrix/tui/view"
)

// Need is an input with what is available for it.
type Need struct {
	runbook.Input
	Value string // what it is at first
	Picks []runbook.Pick
}

// Form is the view's model.
type Form struct {
	view.Scroll
	Last  string // what Enter does after the last input
	title string
	rows  []*row
	at    int
	moved bool
	takes func(runbook.Input, string) error
	done  func(values map[string]string) tea.Cmd
}

type row struct {
	Need
	field   *field.Field
	pick    int // of the picks, -1 for none
	problem string
}

// New makes an empty form.
func New() *Form { return &Form{} }

// Fill begins a form. takes checks one input by itself; done gets them all once each is taken.
func (f *Form) Fill(
	title string, needs []Need, takes func(runbook.Input, string) error, done func(map[string]string) tea.Cmd,
) {
	*f = Form{Last: "show the plan", title: title, takes: takes, done: done, moved: true}
	for _, need := range needs {
		r := &row{Need: need, field: field.New(need.Value), pick: -1}
		r.field.Secret = need.Kind == runbook.KindSecret
		for i, pick := range need.Picks {
			if pick.Value == need.Value {
				r.pick = i
			}
		}
		f.rows = append(f.rows, r)
	}
}

// Keys implements view.View.
func (f *Form) Keys() keys.Map {
	last := f.at == len(f.rows)-1
	enter := "next"
	if last {
		enter = f.Last
	}
	finish := keys.New("F9", f.Last, f.finish, "f9").
		Explain("takes the other values of a form as they stand").
		If(len(f.rows) > 1)
	if last {
		finish = finish.Unnamed() // Enter does the same
	}
	return keys.Map{
		keys.New("Enter", enter, f.enter, "enter").
			Explain("takes what stands there and goes to the next; behind the last one it is done"),
		finish,
		keys.New("Tab", "next", keys.Just(func() { f.leave(); f.to(f.at + 1) }), "tab").If(len(f.rows) > 1),
		keys.New("Shift+Tab", "the one before", keys.Just(func() { f.leave(); f.to(f.at - 1) }), "shift+tab").
			If(len(f.rows) > 1),
		keys.New("↑ ↓", "pick", keys.Just(func() { f.picks(-1) }), "up").
			If(len(f.rows) > 0 && len(f.rows[f.at].Picks) > 0),
		keys.New("", "", keys.Just(func() { f.picks(1) }), "down").If(len(f.rows) > 0 && len(f.rows[f.at].Picks) > 0),
	}
}

// Update implements view.View: what is typed.
func (f *Form) Update(msg tea.Msg) tea.Cmd {
	if len(f.rows) == 0 {
		return nil
	}
	r := f.rows[f.at]
	if key, typed := msg.(tea.KeyPressMsg); typed && key.Text != "" && r.chosen() {
		r.field.Set("") // another one is typed instead
	}
	if r.field.Update(msg) {
		r.problem, r.pick = "", -1
	}
	return nil
}

// chosen reports whether one of a choice stands there.
func (r *row) chosen() bool { return slices.Contains(r.Choices, source.Text(r.field.Text())) }

// complete writes out the choice that was begun to be typed, where there is only one.
func (r *row) complete() {
	var begun []source.Text
	for _, choice := range r.Choices {
		if strings.HasPrefix(string(choice), r.field.Text()) && r.field.Text() != "" {
			begun = append(begun, choice)
		}
	}
	if len(begun) == 1 && !r.chosen() {
		r.field.Set(string(begun[0]))
	}
}

func (f *Form) to(at int) {
	f.at, f.moved = (at+len(f.rows))%len(f.rows), true
}

// picks takes the next of what is available.
func (f *Form) picks(by int) {
	r := f.rows[f.at]
	r.pick = max(0, min(len(r.Picks)-1, r.pick+by))
	r.field.Set(r.Picks[r.pick].Value)
	r.problem, f.moved = "", true
}

// leave checks what stands in the row that is left.
func (f *Form) leave() {
	r := f.rows[f.at]
	r.complete()
	r.problem = f.problemOf(r)
}

func (f *Form) problemOf(r *row) string {
	text := r.field.Text()
	if text == "" && r.Default == nil {
		return "it is needed"
	}
	if err := f.takes(r.Input, text); err != nil {
		return err.Error()
	}
	return ""
}

// enter goes to the next row; after the last one all are checked, and the first that is not taken is gone to.
func (f *Form) enter() tea.Cmd {
	if len(f.rows) > 0 {
		if f.leave(); f.rows[f.at].problem != "" {
			return nil
		}
		if f.at < len(f.rows)-1 {
			f.to(f.at + 1)
			return nil
		}
	}
	return f.finish()
}

// finish checks all rows, and is done where each is taken.
func (f *Form) finish() tea.Cmd {
	values := map[string]string{}
	for i, r := range f.rows {
		r.complete()
		if r.problem = f.problemOf(r); r.problem != "" {
			f.to(i)
			return nil
		}
		values[r.Input.Input] = r.field.Text()
	}
	return f.done(values)
}

// Complain says at an input, or at the last one, what is wrong with all of them together.
func (f *Form) Complain(text string) {
	if len(f.rows) > 0 {
		f.rows[f.at].problem = text
	}
}

// Forget takes what was typed out of memory.
func (f *Form) Forget() { *f = Form{} }

// labelWidth is the room of an input's name.
const labelWidth = 16

// indent is before what stands under an input.
var indent = strings.Repeat(" ", labelWidth+4)

// Draw implements view.View.
func (f *Form) Draw(r view.Room) []paint.Line {
	t := r.Theme
	lines := []paint.Line{{paint.Strong(t.Bright, f.title)}, nil}
	if len(f.rows) == 0 {
		lines = append(lines, paint.Line{paint.In(t.Text, "It needs nothing that has to be said.")})
	}
	from, to := 0, 0
	for i, one := range f.rows {
		if i == f.at {
			from = len(lines)
		}
		lines = append(lines, f.row(t, one, i == f.at, r.Width)...)
		if i == f.at {
			to = len(lines)
		}
	}
	if f.moved {
		f.Keep(from, to, r.Rows)
		f.moved = false
	}
	return f.Window(lines, r.Rows)
}

func (f *Form) row(t theme.Theme, r *row, here bool, width int) []paint.Line {
	mark, label := "   ", paint.In(t.Quiet, fmt.Sprintf("%-*s", labelWidth, r.Input.Input))
	var value paint.Line
	room := max(10, width-labelWidth-4)
	switch {
	case here:
		mark, label = " ▸ ", paint.Strong(t.Here, label.Text)
		value = r.field.Draw(t, room)
	case r.field.Text() == "" && r.problem == "":
		value = paint.Line{paint.In(t.Faint, emptyText(r.Input))}
	default:
		text := r.field.Text()
		if r.field.Secret {
			text = "••••••"
		}
		value = paint.Line{paint.In(t.Text, text)}.Cut(room)
	}
	line := append(paint.Line{paint.Strong(t.Here, mark), label, {Text: " "}}, value...)
	if here {
		line = line.Fit(width).On(t.Strip)
	}
	lines := []paint.Line{line}
	add := func(look paint.Look, text string) {
		lines = append(lines, paint.Paragraph(indent, look, text, width)...)
	}
	if r.problem != "" {
		add(paint.Look{FG: t.Bad, Bold: true}, "✗ "+r.problem)
	}
	if !here {
		return lines
	}
	if r.About != "" {
		add(paint.Look{FG: t.Quiet}, r.About)
	}
	return append(lines, picks(t, r, width)...)
}

func emptyText(i runbook.Input) string {
	if i.Default != nil {
		return cmp.Or(string(*i.Default), "not said")
	}
	return "…"
}

// maxPicks is how many picks are listed at once.
const maxPicks = 7

// maxValue is how much room their values have before their words, in columns.
const maxValue = 28

// picks lists what is available around the one that is taken.
func picks(t theme.Theme, r *row, width int) (lines []paint.Line) {
	first := max(0, min(r.pick-maxPicks/2, len(r.Picks)-maxPicks))
	widest, unknown := 0, false
	for _, pick := range r.Picks {
		widest, unknown = max(widest, min(paint.Width(pick.Value), maxValue)), unknown || pick.Fit == image.Unknown
	}
	for i := first; i < min(len(r.Picks), first+maxPicks); i++ {
		pick := r.Picks[i]
		mark, look := "  ", paint.Look{FG: t.Text}
		if i == r.pick {
			mark, look = "● ", paint.Look{FG: t.Bright, Bold: true}
		}
		words := paint.Look{FG: t.Quiet}
		switch pick.Fit {
		case image.No:
			words.FG = t.Bad
		case image.First:
			words.FG = t.Here
		case image.Yes:
			words.FG = t.Good
		}
		line := paint.Line{{Text: indent}, {Text: mark, Look: paint.Look{FG: t.Here}}, {Text: pick.Value, Look: look}}
		if pick.Text != "" {
			line = append(line, paint.Piece{
				Text: strings.Repeat(" ", max(0, widest-paint.Width(pick.Value))+2) + pick.Text,
				Look: words,
			})
		}
		lines = append(lines, line.Cut(width))
	}
	if over := len(r.Picks) - maxPicks; over > 0 {
		lines = append(lines, paint.Line{paint.In(t.Faint, fmt.Sprintf("                      of %d", len(r.Picks)))})
	}
	if unknown {
		lines = append(lines,
			paint.Line{paint.In(t.Faint,
				"                      reading the device first tells which of them fit")}.Cut(width))
	}
	return lines
}
