// Package newdevices draws devices that provision themselves: the progress, what is awaited of it next, and for how
// long.
package newdevices

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"

	"pilotrix/core/event"
	"pilotrix/core/state"
	"pilotrix/core/units"
	"pilotrix/tui/paint"
	"pilotrix/tui/theme"
)

// stages are what a device goes through, in the order of its steps.
var stages = [...]string{"asks", "offered", "address", "fetches", "has file", "restarted"}

// longestName is how much room names get in rows.
const longestName = 16

// wide is from how many columns on a row has room for everything.
const wide = 110

// few devices are drawn at length, more of them a row each.
const few = 3

// View draws them: how many are how far, then those in trouble, those under way and those that are done.
func View(t theme.Theme, s *state.State, width int) []paint.Line {
	lines := []paint.Line{
		paint.Rule(paint.Look{FG: t.Faint}, paint.Line{paint.Strong(t.Quiet, "new devices")}, counts(t, s), width),
	}
	names := 0
	for _, n := range s.NewDevice {
		names = min(max(names, len(n.Name)), longestName)
	}
	for _, n := range sorted(s) {
		if len(s.NewDevice) > few {
			lines = append(lines, row(t, n, s.Now, names, width))
			continue
		}
		lines = append(lines, paint.Between(who(t, n), paint.Line{clock(t, n, s.Now)}, width).Cut(width))
		if n.Alone {
			continue
		}
		lines = append(lines, append(paint.Line{paint.Piece{Text: "   "}}, track(t, n, width-3)...).Cut(width))
		lines = append(lines, awaited(t, n, s.Now, width)...)
	}
	return lines
}

// troubles reports whether something is wrong with a device, or it is waited for longer than usual.
func troubles(n event.NewDevice, now time.Time) bool {
	return !n.Done() && !n.Alone && (n.Wrong != "" || n.Late(now))
}

// rank is a device's place: in trouble, under way, done, left alone.
func rank(n event.NewDevice, now time.Time) int {
	switch {
	case n.Alone:
		return 3
	case n.Done():
		return 2
	case troubles(n, now):
		return 0
	}
	return 1
}

func sorted(s *state.State) []event.NewDevice {
	all := slices.Clone(s.NewDevice)
	slices.SortStableFunc(all, func(a, b event.NewDevice) int { return cmp.Compare(rank(a, s.Now), rank(b, s.Now)) })
	return all
}

// counts are how many are how far.
func counts(t theme.Theme, s *state.State) paint.Line {
	var of [4]int
	for _, n := range s.NewDevice {
		of[rank(n, s.Now)]++
	}
	look := t.Quiet
	if of[0] > 0 {
		look = t.Bad
	}
	return paint.Line{
		paint.Strong(t.Good, fmt.Sprintf("%d done", of[2])),
		paint.In(t.Text, fmt.Sprintf("  %d under way", of[1])),
		paint.Strong(look, fmt.Sprintf("  %d in trouble", of[0])),
	}
}

// row is a device in one row.
func row(t theme.Theme, n event.NewDevice, now time.Time, names, width int) paint.Line {
	mark, look := "◉", t.Here
	text := n.Stage
	switch rank(n, now) {
	case 0:
		mark, look = "✗", t.Bad
		if text = n.Wrong; text == "" {
			text = n.Stage + ", longer than usual"
		}
	case 2:
		mark, look = "✓", t.Good
	case 3:
		mark, look = "○", t.Quiet
	default:
		if n.File != "" {
			text += "  " + n.File
		}
	}
	line := paint.Line{paint.Strong(look, " "+mark+" "), paint.In(t.Text, n.MAC+" ")}
	reason := n.Wrong != "" && troubles(n, now) &&
		width < wide // which is worth more there than the address and the time
	if !reason {
		line = append(line, paint.In(t.Quiet, fmt.Sprintf("%-15s ", n.Addr)))
	}
	if names > 0 {
		line = append(line, paint.Strong(t.Text, fmt.Sprintf("%-*.*s  ", names, names, n.Name)))
	}
	end := paint.Line{paint.Piece{Text: " "}, clock(t, n, now)}
	if n.Done() || n.Alone || reason {
		end = nil
	}
	return paint.Between(append(line, paint.In(look, text)), end, width).Cut(width)
}

