package verbs

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"pilotrix/core/device"
	"pilotrix/core/event"
	"pilotrix/core/expression"
	"pilotrix/core/runbook"
	"pilotrix/core/runbook/engine"
	"pilotrix/core/source"
)

var _ = runbook.Register(runbook.Verb{
	Name: "compare", Does: "holds values against each other and keeps what that proves",
	Timeout: 30 * time.Second, Repeatable: true, Cards: []string{runbook.CardBanks},
	New: func() runbook.Body { return new(compareBody) },
})

type compareBody []Compare

// Compare is two values that have to agree.
type Compare struct {
	What   string            `yaml:"what" jsonschema:"required" jsonschema_description:"What is compared, in words"`
	Want   source.Expression `yaml:"want" jsonschema:"required" jsonschema_description:"What it has to be"`
	Got    source.Expression `yaml:"got" jsonschema:"required" jsonschema_description:"What was read"`
	Proves string            `yaml:"proves" jsonschema_description:"What it proves, in words"`
}

type comparison struct {
	Compare
	want, got    *expression.Guard
	what, proves *expression.Template
}

type compareWork []comparison

// Compile implements runbook.Body.
func (b *compareBody) Compile(c *runbook.Compiler) runbook.Work {
	var w compareWork
	if len(*b) == 0 {
		c.Complain("", "say what is compared")
	}
	for i, one := range *b {
		at := func(key string) string { return fmt.Sprintf("[%d].%s", i, key) }
		w = append(w, comparison{
			one, c.Guard(at("want"), one.Want), c.Proof(at("got"), one.Got),
			c.Template(at("what"), one.What), c.Template(at("proves"), one.Proves),
		})
	}
	return w
}

// Do implements engine.Doer.
func (w compareWork) Do(ctx context.Context, run *engine.Run, s *runbook.PreparedStep) error {
	for _, c := range w {
		if err := run.Readings.EnsureFresh(ctx, s, c.want, c.got); err != nil {
			return err
		}
		if err := compare(run, s, c); err != nil {
			return err
		}
	}
	return nil
}

func compare(run *engine.Run, s *runbook.PreparedStep, c comparison) error {
	env := run.Env()
	want, err := c.want.Value(env)
	if err != nil {
		return err
	}
	got, err := c.got.Value(env)
	if err != nil {
		return err
	}
	what, err := c.what.Render(env)
	if err != nil {
		return err
	}
	held := want != nil && got != nil && sameValue(run.Prepared.Dialect.Order(), want, got)
	report := event.Check{Step: s.ID, Text: what, Held: held, Got: expression.Format(got)}
	if comparesWithBefore(run, c) {
		report.Before = expression.Format(want)
	}
	run.Console.Emit(report)
	if !held {
		return fmt.Errorf("%s: want %s, the device says %s", what, cmp.Or(expression.Format(want), "nothing"),
			cmp.Or(expression.Format(got), "nothing"))
	}
	return prove(run, c.proves)
}

// prove keeps what a comparison has proved.
func prove(run *engine.Run, proves *expression.Template) error {
	text, err := proves.Render(run.Env())
	if err == nil {
		run.Account.Prove(text)
	}
	return err
}

// comparesWithBefore reports whether a comparison wants what a snapshot kept.
func comparesWithBefore(run *engine.Run, c comparison) bool {
	first, _, _ := strings.Cut(string(c.Want), ".")
	return slices.Contains(run.Prepared.Book.Snapshots(), first)
}

// Summary implements runbook.Summarizer.
func (w compareWork) Summary(p *runbook.Planner, _ *runbook.PreparedStep) (t runbook.Summary) {
	for _, c := range w {
		t.Checks = append(t.Checks, fmt.Sprintf("%s: %s = %s", c.what.Shown(p.Known), c.Got, c.Want))
	}
	return t
}

// sameValue compares releases as releases and anything else as written, letter case aside.
func sameValue(order *device.Order, a, b any) bool {
	x, isX := a.(device.Release)
	y, isY := b.(device.Release)
	if isX != isY {
		var err error
		if !isX {
			x, err = order.Parse(expression.Format(a))
		} else {
			y, err = order.Parse(expression.Format(b))
		}
		if err != nil {
			return false
		}
		isX, isY = true, true
	}
	if isX && isY {
		return x.Compare(y) == 0
	}
	return strings.EqualFold(expression.Format(a), expression.Format(b))
}
