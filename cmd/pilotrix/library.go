package main

import (
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/adrg/xdg"

	"pilotrix/core/dialect"
	"pilotrix/core/image"
	"pilotrix/core/logbook"
	"pilotrix/core/runbook"
	"pilotrix/core/runbook/verbs"
	"pilotrix/core/session"
	"pilotrix/core/shipped"
	"pilotrix/core/source"
	"pilotrix/core/units"
	"pilotrix/tui/inputs"
	"pilotrix/tui/runbooks"
)

// library is what can be carried out in a session: the runbooks that ship, the user's own, and the single actions of
// the dialect.
type library struct {
	p     *program
	o     *opened
	shelf func() (*image.Shelf, error)
}

// ownRunbooks is the folder of the user's own.
func ownRunbooks() string { return filepath.Join(xdg.ConfigHome, "pilotrix", "runbooks") }

// runbookNames are the runbooks that can be named, the user's own by their paths.
func runbookNames() []string {
	own, _ := filepath.Glob(filepath.Join(ownRunbooks(), "*.yaml"))
	own = slices.DeleteFunc(own, func(path string) bool { // reading a pipe may take for ever
		info, err := os.Stat(path)
		return err != nil || !info.Mode().IsRegular()
	})
	return append(own, shipped.RunbookNames()...)
}

// Entries implements tui.Library.
func (l *library) Entries() (all []runbooks.Entry) {
	d := l.o.Dialect()
	for _, name := range runbookNames() {
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
		if err := session.LinesMissing(book.Lines(), l.o.lines()); entry.WhyNot == "" && err != nil {
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
		entry := runbooks.Entry{Name: "action-" + name, Title: d.Action(name).Title, Single: true}
		if entry.Title == "" {
			entry.Title = name
		}
		book, err := verbs.Single(d, name)
		if err == nil {
			entry.Book, entry.About = book, book.About
			if danger := d.Action(name).Danger; danger != "" {
				entry.About = "It " + strings.TrimSuffix(danger, ".") + "."
			}
			entry.WhyNot = book.WhyNot(d)
		} else {
			entry.WhyNot = source.Reason(err)
		}
		all = append(all, entry)
	}
	return all
}

// lastRuns says how long each took last time, where the logbook has it.
func (l *library) lastRuns(all []runbooks.Entry) {
	if l.p.logbookPath == "none" {
		return
	}
	book, err := logbook.OpenToRead(l.p.logbookPath)
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
func (l *library) kit() runbook.Kit {
	shelf, _ := l.shelf() // what was wrong with it is reported already
	return runbook.Kit{
		Shelf:            shelf,
		UpgradePaths:     shipped.UpgradePaths,
		UpgradePathNames: shipped.UpgradePathsNames(),
		Network:          l.o.host,
		CutOff:           l.o.cutOff,
	}
}

// Needs implements tui.Library: each input with what is available, and with what it is most likely to be.
func (l *library) Needs(book *runbook.Runbook) (all []inputs.Need) {
	facts, d, kit := l.o.Facts(), l.o.Dialect(), l.kit()
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
func (l *library) Takes(book *runbook.Runbook, input runbook.Input, value string) error {
	if input.Kind == runbook.KindFolder && value != "" {
		if _, err := os.Stat(value); err != nil {
			return fmt.Errorf("%s is no folder", value)
		}
	}
	return book.Takes(input, value, l.o.Dialect(), l.kit())
}

// Prepare implements tui.Library.
func (l *library) Prepare(book *runbook.Runbook, values map[string]string) (*runbook.Prepared, error) {
	if err := session.LinesMissing(book.Lines(), l.o.lines()); err != nil {
		return nil, err
	}
	return book.Prepare(l.o.Dialect(), values, l.kit())
}
