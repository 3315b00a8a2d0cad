package verbs

import (
	"context"
	"time"

	"pilotrix/core/expression"
	"pilotrix/core/runbook"
	"pilotrix/core/runbook/engine"
	"pilotrix/core/source"
)

var _ = runbook.Register(runbook.Verb{
	Name: "already", Does: "ends the run, well, where what is wanted is so already; anything else goes on",
	Timeout: 30 * time.Second, Repeatable: true, Learns: true, First: true,
	New: func() runbook.Body { return new(alreadyBody) },
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

// Compile implements runbook.Body.
func (b *alreadyBody) Compile(c *runbook.Compiler) runbook.Work {
	return &alreadyWork{
		string(b.Holds),
		c.Proof("holds", b.Holds),
		c.Template("message", b.Message),
		c.Template("proves", b.Proves),
	}
}

// Do implements engine.Doer.
func (w *alreadyWork) Do(ctx context.Context, run *engine.Run, s *runbook.PreparedStep) error {
	if err := run.Readings.EnsureFresh(ctx, s, w.holds); err != nil {
		return err
	}
	so, err := w.holds.Holds(run.Env())
	if err != nil || !so || run.Account.Tried() { // what this run has changed was not so already
		return err
	}
	why, err := w.message.Render(run.Env())
	if err != nil {
		return err
	}
	if err := prove(run, w.proves); err != nil {
		return err
	}
	return run.Account.Already(why)
}

// Summary implements runbook.Summarizer.
func (w *alreadyWork) Summary(*runbook.Planner, *runbook.PreparedStep) runbook.Summary {
	return runbook.Summary{Checks: []string{"ends here if " + w.text}}
}
