package runbook

import (
	"context"
	"time"

	"pilotrix/core/dialect"
)

var _ = register(Verb{
	Name: "read", Does: "types the commands of readings and keeps what they say as facts",
	Timeout: 30 * time.Second, Repeatable: true, Learns: true, Cards: []string{CardBanks},
	New: func() Body { return new(readBody) },
})

type readBody []string

type readWork struct{ readings []*dialect.CompiledReading }

// Compile implements Body.
func (b *readBody) Compile(c *Compiler) Work {
	if len(*b) == 0 {
		c.Complain("", "say which readings are taken")
	}
	return &readWork{c.Readings("", *b)}
}

// Do implements Doer.
func (w *readWork) Do(ctx context.Context, e *Engine, s *PreparedStep) error {
	defer e.tellShelf()
	return e.readAll(ctx, s, w.readings)
}

// Types implements typist.
func (w *readWork) Types(p *planner, _ *PreparedStep) (typed []Typed) {
	for _, reading := range w.readings {
		typed = append(typed, p.reading(reading)...)
	}
	return typed
}
