package tui

import (
	"cmp"
	"fmt"
	"strconv"
	"strings"

	tea "charm.land/bubbletea/v2"

	"pilotrix/core/reach"
	"pilotrix/core/runbook"
	"pilotrix/core/runbook/verbs"
	"pilotrix/core/source"
	"pilotrix/core/units"
	"pilotrix/tui/keys"
	"pilotrix/tui/runbooks"
	"pilotrix/tui/strip"
)

// What the operator has done by itself, beside the line: files that are offered, addresses that are watched.

// deedAdvice is what the operator has to know of a deed, and what no event has.
type deedAdvice struct {
	app      *app
	id, text string
}

// offerFile asks which file is offered, and by what.
func (a *app) offerFile() tea.Cmd {
	book, err := verbs.Offer(a.deviceAddress())
	if err != nil {
		a.say(source.Reason(err))
		return nil
	}
	a.show("runbooks")
	return a.fillIn(runbooks.Entry{Book: book, Name: book.Runbook, Title: "Offer a file", About: book.About, Beside: true})
}

// carry asks which file is sent to a receiver on the line, and by what.
func (a *app) carry() tea.Cmd {
	book, err := verbs.Carry()
	if err != nil {
		a.say(source.Reason(err))
		return nil
	}
	a.show("runbooks")
	return a.fillIn(runbooks.Entry{
		Book: book, Name: book.Runbook, Title: "Send a file over the line", About: book.About, Beside: true, OnLine: true,
	})
}

// deviceAddress is the device's as it was read, empty where it was not.
func (a *app) deviceAddress() string {
	fact, _ := a.session.Facts().Get("device.address")
	return fact.Text
}

// do carries a deed out.
func (a *app) do(p *runbook.Prepared, onLine bool) tea.Cmd {
	id, advice, err := a.session.Do(p, onLine)
	if err != nil {
		a.say(err.Error())
		return nil
	}
	return func() tea.Msg {
		text, more := <-advice
		if !more {
			return nil // it is over, and has said nothing
		}
		return deedAdvice{a, id, text}
	}
}

// yours is what is open that the operator began, in words: the newest, and how many more.
func (a *app) yours() string {
	open := a.state.Deeds
	if len(open) == 0 {
		return ""
	}
	last := open[len(open)-1]
	text := cmp.Or(a.advice[last.ID], last.Doing, last.Title)
	if a.side() == 0 { // all of it stands where what is open is listed
		text = last.Title
	}
	if m := a.state.Transfer; m.Active() && !a.state.Running() {
		text = strip.ProgressText(m)
	}
	if n := len(open) - 1; n > 0 {
		text += fmt.Sprintf(", and %d more", n)
	}
	return text
}

// openText lists what is open, by its titles.
func (a *app) openText() string {
	var titles []string
	for _, deed := range a.state.Deeds {
		titles = append(titles, deed.Title)
	}
	return strings.Join(titles, ", ")
}

// maxEnds is how many of what is open have a digit that ends them.
const maxEnds = 9

// openDeeds lists what is open, each with the key that ends it, and watches one address more.
func (a *app) openDeeds() tea.Cmd {
	choices := keys.Map{keys.New("w", "watch an address", a.askWatch, "w")}
	add := func(does string, end func()) {
		if n := strconv.Itoa(len(choices)); len(choices) <= maxEnds {
			choices = append(choices, keys.New(n, does, keys.Just(end), n))
		}
	}
	open, text := 0, ""
	for _, deed := range a.state.Deeds {
		open++
		if advice := a.advice[deed.ID]; advice != "" {
			text += deed.Title + ": " + advice + ". "
		}
		add("end: "+deed.Title, func() { a.session.EndDeed(deed.ID) })
	}
	for _, one := range a.state.Reach {
		if a.state.Running() {
			break // a runbook may wait for what it sees
		}
		if watched, err := reach.ParseWatched(one.Name); err == nil && one.Over.IsZero() {
			open++
			add("watch "+one.Name+" no longer", func() { a.session.Unwatch(watched) })
		}
	}
	switch {
	case open == 0:
		text = "Nothing is open beside the line."
	case text == "":
		text = units.Many(open, "thing") + " open beside the line."
	}
	a.menu(strip.Menu{
		Mark: "◉", Word: "Yours", Text: text,
		Choices: append(choices, keys.New("Esc", "leave it so", keys.Just(func() {}), "esc")),
	})
	return nil
}

// askWatch has an address watched.
func (a *app) askWatch() tea.Cmd {
	label := "address to watch: one, tcp:ADDRESS:PORT or http://ADDRESS/"
	if known := a.deviceAddress(); known != "" {
		label += "; Enter alone takes " + known
	}
	return a.ask(label, "watches it", "leaves it", func(text string) (tea.Cmd, string) {
		if text == "" {
			text = reach.WithoutLength(a.deviceAddress())
		}
		watched, err := reach.ParseWatched(text)
		if err != nil {
			return nil, err.Error()
		}
		a.session.Watch(watched)
		a.say(watched.String() + " is watched; F7 shows it")
		return nil, ""
	})
}
