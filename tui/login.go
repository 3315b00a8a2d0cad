package tui

import (
	tea "charm.land/bubbletea/v2"

	"pilotrix/core/runbook/engine"
	"pilotrix/core/runbook/verbs"
	"pilotrix/core/source"
	"pilotrix/tui/runbooks"
)

// Logging in again, after a restart say, is one key: with the account that was given in this session before.

// loginAction is the action that logs in where the device is now, empty for none.
func (a *app) loginAction() string {
	if a.session == nil || a.session.Dialect() == nil || a.opt.Library == nil {
		return ""
	}
	return a.session.Dialect().LogsIn(a.state.Mode.Name)
}

// logIn carries that out; what it needs is asked for where it was not given before.
func (a *app) logIn() tea.Cmd {
	d, name := a.session.Dialect(), a.loginAction()
	book, err := verbs.Single(d, name, "")
	if err != nil {
		a.say(source.Reason(err))
		return nil
	}
	values := map[string]string{}
	for _, input := range book.Inputs {
		if value, given := a.given[input.Input]; given {
			values[input.Input] = value
		}
	}
	entry := runbooks.Entry{
		Name: "action-" + name, Title: d.Action(name).Title, Single: true, Book: book,
		ByHand: &runbooks.ByHand{Needs: engine.Line, Values: values},
	}
	if len(values) == len(book.Inputs) {
		return a.prepares(entry, values)
	}
	a.show("runbooks")
	return a.fillIn(entry)
}
