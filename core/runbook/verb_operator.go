package runbook

import (
	"context"
	"fmt"
	"strings"
	"time"

	"pilotrix/core/event"
	"pilotrix/core/expression"
)

var _ = register(Verb{
	Name: "operator", Does: "asks for something to be done by hand, and waits until it is",
	Timeout: time.Hour,
	New:     func() Body { return new(operatorBody) },
})

type operatorBody string

type operatorWork struct{ says *expression.Template }

// Compile implements Body.
func (b *operatorBody) Compile(c *Compiler) Work {
	if strings.TrimSpace(string(*b)) == "" {
		c.Complain("", "say what has to be done")
	}
	return &operatorWork{c.Template("", string(*b))}
}

// Do implements Doer.
func (w *operatorWork) Do(ctx context.Context, e *Engine, s *PreparedStep) error {
	text, err := w.says.Render(e.env())
	if err != nil {
		return err
	}
	e.now(s, e.title(s), "your hands", s.Timeout)
	answer, err := e.console.Ask(ctx, event.Ask{Form: event.FormOperator, Step: s.ID, Text: strings.TrimSpace(text), Answers: []string{DoneByMe, StopHere}})
	if err != nil {
		return err
	}
	if answer != DoneByMe {
		return fmt.Errorf("%w, asked to do something", errStopped)
	}
	return nil
}

// Tells implements teller.
func (w *operatorWork) Tells(p *planner, _ *PreparedStep) Told {
	return Told{Does: []string{"asks you: " + strings.TrimSpace(w.says.Shown(p.env))}}
}
