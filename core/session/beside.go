package session

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"

	"pilotrix/core/clock"
	"pilotrix/core/dialect"
	"pilotrix/core/event"
	"pilotrix/core/reach"
	"pilotrix/core/runbook"
	"pilotrix/core/runbook/engine"
)

// Extra makes another line to the same device known, by its name: a runbook's steps may type on it. It is called before
// a runbook begins.
func (s *Session) Extra(name string, other *Session) {
	s.do(func() {
		if s.others == nil {
			s.others = map[string]*Session{}
		}
		s.others[name] = other
	})
}

// othersOf are the other lines that a runbook types on. One that is not open is an error.
func (s *Session) othersOf(p *runbook.Prepared) (map[string]engine.Console, error) {
	open := map[string]*Session{}
	s.do(func() { maps.Copy(open, s.others) })
	if err := LinesMissing(p.Book.Lines(), slices.Sorted(maps.Keys(open))); err != nil {
		return nil, err
	}
	consoles := map[string]engine.Console{}
	for _, name := range p.Book.Lines() {
		open[name].Protect(p.Secrets()...)
		consoles[name] = otherLine{open[name].run(), s.run()}
	}
	return consoles, nil
}

// LinesMissing says which lines a runbook types on that are not open.
func LinesMissing(wanted, open []string) error {
	var errs []error
	for _, name := range wanted {
		if !slices.Contains(open, name) {
			errs = append(errs,
				fmt.Errorf("the runbook types on the line %s too, which is not open: open it with --also %s=TARGET, such as --also %s=serial:/dev/ttyUSB0",
					name, name, name))
		}
	}
	return errors.Join(errs...)
}

// otherLine is another line as a runbook sees it: it types there, and everything else about the run is the first
// line's. There is one helm: the operator takes it on either line, and gives it back on the first.
type otherLine struct {
	console
	first console
}

func (b otherLine) Clock() clock.Clock { return b.first.Clock() }

func (b otherLine) Emit(body event.Body) { b.first.Emit(body) }

func (b otherLine) Ask(ctx context.Context, ask event.Ask) (string, error) {
	return b.first.Ask(ctx, ask)
}

func (b otherLine) Settle(ctx context.Context) error {
	return errors.Join(b.first.Settle(ctx), b.console.Settle(ctx))
}

func (b otherLine) Reach() *reach.Watch { return b.first.Reach() }

func (b otherLine) Present() []string { return append(b.first.Present(), b.console.Present()...) }

func (b otherLine) Gone() []event.Pending { return append(b.first.Gone(), b.console.Gone()...) }

func (b otherLine) Pending() []dialect.Open { return append(b.first.Pending(), b.console.Pending()...) }

func (b otherLine) Stops(command string) string {
	var all []string
	for _, says := range []string{b.console.Stops(command), b.first.Stops(command)} {
		if says != "" && !slices.Contains(all, says) {
			all = append(all, says)
		}
	}
	return strings.Join(all, "; ")
}

// WithHelm ends when the operator takes the helm of either line.
func (b otherLine) WithHelm(ctx context.Context) (context.Context, context.CancelFunc) {
	first, releaseFirst := b.first.WithHelm(ctx)
	both, release := b.console.WithHelm(first)
	return both, func() {
		release()
		releaseFirst()
	}
}

// AwaitHelm waits for it to be given back, which gives that of this line back too.
func (b otherLine) AwaitHelm(ctx context.Context) (engine.Wish, error) {
	hand := false
	b.s.do(func() { hand = b.s.helm.who == event.Hand })
	b.first.s.do(func() {
		if hand && b.first.s.helm.wish == nil { // it was not given back meanwhile
			b.first.s.helm.take("taken on another line")
		}
	})
	wish, err := b.first.AwaitHelm(ctx)
	if err == nil && wish != engine.Stop {
		b.TakeBack("given back")
	}
	return wish, err
}
