package verbs

import (
	"cmp"
	"context"
	"fmt"
	"strings"
	"time"

	"pilotrix/core/event"
	"pilotrix/core/expression"
	"pilotrix/core/reach"
	"pilotrix/core/runbook"
	"pilotrix/core/runbook/engine"
)

var _ = runbook.Register(runbook.Verb{
	Name: "watch", Does: "watches from here on whether addresses answer",
	Timeout: time.Second, Repeatable: true, Learns: true,
	New: func() runbook.Body { return new(watchBody) },
})

var _ = done(ByHand{
	Name: "watch", Menu: Watching, Rank: 1, Key: "w",
	Does: "watch an address", Title: "Watch whether an address answers",
	Make: func(at Place) (*runbook.Runbook, error) {
		address := input("address", runbook.KindText, "one, tcp:ADDRESS:PORT or http://ADDRESS/")
		if known := cmp.Or(at.Seen, reach.WithoutLength(at.Address)); known != "" {
			address["default"] = known
		}
		return oneStep("watch", "Watch ${address}", "Watches from here on whether an address answers.", "watch",
			[]string{"${address}"}, address)
	},
})

// watchBody are addresses, such as icmp:${device.address}.
type watchBody []string

type watchWork struct{ watched []*expression.Template }

// Compile implements runbook.Body.
func (b *watchBody) Compile(c *runbook.Compiler) runbook.Work {
	w := &watchWork{}
	if len(*b) == 0 {
		c.Complain("", "say which addresses are watched, such as icmp:${device.address}")
	}
	for i, watched := range *b {
		key := fmt.Sprintf("[%d]", i)
		if !strings.Contains(watched, "${") {
			if _, err := reach.ParseWatched(watched); err != nil {
				c.Complain(key, "%v", err)
			}
		}
		w.watched = append(w.watched, c.Template(key, watched))
	}
	return w
}

// Do implements engine.Doer.
func (w *watchWork) Do(_ context.Context, run *engine.Run, _ *runbook.PreparedStep) error {
	for _, template := range w.watched {
		text, err := template.Render(run.Env())
		if err != nil {
			return err
		}
		if err := watchTarget(run, text); err != nil {
			return err
		}
	}
	return nil
}

// Summary implements runbook.Summarizer.
func (w *watchWork) Summary(p *runbook.Planner, _ *runbook.PreparedStep) (t runbook.Summary) {
	for _, template := range w.watched {
		t.Does = append(t.Does, "watches "+template.Shown(p.Known))
	}
	return t
}

func watchTarget(run *engine.Run, text string) error {
	watched, err := reach.ParseWatched(reach.WithoutLength(text))
	if err != nil {
		return err
	}
	if w := run.Console.Reach(); w != nil {
		w.Add(watched)
	} else {
		run.Console.Emit(event.Note{Level: event.Warning, Text: "nothing can be watched here: " + text})
	}
	return nil
}
