package runbook

import (
	"context"
	"strings"
	"time"

	"pilotrix/core/event"
	"pilotrix/core/expression"
)

var _ = register(Verb{
	Name: "note", Does: "says something and keeps it",
	Timeout: time.Second, Repeatable: true,
	New: func() Body { return new(noteBody) },
})

type noteBody string

type noteWork struct{ says *expression.Template }

// Compile implements Body.
func (b *noteBody) Compile(c *Compiler) Work {
	if strings.TrimSpace(string(*b)) == "" {
		c.Complain("", "say what is noted")
	}
	return &noteWork{c.Template("", string(*b))}
}

// Do implements Doer.
func (w *noteWork) Do(_ context.Context, e *Engine, _ *PreparedStep) error {
	text, err := w.says.Render(e.env())
	if err != nil {
		return err
	}
	e.console.Emit(event.Note{Level: event.Info, Text: text})
	return nil
}