// Card draws the one that was reported of last, small, for the side column.
func Card(t theme.Theme, s *state.State, width int) []paint.Line {
	n := last(s)
	if n.Alone {
		return []paint.Line{who(t, n).Cut(width)}
	}
	lines := []paint.Line{who(t, n).Cut(width), track(t, n, width).Cut(width)}
	return append(lines, awaited(t, n, s.Now, width)...)
}

// Word is what it is waited for, on the clock.
func Word(t theme.Theme, s *state.State) paint.Piece { return clock(t, last(s), s.Now) }

// last is the one that has come further last.
func last(s *state.State) (n event.NewDevice) {
	for _, one := range s.NewDevice {
		if !one.Since.Before(n.Since) {
			n = one
		}
	}
	return n
}

func who(t theme.Theme, n event.NewDevice) paint.Line {
	line := paint.Line{paint.Strong(t.Text, n.MAC)}
	if n.Name != "" {
		line = append(line, paint.Strong(t.Text, "  "+n.Name))
	}
	if n.Vendor != "" {
		line = append(line, paint.In(t.Quiet, "  "+n.Vendor))
	}
	if n.Addr != "" {
		line = append(line, paint.In(t.Text, "  "+n.Addr))
	}
	if n.Rounds > 0 {
		line = append(line, paint.In(t.Quiet, fmt.Sprintf("  restarted %d×", n.Rounds)))
	}
	return line
}

func clock(t theme.Theme, n event.NewDevice, now time.Time) paint.Piece {
	switch {
	case n.Alone:
		return paint.In(t.Quiet, n.Stage)
	case n.Within == 0:
		return paint.In(t.Good, "complete")
	}
	text := units.Clock(max(0, now.Sub(n.Since))) + " of " + units.Clock(n.Within)
	if n.Late(now) {
		return paint.Strong(t.Bad, text)
	}
	return paint.In(t.Here, text)
}

// track is its way through the stages; where it does not fit with their names, the present one's name stands behind.
func track(t theme.Theme, n event.NewDevice, width int) (line paint.Line) {
	long := 0
	for _, name := range stages {
		long += len(name) + 5
	}
	named := long <= width
	for i, name := range stages {
		mark, look := "○", t.Faint
		switch {
		case i < n.Step:
			mark, look = "●", t.Good
		case i == n.Step:
			mark, look = "◉", t.Here
		}
		line = append(line, paint.Strong(look, mark))
		if named {
			line = append(line, paint.In(look, " "+name))
		}
		if i+1 < len(stages) {
			way := " ┈┈ "
			if i < n.Step {
				way = " ━━ "
			}
			if !named {
				way = strings.TrimSpace(way)
			}
			line = append(line, paint.In(look, way))
		}
	}
	switch {
	case named:
	case n.Step >= len(stages):
		line = append(line, paint.Strong(t.Good, "  complete"))
	default:
		line = append(line, paint.Strong(t.Here, "  "+stages[max(0, n.Step)]))
	}
	return line
}

func awaited(t theme.Theme, n event.NewDevice, now time.Time, width int) (lines []paint.Line) {
	text := "awaiting " + n.Next
	if n.Within == 0 {
		text = n.Stage
	}
	if n.File != "" {
		text = n.File + "; " + text
	}
	look := t.Quiet
	if n.Late(now) {
		look = t.Bad
		text += ": longer than usual"
	}
	for _, row := range paint.Wrap(text, max(20, width-4)) {
		lines = append(lines, paint.Line{paint.In(look, "   "+row)}.Cut(width))
	}
	for i, row := range paint.Wrap(n.Wrong, max(20, width-4)) {
		if row == "" {
			continue
		}
		mark := "   "
		if i == 0 {
			mark = " ✗ "
		}
		lines = append(lines, paint.Line{paint.Strong(t.Bad, mark), paint.In(t.Text, row)}.Cut(width))
	}
	return lines
}
