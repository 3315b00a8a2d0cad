package runbook

import (
	"context"
	"time"

	"pilotrix/core/event"
)

var _ = register(Verb{
	Name: "erase", Does: "erases what a file needs of a part of the flash, by an action of the dialect that types the addresses reckoned as burn.…",
	Timeout: 5 * time.Minute, Makes: burnMakes, Cards: []string{CardFlash},
	New: func() Body { return new(eraseBody) },
})

type eraseBody struct {
	Burning `yaml:",inline"`
	Doing   `yaml:",inline"`
}

type eraseWork struct {
	burning
	*doing
}

// Compile implements Body.
func (b *eraseBody) Compile(c *Compiler) Work {
	burning := b.Burning.compile(c)
	w := &eraseWork{burning, b.Doing.compile(c, "")}
	c.WarnUnlessHeld("", "this erases what is in a part of the flash")
	return w
}

// Tells implements teller.
func (w *eraseWork) Tells(p *planner, s *PreparedStep) Told { return w.tells(p, s) }

// Types implements typist.
func (w *eraseWork) Types(p *planner, _ *PreparedStep) []Typed { return w.types(p) }

// Do implements Doer.
func (w *eraseWork) Do(ctx context.Context, e *Engine, s *PreparedStep) error {
	burn := burns.Of(e)
	burn.erased = nil
	err := e.flashing(ctx, s, w.doing, w.burning, event.FlashErasing, event.FlashErased)
	if err == nil && s.Hold != "" {
		erased := burn.now
		burn.erased = &erased
	}
	return err
}
