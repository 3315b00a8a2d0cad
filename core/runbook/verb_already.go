package runbook

import (
	"context"
	"time"

	"pilotrix/core/expression"
	"pilotrix/core/source"
)

var _ = register(Verb{
	Name: "already", Does: "ends the run, well, where what is wanted is so already; anything else goes on",
	Timeout: 30 * time.Second, Repeatable: true, Learns: true, First: true,
	New: func() Body { return new(alreadyBody) },
})

type alreadyBody struct {
	Holds   source.Expression `yaml:"holds" jsonschema:"required" jsonschema_description:"What is so then"`
	Message string            `yaml:"message" jsonschema:"required" jsonschema_description:"What is said of it; may hold ${…}"`
	Proves  string            `yaml:"proves" jsonschema_description:"What it proves, in words"`
}

type alreadyWork struct {
	text            string
	holds           *expression.Guard
	message, proves *expression.Template
}

// Compile implements Body.
func (b *alreadyBody) Compile(c *Compiler) Work {
	return &alreadyWork{string(b.Holds), c.Proof("holds", b.Holds), c.Template("message", b.Message), c.Template("proves", b.Proves)}
}

// Do implements Doer.
func (w *alreadyWork) Do(ctx context.Context, e *Engine, s *PreparedStep) error {
	if err := e.fresh(ctx, s, w.holds); err != nil {
		return err
	}
	so, err := w.holds.Holds(e.env())
	if err != nil || !so || e.Account.Tried() { // what this run has changed was not so already
		return err
	}
	why, err := w.message.Render(e.env())
	if err != nil {
		return err
	}
	if err := e.prove(w.proves); err != nil {
		return err
	}
	return e.Account.Already(why)
}

// Tells implements teller.
func (w *alreadyWork) Tells(*planner, *PreparedStep) Told {
	return Told{Checks: []string{"ends here if " + w.text}}
}
