package verbs

import (
	"context"
	"time"

	"pilotrix/core/dialect"
	"pilotrix/core/runbook"
	"pilotrix/core/runbook/engine"
)

var _ = runbook.Register(runbook.Verb{
	Name: "read", Does: "types the commands of readings and keeps what they say as facts",
	Timeout: 30 * time.Second, Repeatable: true, Learns: true, Cards: []string{runbook.CardBanks},
	New: func() runbook.Body { return new(readBody) },
})

type readBody []string

type readWork struct{ readings []*dialect.CompiledReading }

// Compile implements runbook.Body.
func (b *readBody) Compile(c *runbook.Compiler) runbook.Work {
	if len(*b) == 0 {
		c.Complain("", "say which readings are taken")
	}
	return &readWork{c.Readings("", *b)}
}

// Do implements engine.Doer.
func (w *readWork) Do(ctx context.Context, run *engine.Run, s *runbook.PreparedStep) error {
	defer run.ShowShelf()
	return run.Readings.TakeAll(ctx, s, w.readings)
}

// Types implements runbook.Typist.
func (w *readWork) Types(p *runbook.Planner, _ *runbook.PreparedStep) (typed []runbook.Typed) {
	for _, reading := range w.readings {
		typed = append(typed, p.Reading(reading)...)
	}
	return typed
}
