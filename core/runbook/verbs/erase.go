package verbs

import (
	"context"
	"time"

	"pilotrix/core/event"
	"pilotrix/core/runbook"
	"pilotrix/core/runbook/engine"
)

var _ = runbook.Register(runbook.Verb{
	Name:    "erase",
	Does:    "erases what a file needs of a part of the flash, by an action of the dialect that types the addresses reckoned as burn.…",
	Timeout: 5 * time.Minute,
	Makes:   burnMakes,
	Cards:   []string{runbook.CardFlash},
	New:     func() runbook.Body { return new(eraseBody) },
})

type eraseBody struct {
	Burning      `yaml:",inline"`
	runbook.Call `yaml:",inline"`
}

type eraseWork struct {
	burning
	*runbook.CompiledCall
}

// Compile implements runbook.Body.
func (b *eraseBody) Compile(c *runbook.Compiler) runbook.Work {
	burning := b.Burning.compile(c)
	w := &eraseWork{burning, b.Call.CompileBy(c, "")}
	c.WarnUnlessHeld("", "this erases what is in a part of the flash")
	return w
}

// Summary implements runbook.Summarizer.
func (w *eraseWork) Summary(p *runbook.Planner, s *runbook.PreparedStep) runbook.Summary {
	return w.describes(p, s)
}

// Types implements runbook.Typist.
func (w *eraseWork) Types(p *runbook.Planner, _ *runbook.PreparedStep) []runbook.Typed {
	return w.Commands(p)
}

// Do implements engine.Doer.
func (w *eraseWork) Do(ctx context.Context, run *engine.Run, s *runbook.PreparedStep) error {
	burn := burns.Of(run)
	burn.erased = nil
	err := flashing(run, ctx, s, w.CompiledCall, w.burning, event.FlashErasing, event.FlashErased)
	if err == nil && s.Hold != "" {
		erased := burn.now
		burn.erased = &erased
	}
	return err
}
