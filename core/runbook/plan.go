package runbook

import (
	"cmp"
	"fmt"
	"io"
	"maps"
	"strings"
	"time"

	"pilotrix/core/device"
	"pilotrix/core/dialect"
	"pilotrix/core/expression"
	"pilotrix/core/image"
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
	Does     []string      `json:"does,omitempty"` // on this laptop
	Reckons  []string      `json:"reckons,omitempty"`
	For      string        `json:"for,omitempty"` // the loop that it is carried out in
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

// Plan lays out what a run would do. Values that only the device can tell stay as ${…}, and a loop over
// what only it can tell stays one; facts that are assumed take the place of what would be read.
func (p *Prepared) Plan(assumed *device.Facts) Plan {
	plan := Plan{Runbook: p.Book.Runbook, Title: p.Book.Title, Dialect: p.Dialect.Dialect, About: strings.TrimSpace(p.Book.WayBack.About)}
	steps, env := p.unrolled(assumed)
	for i := range steps {
		plan.Steps = append(plan.Steps, p.planStep(&steps[i], env))
		plan.Expected += steps[i].Expected
	}
	for i := range p.WayBack {
		plan.WayBack = append(plan.WayBack, p.planStep(&p.WayBack[i], env))
	}
	return plan
}

// unrolled are the steps with every loop unrolled whose list is known, and what they would see.
func (p *Prepared) unrolled(assumed *device.Facts) (steps []Prepped, env map[string]any) {
	env = p.openEnv(assumed)
	var hops []image.Hop
	for i := 0; i < len(p.Steps); i++ {
		s := p.Steps[i]
		if s.Hops != nil {
			if name, err := s.texts["paths"].Render(env); err == nil {
				if chain, err := p.chain(name, s.Hops.To, assumed); err == nil {
					hops = chain
					env["hops"] = hopTrees(chain)
				}
			}
		}
		end := i
		for s.loop != nil && end < len(p.Steps) && p.Steps[end].loop == s.loop {
			end++
		}
		all, err := []map[string]any(nil), error(nil)
		if s.loop != nil {
			all, err = rounds(s.loop, env)
		}
		if s.loop == nil || err != nil {
			steps = append(steps, s)
			continue
		}
		for n, vars := range all {
			steps = append(steps, p.copies(p.Steps[i:end], s.loop, n, vars, hops)...)
		}
		i = end - 1
	}
	return steps, env
}

func (p *Prepared) planStep(s *Prepped, outer map[string]any) PlanStep {
	env := maps.Clone(outer)
	maps.Copy(env, s.vars)
	step := PlanStep{
		ID: s.ID, Leg: s.Leg, Title: s.Step.Step, Verb: s.Verb, When: s.When, NoReturn: s.NoReturn, Expected: s.Expected, Limit: s.Limit,
		Hold: s.hold.Shown(env), WayBack: s.wayBack.Shown(env), Types: p.Types(s, env),
	}
	if s.loop != nil {
		step.For = fmt.Sprintf("each %s in %s", s.loop.Each, s.loop.In)
	}
	step.Does, step.Reckons = does(s, env), p.reckons(s)
	for _, command := range step.Types {
		if says := p.Dialect.DangerOf(command); says != "" {
			step.Danger = says
		}
	}
	if s.Check != "" {
		step.Checks = append(step.Checks, s.Check)
	}
	if s.Poll != nil {
		step.Checks = append(step.Checks, "until "+s.Poll.Until)
	}
	if s.Restart != nil {
		step.Checks = append(step.Checks, "goes on at a prompt of "+strings.Join(s.Restart.Mode, " or ")+answersWords(s, env))
	}
	for _, c := range s.compare {
		step.Checks = append(step.Checks, fmt.Sprintf("%s: %s = %s", c.What, c.Got, c.Want))
	}
	return step
}

func answersWords(s *Prepped, env map[string]any) string {
	if s.Restart.Watch == "" {
		return ""
	}
	return " and when " + s.texts["watch"].Shown(env) + " answers"
}

// does tells what a step does on this laptop rather than on the line.
func does(s *Prepped, env map[string]any) []string {
	shown := func(key string) string { return s.texts[key].Shown(env) }
	switch {
	case s.Hops != nil:
		return []string{"plans the releases to ${" + s.Hops.To + "} by " + shown("paths")}
	case s.Serve != nil:
		text := fmt.Sprintf("stages %s by %s", or(shown("as"), "${"+s.Serve.File+".name}"), strings.ToUpper(shown("by")))
		if img := s.images[s.Serve.File]; img != nil && s.Serve.As == "" {
			text = fmt.Sprintf("stages %s (%d B) by %s", img.Name, img.Size, strings.ToUpper(shown("by")))
		}
		if at := shown("address"); at != "" {
			text += " at " + at
		}
		if port := shown("port"); port != "" {
			text += ", port " + port
		}
		return []string{text, "looks whether the device can get it: address, network, file, server, firewall"}
	case s.Take != nil:
		return []string{fmt.Sprintf("takes %s by %s into %s", shown("as"), strings.ToUpper(shown("by")), shown("into"))}
	case s.Put != nil:
		return []string{fmt.Sprintf("puts %s to %s by TFTP until its window opens", or(shown("as"), "${"+s.Put.File+".name}"), shown("to"))}
	case len(s.watch) > 0:
		var all []string
		for _, target := range s.watch {
			all = append(all, "watches "+target.Shown(env))
		}
		return all
	case s.Snapshot != "":
		return []string{"keeps all that was read as “" + s.Snapshot + "”"}
	}
	return nil
}

// openEnv holds the inputs that may be shown, and facts; secrets stay names.
func (p *Prepared) openEnv(facts *device.Facts) map[string]any {
	env := p.Env(facts)
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
	case s.Take != nil:
		return actionTypes(p.Dialect.Action(s.Take.Action), s, env)
	case s.Restart != nil:
		return actionTypes(p.Dialect.Action(s.Restart.Action), s, env)
	case s.Poll != nil:
		var types []string
		for _, name := range s.Poll.Read {
			types = append(types, fmt.Sprintf("%s, every %s", p.Dialect.Reading(name).Type.Shown(env), s.Poll.Every))
		}
		return types
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
		fmt.Fprintf(out, "  %-2s%-6s %-44s ~%-7s limit %s\n", s.mark(), s.ID, s.Title, s.Expected.Round(100*time.Millisecond), s.Limit)
		for _, d := range s.details() {
			fmt.Fprintf(out, "           %-9s %s\n", d[0], d[1])
		}
	}
}

