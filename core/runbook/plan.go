package runbook

import (
	"cmp"
	"fmt"
	"io"
	"strings"
	"time"

	"pilotrix/core/device"
	"pilotrix/core/dialect"
	"pilotrix/core/expression"
)

// PlanStep is a step as it is announced: what it would type, and what stops it.
type PlanStep struct {
	ID       string        `json:"id"`
	Leg      string        `json:"leg"`
	Title    string        `json:"title"`
	Verb     string        `json:"verb"`
	When     string        `json:"when,omitempty"`
	Types    []string      `json:"types,omitempty"`
	Danger   string        `json:"danger,omitempty"`
	Hold     string        `json:"hold,omitempty"`
	WayBack  string        `json:"way_back,omitempty"`
	NoReturn bool          `json:"no_return,omitempty"`
	Expected time.Duration `json:"expected"`
	Limit    time.Duration `json:"limit"`
	Checks   []string      `json:"checks,omitempty"`
}

// Plan is every step of a runbook, before anything is sent.
type Plan struct {
	Runbook  string        `json:"runbook"`
	Title    string        `json:"title"`
	Dialect  string        `json:"dialect"`
	Expected time.Duration `json:"expected"`
	Steps    []PlanStep    `json:"steps"`
	About    string        `json:"way_back_about,omitempty"`
	WayBack  []PlanStep    `json:"way_back,omitempty"`
}

// Plan lays out what a run would do. Values that only the device can tell stay as ${…}.
func (p *Prepared) Plan() Plan {
	plan := Plan{Runbook: p.Book.Runbook, Title: p.Book.Title, Dialect: p.Dialect.Dialect, About: p.Book.WayBack.About}
	for i := range p.Steps {
		plan.Steps = append(plan.Steps, p.planStep(&p.Steps[i]))
		plan.Expected += p.Steps[i].Expected
	}
	for i := range p.WayBack {
		plan.WayBack = append(plan.WayBack, p.planStep(&p.WayBack[i]))
	}
	return plan
}

func (p *Prepared) planStep(s *Prepped) PlanStep {
	env := p.openEnv()
	step := PlanStep{
		ID: s.ID, Leg: s.Leg, Title: s.Step.Step, Verb: s.Verb, When: s.When, NoReturn: s.NoReturn, Expected: s.Expected, Limit: s.Limit,
		Hold: s.hold.Shown(env), WayBack: s.wayBack.Shown(env), Types: p.Types(s, env),
	}
	for _, command := range step.Types {
		if says := p.Dialect.DangerOf(command); says != "" {
			step.Danger = says
		}
	}
	if s.Check != "" {
		step.Checks = append(step.Checks, s.Check)
	}
	for _, c := range s.compare {
		step.Checks = append(step.Checks, fmt.Sprintf("%s: %s = %s", c.What, c.Got, c.Want))
	}
	return step
}

// openEnv holds the inputs that may be shown; secrets stay names.
func (p *Prepared) openEnv() map[string]any {
	env := p.Env(&device.Facts{})
	for _, input := range p.Book.Inputs {
		if input.Kind == KindSecret {
			delete(env, input.Input)
		}
	}
	return env
}

// Types are the commands that a step types, as far as they are known.
func (p *Prepared) Types(s *Prepped, env map[string]any) []string {
	switch {
	case len(s.Read) > 0:
		var types []string
		for _, name := range s.Read {
			types = append(types, p.Dialect.Reading(name).Type.Shown(env))
		}
		return types
	case s.Act != nil:
		return actionTypes(p.Dialect.Action(s.Act.Action), s, env)
	case s.Send != nil:
		return actionTypes(p.Dialect.Action(s.Send.Action), s, env)
	case s.Speed != nil && s.Speed.To != 0:
		return p.speedTypes(s.Speed.To)
	}
	return nil
}

func (p *Prepared) speedTypes(baud int) []string {
	var types []string
	for _, speed := range p.Dialect.Speed {
		t, err := expression.CompileTemplate(speed.Command, nil)
		if err == nil {
			types = append(types, t.Shown(map[string]any{"speed": baud}))
		}
	}
	if len(types) > 1 {
		return []string{strings.Join(types, "  or, by mode,  ")}
	}
	return types
}

// actionTypes fills the action's parameters in, then its command.
func actionTypes(action *dialect.CompiledAction, s *Prepped, env map[string]any) []string {
	full := map[string]any{}
	for name, value := range env {
		full[name] = value
	}
	for name, template := range s.with {
		full[name] = template.Shown(env)
	}
	types := []string{action.Type.Shown(full)}
	for _, dialog := range action.Asks {
		if dialog.Answer != "" {
			types = append(types, dialog.Reply.Shown(full))
		}
	}
	return types
}

// Write prints the plan as text.
func (p Plan) Write(out io.Writer) {
	fmt.Fprintf(out, "%s  (%s, dialect %s), about %s\n", p.Title, p.Runbook, p.Dialect, p.Expected.Round(time.Second))
	writeSteps(out, p.Steps)
	fmt.Fprintf(out, "\nway back: %s\n", cmp.Or(strings.TrimSpace(p.About), "none is prepared"))
	writeSteps(out, p.WayBack)
	fmt.Fprintln(out, "\nNothing was sent. ◇ waits for your approval, ▲ cannot be undone.")
}

func writeSteps(out io.Writer, steps []PlanStep) {
	leg := ""
	for _, s := range steps {
		if s.Leg != leg {
			leg = s.Leg
			fmt.Fprintf(out, "\n%s\n", leg)
		}
		mark := " "
		switch {
		case s.NoReturn:
			mark = "▲"
		case s.Hold != "":
			mark = "◇"
		}
		fmt.Fprintf(out, "  %s %-6s %-44s ~%-7s limit %s\n", mark, s.ID, s.Title, s.Expected.Round(100*time.Millisecond), s.Limit)
		details := [][2]string{{"when", s.When}, {"hold", s.Hold}, {"way back", s.WayBack}, {"danger", s.Danger}}
		for _, command := range s.Types {
			details = append(details, [2]string{"types", command})
		}
		for _, check := range s.Checks {
			details = append(details, [2]string{"checks", check})
		}
		for _, d := range details {
			if d[1] != "" {
				fmt.Fprintf(out, "           %-9s %s\n", d[0], strings.TrimSpace(d[1]))
			}
		}
	}
}
