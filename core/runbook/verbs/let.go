package verbs

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"time"

	"pilotrix/core/event"
	"pilotrix/core/expression"
	"pilotrix/core/runbook"
	"pilotrix/core/runbook/engine"
	"pilotrix/core/source"
)

var _ = runbook.Register(runbook.Verb{
	Name: "let", Does: "computes values and calls them by names, for later steps",
	Timeout: time.Second, Repeatable: true, Learns: true,
	New: func() runbook.Body { return new(letBody) },
})

// letBody are names, each with the expression that it stands for.
type letBody map[string]source.Expression

type letWork map[string]*expression.Guard

// Compile implements runbook.Body.
func (b *letBody) Compile(c *runbook.Compiler) runbook.Work {
	w := letWork{}
	for _, name := range slices.Sorted(maps.Keys(*b)) {
		c.Name(name, name)
		w[name] = c.Guard(name, (*b)[name])
	}
	for name := range *b {
		c.Makes(name)
	}
	return w
}

// Made are the names that it makes.
func (b *letBody) Made() []string { return slices.Sorted(maps.Keys(*b)) }

// Do implements engine.Doer.
func (w letWork) Do(_ context.Context, run *engine.Run, s *runbook.PreparedStep) error {
	env := run.Env()
	for _, name := range slices.Sorted(maps.Keys(w)) {
		value, err := w[name].Value(env)
		if err != nil {
			return err
		}
		run.Made[name] = runbook.Plain(value)
		run.Console.Emit(event.Fact{
			Name:   name,
			Value:  expression.Format(value),
			Source: fmt.Sprintf("computed: %s", w[name].Text()),
		})
	}
	return nil
}

// Summary implements runbook.Summarizer.
func (w letWork) Summary(*runbook.Planner, *runbook.PreparedStep) (t runbook.Summary) {
	for _, name := range slices.Sorted(maps.Keys(w)) {
		t.Does = append(t.Does, name+" = "+w[name].Text())
	}
	return t
}

// Foresees implements runbook.Foreseer.
func (w letWork) Foresees(p *runbook.Planner, _ *runbook.PreparedStep) runbook.Made {
	made := runbook.Made{}
	for _, name := range slices.Sorted(maps.Keys(w)) {
		if value, err := w[name].Value(p.Known); err == nil &&
			!slices.ContainsFunc(w[name].Uses(), func(used string) bool { return !p.Knows(used) }) {
			made[name] = runbook.Plain(value)
		}
	}
	return made
}
