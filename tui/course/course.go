// Package course draws the runbook as a line of stops, to the scale of time, and as a list.
package course

import (
	"fmt"
	"slices"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"

	"pilotrix/core/event"
	"pilotrix/core/state"
	"pilotrix/core/units"
	"pilotrix/tui/keys"
	"pilotrix/tui/paint"
	"pilotrix/tui/theme"
	"pilotrix/tui/view"
)

// Columns that a stop takes at the least, with the way after it: one that only passes takes fewer when
// there are many.
const (
	minGap    = 3
	quickStep = 3 * time.Second
)

// Bar draws the course in two rows: the stops with the way between them, and the names of the phases.
func Bar(t theme.Theme, s *state.State, width int) (stops, phases paint.Line) {
	if len(s.Steps) == 0 || width < 10 {
		return nil, nil
	}
	at := positions(s.Steps, width-1)
	for i := range s.Steps {
		stops = append(stops, stop(t, s, i))
		end := width - 1
		if i+1 < len(s.Steps) {
			end = at[i+1]
		}
		if gap := end - at[i] - 1; gap > 0 {
			stops = append(stops, way(t, s, i, gap)...)
		}
	}
	last := paint.In(t.Quiet, "□")
	if s.RunEnd != nil && s.RunEnd.Outcome.Good() {
		last = paint.In(t.Good, "■")
	}
	return append(stops, last).Fit(width), phaseNames(t, s, at, width)
}

// positions spreads the stops by the time each is expected to take. Where there are many, those that take
// no time, and those that were not needed, stand close together, so that the scale still shows.
func positions(steps []state.Step, width int) []int {
	least := make([]int, len(steps))
	sum := func(each func(state.Step) int) (total int) {
		for i, s := range steps {
			least[i] = each(s)
			total += least[i]
		}
		return total
	}
	full := func(state.Step) int { return 1 + minGap }
	close := func(s state.Step) int {
		switch {
		case s.Outcome == event.Skipped:
			return 1
		case s.Expected < quickStep && !s.Hold && !s.Irreversible:
			return 2
		}
		return minGap
	}
	if sum(full) > width && sum(close) > width {
		sum(func(state.Step) int { return max(1, width/len(steps)) })
	}
	spare := width
	var total time.Duration
	for i, s := range steps {
		spare -= least[i]
		total += s.Expected
	}
	spare = max(0, spare)
	at := make([]int, len(steps))
	var before time.Duration
	column := 0
	for i, s := range steps {
		share := spare * i / len(steps)
		if total > 0 {
			share = int(float64(spare) * before.Seconds() / total.Seconds())
		}
		at[i] = column + share
		column += least[i]
		before += s.Expected
	}
	return at
}

// stop is the mark of one step: ● done, ◉ here, ○ ahead, ◇ hold, ▲ no rollback, ✗ failed.
func stop(t theme.Theme, s *state.State, i int) paint.Piece {
	step := &s.Steps[i]
	switch {
	case step.Outcome != "" && step.Outcome.Taking() == event.Bad:
		return paint.Strong(t.Bad, "✗")
	case step.Outcome == event.Skipped:
		return paint.In(t.Quiet, "·")
	case step.Outcome != "" && (step.Hold || step.Irreversible):
		return paint.In(t.Good, "◆")
	case step.Outcome != "":
		return paint.In(t.Good, "●")
	case i == s.Here && s.Running() && s.Ask != nil && s.Ask.Step == step.ID:
		return paint.Strong(t.Here, "◇")
	case i == s.Here && s.Running():
		return paint.Strong(t.Here, "◉")
	case step.Irreversible:
		return paint.In(t.Bad, "▲")
	case step.Hold:
		return paint.In(t.Quiet, "◇")
	}
	return paint.In(t.Quiet, "○")
}

// way is the stretch after a stop.
func way(t theme.Theme, s *state.State, i, gap int) paint.Line {
	step := &s.Steps[i]
	pad := func(body paint.Line) paint.Line {
		if gap < 3 {
			return body
		}
		line := append(paint.Line{paint.Piece{Text: " "}}, body...)
		return append(line, paint.Piece{Text: " "})
	}
	inner := gap
	if gap >= 3 {
		inner = gap - 2
	}
	switch {
	case step.Outcome == event.Skipped:
		return pad(paint.Line{paint.In(t.Faint, strings.Repeat("┈", inner))})
	case step.Outcome != "" && step.Outcome.Taking() == event.Bad:
		return pad(paint.Line{paint.In(t.Faint, strings.Repeat("─", inner))})
	case step.Outcome != "":
		return pad(paint.Line{paint.In(t.Good, strings.Repeat("━", inner))})
	case i == s.Here && s.Running():
		gone := int(part(s, step) * float64(inner))
		return pad(
			paint.Line{paint.In(t.Here, strings.Repeat("━", gone)), paint.In(t.Quiet, strings.Repeat("┈", inner-gone))})
	}
	return pad(paint.Line{paint.In(t.Faint, strings.Repeat("─", inner))})
}

