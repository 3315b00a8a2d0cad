package verbs

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"pilotrix/core/dialect"
	"pilotrix/core/event"
	"pilotrix/core/runbook"
	"pilotrix/core/runbook/engine"
	"pilotrix/core/sense"
	"pilotrix/core/units"
)

var _ = runbook.Register(runbook.Verb{
	Name:    "outlast",
	Does:    "waits until what is pending runs out and the device restarts by itself, and goes on when it is back as after a restart",
	Timeout: 15 * time.Minute,
	Makes:   []string{"restart.took", "restart.away"},
	Cards:   []string{runbook.CardRestart, runbook.CardReach, runbook.CardBanks},
	New:     func() runbook.Body { return new(waitOutBody) },
})

type waitOutBody struct {
	Pending string `yaml:"pending" jsonschema:"required" jsonschema_description:"What runs out, as the dialect calls it; the step's timeout is how long the device may be away afterwards"`
	Back    `yaml:",inline"`
}

type waitOutWork struct {
	pending string
	backWork
}

// Compile implements runbook.Body.
func (b *waitOutBody) Compile(c *runbook.Compiler) runbook.Work {
	if known := c.Dialect().PendingNames(); !slices.Contains(known, b.Pending) && b.Pending != "" {
		c.Complain("pending", "nothing is pending under the name %q in dialect %s; there are %s", b.Pending,
			c.Dialect().Dialect, strings.Join(known, ", "))
	}
	c.Changes()
	return &waitOutWork{b.Pending, b.Back.compile(c)}
}

// WaitsOut implements runbook.Outwaiter.
func (w *waitOutWork) WaitsOut() string { return w.pending }

// Types implements runbook.Typist.
func (w *waitOutWork) Types(p *runbook.Planner, _ *runbook.PreparedStep) []runbook.Typed {
	return w.afterwards(p)
}

// Summary implements runbook.Summarizer.
func (w *waitOutWork) Summary(p *runbook.Planner, s *runbook.PreparedStep) runbook.Summary {
	report := w.backWork.Summary(p, s)
	report.Checks = append(
		[]string{"nothing is typed until “" + w.pending + "” has run out and the device restarts"},
		report.Checks...)
	return report
}

// grace is how long a device may take to restart once its time is over by our clock.
const grace = 2 * time.Minute

// Do implements engine.Doer.
func (w *waitOutWork) Do(ctx context.Context, run *engine.Run, s *runbook.PreparedStep) error {
	r := &restarting{Run: run, s: s, w: &w.backWork}
	if err := r.watchBefore(ctx); err != nil {
		return err
	}
	if err := r.waitOut(ctx, w.pending); err != nil {
		return err
	}
	r.begun = run.Console.Clock().Now()
	run.Console.Emit(event.Mark{Text: "restart by itself: " + w.pending})
	run.TakeUntil(r.begun.Add(s.Timeout))
	return r.through(ctx)
}

// waitOut waits for the restart that comes by itself.
func (r *restarting) waitOut(ctx context.Context, name string) error {
	open, known := openNamed(r.Run, name)
	if !known {
		return fmt.Errorf("“%s” is not pending: nothing runs out", name)
	}
	r.WaitOut()
	for known {
		now := r.Console.Clock().Now()
		if now.After(open.Until.Add(grace)) {
			break
		}
		left := max(0, open.Until.Sub(now))
		r.TakeUntil(open.Until.Add(2 * grace)) // what is said here comes first
		r.Console.Emit(event.StepNow{
			ID:       r.s.ID,
			Doing:    "Waits until it runs out: " + open.Says,
			Awaiting: "in " + units.Text(left.Round(time.Second)) + ", then a restart",
			Timeout:  left + grace,
			Left:     left + r.s.Expected,
		})
		begun, err := r.restartsWithin(ctx, slice, open.Until)
		if err != nil || begun {
			return err
		}
		last := open.Until
		if open, known = openNamed(r.Run, name); !known &&
			r.Console.Clock().Now().After(last) { // it has, and is told so: the restart is to come
			open, known = dialect.Open{Name: name, Says: "it has run out by now", Until: last}, true
		}
	}
	if !known {
		return fmt.Errorf("“%s” is pending no more, and the device has not restarted: it was dealt with", name)
	}
	return fmt.Errorf("“%s” ran out %s ago, and the device has not restarted by itself: %s", name, units.Text(grace),
		r.StateText())
}

// slice is how often it is looked whether something is still pending, and how much a device's clock may be off.
const slice = 10 * time.Second

// restartsWithin reports whether a restart begins within a time. A line that goes when it is due goes with it, and
// hides it; one that goes before has reasons of its own.
func (r *restarting) restartsWithin(ctx context.Context, d time.Duration, due time.Time) (begun bool, err error) {
	limited, cancel := r.Console.Clock().WithTimeout(ctx, d)
	defer cancel()
	_, err = r.Console.Await(limited, func(v sense.State) bool { return r.Prepared.Dialect.Starts(v.Mode) })
	switch {
	case err == nil:
		return true, nil
	case errors.Is(err, engine.ErrLineLost) && r.Console.Clock().Now().After(due.Add(-slice)):
		return true, nil
	case errors.Is(err, engine.ErrLineLost):
		return false, r.LineBack(ctx)
	case ctx.Err() == nil && errors.Is(err, context.DeadlineExceeded):
		return false, nil
	}
	return false, err
}

func openNamed(run *engine.Run, name string) (open dialect.Open, known bool) {
	all := run.Console.Pending()
	at := slices.IndexFunc(all, func(o dialect.Open) bool { return o.Name == name && !o.Until.IsZero() })
	if at < 0 {
		return open, false
	}
	return all[at], true
}
