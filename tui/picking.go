package tui

import (
	"context"
	"errors"

	tea "charm.land/bubbletea/v2"

	"pilotrix/core/runbook"
	"pilotrix/core/source"
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
}

type (
	needed struct {
		entry runbooks.Entry
		needs []inputs.Need
	}
	prepared struct {
		p      *runbook.Prepared
		plan   runbook.Plan
		err    error
		values map[string]string
	}
	readAnew struct{ err error }
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
	return func() tea.Msg { return needed{e, a.opt.Library.Needs(e.Book)} }
}

// needs shows the form, with what was given in this session before.
func (a *app) needs(n needed) tea.Cmd {
	prepare := func(values map[string]string) tea.Cmd {
		return func() tea.Msg {
			p, err := a.opt.Library.Prepare(n.entry.Book, values)
			if err != nil {
				return prepared{err: err}
			}
			return prepared{p: p, plan: p.Plan(a.session.Facts()), values: values}
		}
	}
	if len(n.needs) == 0 {
		return prepare(nil)
	}
	for i, need := range n.needs {
		if before, given := a.given[need.Input.Input]; given && need.Value == "" {
			n.needs[i].Value = before
		}
	}
	takes := func(input runbook.Input, value string) error { return a.opt.Library.Takes(n.entry.Book, input, value) }
	a.inputs.Fill(n.entry.Title, n.needs, takes, prepare)
	a.show("inputs")
	return nil
}

// planned shows the plan, or what is wrong with the inputs together.
func (a *app) planned(got prepared) {
	if got.err != nil {
		a.inputs.Complain(source.Reason(got.err))
		a.say(source.Reason(got.err))
		return
	}
	for name, value := range got.values {
		a.given[name] = value
	}
	a.plan.Show(got.plan, func() tea.Cmd {
		a.inputs.Forget()
		a.show("console")
		return a.carryOut(got.p)
	})
	a.show("plan")
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
		return runEnded{err}
	}
}

// readAnew reads the device again, as far as that goes in the mode that it is in.
func (a *app) readAnew() tea.Cmd {
	if a.state.Running() {
		a.say("a runbook is under way: it reads what it needs")
		return nil
	}
	a.say("reading it anew; typing ends that")
	return func() tea.Msg { return readAnew{a.session.ReadAnew(a.ctx)} }
}

func (a *app) wasRead(err error) {
	switch {
	case errors.Is(err, runbook.ErrHelm):
		a.say("reading was ended by a key")
	case err != nil:
		a.say("not all could be read: " + err.Error())
	default:
		a.say("read anew; F5 marks what has changed")
	}
}
