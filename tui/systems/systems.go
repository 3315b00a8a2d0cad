// Package systems draws the board of systems of a device that keeps several releases beside each other: the progress,
// from packed to lasting, and the clock of a trial.
package systems

import (
	"strings"

	"pilotrix/core/state"
	"pilotrix/core/units"
	"pilotrix/tui/paint"
	"pilotrix/tui/theme"
)

// stages are what a release comes to be, one after the other; one that runs need not be packed any more.
var stages = [...]struct {
	name string
	has  func(state.System) bool
}{
	{"packed", func(s state.System) bool { return s.Packed }},
	{"unpacked", func(s state.System) bool { return s.Unpacked }},
	{"runs", func(s state.System) bool { return s.Runs }},
	{"lasts", func(s state.System) bool { return s.Lasts }},
}

// Columns of the release, and between two stages.
const (
	nameWidth = 12
	maxGap    = 11
	minGap    = 5
)

// View draws the board, what a restart leads to, and what its marks mean.
func View(t theme.Theme, s *state.State, width int) []paint.Line {
	gap := max(minGap, min(maxGap, (width-nameWidth-24)/len(stages)))
	lines := []paint.Line{
		paint.Rule(paint.Look{FG: t.Faint}, paint.Line{paint.Strong(t.Quiet, s.Of("systems"))},
			paint.Line{AsOf(t, s, "how far each release has come")}, width),
		headings(t, gap, width),
	}
	for _, system := range s.Systems {
		line := append(
			paint.Line{paint.Strong(t.Runs(system.Runs), "  "+paint.Pad(system.Release, nameWidth-2))},
			track(t, s, system, gap)...)
		line = append(line, paint.Piece{Text: "   "}, words(t, s, system))
		lines = append(lines, line.Cut(width))
	}
	lines = append(lines, nil)
	lines = append(lines, Clock(t, s, width)...)
	lines = append(lines, paint.Item(paint.In(t.Quiet, " ↻ "), restart(s), paint.Look{FG: t.Text}, width)...)
	return append(lines, nil, legend(t).Cut(width))
}

// AsOf are words beside a board's name, in whose place it is said when the board is old.
func AsOf(t theme.Theme, s *state.State, words string) paint.Piece {
	if s.BoardOld() {
		return paint.Strong(t.Here, "as of "+s.BoardRead.Format("15:04:05")+", "+s.ChangedText())
	}
	return paint.In(t.Quiet, words)
}

// Card draws the board small, for the side column.
func Card(t theme.Theme, s *state.State, width int) (lines []paint.Line) {
	for _, system := range s.Systems {
		left := append(
			paint.Line{paint.Strong(t.Runs(system.Runs), paint.Pad(system.Release, 9))},
			track(t, s, system, 2)...)
		lines = append(lines, paint.Between(left, paint.Line{words(t, s, system)}, width).Cut(width))
	}
	return lines
}

func headings(t theme.Theme, gap, width int) paint.Line {
	text := strings.Repeat(" ", nameWidth)
	for _, stage := range stages {
		text += paint.Pad(short(stage.name, gap), gap+1)
	}
	return paint.Line{paint.In(t.Quiet, text)}.Cut(width)
}

// short leaves a blank behind a heading where stages stand close.
func short(text string, most int) string {
	if runes := []rune(text); len(runes) > most {
		return string(runes[:most])
	}
	return text
}

// track is a release's way through the stages: a mark each, and the way between two that it has both.
func track(t theme.Theme, s *state.State, system state.System, gap int) (line paint.Line) {
	for i, stage := range stages {
		has := stage.has(system)
		line = append(line, mark(t, s, system, i, has))
		if i+1 == len(stages) {
			break
		}
		way, look := strings.Repeat("┈", gap), t.Faint
		switch {
		case has && stages[i+1].has(system):
			way, look = strings.Repeat("━", gap), t.Good
		case stage.name == "runs" && has && s.Deadline() != nil: // what is on trial is on its way to lasting
			gone := int(s.Deadline().Part(s.Now) * float64(gap))
			line = append(line, paint.In(t.Bad, strings.Repeat("━", gone)))
			way = way[:len("┈")*(gap-gone)]
		}
		line = append(line, paint.In(look, way))
	}
	return line
}

func mark(t theme.Theme, s *state.State, system state.System, stage int, has bool) paint.Piece {
	switch {
	case !has:
		return paint.In(t.Faint, "○")
	case stages[stage].name == "lasts":
		return paint.Strong(t.Good, "■")
	case stages[stage].name == "runs" && !system.Lasts:
		return paint.Strong(t.Here, "◉")
	}
	return paint.In(t.Good, "●")
}

// words say what a release is, where its marks alone do not.
func words(t theme.Theme, s *state.State, system state.System) paint.Piece {
	next := s.Deadline()
	switch {
	case system.Runs && !system.Lasts && next != nil:
		return paint.Strong(t.Bad, "on trial, "+units.Clock(next.Left(s.Now))+" left")
	case system.Runs && !system.Lasts:
		return paint.Strong(t.Here, "does not last yet")
	case system.Runs && !system.RanThen && system.ThereThen:
		return paint.In(t.Good, "runs since")
	case system.Runs:
		return paint.In(t.Good, "runs and lasts")
	case system.Lasts && next != nil:
		return paint.In(t.Here, "comes back at "+next.Until.Format("15:04:05"))
	case system.Lasts:
		return paint.In(t.Here, "comes back at a restart")
	case system.RanThen:
		return paint.In(t.Text, "ran before: the rollback")
	case !system.ThereThen:
		return paint.In(t.Text, "new here")
	}
	return paint.Piece{}
}

// Clock draws how much of a deadline is gone, to scale.
func Clock(t theme.Theme, s *state.State, width int) []paint.Line {
	next := s.Deadline()
	if next == nil {
		return nil
	}
	long := max(8, min(60, width-34))
	gone := int(next.Part(s.Now) * float64(long))
	lines := []paint.Line{paint.Line{
		paint.Piece{Text: "   "},
		paint.In(t.Bad, strings.Repeat("━", gone)),
		paint.In(t.Faint, strings.Repeat("━", long-gone)),
		paint.Strong(t.Bad, "┃"),
		paint.Strong(t.Bad, " "+units.Clock(next.Left(s.Now))),
		paint.In(t.Quiet, " left, until "+next.Until.Format("15:04:05")),
	}.Cut(width)}
	for _, row := range paint.Wrap("Unless it is dealt with: "+next.Says+".", width-4) {
		lines = append(lines, paint.Line{paint.In(t.Text, "   "+row)})
	}
	return append(lines, nil)
}

// restart says in a sentence what a restart leads to.
func restart(s *state.State) string {
	if old := s.NextStartText(); old != "" {
		return old
	}
	runs, lasts := "", ""
	for _, system := range s.Systems {
		if system.Runs {
			runs = system.Release
		}
		if system.Lasts {
			lasts = system.Release
		}
	}
	switch {
	case lasts == "":
		return "Which release a restart starts was not read."
	case lasts == runs:
		return "A restart, or a power cut, starts " + lasts + ", as now."
	}
	return "A restart, or a power cut, starts " + lasts + ": what runs is lost by it."
}

func legend(t theme.Theme) paint.Line {
	return paint.Legend(t.Quiet,
		paint.In(t.Good, "●").Means("has come there"),
		paint.In(t.Here, "◉").Means("runs, does not last"),
		paint.In(t.Good, "■").Means("lasts beyond a power cut"),
		paint.In(t.Faint, "○").Means("not"))
}
