package runbook

import (
	"context"
	"time"

	"pilotrix/core/event"
)

var _ = register(Verb{
	Name: "reckon", Does: "computes which sectors of the flash are erased for a file, and where its bytes land; refuses what does not fit, or would touch anything else",
	Timeout: 30 * time.Second, Repeatable: true, Learns: true, Makes: burnMakes, Cards: []string{CardFlash},
	New: func() Body { return new(reckonBody) },
})

type reckonBody struct {
	Burning `yaml:",inline"`
}

type reckonWork struct{ burning }

// Compile implements Body.
func (b *reckonBody) Compile(c *Compiler) Work { return &reckonWork{b.Burning.compile(c)} }

// Tells implements teller.
func (w *reckonWork) Tells(p *planner, s *PreparedStep) Told { return w.tells(p, s) }

// Do implements Doer.
func (w *reckonWork) Do(_ context.Context, e *Engine, s *PreparedStep) error {
	b, err := w.reckon(e, s)
	if err != nil {
		return err
	}
	e.tellFlash(event.FlashReckoned)
	for _, words := range burnWords(b, burns.Of(e).now.File) {
		e.console.Emit(event.Note{Level: event.Info, Text: words})
	}
	return nil
}
