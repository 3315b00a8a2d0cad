package app

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"pilotrix/core/line"
	"pilotrix/core/logbook"
	"pilotrix/core/session"
)

// Second is a second line to the same device, beside the first: it is watched and recorded.
type Second struct {
	Name   string
	Target line.Target
}

// OpenedSecond is one with what keeps it.
type OpenedSecond struct {
	Second
	*session.Session
	keeper *logbook.Keeper
}

// ParseSeconds reads second lines as they are said, NAME=TARGET.
func ParseSeconds(texts []string) (all []Second, err error) {
	for _, text := range texts {
		name, where, found := strings.Cut(text, "=")
		if !found || name == "" {
			return nil, fmt.Errorf("%s: want NAME=TARGET, such as console=serial:/dev/ttyUSB0", text)
		}
		target, err := line.ParseTarget(where)
		switch {
		case err != nil:
			return nil, fmt.Errorf("%s: %w", name, err)
		case target.Kind == line.Bench:
			return nil, fmt.Errorf(
				"%s: a simulated device has one line; reach it by its path, or by pilotrix bench NAME --at ssh", name)
		case slices.ContainsFunc(all, func(other Second) bool { return other.Name == name }):
			return nil, fmt.Errorf("%s: it is there twice", name)
		}
		all = append(all, Second{name, target})
	}
	return all, nil
}

// LineNames are the names of second lines.
func LineNames(all []Second) (names []string) {
	for _, one := range all {
		names = append(names, one.Name)
	}
	return names
}

// Seconds are the second lines that are open.
func (o *Opened) Seconds() []*OpenedSecond { return o.seconds }

// Lines are their names.
func (o *Opened) Lines() (names []string) {
	for _, one := range o.seconds {
		names = append(names, one.Name)
	}
	return names
}

// openSeconds opens the second lines of a session, each by an opener of its own: whoever has a line open is asked what
// it wants to know. What goes wrong with one of them ends the opening: it was asked for.
func (p *Settings) openSeconds(ctx context.Context, o *Opened, with Opening, secrets []string) error {
	for _, one := range with.Seconds {
		opener := line.NewOpener(o.Clock())
		p.asksBy(opener, with.Ask)
		s, err := session.Open(ctx, session.Options{
			Secrets: secrets,
			Target:  one.Target,
			Dialect: with.Dialect,
			Clock:   o.Clock(),
			Opener:  opener,
			Approve: with.Approve,
			Device:  o.place.Name,
		})
		if err != nil {
			return fmt.Errorf("the line %s: %w", one.Name, err)
		}
		second := &OpenedSecond{Second: one, Session: s}
		o.seconds = append(o.seconds, second)
		o.Extra(one.Name, s)
		if o.keeper != nil {
			second.keeper, err = p.keeperOf(o, s)
			if err != nil {
				o.notices = append(o.notices, fmt.Sprintf("the line %s is not recorded for now: %v", one.Name, err))
			}
		}
	}
	return nil
}

// close ends a second line.
func (a *OpenedSecond) close(why string) error {
	a.Close(why)
	if a.keeper == nil {
		return nil
	}
	return unrecorded(a.keeper.Wait())
}
