// Package layers draws the parts of a device that have firmware of their own: what each runs, what it ran, and what
// waits for it.
package layers

import (
	"strings"

	"pilotrix/core/state"
	"pilotrix/tui/paint"
	"pilotrix/tui/systems"
	"pilotrix/tui/theme"
)

const (
	nameWidth    = 12
	releaseWidth = 20
)

// View draws them one upon the other, the board at the bottom, and whether all agree.
func View(t theme.Theme, s *state.State, width int) []paint.Line {
	lines := []paint.Line{
		paint.Rule(paint.Look{FG: t.Faint},
			paint.Line{paint.Strong(t.Quiet, s.Of("layers")), paint.In(t.Quiet, "  "), systems.AsOf(t, s, "before ⇢ now")},
			paint.Line{Agree(t, s)}, width),
	}
	for _, l := range s.Layers {
		line := append(
			paint.Line{edge(t, s, l), paint.In(t.Text, paint.Pad(l.Name, nameWidth))},
			release(t, s, l, true)...)
		lines = append(lines, append(line, words(t, l, ": its package did not come along")...).Cut(width))
	}
	return append(lines, nil)
}

// Card draws them small, for the side column.
func Card(t theme.Theme, s *state.State, width int) (lines []paint.Line) {
	for _, l := range s.Layers {
		left := append(paint.Line{edge(t, s, l), paint.In(t.Text, paint.Pad(l.Name, 9))}, release(t, s, l, false)...)
		lines = append(lines, paint.Between(left, words(t, l, ""), width).Cut(width))
	}
	return lines
}

// Agree says whether all of them have one release.
func Agree(t theme.Theme, s *state.State) paint.Piece {
	if s.LayersAgree() {
		return paint.In(t.Good, "all agree")
	}
	return paint.Strong(t.Here, "they do not agree")
}

// edge stands before a layer: whole where it has the release of the first one.
func edge(t theme.Theme, s *state.State, l state.Layer) paint.Piece {
	switch {
	case l.State == "rests":
		return paint.Strong(t.Bad, " ░ ")
	case l.Release == s.Layers[0].Release:
		return paint.In(t.Good, " █ ")
	}
	return paint.Strong(t.Here, " ▓ ")
}

func release(t theme.Theme, s *state.State, l state.Layer, wide bool) paint.Line {
	look := t.Good
	if l.Release != s.Layers[0].Release {
		look = t.Here
	}
	line := paint.Line{paint.Strong(look, l.Release)}
	if l.Release != l.ReleaseThen {
		line = paint.Line{paint.In(t.Quiet, l.ReleaseThen+" ⇢ "), paint.Strong(look, l.Release)}
	}
	if wide {
		line = append(line, paint.Piece{Text: strings.Repeat(" ", max(1, releaseWidth-line.Width()))})
	}
	return line
}

func words(t theme.Theme, l state.Layer, because string) paint.Line {
	switch {
	case l.State == "rests":
		return paint.Line{paint.Strong(t.Bad, "rests"+because)}
	case l.Brings != "" && l.Brings != l.Release:
		return paint.Line{paint.In(t.Here, "waits for "+l.Brings)}
	}
	return paint.Line{paint.In(t.Quiet, "runs")}
}
