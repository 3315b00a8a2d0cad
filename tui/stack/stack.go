// Package stack draws the units that answer as one: their ring, their roles and banks, and how far each has taken a
// load.
package stack

import (
	"fmt"
	"image/color"
	"strings"

	"pilotrix/core/state"
	"pilotrix/tui/paint"
	"pilotrix/tui/systems"
	"pilotrix/tui/theme"
)

// Columns of the board.
const (
	roleWidth    = 10
	modelWidth   = 8
	releaseWidth = 12
	bankWidth    = 9
)

// View draws the board, what is pending, what is wrong, and what its marks mean.
func View(t theme.Theme, s *state.State, width int) []paint.Line {
	lines := []paint.Line{
		paint.Rule(paint.Look{FG: t.Faint},
			paint.Line{paint.Strong(t.Quiet,
				s.Of("units")), paint.In(t.Quiet, "  "), systems.AsOf(t, s, "before ⇢ now")},
			paint.Line{ring(t, s)}, width),
		heading(t, width),
	}
	for i, u := range s.Units {
		lines = append(lines, row(t, s, i, width))
		if u.Reason != "" {
			for _, words := range paint.Wrap(u.Reason, max(20, width-10)) {
				lines = append(lines, paint.Line{link(t, s, i, true), paint.In(t.Bad, "   "+words)})
			}
		}
	}
	lines = append(lines, nil)
	lines = append(lines, systems.Clock(t, s, width)...)
	for _, wrong := range Wrong(s) {
		lines = append(lines, paint.Item(paint.Strong(t.Bad, " ✗ "), wrong, paint.Look{FG: t.Text}, width)...)
	}
	if old := s.NextStartText(); old != "" && len(s.Banks) > 0 {
		lines = append(lines, paint.Item(paint.In(t.Quiet, " ↻ "), old, paint.Look{FG: t.Here}, width)...)
	}
	return append(lines, legend(t).Cut(width))
}

// Card draws the board small, for the side column.
func Card(t theme.Theme, s *state.State, width int) (lines []paint.Line) {
	for i, u := range s.Units {
		left := paint.Line{link(t, s, i, false), paint.Strong(unitColor(t, u), u.Number+" "), role(t, u), release(t, u)}
		lines = append(lines, paint.Between(left, progress(t, u, 8), width).Cut(width))
	}
	return lines
}

// Ring says in a word whether the ring is closed.
func Ring(t theme.Theme, s *state.State) paint.Piece { return ring(t, s) }

func ring(t theme.Theme, s *state.State) paint.Piece {
	switch state, where := s.Ring(); state {
	case "":
		return paint.Piece{}
	case "closed":
		return paint.In(t.Good, "ring closed")
	default:
		return paint.Strong(t.Bad, strings.TrimSpace("ring "+state+" "+where))
	}
}

func heading(t theme.Theme, width int) paint.Line {
	return paint.Line{
		paint.In(t.Quiet,
			"      "+paint.Pad("role",
				roleWidth)+paint.Pad("model",
				modelWidth)+paint.Pad("runs",
				releaseWidth)+paint.Pad("bank A", bankWidth)+paint.Pad("bank B", bankWidth)+"load"),
	}.Cut(width)
}

// link is a unit's place in the ring, drawn down the side. Below is the way to the next one.
func link(t theme.Theme, s *state.State, i int, below bool) paint.Piece {
	last := i == len(s.Units)-1
	mark := "├"
	switch {
	case below && last:
		mark = " "
	case below:
		mark = "│"
	case i == 0:
		mark = "╭"
	case last:
		mark = "╰"
	}
	state, where := s.Ring()
	switch {
	case state == "" || state == "closed":
		return paint.In(t.Good, " "+mark+" ")
	case !below && strings.Contains(where, "unit "+s.Units[i].Number):
		return paint.Strong(t.Bad, " ╳ ")
	}
	return paint.In(t.Here, " "+mark+" ")
}

func unitColor(t theme.Theme, u state.Unit) color.Color {
	switch {
	case u.State != "here" && u.State != "":
		return t.Bad
	case u.Role == "lead":
		return t.Bright
	}
	return t.Text
}

