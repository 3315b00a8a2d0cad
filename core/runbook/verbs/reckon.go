package verbs

import (
	"context"
	"time"

	"pilotrix/core/event"
	"pilotrix/core/runbook"
	"pilotrix/core/runbook/engine"
)

var _ = runbook.Register(runbook.Verb{
	Name: "reckon", Does: "computes which sectors of the flash are erased for a file, and where its bytes land; refuses what does not fit, or would touch anything else",
	Timeout: 30 * time.Second, Repeatable: true, Learns: true, Makes: burnMakes, Cards: []string{runbook.CardFlash},
	New: func() runbook.Body { return new(reckonBody) },
})

type reckonBody struct {
	Burning `yaml:",inline"`
}

type reckonWork struct{ burning }

// Compile implements Body.
func (b *reckonBody) Compile(c *runbook.Compiler) runbook.Work {
	return &reckonWork{b.Burning.compile(c)}
}

// Tells implements teller.
func (w *reckonWork) Tells(p *runbook.Planner, s *runbook.PreparedStep) runbook.Summary {
	return w.tells(p, s)
}

// Do implements Doer.
func (w *reckonWork) Do(_ context.Context, run *engine.Run, s *runbook.PreparedStep) error {
	b, err := w.reckon(run, s)
	if err != nil {
		return err
	}
	showFlash(run, event.FlashReckoned)
	for _, words := range burnWords(b, burns.Of(run).now.File) {
		run.Console.Emit(event.Note{Level: event.Info, Text: words})
	}
	return nil
}
