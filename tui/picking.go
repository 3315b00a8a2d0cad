package tui

import (
	"context"
	"errors"
	"time"

	tea "charm.land/bubbletea/v2"

	"pilotrix/core/runbook"
	"pilotrix/core/runbook/engine"
	"pilotrix/core/source"
	"pilotrix/core/suggest"
	"pilotrix/tui/inputs"
	"pilotrix/tui/runbooks"
)

// Library is what can be carried out in a session. Its methods may take a while: they are called beside the interface,
// but for Takes.
type Library interface {
	Entries() []runbooks.Entry
	Needs(*runbook.Runbook) []inputs.Need
	Takes(book *runbook.Runbook, input runbook.Input, value string) error
	Prepare(book *runbook.Runbook, values map[string]string) (*runbook.Prepared, error)
	Available(command string) suggest.Kit
}

type (
	// What comes back says which session has asked for it: it may have been left meanwhile.
	needed struct {
		app   *app
		entry runbooks.Entry
		needs []inputs.Need
	}
	prepared struct {
		app    *app
		from   string // the view that it was asked for in
		p      *runbook.Prepared
		plan   runbook.Plan
		entry  runbooks.Entry
		err    error
		values map[string]string
	}
	readAgain struct{ err error }
)

// openRunbooks shows what can be carried out.
func (a *app) openRunbooks() tea.Cmd {
	switch {
	case a.opt.Library == nil:
		a.say("there are no runbooks here")
		return nil
	case a.state.Running():
		a.say("a runbook is under way: it ends, or is stopped, first")
		return nil
	}
	a.show("runbooks")
	return a.runbooks.Load()
}

// fillIn asks what a runbook needs.
func (a *app) fillIn(e runbooks.Entry) tea.Cmd {
	return func() tea.Msg { return needed{a, e, a.opt.Library.Needs(e.Book)} }
}

// prepares checks a runbook with its inputs.
func (a *app) prepares(e runbooks.Entry, values map[string]string) tea.Cmd {
	got := prepared{app: a, from: a.places[a.shown].name, entry: e, values: values}
	return func() tea.Msg {
		if got.p, got.err = a.opt.Library.Prepare(e.Book, values); got.err == nil && e.ByHand == nil {
			got.plan = got.p.Plan(a.session.Facts())
		}
		return got
	}
}

// needs shows the form, with what was given in this session before. Whoever has turned to something else meanwhile is
// left there.
func (a *app) needs(n needed) tea.Cmd {
	if n.app != a || a.places[a.shown].name != "runbooks" {
		return nil
	}
	prepare := func(values map[string]string) tea.Cmd { return a.prepares(n.entry, values) }
	if len(n.needs) == 0 {
		return prepare(nil)
	}
	for i, need := range n.needs {
		if byHand := n.entry.ByHand; byHand != nil {
			if value, known := byHand.Values[need.Input.Input]; known {
				n.needs[i].Value = value
				continue
			}
			if need.Kind != runbook.KindChoice && need.Kind != runbook.KindFolder {
				continue // another one each time
			}
		}
		if before, given := a.given[need.Input.Input]; given && need.Value == "" {
			n.needs[i].Value = before
		}
	}
	takes := func(input runbook.Input, value string) error { return a.opt.Library.Takes(n.entry.Book, input, value) }
	a.inputs.Fill(n.entry.Title, n.needs, takes, prepare)
	if n.entry.ByHand != nil {
		a.inputs.Last = "begin"
	}
	a.show("inputs")
	return nil
}

// planned shows the plan, or what is wrong with the inputs together.
func (a *app) planned(got prepared) tea.Cmd {
	if got.app != a || a.places[a.shown].name != got.from {
		return nil
	}
	if got.err != nil {
		if got.from == "inputs" {
			a.inputs.Complain(source.Reason(got.err))
		}
		a.say(source.Reason(got.err))
		return nil
	}
	for name, value := range got.values {
		a.given[name] = value
	}
	if byHand := got.entry.ByHand; byHand != nil {
		a.inputs.Forget()
		a.show("console")
		return a.do(got.p, byHand.Needs)
	}
	shown := time.Now()
	a.plan.Show(got.plan, func() tea.Cmd {
		if early(shown) {
			a.say("the plan has only just come: press Enter once more to carry it out")
			return nil
		}
		a.inputs.Forget()
		a.show("console")
		return a.carryOut(got.p)
	})
	a.show("plan")
	return nil
}

// carryOut begins a runbook beside the interface.
func (a *app) carryOut(p *runbook.Prepared) tea.Cmd {
	if a.run != nil {
		a.say("a runbook is under way: it ends, or is stopped, first")
		return nil
	}
	for _, one := range a.seconds {
		one.Session.Protect(p.Secrets()...)
	}
	run := &run{ended: make(chan struct{})}
	var ctx context.Context
	ctx, run.stop = context.WithCancel(context.WithoutCancel(a.ctx))
	a.run = run
	return func() tea.Msg {
		defer close(run.ended)
		_, err := a.session.Run(ctx, p)
		return runEnded{run, err}
	}
}

// readAgain reads the device again, as far as that goes in the mode that it is in.
func (a *app) readAgain() tea.Cmd {
	if a.state.Running() {
		a.say("a runbook is under way: it reads what it needs")
		return nil
	}
	a.say("reading it anew; typing ends that")
	return func() tea.Msg { return readAgain{a.session.ReadAgain(a.ctx)} }
}

func (a *app) wasRead(err error) {
	switch {
	case errors.Is(err, engine.ErrHelm):
		a.say("reading was ended by a key")
	case err != nil:
		a.say("not all could be read: " + err.Error())
	default:
		a.say("read anew; F5 marks what has changed")
	}
}