func row(t theme.Theme, s *state.State, i, width int) paint.Line {
	u := s.Units[i]
	line := paint.Line{
		link(t, s, i, false),
		paint.Strong(unitColor(t, u), u.Number+"  "),
		role(t, u),
		paint.In(t.Text, paint.Pad(u.Model, modelWidth)),
	}
	running := release(t, u)
	line = append(line, running, paint.Piece{Text: strings.Repeat(" ", max(1, releaseWidth-paint.Width(running.Text)))})
	banks := s.BanksOf(u.Number)
	for len(banks) < 2 { // of a unit that is away
		banks = append(banks, state.Bank{Now: "–"})
	}
	for _, b := range banks {
		piece := bank(t, b)
		line = append(line, piece, paint.Piece{Text: strings.Repeat(" ", max(1, bankWidth-paint.Width(piece.Text)))})
	}
	return append(line, progress(t, u, max(4, min(20, width-76)))...).Cut(width)
}

// role is what a unit is in the stack, and was.
func role(t theme.Theme, u state.Unit) paint.Piece {
	switch {
	case u.State != "here" && u.State != "":
		return paint.Strong(t.Bad, paint.Pad(u.State, roleWidth))
	case u.RoleThen != "" && u.RoleThen != u.Role:
		return paint.Strong(t.Here, paint.Pad("⇢ "+u.Role, roleWidth))
	case u.Role == "lead":
		return paint.Strong(t.Bright, paint.Pad(u.Role, roleWidth))
	}
	return paint.In(t.Text, paint.Pad(u.Role, roleWidth))
}

func release(t theme.Theme, u state.Unit) paint.Piece {
	switch {
	case u.Release == "":
		return paint.In(t.Quiet, "–")
	case u.ReleaseThen != "" && u.ReleaseThen != u.Release:
		return paint.Strong(t.Bright, u.ReleaseThen+" ⇢ "+u.Release)
	}
	return paint.In(t.Text, u.Release)
}

// bank is what a bank holds: ● runs, ▶ starts next, both where it is the same.
func bank(t theme.Theme, b state.Bank) paint.Piece {
	held := b.Now
	if held == "" {
		held = "–"
	}
	switch {
	case b.Runs && b.Next:
		return paint.In(t.Good, "●▶ "+held)
	case b.Runs:
		return paint.In(t.Text, "● "+held)
	case b.Next:
		return paint.Strong(t.Here, "▶ "+held)
	}
	return paint.In(t.Quiet, "  "+held)
}

// progress is how far a unit has taken a load.
func progress(t theme.Theme, u state.Unit, long int) paint.Line {
	switch u.Copy {
	case "", "idle":
		return nil
	case "written":
		return paint.Line{paint.In(t.Good, "✓ written")}
	case "waits":
		return paint.Line{paint.In(t.Quiet, "· waits")}
	case "copying":
		full := long * u.Percent / 100
		return paint.Line{
			paint.In(t.Here, strings.Repeat("━", full)),
			paint.In(t.Faint, strings.Repeat("━", long-full)),
			paint.Strong(t.Here, fmt.Sprintf(" %d %%", u.Percent)),
		}
	}
	return paint.Line{paint.Strong(t.Bad, "✗ "+u.Copy)}
}

// Wrong says what keeps the units from being one stack, now or behind the next restart.
func Wrong(s *state.State) (all []string) {
	next := map[string][]string{}
	var order []string
	for _, u := range s.Units {
		switch u.State {
		case "away":
			all = append(all,
				"Unit "+u.Number+" is away: nothing is loaded into it, and it does not restart with the others.")
		case "apart":
			all = append(all,
				"Unit "+u.Number+" runs "+u.Release+" and stands apart: a stack that runs two releases is a stack no more.")
		}
		for _, b := range s.BanksOf(u.Number) {
			if b.Next {
				if next[b.Now] == nil {
					order = append(order, b.Now)
				}
				next[b.Now] = append(next[b.Now], u.Number)
			}
		}
	}
	if len(order) > 1 && !s.BoardOld() {
		var parts []string
		for _, release := range order {
			parts = append(parts, "unit "+strings.Join(next[release], ", ")+" would start "+release)
		}
		all = append(all, "A restart now would part them: "+strings.Join(parts, ", ")+".")
	}
	return all
}

func legend(t theme.Theme) paint.Line {
	return paint.Legend(t.Quiet,
		paint.In(t.Good, "●").Means("runs"),
		paint.In(t.Here, "▶").Means("starts next"),
		paint.In(t.Here, "⇢").Means("has changed"),
		paint.Strong(t.Bad, "╳").Means("the ring is broken there"))
}