// part is how far the present step has come, from 0 to 1.
func part(s *state.State, step *state.Step) float64 {
	moves := s.OfStep()
	switch {
	case s.Ask != nil && s.Ask.Deed == "":
		return 0
	case moves != nil && moves.Plan.Size > 0:
		return min(1, float64(moves.Got.Bytes)/float64(moves.Plan.Size))
	case s.Doing.ID == step.ID && s.Doing.Part > 0:
		return s.Doing.Part
	case step.Expected > 0:
		return min(1, s.Now.Sub(step.Begun).Seconds()/step.Expected.Seconds())
	}
	return 0
}

// phaseNames puts each phase's name under its first stop, and where a deadline runs out its mark. That comes first,
// then the present phase's; of the others those that find room.
func phaseNames(t theme.Theme, s *state.State, at []int, width int) paint.Line {
	here := ""
	if p := s.Present(); p != nil && s.Running() {
		here = p.Phase
	}
	type label struct {
		at   int
		name string
	}
	var labels []label
	for i := range s.Steps {
		if i == 0 || s.Steps[i].Phase != s.Steps[i-1].Phase {
			labels = append(labels, label{at[i], s.Steps[i].Phase})
		}
	}
	row := []rune(strings.Repeat(" ", width))
	place := func(l label) {
		name := []rune(l.name)
		from, to := max(0, l.at-1), l.at+len(name)+1
		if l.at+len(name) > width || strings.TrimSpace(string(row[from:min(width, to)])) != "" {
			return
		}
		copy(row[l.at:], name)
	}
	column, due := dueLabel(s, at, width)
	if due != "" {
		copy(row[column:], []rune(due))
	}
	for _, l := range labels {
		if l.name == here {
			l.at = min(l.at, max(0, width-len([]rune(l.name))))
			place(l)
		}
	}
	for _, l := range labels {
		if l.name != here {
			place(l)
		}
	}
	text := string(row)
	if here == "" {
		return parted(text, due, paint.Strong(t.Bad, due), t)
	}
	before, after, found := strings.Cut(text, here)
	if !found {
		return parted(text, due, paint.Strong(t.Bad, due), t)
	}
	return slices.Concat(parted(before, due, paint.Strong(t.Bad, due), t), paint.Line{paint.Strong(t.Here, here)},
		parted(after, due, paint.Strong(t.Bad, due), t))
}

// parted is a quiet text in which a word stands out.
func parted(text, word string, as paint.Piece, t theme.Theme) paint.Line {
	before, after, found := strings.Cut(text, word)
	if word == "" || !found {
		return paint.Line{paint.In(t.Quiet, text)}
	}
	return paint.Line{paint.In(t.Quiet, before), as, paint.In(t.Quiet, after)}
}

// dueLabel is the mark of where a deadline runs out by what the steps are expected to take, and its column: the time
// that is left, then the wall that it ends at.
func dueLabel(s *state.State, at []int, width int) (column int, label string) {
	next := s.Deadline()
	if next == nil || !s.Running() {
		return 0, ""
	}
	label = units.Clock(next.Left(s.Now))
	step, part := s.DueAt(next)
	if step >= len(at) {
		label += " ▸┃" // behind the end
		return max(0, width-len([]rune(label))), label
	}
	label += " ┃"
	end := width - 1
	if step+1 < len(at) {
		end = at[step+1]
	}
	wall := at[step] + int(part*float64(end-at[step]))
	return max(0, min(wall+1, width)-len([]rune(label))), label
}

// Course is the view's model.
type Course struct {
	*view.Page
	state *state.State
	pick  func() tea.Cmd
}

// New makes the view of a session. pick shows the runbooks to choose from, nil where there are none.
func New(s *state.State, pick func() tea.Cmd) *Course {
	return &Course{
		Page:  view.NewPage(func(r view.Room) []paint.Line { return List(r.Theme, s, r.Width) }),
		state: s,
		pick:  pick,
	}
}

// Keys implements view.View.
func (v *Course) Keys() keys.Map {
	words := "pick a runbook"
	if v.state.RunEnd != nil {
		words = "pick another runbook"
	}
	return append(keys.Map{keys.New("r", words, v.pick, "r").If(v.pick != nil && !v.state.Running())}, v.Page.Keys()...)
}