// details are what a step says besides its title, label and text.
func (s PlanStep) details() (details [][2]string) {
	add := func(label string, texts ...string) {
		for _, text := range texts {
			if text = strings.TrimSpace(text); text != "" {
				details = append(details, [2]string{label, text})
			}
		}
	}
	add("for", s.For)
	add("when", s.When)
	add("hold", s.Hold)
	add("way back", s.WayBack)
	add("danger", s.Danger)
	add("here", s.Does...)
	add("reckons", s.Reckons...)
	add("types", s.Types...)
	add("checks", s.Checks...)
	return details
}

// WriteMarkdown prints the plan as Markdown, to be put into a ticket.
func (p Plan) WriteMarkdown(out io.Writer) {
	fmt.Fprintf(out, "# %s\n\nRunbook `%s`, dialect `%s`, about %s. ◇ waits for an approval, ▲ cannot be undone. Nothing was sent.\n", p.Title, p.Runbook, p.Dialect, p.Expected.Round(time.Second))
	markdownSteps(out, p.Steps)
	fmt.Fprintf(out, "\n## Way back\n\n%s\n", cmp.Or(p.About, "None is prepared."))
	markdownSteps(out, p.WayBack)
}

func markdownSteps(out io.Writer, steps []PlanStep) {
	leg := ""
	for _, s := range steps {
		if s.Leg != leg {
			leg = s.Leg
			fmt.Fprintf(out, "\n## %s\n\n", leg)
		}
		fmt.Fprintf(out, "- **%s** %s%s _(expected %s, limit %s)_\n", s.ID, s.mark(), s.Title, s.Expected.Round(100*time.Millisecond), s.Limit)
		for _, d := range s.details() {
			text := d[1]
			if d[0] == "types" || d[0] == "checks" || d[0] == "when" {
				text = "`" + text + "`"
			}
			fmt.Fprintf(out, "  - %s: %s\n", d[0], text)
		}
	}
}

func (s PlanStep) mark() string {
	switch {
	case s.NoReturn:
		return "▲ "
	case s.Hold != "":
		return "◇ "
	}
	return ""
}
