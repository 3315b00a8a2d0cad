// Package dryrun is the view of what a device foresees of a change: for each part what would restart, how long it
// takes, to scale, what it warns of and what it refuses; and what of that differs from the first dry run.
package dryrun

import (
	"fmt"
	"strings"
	"time"

	"pilotrix/core/state"
	"pilotrix/core/units"
	"pilotrix/tui/paint"
	"pilotrix/tui/theme"
	"pilotrix/tui/view"
)

// New makes the view of a session.
func New(s *state.State) *view.Page {
	return view.NewPage(func(r view.Room) []paint.Line { return View(r.Theme, s, r.Width) })
}

// Columns of the part, the effect and the time.
const (
	partWidth   = 14
	effectWidth = 15
	timeWidth   = 7
)

// View draws the dry run.
func View(t theme.Theme, s *state.State, width int) []paint.Line {
	d := s.DryRun
	if d == nil {
		return []paint.Line{{paint.In(t.Quiet, "There was no dry run in this session.")}}
	}
	lines := []paint.Line{
		paint.Rule(paint.Look{FG: t.Faint},
			paint.Line{paint.Strong(t.Quiet, "dry run"), paint.In(t.Quiet, "  nothing was changed by it")},
			paint.Line{paint.In(t.Quiet, d.At.Format("15:04:05"))}, width),
	}
	lines = append(lines, summary(t, d, width)...)
	lines = append(lines, nil)
	scale := d.Restarts()
	for i := range d.Rows {
		lines = append(lines, row(t, d, &d.Rows[i], scale, width)...)
	}
	for _, gone := range d.Gone() {
		lines = append(lines, paint.Line{
			paint.In(t.Faint, "  "+paint.Pad(gone.Part, partWidth)+paint.Pad(gone.Effect, effectWidth)),
			paint.In(t.Quiet, "⇠ only in the first one, at "+d.FirstAt.Format("15:04:05")),
		}.Cut(width))
	}
	return append(lines, nil, paint.Legend(t.Quiet,
		paint.In(t.Here, "━").Means("away while it restarts, to scale"),
		paint.In(t.Good, "✓").Means("goes"),
		paint.In(t.Here, "!").Means("warns"),
		paint.In(t.Bad, "✗").Means("refuses"),
		paint.In(t.Here, "⇢").Means("not as in the first")).Cut(width))
}

// Card draws it small, for the side column: what restarts, and what does not simply go.
func Card(t theme.Theme, s *state.State, width int) (lines []paint.Line) {
	for i := range s.DryRun.Rows {
		row := &s.DryRun.Rows[i]
		if row.Takes == 0 && row.Verdict == state.Goes {
			continue
		}
		left := paint.Line{verdict(t, row.Verdict), paint.In(t.Text, " "+row.Part+" "), paint.In(t.Quiet, row.Effect)}
		lines = append(lines, paint.Between(left, paint.Line{paint.In(t.Text, takes(row.Takes))}, width).Cut(width))
		if row.Reason != "" {
			for _, words := range paint.Wrap(row.Reason, width-2) {
				lines = append(lines, paint.Line{paint.In(t.Quiet, "  "+words)})
			}
		}
	}
	return lines
}

// summary says what counts: what refuses, else what warns.
func summary(t theme.Theme, d *state.DryRun, width int) (lines []paint.Line) {
	text, look := "Nothing refuses, and nothing is warned of.", paint.Strong(t.Good, " ✓ ")
	switch d.Worst() {
	case state.Refuses:
		text, look = "It refuses: "+reasons(d, state.Refuses)+".", paint.Strong(t.Bad, " ✗ ")
	case state.Warns:
		text, look = "It warns: "+reasons(d, state.Warns)+".", paint.Strong(t.Here, " ! ")
	}
	for i, row := range paint.Wrap(text, width-4) {
		if i > 0 {
			look = paint.Piece{Text: "   "}
		}
		lines = append(lines, paint.Line{look, paint.In(t.Text, row)})
	}
	return lines
}

func reasons(d *state.DryRun, verdict string) string {
	var all []string
	for _, row := range d.Rows {
		if row.Verdict == verdict {
			all = append(all, strings.TrimSuffix(row.Part+": "+row.Reason, ": "))
		}
	}
	return strings.Join(all, "; ")
}

func takes(d time.Duration) string {
	if d == 0 {
		return "–"
	}
	return units.Span(d)
}

func verdict(t theme.Theme, verdict string) paint.Piece {
	switch verdict {
	case state.Refuses:
		return paint.Strong(t.Bad, "✗")
	case state.Warns:
		return paint.Strong(t.Here, "!")
	}
	return paint.In(t.Good, "✓")
}

// row is one part; what it was in the first dry run stands below it where that differs.
func row(t theme.Theme, d *state.DryRun, part *state.Foreseen, scale time.Duration, width int) []paint.Line {
	long := max(6, min(40, width-partWidth-effectWidth-timeWidth-26))
	bar := 0
	if scale > 0 && part.Takes > 0 {
		bar = max(1, int(float64(long)*part.Takes.Seconds()/scale.Seconds()))
	}
	name := paint.In(t.Text, paint.Pad(part.Part, partWidth))
	mark := paint.Piece{Text: "  "}
	before := d.Before(part.Part)
	differs := d.First != nil && (before == nil || *before != *part)
	if differs {
		mark = paint.Strong(t.Here, "⇢ ")
	}
	line := paint.Line{
		mark,
		name,
		paint.In(t.Quiet, paint.Pad(part.Effect, effectWidth)),
		paint.In(t.Text, fmt.Sprintf("%*s  ", timeWidth-2, takes(part.Takes))),
		paint.In(t.Here, strings.Repeat("━", bar)),
		paint.Piece{Text: strings.Repeat(" ", long-bar+2)},
		verdict(t, part.Verdict),
		paint.In(t.Text, " "+part.Verdict),
	}
	lines := []paint.Line{line.Cut(width)}
	indent := strings.Repeat(" ", partWidth+2)
	if part.Reason != "" {
		for _, words := range paint.Wrap(part.Reason, max(20, width-len(indent)-2)) {
			lines = append(lines, paint.Line{paint.In(t.Quiet, indent+words)})
		}
	}
	if differs {
		lines = append(lines, paint.Line{paint.In(t.Quiet, indent+was(before))}.Cut(width))
	}
	return lines
}

func was(before *state.Foreseen) string {
	if before == nil {
		return "not in the first dry run"
	}
	text := "was: " + before.Effect + ", " + takes(before.Takes) + ", " + before.Verdict
	if before.Reason != "" {
		text += ", " + before.Reason
	}
	return text
}
