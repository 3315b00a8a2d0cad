// Package plan is the view of what a run would do, before anything is sent: every command, every hold, the times, and
// the rollback.
package plan

import (
	"fmt"
	"strings"

	tea "charm.land/bubbletea/v2"

	"pilotrix/core/runbook"
	"pilotrix/core/units"
	"pilotrix/tui/keys"
	"pilotrix/tui/paint"
	"pilotrix/tui/theme"
	"pilotrix/tui/view"
)

// Plan is the view's model.
type Plan struct {
	view.Scroll
	plan  runbook.Plan
	begin func() tea.Cmd
}

// New makes the view; Show fills it.
func New() *Plan { return &Plan{} }

// Show lays a plan out. begin carries it out.
func (v *Plan) Show(p runbook.Plan, begin func() tea.Cmd) { *v = Plan{plan: p, begin: begin} }

// Keys implements view.View.
func (v *Plan) Keys() keys.Map {
	return append(keys.Map{keys.New("Enter", "carry it out", func() tea.Cmd { return v.begin() }, "enter").
		Explain("carries the plan out; every hold in it is still asked about").If(v.begin != nil)}, v.Scroll.Keys()...)
}

// Update implements view.View.
func (v *Plan) Update(tea.Msg) tea.Cmd { return nil }

// Draw implements view.View.
func (v *Plan) Draw(r view.Room) []paint.Line { return v.Window(v.lines(r.Theme, r.Width), r.Rows) }

func (v *Plan) lines(t theme.Theme, width int) []paint.Line {
	p := v.plan
	holds := 0
	for _, s := range p.Steps {
		if s.Hold != "" {
			holds++
		}
	}
	about := fmt.Sprintf("%s, %d %s, about %s", units.Many(len(p.Steps), "step"), holds,
		map[bool]string{true: "hold", false: "holds"}[holds == 1], units.Text(p.Expected))
	lines := []paint.Line{
		paint.Between(paint.Line{paint.Strong(t.Bright, p.Title)}, paint.Line{paint.In(t.Text, about)}, width),
	}
	lines = append(lines, steps(t, p.Steps, width)...)
	if p.About != "" || len(p.Rollback) > 0 {
		lines = append(lines, nil, paint.Line{paint.Strong(t.Text, "rollback")})
		lines = append(lines, paint.Paragraph("  ", paint.Look{FG: t.Quiet}, p.About, width)...)
		lines = append(lines, steps(t, p.Rollback, width)...)
	}
	if len(p.Identity) > 0 {
		lines = append(lines, nil, paint.Line{paint.Strong(t.Text, "which device it is")})
		for _, one := range p.Identity {
			lines = append(lines, typed(t, one, width)...)
		}
	}
	if len(p.Answers) > 0 {
		lines = append(lines, nil,
			paint.Line{paint.Strong(t.Text, "questions that the device may ask, and what is answered")})
		for _, answer := range p.Answers {
			lines = append(lines, typed(t, answer, width)...)
		}
	}
	return lines
}

func steps(t theme.Theme, all []runbook.PlanStep, width int) (lines []paint.Line) {
	phase := ""
	for _, s := range all {
		if s.Phase != phase {
			phase = s.Phase
			head := paint.Line{paint.Strong(t.Text, phase)}
			if s.Rehearsed {
				head = append(head, paint.In(t.Good, "   rehearsal"),
					paint.In(t.Quiet, ": nothing that lasts is changed"))
			}
			lines = append(lines, nil, head)
		}
		lines = append(lines, step(t, s, width)...)
	}
	return lines
}

func step(t theme.Theme, s runbook.PlanStep, width int) []paint.Line {
	mark := paint.In(t.Quiet, "○")
	switch {
	case s.Irreversible:
		mark = paint.Strong(t.Bad, "▲")
	case s.Hold != "":
		mark = paint.Strong(t.Here, "◇")
	}
	expected := ""
	if s.Expected > 0 {
		expected = "~" + units.Span(s.Expected)
	}
	left := paint.Line{{Text: "  "}, mark, paint.In(t.Quiet, fmt.Sprintf("  %-5s", s.ID)), paint.In(t.Text, s.Title)}
	lines := []paint.Line{paint.Between(left, paint.Line{paint.In(t.Quiet, expected)}, width)}
	if s.Skipped != "" {
		return append(lines, paint.Paragraph("          ", paint.Look{FG: t.Quiet}, "· skipped: "+s.Skipped, width)...)
	}
	if len(s.When) > 0 {
		lines = append(
			lines,
			paint.Paragraph("          ", paint.Look{FG: t.Quiet}, "only when "+strings.Join(s.When, " and "),
				width)...)
	}
	if s.Hold != "" {
		lines = append(lines, paint.Paragraph("          ", paint.Look{FG: t.Here}, "holds: "+s.Hold, width)...)
	}
	for _, one := range append(s.Reads, s.Types...) {
		lines = append(lines, typed(t, one, width)...)
	}
	if s.Danger != "" {
		lines = append(lines, paint.Paragraph("          ", paint.Look{FG: t.Bad}, "▲ "+s.Danger, width)...)
	}
	if s.Verb != "serve" { // how long each protocol would take is shown where files are on their way
		for _, estimated := range s.Estimates {
			look := paint.Look{FG: t.Quiet}
			if strings.Contains(estimated, "REFUSED") {
				look = paint.Look{FG: t.Bad, Bold: true}
			}
			lines = append(lines, paint.Paragraph("          ", look, estimated, width)...)
		}
	}
	for _, does := range s.Does {
		lines = append(lines, paint.Paragraph("          ", paint.Look{FG: t.Quiet}, does, width)...)
	}
	if s.Rollback != "" {
		lines = append(lines, paint.Paragraph("          ", paint.Look{FG: t.Quiet}, "rollback: "+s.Rollback, width)...)
	}
	return lines
}

func typed(t theme.Theme, one runbook.Typed, width int) (lines []paint.Line) {
	lead := paint.In(t.Faint, "          ⟩ ")
	for _, row := range paint.Wrap(one.Line(), max(20, width-13)) {
		lines = append(lines, paint.Line{lead, paint.In(t.Quiet, row)})
		lead.Text = "            "
	}
	return lines
}
