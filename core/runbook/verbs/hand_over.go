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
	Name: "hand-over", HandsOver: true,
	Does:    "gives the helm to the hand for as long as it wants, and goes on when it is given back and said to be enough",
	Timeout: runbook.HoldTimeout,
	New:     func() runbook.Body { return new(handOverBody) },
})

type handOverBody string

type handOverWork struct{ says *expression.Template }

// Compile implements runbook.Body.
func (b *handOverBody) Compile(c *runbook.Compiler) runbook.Work {
	asks := (*operatorBody)(b).Compile(c).(*operatorWork)
	return &handOverWork{asks.says}
}

// Types implements runbook.Typist: nothing is typed, and the device is wherever the operator leaves it.
func (w *handOverWork) Types(p *runbook.Planner, _ *runbook.PreparedStep) []runbook.Typed {
	p.Mode = ""
	return nil
}

// Summary implements runbook.Summarizer.
func (w *handOverWork) Summary(p *runbook.Planner, _ *runbook.PreparedStep) runbook.Summary {
	return runbook.Summary{Does: []string{"the console is yours: " + strings.TrimSpace(w.says.Shown(p.Known))}}
}

// Do implements engine.Doer. Where nobody is at the keyboard it is asked instead: whoever answers has looked from
// elsewhere.
func (w *handOverWork) Do(ctx context.Context, run *engine.Run, s *runbook.PreparedStep) error {
	text, err := w.says.Render(run.Env())
	if err != nil {
		return err
	}
	begun := run.Console.Clock().Now()
	text = strings.TrimSpace(text)
	run.Now(s, run.Title(s), "the helm to be given back", s.Timeout)
	if run.Console.HandOver(text) {
		err = run.Console.Ours(ctx)
	} else {
		err = w.ask(ctx, run, s, text)
	}
	if err == nil {
		run.Console.Emit(event.Note{
			Level: event.Info,
			Text:  fmt.Sprintf("tried by hand for %s", run.Console.Clock().Since(begun).Round(time.Second)),
		})
	}
	return err
}

func (w *handOverWork) ask(ctx context.Context, run *engine.Run, s *runbook.PreparedStep, text string) error {
	answer, err := run.Console.Ask(ctx, event.Ask{
		Form:    event.FormOperator,
		Step:    s.ID,
		Text:    text + " Enough?",
		Answers: []string{engine.DoneByMe, engine.StopHere},
	})
	if err == nil && answer != engine.DoneByMe {
		err = fmt.Errorf("%w after trying it", engine.ErrStopped)
	}
	return err
}
