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
	Name: "hand-over", Does: "gives the helm to the hand for as long as it wants, and goes on when it is given back and said to be enough",
	Timeout: holdTimeout,
	New:     func() Body { return new(handOverBody) },
})

type handOverBody string

type handOverWork struct{ says *expression.Template }

// Compile implements Body.
func (b *handOverBody) Compile(c *Compiler) Work {
	asks := (*operatorBody)(b).Compile(c).(*operatorWork)
	return &handOverWork{asks.says}
}

// Types implements typist: nothing is typed, and the device is wherever the operator leaves it.
func (w *handOverWork) Types(p *planner, _ *PreparedStep) []Typed {
	p.mode = ""
	return nil
}

// Tells implements teller.
func (w *handOverWork) Tells(p *planner, _ *PreparedStep) Told {
	return Told{Does: []string{"the console is yours: " + strings.TrimSpace(w.says.Shown(p.env))}}
}

// Do implements Doer. Where nobody is at the keyboard it is asked instead: whoever answers has looked from elsewhere.
func (w *handOverWork) Do(ctx context.Context, e *Engine, s *PreparedStep) error {
	text, err := w.says.Render(e.env())
	if err != nil {
		return err
	}
	begun := e.console.Clock().Now()
	text = strings.TrimSpace(text)
	e.now(s, e.title(s), "the helm to be given back", s.Timeout)
	if e.console.HandOver(text) {
		err = e.console.ours(ctx)
	} else {
		err = w.ask(ctx, e, s, text)
	}
	if err == nil {
		e.console.Emit(event.Note{Level: event.Info, Text: fmt.Sprintf("tried by hand for %s", e.console.Clock().Since(begun).Round(time.Second))})
	}
	return err
}

func (w *handOverWork) ask(ctx context.Context, e *Engine, s *PreparedStep, text string) error {
	answer, err := e.console.Ask(ctx, event.Ask{Form: event.FormOperator, Step: s.ID, Text: text + " Enough?", Answers: []string{DoneByMe, StopHere}})
	if err == nil && answer != DoneByMe {
		err = fmt.Errorf("%w after trying it", errStopped)
	}
	return err
}