// List draws the course step by step, with what each was expected to take and took.
func List(t theme.Theme, s *state.State, width int) []paint.Line {
	if s.Run == nil {
		return []paint.Line{{paint.In(t.Quiet, "No runbook is under way in this session.")}}
	}
	lines := ended(t, s, width)
	lines = append(lines,
		paint.Between(paint.Line{paint.In(t.Quiet, "     step")},
			paint.Line{paint.In(t.Quiet, "expected      took  timeout")}, width))
	phase, due := "", -1
	next := s.Deadline()
	if next != nil && s.Running() {
		due, _ = s.DueAt(next)
	}
	for i := range s.Steps {
		step := &s.Steps[i]
		if step.Phase != phase {
			phase = step.Phase
			lines = append(lines, nil, paint.Line{paint.Strong(t.Text, phase)})
		}
		if i == due {
			lines = append(lines, dueRow(t, s, next, width))
		}
		lines = append(lines, listRow(t, s, i, width))
		if step.Outcome == "" && s.RunEnd == nil {
			lines = append(lines, types(t, step, width)...)
		}
		if step.Message != "" {
			for _, row := range paint.Wrap(step.Message, width-10) {
				lines = append(lines, paint.Line{paint.In(t.Quiet, "          "+row)})
			}
		}
	}
	if due == len(s.Steps) {
		lines = append(lines, nil, dueRow(t, s, next, width))
	}
	if s.Run.Rollback != "" {
		lines = append(lines, nil, paint.Line{paint.Strong(t.Text, "rollback")})
		for _, row := range paint.Wrap(s.Run.Rollback, width-4) {
			lines = append(lines, paint.Line{paint.In(t.Quiet, "  "+row)})
		}
	}
	return lines
}

// dueRow stands where a deadline runs out, by what the steps before are expected to take.
func dueRow(t theme.Theme, s *state.State, next *state.Deadline, width int) paint.Line {
	left := paint.Line{
		paint.Strong(t.Bad, "  ┃  "+units.Clock(next.Left(s.Now))+" left: "),
		paint.In(t.Text, next.Says),
	}
	return paint.Between(left, paint.Line{paint.In(t.Bad, "at "+next.Until.Format("15:04:05"))}, width)
}

// ended is how the run ended, and what it has proved.
func ended(t theme.Theme, s *state.State, width int) (lines []paint.Line) {
	end := s.RunEnd
	if end == nil {
		return nil
	}
	color := t.End(end.Outcome)
	for i, row := range paint.Wrap(end.Message, width-14) {
		label := strings.Repeat(" ", 13)
		if i == 0 {
			label = fmt.Sprintf(" %-12s", end.Outcome)
		}
		lines = append(lines, paint.Line{paint.Strong(color, label), paint.In(t.Text, row)})
	}
	for _, proof := range end.Proved {
		for i, row := range paint.Wrap(proof, width-14) {
			label := "             "
			if i == 0 {
				label = " ✓ proved    "
			}
			lines = append(lines, paint.Line{paint.In(t.Good, label), paint.In(t.Text, row)})
		}
	}
	return append(lines, nil)
}

// types is what a step that is ahead would type.
func types(t theme.Theme, step *state.Step, width int) (lines []paint.Line) {
	for _, text := range step.Types {
		for _, row := range paint.Wrap(text, max(20, width-12)) {
			lines = append(lines, paint.Line{paint.In(t.Faint, "          ⟩ "), paint.In(t.Quiet, row)})
		}
	}
	return lines
}

func listRow(t theme.Theme, s *state.State, i, width int) paint.Line {
	step := &s.Steps[i]
	took := ""
	look := paint.In(t.Quiet, step.Title)
	switch {
	case i == s.Here && s.Running() && step.Outcome == "":
		took = units.Span(s.Now.Sub(step.Begun))
		look = paint.Strong(t.Here, step.Title)
	case step.Outcome == event.Skipped:
		took = "skipped"
	case step.Outcome != "":
		took = units.Span(step.Took)
		look = paint.In(t.Text, step.Title)
	}
	expected := "–"
	if step.Expected > 0 {
		expected = "~" + units.Span(step.Expected)
	}
	left := paint.Line{paint.Piece{Text: "  "}, stop(t, s, i), paint.In(t.Quiet, fmt.Sprintf("  %-5s", step.ID)), look}
	if step.Irreversible && step.Outcome == "" {
		left = append(left, paint.In(t.Bad, "  ▲ cannot be undone"))
	}
	if step.Try > 1 {
		left = append(left, paint.In(t.Here, fmt.Sprintf("  try %d", step.Try)))
	}
	right := paint.Line{
		paint.In(t.Quiet, fmt.Sprintf("%9s", expected)),
		paint.In(t.Text, fmt.Sprintf("%10s", took)),
		paint.In(t.Faint, fmt.Sprintf("%9s", units.Span(step.Timeout))),
	}
	return paint.Between(left, right, width)
}
