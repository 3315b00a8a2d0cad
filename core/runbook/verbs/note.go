package verbs

import (
	"context"
	"strings"
	"time"

	"pilotrix/core/event"
	"pilotrix/core/expression"
	"pilotrix/core/runbook"
	"pilotrix/core/runbook/engine"
)

var _ = runbook.Register(runbook.Verb{
	Name: "note", Does: "says something and keeps it",
	Timeout: time.Second, Repeatable: true,
	New: func() runbook.Body { return new(noteBody) },
})

type noteBody string

type noteWork struct{ says *expression.Template }

// Compile implements runbook.Body.
func (b *noteBody) Compile(c *runbook.Compiler) runbook.Work {
	if strings.TrimSpace(string(*b)) == "" {
		c.Complain("", "say what is noted")
	}
	return &noteWork{c.Template("", string(*b))}
}

// Do implements engine.Doer.
func (w *noteWork) Do(_ context.Context, run *engine.Run, _ *runbook.PreparedStep) error {
	text, err := w.says.Render(run.Env())
	if err != nil {
		return err
	}
	run.Console.Emit(event.Note{Level: event.Info, Text: text})
	return nil
}
