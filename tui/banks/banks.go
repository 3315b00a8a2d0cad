// Package banks draws the bank board: for each unit its banks, what each held and holds, which one runs,
// which one starts next and whether that is kept.
package banks

import (
	"fmt"
	"strings"

	"pilotrix/core/state"
	"pilotrix/tui/paint"
	"pilotrix/tui/systems"
	"pilotrix/tui/theme"
)

// View draws the board and what its marks mean.
func View(t theme.Theme, s *state.State, width int) []paint.Line {
	if len(s.Banks) == 0 {
		return []paint.Line{{paint.In(t.Quiet, "No banks were read from this device.")}}
	}
	var lines []paint.Line
	unit := "\x00"
	for _, b := range s.Banks {
		if b.Unit != unit {
			unit = b.Unit
			lines = append(lines,
				paint.Rule(paint.Look{FG: t.Faint}, paint.Line{paint.Strong(t.Quiet, unitName(s, unit))},
					paint.Line{systems.AsOf(t, s, "before ⇢ now")}, width),
				nil)
		}
		lines = append(lines, board(t, s, b, width)...)
		lines = append(lines, nil)
	}
	if old := s.NextStartText(); old != "" {
		lines = append(lines, paint.Item(paint.In(t.Quiet, " ↻ "), old, paint.Look{FG: t.Here}, width)...)
	} else {
		lines = append(append(lines, nextStart(t, s, width)...), warnings(t, s, width)...)
	}
	return append(lines, nil, legend(t).Cut(width))
}

func unitName(s *state.State, unit string) string {
	if unit != "" {
		return "unit " + unit
	}
	if name := s.Fact("device.name"); name != "" {
		return name
	}
	return "banks"
}

// Card draws the board small, for the side column.
func Card(t theme.Theme, s *state.State, width int) []paint.Line {
	var lines []paint.Line
	for _, b := range s.Banks {
		lines = append(lines,
			paint.Between(paint.Line{paint.Strong(t.Runs(b.Runs), b.Unit+b.Name+" "), change(t, b)}, signs(t, b, false),
				width))
	}
	return lines
}

// change is the release before and now.
func change(t theme.Theme, b state.Bank) paint.Piece {
	now := b.Now
	if now == "" || now == "-" {
		now = "empty"
	}
	if b.Before == "" || b.Before == b.Now {
		return paint.In(t.Text, now)
	}
	return paint.Strong(t.Bright, b.Before+" ⇢ "+now)
}

// board draws one bank in three rows: a block that is full when it runs, with its release in large.
func board(t theme.Theme, s *state.State, b state.Bank, width int) []paint.Line {
	block := [3]string{"┌────┐", "│ " + b.Name + "  │", "└────┘"}
	if b.Runs {
		block = [3]string{"┏━━━━┓", "┃ " + b.Name + "  ┃", "┗━━━━┛"}
	}
	color := t.Runs(b.Runs)
	state := "standby"
	switch {
	case b.Runs:
		state = b.ThenText()
	case b.RanThen:
		state = "standby; " + b.ThenText() + ": what a rollback starts"
	}
	second := paint.Line{paint.In(t.Quiet, state)}
	if t2 := filling(t, s, b, width-12); t2 != nil {
		second = t2
	}
	return []paint.Line{
		{paint.In(color, "  "+block[0]+"   "), change(t, b)},
		append(paint.Line{paint.Strong(color, "  "+block[1]+"   ")}, signs(t, b, true)...),
		append(paint.Line{paint.In(color, "  "+block[2]+"   ")}, second...),
	}
}

// filling is the download that is on its way into a bank that does not run.
func filling(t theme.Theme, s *state.State, b state.Bank, width int) paint.Line {
	moving := s.Moving()
	if b.Runs || !moving.Active() || moving.Plan.Receive || moving.Plan.Size == 0 || s.Fact("standby.bank") != b.Name ||
		width < 30 {
		return nil
	}
	share := float64(moving.Got.Bytes) / float64(moving.Plan.Size)
	long := min(40, width-26)
	full := int(share * float64(long))
	return paint.Line{
		paint.In(t.Here, strings.Repeat("━", full)), paint.In(t.Faint, strings.Repeat("━", long-full)),
		paint.Strong(t.Here, fmt.Sprintf(" %.0f %% ", 100*share)), paint.In(t.Text, moving.Plan.File),
	}
}

// signs are what a bank is chosen for.
func signs(t theme.Theme, b state.Bank, words bool) paint.Line {
	say := func(mark, text string) string {
		if words {
			return mark + " " + text + "   "
		}
		return mark + " "
	}
	var line paint.Line
	if b.Runs {
		line = append(line, paint.Strong(t.Good, say("●", "runs")))
	}
	switch {
	case b.Next && b.Kept:
		line = append(line, paint.Strong(t.Good, say("▶", b.ChoiceText())))
	case b.Next:
		line = append(line, paint.Strong(t.Here, say("▷", b.ChoiceText())))
	case b.Kept:
		line = append(line, paint.In(t.Here, say("▸", b.ChoiceText())))
	}
	if len(line) == 0 {
		line = append(line, paint.In(t.Faint, say("·", "")))
	}
	return line
}

// nextStart says in a sentence what a restart leads to.
func nextStart(t theme.Theme, s *state.State, width int) (lines []paint.Line) {
	for _, next := range s.Banks {
		if !next.Kept {
			continue
		}
		text := "The next start takes bank " + next.Unit + next.Name + " with " + next.Now + "."
		for _, b := range s.Banks {
			if b.Runs && b.Unit == next.Unit {
				text = "The next start takes bank " + next.Unit + next.Name + " with " + next.Now + ", as now."
				if b.Name != next.Name {
					text = "The next start goes from " + b.Now + " in bank " + b.Unit + b.Name + " to " + next.Now + " in bank " + next.Unit + next.Name + "."
				}
			}
		}
		lines = append(lines, paint.Item(paint.In(t.Quiet, " ↻ "), text, paint.Look{FG: t.Text}, width)...)
	}
	return lines
}

// warnings say what a restart would do that is not meant.
func warnings(t theme.Theme, s *state.State, width int) (lines []paint.Line) {
	for _, b := range s.Banks {
		if b.Next && !b.Kept {
			text := "A restart now starts the old choice again: bank " + b.Unit + b.Name + " is chosen, and the choice is not kept."
			lines = append(lines, paint.Item(paint.Strong(t.Here, " ! "), text, paint.Look{FG: t.Text}, width)...)
		}
	}
	return lines
}

func legend(t theme.Theme) paint.Line {
	return paint.Legend(t.Quiet,
		paint.In(t.Good, "●").Means("runs"),
		paint.In(t.Good, "▶").Means("next, kept"),
		paint.In(t.Here, "▷").Means("chosen, not kept"),
		paint.In(t.Here, "▸").Means("kept, another is chosen"))
}
