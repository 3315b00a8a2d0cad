// Package verbs is what the steps of a runbook can do, a file a verb: its words, its YAML, how it is checked,
// what it types and what it does. Each registers itself with the language; nothing else lists them.
package verbs

import (
	"context"
	"fmt"
	"time"

	"pilotrix/core/dialect"
	"pilotrix/core/expression"
	"pilotrix/core/runbook"
	"pilotrix/core/runbook/engine"
	"pilotrix/core/source"
)

var _ = runbook.Register(runbook.Verb{
	Name: "act", Does: "does an action of the dialect, and holds what is read afterwards to what is expected of it",
	Timeout: time.Minute, Cards: []string{runbook.CardBanks},
	New: func() runbook.Body { return new(actBody) },
})

type actBody struct {
	runbook.Call `yaml:",inline"`
	By           string  `yaml:"by" jsonschema_description:"Which way, of an action with several; may be the ${input} of a choice"`
	Expect       *Expect `yaml:"expect" jsonschema_description:"What is read afterwards, and has to hold then"`
}

// Expect is what has to be so after an action.
type Expect struct {
	Read    []string          `yaml:"read" jsonschema:"required" jsonschema_description:"Readings that are taken"`
	Holds   source.Expression `yaml:"holds" jsonschema:"required" jsonschema_description:"What has to hold then"`
	Message string            `yaml:"message" jsonschema:"required" jsonschema_description:"What is said when it does not; may hold ${…}"`
	Proves  string            `yaml:"proves" jsonschema_description:"What it proves, in words"`
}

type actWork struct {
	*runbook.CompiledCall
	expect          *Expect
	readings        []*dialect.CompiledReading
	holds           *expression.Guard
	message, proves *expression.Template
}

// Compile implements runbook.Body.
func (b *actBody) Compile(c *runbook.Compiler) runbook.Work {
	w := &actWork{CompiledCall: b.CompileBy(c, b.By), expect: b.Expect}
	if b.By != "" && w.Action != nil && len(w.Action.By) == 0 {
		c.Complain("by", "action %q is done in one way only", b.Action)
	}
	if w.Action != nil && w.Action.Danger != "" {
		c.WarnUnlessHeld("action", fmt.Sprintf("action %q %s", b.Action, w.Action.Danger))
	}
	if b.Expect != nil {
		w.readings = c.Readings("expect.read", b.Expect.Read)
		w.holds = c.Proof("expect.holds", b.Expect.Holds)
		w.message, w.proves = c.Template("expect.message", b.Expect.Message), c.Template("expect.proves",
			b.Expect.Proves)
	}
	return w
}

// Do implements engine.Doer.
func (w *actWork) Do(ctx context.Context, run *engine.Run, s *runbook.PreparedStep) error {
	if err := run.Actions.Perform(ctx, s, w.CompiledCall); err != nil || w.expect == nil {
		return err
	}
	if err := run.Readings.TakeAll(ctx, s, w.readings); err != nil {
		return err
	}
	if err := check(run, s, w.holds, w.message, run.Title(s)); err != nil {
		return err
	}
	return prove(run, w.proves)
}

// Types implements runbook.Typist.
func (w *actWork) Types(p *runbook.Planner, _ *runbook.PreparedStep) []runbook.Typed {
	typed := w.Commands(p)
	for _, reading := range w.readings {
		typed = append(typed, p.Reading(reading)...)
	}
	return typed
}

// Summary implements runbook.Summarizer.
func (w *actWork) Summary(*runbook.Planner, *runbook.PreparedStep) (t runbook.Summary) {
	if w.expect != nil {
		t.Checks = []string{string(w.expect.Holds)}
	}
	return t
}
