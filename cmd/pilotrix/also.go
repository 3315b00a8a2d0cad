package main

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"pilotrix/core/line"
	"pilotrix/core/logbook"
	"pilotrix/core/runbook"
	"pilotrix/core/session"
	"pilotrix/tui"
)

// also is a second line to the same device, beside the first: it is watched and recorded.
type also struct {
	name   string
	target line.Target
}

// alsoOpened is one with what keeps it.
type alsoOpened struct {
	also
	*session.Session
	keeper *logbook.Keeper
}

// addAlso adds the flag of second lines.
func (f *targetFlags) addAlso(cmd *cobra.Command) {
	cmd.Flags().StringArrayVar(&f.also, "also", nil,
		"a second line to the same device, `NAME=TARGET`: it is watched and recorded beside the first")
}

// seconds reads the second lines, those among them that a runbook types on, nil for none.
func (f *targetFlags) seconds(prepared *runbook.Prepared) (all []also, err error) {
	if all, err = f.secondLines(); err == nil && prepared != nil {
		var names []string
		for _, one := range all {
			names = append(names, one.name)
		}
		err = session.LinesMissing(prepared.Book.Lines(), names)
	}
	return all, err
}

func (f *targetFlags) secondLines() (all []also, err error) {
	for _, text := range f.also {
		name, where, found := strings.Cut(text, "=")
		if !found || name == "" {
			return nil, fmt.Errorf("--also %s: want NAME=TARGET, such as console=serial:/dev/ttyUSB0", text)
		}
		target, err := line.ParseTarget(where)
		if err == nil && target.Kind == line.Bench {
			err = errors.New(
				"a simulated device has one line; reach it by its path, or by pilotrix bench NAME --at ssh")
		}
		if err != nil {
			return nil, fmt.Errorf("--also %s: %w", name, err)
		}
		for _, other := range all {
			if other.name == name {
				return nil, fmt.Errorf("--also %s: it is there twice", name)
			}
		}
		all = append(all, also{name, target})
	}
	return all, nil
}

// openAlso opens the second lines of a session, each by an opener of its own: whoever has a line open is asked what it
// wants to know. What goes wrong with one of them ends the opening: it was asked for.
func (p *program) openAlso(ctx context.Context, o *opened, with opening, secrets []string) error {
	for _, one := range with.also {
		opener := line.NewOpener(o.Clock())
		p.asksBy(opener, with.ask)
		s, err := session.Open(ctx, session.Options{
			Secrets: secrets,
			Target:  one.target,
			Dialect: with.dialect,
			Clock:   o.Clock(),
			Opener:  opener,
			Approve: with.approve,
			Device:  o.place.Name,
		})
		if err != nil {
			return fmt.Errorf("the line %s: %w", one.name, err)
		}
		second := &alsoOpened{also: one, Session: s}
		o.also = append(o.also, second)
		o.Extra(one.name, s)
		if o.keeper != nil {
			second.keeper, err = p.keeperOf(o, s)
			if err != nil {
				o.notices = append(o.notices, fmt.Sprintf("the line %s is not recorded for now: %v", one.name, err))
			}
		}
	}
	return nil
}

// lines are the names of the second lines.
func (o *opened) lines() (names []string) {
	for _, one := range o.also {
		names = append(names, one.name)
	}
	return names
}

// seconds are the second lines as the interface shows them.
func (o *opened) seconds() (all []tui.Second) {
	for _, one := range o.also {
		all = append(all, tui.Second{Name: one.name, Session: one.Session, Line: session.LineState(one.target)})
	}
	return all
}

// close ends a second line.
func (a *alsoOpened) close(why string) (err error) {
	a.Close(why)
	if a.keeper != nil {
		err = unrecorded(a.keeper.Wait())
	}
	return err
}
