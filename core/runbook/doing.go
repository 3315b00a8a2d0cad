package runbook

import (
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"pilotrix/core/arithmetic"
	"pilotrix/core/dialect"
	"pilotrix/core/expression"
	"pilotrix/core/source"
)

// Call names an action of the dialect, with its parameters. Several verbs have one.
type Call struct {
	Action string                 `yaml:"action" jsonschema:"required" jsonschema_description:"An action of the dialect"`
	With   map[string]source.Text `yaml:"with" jsonschema_description:"Its parameters; may hold ${…}"`
	Of     string                 `yaml:"of" jsonschema_description:"The file that it deals with: by its size, and the action's rate, it is reckoned how long the step takes and may take"`
}

// CompiledCall is a Call checked against a dialect.
type CompiledCall struct {
	Action *dialect.CompiledAction
	by     *expression.Template // nil where the action has one way
	with   map[string]*expression.Template
	of     string // the file by whose size its time is computed, empty for none
}

// estimated is how long the action deals with its file, 0 where that is not known.
func (d *CompiledCall) estimated(p *Prepared, s *PreparedStep) time.Duration {
	if d == nil || d.Action == nil || d.of == "" {
		return 0
	}
	img, rate := p.ImageOf(s, d.of), d.Action.Rate.Bytes()
	if img == nil || rate <= 0 {
		return 0
	}
	return arithmetic.TransferTime(img.Size, rate)
}

// CompileBy checks an action in every way that by can choose.
func (d Call) CompileBy(c *Compiler, by string) *CompiledCall {
	action := c.names.d.Action(d.Action)
	if action == nil {
		if d.Action != "" {
			c.Complain("action", "dialect %s has no action %q; it has %s", c.names.d.Dialect, d.Action,
				strings.Join(c.names.d.ActionNames(), ", "))
		}
		return &CompiledCall{}
	}
	done := &CompiledCall{Action: action, with: map[string]*expression.Template{}, of: d.Of}
	if d.Of != "" {
		c.Image("of", d.Of)
		if action.Rate == "" {
			c.Complain("of", "dialect %s does not say how much of a file action %q deals with a second (rate: …)",
				c.names.d.Dialect, d.Action)
		}
	}
	if len(action.By) > 0 {
		done.by = c.Template("by", by)
	}
	c.Goes("action", action.In...)
	c.Takes(action.Timeout, action.Where)
	secrets := d.parameters(c, done)
	ways := d.ways(c, action, by)
	for _, way := range ways {
		for _, parameter := range way.With {
			if _, given := d.With[parameter]; !given {
				c.Complain("", "action %q needs %s (with: {%s: …})", d.Action, parameter, parameter)
			}
		}
		c.way("action", fmt.Sprintf("action %q", d.Action), way, c.names, secrets)
	}
	for _, key := range slices.Sorted(maps.Keys(d.With)) {
		if len(ways) > 0 &&
			!slices.ContainsFunc(ways, func(w *dialect.CompiledWay) bool { return slices.Contains(w.With, key) }) {
			c.Complain("with."+key, "action %q takes no %q; it takes %s", d.Action, key, takes(ways))
		}
	}
	if action.Alters() {
		c.Alters()
	} else if action.To != "" {
		c.Changes()
	}
	return done
}

func takes(ways []*dialect.CompiledWay) string {
	var all []string
	for _, way := range ways {
		for _, name := range way.With {
			if !slices.Contains(all, name) {
				all = append(all, name)
			}
		}
	}
	if len(all) == 0 {
		return "nothing"
	}
	return strings.Join(all, ", ")
}

// parameters compiles what is given and says which of it are secrets: those may go where a secret may.
func (d Call) parameters(c *Compiler, done *CompiledCall) (secrets []string) {
	for _, name := range slices.Sorted(maps.Keys(d.With)) {
		t, err := expression.CompileTemplate(string(d.With[name]), c.names)
		if err != nil {
			c.Complain("with."+name, "%v", err)
			continue
		}
		done.with[name] = t
		for _, used := range t.Uses() {
			if c.names.secret(used) {
				secrets = append(secrets, name)
			}
			c.ops = append(c.ops, op{kind: opUse, name: used, path: c.At("with." + name)})
		}
	}
	return secrets
}

// ways are those in which the action can come to be done.
func (d Call) ways(c *Compiler, action *dialect.CompiledAction, by string) (ways []*dialect.CompiledWay) {
	if len(action.By) == 0 {
		way, _ := action.Way("")
		return []*dialect.CompiledWay{way}
	}
	choices, known := c.Choices(by)
	if !known {
		c.Complain("by", "%s can be anything: let it be an input of kind choice, so that each way can be checked", by)
	}
	for _, choice := range choices {
		way, err := action.Way(choice)
		if err != nil {
			c.Complain("by", "%v", err)
			continue
		}
		ways = append(ways, way)
	}
	return ways
}

// Way is the way in which the action is done now.
func (d *CompiledCall) Way(env map[string]any) (*dialect.CompiledWay, error) {
	by := ""
	if d.by != nil {
		var err error
		if by, err = d.by.Render(env); err != nil {
			return nil, err
		}
	}
	return d.Action.Way(by)
}

// Env is what the texts of a way of doing the action see: everything, and its parameters. What only other ways
// take may be empty.
func (d *CompiledCall) Env(outer map[string]any, way *dialect.CompiledWay) (map[string]any, error) {
	env := maps.Clone(outer)
	for name, template := range d.with {
		if !slices.Contains(way.With, name) {
			continue
		}
		value, err := template.Command(outer)
		if err != nil {
			return nil, err
		}
		env[name] = value
	}
	return env, nil
}

// gate says of an action that not every release has what that means here, empty where it is there.
func (p *Planner) gate(action *dialect.CompiledAction) string {
	if !action.Gated() {
		return ""
	}
	if running, known := p.Running(p.Facts); known {
		return action.Lacks(running)
	}
	words := "if the release that runs has it"
	if action.Since != "" {
		words += ", from " + action.Since + " on"
	}
	if action.Until != "" {
		words += ", before " + action.Until
	}
	return words
}

// Commands are those that the action types, as far as they are known.
func (d *CompiledCall) Commands(p *Planner) (typed []Typed) {
	typed = p.Goes(d.Action.In...)
	way, err := d.Way(p.Known)
	if err != nil {
		return append(typed, Typed{Text: d.Action.Action.Action, When: err.Error()})
	}
	env := maps.Clone(p.Known)
	for name, template := range d.with {
		env[name] = template.Shown(p.Known)
	}
	from := len(typed)
	typed = append(typed, p.way(way, env)...)
	if words := p.gate(d.Action); words != "" && len(typed) > from {
		typed[from].When = words
	}
	if d.Action.To != "" {
		p.Mode = d.Action.To
	}
	return typed
}
