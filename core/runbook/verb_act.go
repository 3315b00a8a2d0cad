package runbook

import (
	"context"
	"fmt"
	"time"

	"pilotrix/core/dialect"
	"pilotrix/core/expression"
	"pilotrix/core/source"
)

var _ = register(Verb{
	Name: "act", Does: "does an action of the dialect, and holds what is read afterwards to what is expected of it",
	Timeout: time.Minute, Cards: []string{CardBanks},
	New: func() Body { return new(actBody) },
})

type actBody struct {
	Doing  `yaml:",inline"`
	By     string  `yaml:"by" jsonschema_description:"Which way, of an action with several; may be the ${input} of a choice"`
	Expect *Expect `yaml:"expect" jsonschema_description:"What is read afterwards, and has to hold then"`
}

// Expect is what has to be so after an action.
type Expect struct {
	Read    []string          `yaml:"read" jsonschema:"required" jsonschema_description:"Readings that are taken"`
	Holds   source.Expression `yaml:"holds" jsonschema:"required" jsonschema_description:"What has to hold then"`
	Message string            `yaml:"message" jsonschema:"required" jsonschema_description:"What is said when it does not; may hold ${…}"`
	Proves  string            `yaml:"proves" jsonschema_description:"What it proves, in words"`
}

type actWork struct {
	*doing
	expect          *Expect
	readings        []*dialect.CompiledReading
	holds           *expression.Guard
	message, proves *expression.Template
}

// Compile implements Body.
func (b *actBody) Compile(c *Compiler) Work {
	w := &actWork{doing: b.compile(c, b.By), expect: b.Expect}
	if b.By != "" && w.action != nil && len(w.action.By) == 0 {
		c.Complain("by", "action %q is done in one way only", b.Action)
	}
	if w.action != nil && w.action.Danger != "" {
		c.WarnUnlessHeld("action", fmt.Sprintf("action %q %s", b.Action, w.action.Danger))
	}
	if b.Expect != nil {
		w.readings = c.Readings("expect.read", b.Expect.Read)
		w.holds = c.Proof("expect.holds", b.Expect.Holds)
		w.message, w.proves = c.Template("expect.message", b.Expect.Message), c.Template("expect.proves", b.Expect.Proves)
	}
	return w
}

// Do implements Doer.
func (w *actWork) Do(ctx context.Context, e *Engine, s *PreparedStep) error {
	if err := e.perform(ctx, s, w.doing); err != nil || w.expect == nil {
		return err
	}
	if err := e.readAll(ctx, s, w.readings); err != nil {
		return err
	}
	if err := e.check(s, w.holds, w.message, e.title(s)); err != nil {
		return err
	}
	return e.prove(w.proves)
}

// Types implements typist.
func (w *actWork) Types(p *planner, _ *PreparedStep) []Typed {
	typed := w.types(p)
	for _, reading := range w.readings {
		typed = append(typed, p.reading(reading)...)
	}
	return typed
}

// Tells implements teller.
func (w *actWork) Tells(*planner, *PreparedStep) (t Told) {
	if w.expect != nil {
		t.Checks = []string{string(w.expect.Holds)}
	}
	return t
}
