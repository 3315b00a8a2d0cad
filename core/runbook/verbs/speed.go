package verbs

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"pilotrix/core/event"
	"pilotrix/core/expression"
	"pilotrix/core/runbook"
	"pilotrix/core/runbook/engine"
)

var _ = runbook.Register(runbook.Verb{
	Name: "speed", Does: "changes both ends of the line to a speed, proved by a clean prompt, else back",
	Timeout: 30 * time.Second, Repeatable: true, OwnLine: true,
	New: func() runbook.Body { return new(speedBody) },
})

type speedBody struct {
	To   int  `yaml:"to" jsonschema:"minimum=1" jsonschema_description:"In baud"`
	Back bool `yaml:"back" jsonschema_description:"To what it was before the runbook"`
}

type speedWork struct{ speedBody }

// Compile implements runbook.Body.
func (b *speedBody) Compile(c *runbook.Compiler) runbook.Work {
	d := c.Dialect()
	switch {
	case (b.To == 0) == !b.Back:
		c.Complain("", "say either to: BAUD or back: true")
	case len(d.Document.Speed) == 0:
		c.Complain("", "dialect %s does not say how the device's speed is set (speed: …)", d.Dialect)
	case b.To != 0 && len(d.Line.Speeds) > 0 && !d.HasSpeed(b.To):
		c.Complain("to", "%d is none of the speeds that the device can be set to: %s", b.To,
			strings.Trim(fmt.Sprint(d.Line.Speeds), "[]"))
	}
	return &speedWork{*b}
}

// Pace implements runbook.Pacer.
func (w *speedWork) Pace() int { return w.To }

// Do implements engine.Doer.
func (w *speedWork) Do(ctx context.Context, run *engine.Run, s *runbook.PreparedStep) error {
	from, can := run.Console.Speed()
	to := w.To
	if w.Back {
		to = run.Speed.Before()
	}
	switch {
	case !can:
		run.Console.Emit(event.Note{Level: event.Info, Text: "this line has no speed; nothing to change"})
		return nil
	case from == to:
		return nil
	}
	run.Now(s, fmt.Sprintf("Changes both ends from %d to %d baud", from, to), "a clean prompt at the new speed",
		s.Timeout)
	return run.Speed.Change(ctx, s, from, to)
}

// Types implements runbook.Typist.
func (w *speedWork) Types(p *runbook.Planner, _ *runbook.PreparedStep) []runbook.Typed {
	if w.Back {
		return nil
	}
	return speedTyped(p, w.To)
}

// speedTyped is how the device's end is set to a speed, in the mode that it is in.
func speedTyped(p *runbook.Planner, baud int) (typed []runbook.Typed) {
	for _, setting := range p.Dialect.Document.Speed {
		t, err := expression.CompileTemplate(setting.Command, nil)
		if err != nil {
			continue
		}
		one := runbook.Typed{Text: t.Shown(map[string]any{"speed": baud})}
		if p.Mode == "" || !slices.Contains(setting.In, p.Mode) {
			one.When = "in mode " + strings.Join(setting.In, " or ")
		} else {
			return []runbook.Typed{one}
		}
		typed = append(typed, one)
	}
	return typed
}
