package verbs

import (
	"context"
	"time"

	"pilotrix/core/event"
	"pilotrix/core/runbook"
	"pilotrix/core/runbook/engine"
)

var _ = runbook.Register(runbook.Verb{
	Name:       "reckon",
	Does:       "computes which sectors of the flash are erased for a file, and where its bytes land; refuses what does not fit, or would touch anything else",
	Timeout:    30 * time.Second,
	Repeatable: true,
	Learns:     true,
	Makes:      burnMakes,
	Cards:      []string{runbook.CardFlash},
	New:        func() runbook.Body { return new(computeBody) },
})

type computeBody struct {
	Burning `yaml:",inline"`
}

type computeWork struct{ burning }

// Compile implements runbook.Body.
func (b *computeBody) Compile(c *runbook.Compiler) runbook.Work {
	return &computeWork{b.Burning.compile(c)}
}

// Summary implements runbook.Summarizer.
func (w *computeWork) Summary(p *runbook.Planner, s *runbook.PreparedStep) runbook.Summary {
	return w.describes(p, s)
}

// Do implements engine.Doer.
func (w *computeWork) Do(_ context.Context, run *engine.Run, s *runbook.PreparedStep) error {
	b, err := w.compute(run, s)
	if err != nil {
		return err
	}
	reportFlash(run, event.FlashComputed)
	for _, words := range burnText(b, burns.Of(run).now.File) {
		run.Console.Emit(event.Note{Level: event.Info, Text: words})
	}
	return nil
}
