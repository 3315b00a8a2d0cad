// Package library is what can be carried out in a session, as the interface lists it: the runbooks that ship, the
// user's own, and the single actions of the dialect.
package library

import (
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"pilotrix/app"
	"pilotrix/core/dialect"
	"pilotrix/core/logbook"
	"pilotrix/core/runbook"
	"pilotrix/core/runbook/verbs"
	"pilotrix/core/session"
	"pilotrix/core/shipped"
	"pilotrix/core/source"
	"pilotrix/core/suggest"
	"pilotrix/core/units"
	"pilotrix/tui/inputs"
	"pilotrix/tui/runbooks"
)

// Library implements tui.Library for one session.
type Library struct {
	opened  *app.Opened
	shelf   app.MakeShelf
	logbook string
}

// New is the library of a session.
func New(o *app.Opened, shelf app.MakeShelf, logbook string) *Library {
	return &Library{o, shelf, logbook}
}

// Entries implements tui.Library.
func (l *Library) Entries() (all []runbooks.Entry) {
	d := l.opened.Dialect()
	for _, name := range app.RunbookNames() {
		book, err := shipped.Runbook(name)
		if err != nil {
			all = append(all, runbooks.Entry{Name: name, Title: filepath.Base(name), WhyNot: source.Reason(err)})
			continue
		}
		entry := runbooks.Entry{
			Book:   book,
			Name:   book.Runbook,
			Title:  book.Title,
			About:  book.About,
			WhyNot: book.WhyNot(d),
		}
		if err := session.LinesMissing(book.Lines(), l.opened.Lines()); entry.WhyNot == "" && err != nil {
			entry.WhyNot = err.Error()
		}
		if strings.Contains(entry.Title, "${") {
			entry.Title = book.Runbook
		}
		all = append(all, entry)
	}
	if d != nil {
		all = append(all, singles(d)...)
	}
	l.lastRuns(all)
	return all
}

// singles are the actions of a dialect that are no mere way from one mode to another.
func singles(d *dialect.Dialect) (all []runbooks.Entry) {
	for _, name := range d.ActionNames() {
		if slices.ContainsFunc(d.Moves, func(m dialect.Move) bool { return m.Action == name }) {
			continue
		}
		for _, by := range d.Action(name).WayNames() {
			all = append(all, single(d, name, by))
		}
	}
	return all
}

// single is one way of doing an action.
func single(d *dialect.Dialect, name, by string) runbooks.Entry {
	entry := runbooks.Entry{Name: strings.TrimSuffix("action-"+name+"-"+by, "-"), Title: d.Action(name).Title, Single: true}
	if entry.Title == "" {
		entry.Title = name
	}
	if by != "" {
		entry.Title = verbs.WayTitle(entry.Title, by)
	}
	book, err := verbs.Single(d, name, by)
	if err != nil {
		entry.WhyNot = source.Reason(err)
		return entry
	}
	entry.Book, entry.About = book, book.About
	if danger := d.Action(name).Danger; danger != "" {
		entry.About = "It " + strings.TrimSuffix(danger, ".") + "."
	}
	entry.WhyNot = book.WhyNot(d)
	return entry
}

// lastRuns says how long each took last time, where the logbook has it.
func (l *Library) lastRuns(all []runbooks.Entry) {
	if l.logbook == app.NoLogbook {
		return
	}
	book, err := logbook.OpenToRead(l.logbook)
	if err != nil {
		return // the session has said so
	}
	defer book.Close()
	for i, entry := range all {
		last, found, err := book.LastRun(entry.Name)
		if err == nil && found {
			all[i].Last = fmt.Sprintf("took %s, %s", units.Clock(last.Took()), units.Since(time.Since(last.Began)))
		}
	}
}

// kit is what a runbook works with.
func (l *Library) kit() runbook.Kit {
	shelf, _ := l.shelf() // what was wrong with it is reported already
	return l.opened.Kit(shelf)
}

// Available implements tui.Library: what of the shelf and of this laptop a command names.
func (l *Library) Available(command string) (kit suggest.Kit) {
	with := l.kit()
	kit.HasShelf = with.Shelf != nil
	if kit.HasShelf {
		var names []string
		sizes := map[string]int64{}
		for _, item := range with.Shelf.Items() {
			names, sizes[item.Name] = append(names, item.Name), item.Size
		}
		if name := suggest.NamedIn(command, names); name != "" {
			kit.Named = &suggest.File{Name: name, Size: sizes[name]}
		}
	}
	if with.Network == nil {
		return kit
	}
	if ours, err := with.Network.Interfaces(); err == nil {
		for _, one := range ours {
			kit.Laptop = append(kit.Laptop, one.Prefix)
		}
	}
	return kit
}

// Needs implements tui.Library: each input with what is available, and with what it is most likely to be.
func (l *Library) Needs(book *runbook.Runbook) (all []inputs.Need) {
	facts, d, kit := l.opened.Facts(), l.opened.Dialect(), l.kit()
	for _, input := range book.Inputs {
		need := inputs.Need{Input: input, Picks: book.Picks(input, d, kit, facts)}
		switch {
		case input.Default != nil:
			need.Value = string(*input.Default)
		case len(need.Picks) == 1,
			len(need.Picks) > 0 && input.From == runbook.FromUpgradePaths && need.Picks[0].Text != "":
			need.Value = need.Picks[0].Value
		}
		all = append(all, need)
	}
	return all
}

// Takes implements tui.Library.
func (l *Library) Takes(book *runbook.Runbook, input runbook.Input, value string) error {
	if input.Kind == runbook.KindFolder && value != "" {
		if _, err := os.Stat(value); err != nil {
			return fmt.Errorf("%s is no folder", value)
		}
	}
	return book.Takes(input, value, l.opened.Dialect(), l.kit())
}

// Prepare implements tui.Library.
func (l *Library) Prepare(book *runbook.Runbook, values map[string]string) (*runbook.Prepared, error) {
	d := l.opened.Dialect()
	if d == nil {
		d = dialect.Generic()
	}
	if err := session.LinesMissing(book.Lines(), l.opened.Lines()); err != nil {
		return nil, err
	}
	return book.Prepare(d, values, l.kit())
}
