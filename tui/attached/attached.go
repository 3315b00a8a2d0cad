// Package attached draws the devices that hang on this one: a row each on one time axis, with the history since it was
// first read.
package attached

import (
	"fmt"
	"strings"
	"time"

	"pilotrix/core/state"
	"pilotrix/core/units"
	"pilotrix/tui/paint"
	"pilotrix/tui/systems"
	"pilotrix/tui/theme"
)

// Columns before and behind the axis.
const (
	nameWidth  = 15
	modelWidth = 6
	endWidth   = 26
)

// View draws the rows, the axis under them, what is wrong, and what the marks mean.
func View(t theme.Theme, s *state.State, width int) []paint.Line {
	since, until := s.AttachedSince()
	name, model, end := nameWidth, modelWidth, endWidth
	if width < 100 {
		model, end = 0, 16
	}
	axis := max(10, width-name-model-end-3)
	lines := []paint.Line{
		paint.Rule(paint.Look{FG: t.Faint},
			paint.Line{paint.Strong(t.Quiet,
				title(s)), paint.In(t.Quiet, "  "), systems.AsOf(t, s, "what each has been")},
			paint.Line{count(t, s)}, width),
	}
	for _, a := range s.Attached {
		line := paint.Line{paint.In(t.Text, " "+paint.Pad(short(a.Name, name-2), name-1))}
		if model > 0 {
			line = append(line, paint.In(t.Quiet, paint.Pad(a.Model, model)))
		}
		line = append(append(line, row(t, a, since, until, axis)...), paint.Piece{Text: "  "},
			now(t, a, end > endWidth/2+4))
		lines = append(lines, line.Cut(width))
	}
	lines = append(lines, under(t, since, until, name+model, axis).Cut(width))
	for _, a := range s.Attached {
		if a.Reason != "" && a.State != state.AttachedHere {
			lines = append(lines,
				paint.Line{paint.Strong(t.Bad, " ✗ "), paint.In(t.Text, a.Name+": "+a.Reason)}.Cut(width))
		}
	}
	return append(lines, legend(t).Cut(width))
}

// Card draws them small, for the side column: those that are not there first.
func Card(t theme.Theme, s *state.State, width, rows int) (lines []paint.Line) {
	since, until := s.AttachedSince()
	for _, wanted := range []bool{false, true} {
		for _, a := range s.Attached {
			if Arrived(a) != wanted || len(lines) >= rows {
				continue
			}
			left := paint.Line{paint.In(t.Text, paint.Pad(short(a.Name, 13), 14))}
			left = append(left, row(t, a, since, until, max(6, width-30))...)
			lines = append(lines, paint.Between(left, paint.Line{now(t, a, false)}, width).Cut(width))
		}
	}
	return lines
}

// Arrived reports whether one is here with another release than it had.
func Arrived(a state.Attached) bool { return a.State == state.AttachedHere && a.NewRelease() }

// Count says how many have arrived.
func Count(t theme.Theme, s *state.State) paint.Piece { return count(t, s) }

func count(t theme.Theme, s *state.State) paint.Piece {
	arrived, there := 0, 0
	for _, a := range s.Attached {
		if a.State == state.AttachedHere {
			there++
		}
		if Arrived(a) {
			arrived++
		}
	}
	look := t.Here
	if arrived == len(s.Attached) || there == len(s.Attached) {
		look = t.Good
	}
	return paint.In(look, fmt.Sprintf("%d of %d here, %d renewed", there, len(s.Attached), arrived))
}

func title(s *state.State) string {
	if name := s.Fact("device.name"); name != "" {
		return "what hangs on " + name
	}
	return "attached devices"
}

func short(text string, most int) string {
	if runes := []rune(text); len(runes) > most {
		return string(runes[:most-1]) + "…"
	}
	return text
}

// row draws what one has been, a cell for each part of the time: what it was last in it, and what is worst of it.
func row(t theme.Theme, a state.Attached, since, until time.Time, width int) (line paint.Line) {
	whole := until.Sub(since)
	for i := range width {
		from := since.Add(whole * time.Duration(i) / time.Duration(width))
		to := since.Add(whole * time.Duration(i+1) / time.Duration(width))
		if i == width-1 || whole == 0 {
			to = until
		}
		line = append(line, cell(t, a, from, to))
	}
	return line
}

func cell(t theme.Theme, a state.Attached, from, to time.Time) paint.Piece {
	var last *state.Span
	for i := range a.Spans {
		if span := &a.Spans[i]; !span.From.After(to) && (!span.To.Before(from) || i == len(a.Spans)-1) {
			last = span
		}
	}
	if last == nil {
		return paint.Piece{Text: " "}
	}
	switch {
	case last.State == state.AttachedHere && last.Release != a.ReleaseThen:
		return paint.In(t.Good, "━")
	case last.State == state.AttachedHere:
		return paint.In(t.Quiet, "─")
	case last.State == state.AttachedLoading:
		return paint.In(t.Here, "▒")
	case last.State == state.AttachedAway:
		return paint.In(t.Faint, "·")
	}
	return paint.In(t.Bad, "×")
}

// now is what one is at last, in words.
func now(t theme.Theme, a state.Attached, wide bool) paint.Piece {
	release := a.Release
	if wide && a.NewRelease() {
		release = a.ReleaseThen + " ⇢ " + a.Release
	}
	switch a.State {
	case state.AttachedHere:
		if a.NewRelease() {
			return paint.In(t.Good, "● "+release)
		}
		return paint.In(t.Quiet, "○ "+release)
	case state.AttachedLoading:
		return paint.Strong(t.Here, fmt.Sprintf("◐ loads %d %%", a.Percent))
	case state.AttachedAway:
		return paint.Strong(t.Here, "◌ away "+units.Clock(a.Spans[len(a.Spans)-1].To.Sub(a.Spans[len(a.Spans)-1].From)))
	}
	return paint.Strong(t.Bad, "✗ "+a.State)
}

// under is the axis: when it begins and ends.
func under(t theme.Theme, since, until time.Time, left, width int) paint.Line {
	begins, ends := since.Format("15:04:05"), until.Format("15:04:05")
	if width < len(begins)+len(ends)+1 {
		ends = ""
	}
	return paint.Line{
		paint.In(t.Faint,
			strings.Repeat(" ", left)+begins+strings.Repeat(" ", max(1, width-len(begins)-len(ends)))+ends),
	}
}

func legend(t theme.Theme) paint.Line {
	return paint.Legend(t.Quiet,
		paint.In(t.Quiet, "─").Means("as before"),
		paint.In(t.Here, "▒").Means("loads"),
		paint.In(t.Faint, "·").Means("away"),
		paint.In(t.Good, "━").Means("renewed"),
		paint.In(t.Bad, "×").Means("refused, failed, missing"))
}
