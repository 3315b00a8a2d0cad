package tui

import (
	tea "charm.land/bubbletea/v2"

	"pilotrix/core/dialect"
)

// heard is what has come while it is not known how the device talks.
type heard struct {
	bytes  int // so far
	before int // at the last tick
	looked int // when it was weighed last
	likely []dialect.Likely
}

// weighed is what was found, by whom, and held against what.
type weighed struct {
	app    *app
	likely []dialect.Likely
	all    []*dialect.Dialect
}

// weigh holds the known dialects against what the device has written, once it is quiet.
func (a *app) weigh() tea.Cmd {
	quiet := a.heard.bytes == a.heard.before
	a.heard.before = a.heard.bytes
	if a.session == nil || a.opt.Dialects == nil || a.session.Dialect() != nil || !quiet ||
		a.heard.bytes == a.heard.looked {
		return nil
	}
	a.heard.looked = a.heard.bytes
	return a.weighNow
}

func (a *app) weighNow() tea.Msg {
	all := a.opt.Dialects()
	return weighed{a, dialect.Weigh(all, a.session.Heard()), all}
}

// weighs takes what was found.
func (a *app) weighs(found weighed) {
	if found.app != a || a.session.Dialect() != nil {
		return
	}
	a.heard.likely = found.likely
	a.dialects.Show(found.likely, found.all)
}

// looksLike is what the device is by all that was seen, nil where that is not clear or known already.
func (a *app) looksLike() *dialect.Likely {
	if a.session == nil || a.session.Dialect() != nil || !dialect.Sure(a.heard.likely) {
		return nil
	}
	return &a.heard.likely[0]
}

// openDialects shows the dialects, the likely ones first.
func (a *app) openDialects() tea.Cmd {
	a.dialects.Show(a.heard.likely, a.opt.Dialects())
	a.show("dialects")
	if a.session.Dialect() != nil {
		return nil
	}
	return a.weighNow
}

// learn says how the device talks, and has it remembered.
func (a *app) learn(d *dialect.Dialect) tea.Cmd {
	if err := a.session.Learn(d); err != nil {
		a.say(err.Error())
		return nil
	}
	a.show("console")
	said := "it talks as " + d.Dialect + "; runbooks: F3, r"
	if a.opt.Chosen != nil {
		if err := a.opt.Chosen(d); err != nil {
			said = err.Error()
		}
	}
	a.say(said)
	return nil
}

// pressEnter presses Enter once, for the device to show its prompt.
func (a *app) pressEnter() tea.Cmd {
	a.session.Press([]byte("\r"))
	return nil
}
