package tui

import (
	"cmp"
	"fmt"
	"net/netip"
	"os"
	"regexp"
	"slices"
	"strconv"
	"strings"

	tea "charm.land/bubbletea/v2"

	"pilotrix/core/line"
	"pilotrix/core/reach"
	"pilotrix/core/runbook"
	"pilotrix/core/runbook/engine"
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

// byHand offers what is done by hand of one kind, in the strip.
func (a *app) byHand(menu verbs.Menu, word, text string, more ...keys.Key) tea.Cmd {
	a.menu(strip.Menu{
		Mark: "◉", Word: word, Text: text,
		Choices: append(append(a.doesByHand(menu), more...), keys.New("Esc", "leave it", keys.Just(func() {}), "esc")),
	})
	return nil
}

// doesByHand are the keys of what is done by hand of one kind, as far as it can be done here and now.
func (a *app) doesByHand(menu verbs.Menu) (all keys.Map) {
	place := a.place()
	for _, one := range verbs.ByHandIn(menu) {
		lacks := one.Lacks != nil && one.Lacks(place) != ""
		free := one.Needs != engine.Line || a.lineIsYours()
		all = append(all, keys.New(one.Key, one.Does, func() tea.Cmd { return a.doByHand(one, nil, false) }, one.Key).
			If(!lacks && free))
	}
	return all
}

// doByHand does something by hand: what it needs is asked for, but for the values that are known, unless that is all.
func (a *app) doByHand(one verbs.ByHand, values map[string]string, whole bool) tea.Cmd {
	book, err := one.Make(a.place())
	if err != nil {
		a.say(source.Reason(err))
		return nil
	}
	entry := runbooks.Entry{
		Book: book, Name: book.Runbook, Title: one.Title, About: book.About,
		ByHand: &runbooks.ByHand{Needs: one.Needs, Values: values},
	}
	if whole {
		return a.prepares(entry, values)
	}
	a.show("runbooks")
	return a.fillIn(entry)
}

// place is what is known of this place for what is done by hand.
func (a *app) place() verbs.Place {
	fact, _ := a.session.Facts().Get("device.address")
	folder, _ := os.Getwd()
	return verbs.Place{
		Address: fact.Text, Seen: a.seenAddress(), Dialect: a.session.Dialect(), Folder: folder,
		Shell: strings.HasPrefix(a.state.Session.Target, line.SSH+":"),
	}
}

var fourNumbers = regexp.MustCompile(`\b\d{1,3}(?:\.\d{1,3}){3}\b`)

// seenAddress is the last address in sight that is none of this laptop's, empty for none.
func (a *app) seenAddress() string {
	rows := a.console.Text()
	for i := len(rows) - 1; i >= 0; i-- {
		for _, word := range slices.Backward(fourNumbers.FindAllString(rows[i], -1)) {
			addr, err := netip.ParseAddr(word)
			ours := slices.ContainsFunc(a.offered.kit.Laptop, func(p netip.Prefix) bool { return p.Addr() == addr })
			if err == nil && !ours && addr.IsGlobalUnicast() {
				return word
			}
		}
	}
	return ""
}

// do carries a deed out.
func (a *app) do(p *runbook.Prepared, needs engine.Needs) tea.Cmd {
	id, advice, err := a.session.Do(p, needs)
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
	text := last.Title
	if last.Doing != "" {
		text = strings.TrimSuffix(last.Doing+"; awaits "+last.Awaits, "; awaits ")
	}
	text = cmp.Or(a.advice[last.ID], text)
	if a.side() == 0 { // all of it stands where what is open is listed
		text = last.Title
	}
	if m := a.state.Transfer; m.Active() && m.Plan.Deed != "" {
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
	for _, one := range a.state.Reach {
		if one.Over.IsZero() {
			titles = append(titles, "the watch of "+one.Name)
		}
	}
	return strings.Join(titles, ", ")
}

// maxEnds is how many of what is open have a digit that ends them.
const maxEnds = 9

// openDeeds lists what is open, each with the key that ends it, and what else can be looked at again and again.
func (a *app) openDeeds() tea.Cmd {
	choices := a.doesByHand(verbs.Watching)
	open, text := 0, ""
	add := func(does string, end func()) {
		if n := strconv.Itoa(open); open <= maxEnds {
			choices = append(choices, keys.New(n, does, keys.Just(end), n))
		}
	}
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
