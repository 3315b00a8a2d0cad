package verbs

import (
	"context"
	"fmt"
	"strings"
	"time"

	"pilotrix/core/event"
	"pilotrix/core/expression"
	"pilotrix/core/runbook"
	"pilotrix/core/runbook/engine"
)

var _ = runbook.Register(runbook.Verb{
	Name: "operator", Does: "asks for something to be done by hand, and waits until it is",
	Timeout: time.Hour,
	New:     func() runbook.Body { return new(operatorBody) },
})

type operatorBody string

type operatorWork struct{ says *expression.Template }

// Compile implements runbook.Body.
func (b *operatorBody) Compile(c *runbook.Compiler) runbook.Work {
	if strings.TrimSpace(string(*b)) == "" {
		c.Complain("", "say what has to be done")
	}
	return &operatorWork{c.Template("", string(*b))}
}

// Do implements engine.Doer.
func (w *operatorWork) Do(ctx context.Context, run *engine.Run, s *runbook.PreparedStep) error {
	text, err := w.says.Render(run.Env())
	if err != nil {
		return err
	}
	run.Now(s, run.Title(s), "your hands", s.Timeout)
	answer, err := run.Console.Ask(ctx, event.Ask{
		Form:    event.FormOperator,
		Step:    s.ID,
		Text:    strings.TrimSpace(text),
		Answers: []string{engine.DoneByMe, engine.StopHere},
	})
	if err != nil {
		return err
	}
	if answer != engine.DoneByMe {
		return fmt.Errorf("%w, asked to do something", engine.ErrStopped)
	}
	return nil
}

// Summary implements runbook.Summarizer.
func (w *operatorWork) Summary(p *runbook.Planner, _ *runbook.PreparedStep) runbook.Summary {
	return runbook.Summary{Does: []string{"asks you: " + strings.TrimSpace(w.says.Shown(p.Known))}}
}
