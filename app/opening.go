package app

import (
	"cmp"
	"context"
	"errors"

	"pilotrix/core/clock"
	"pilotrix/core/dialect"
	"pilotrix/core/event"
	"pilotrix/core/inventory"
	"pilotrix/core/line"
	"pilotrix/core/reach"
	"pilotrix/core/runbook"
	"pilotrix/core/session"
	"pilotrix/demo"
)

// Opening is what a session is opened with.
type Opening struct {
	Target  line.Target
	Scale   float64 // how many times as fast as the wall a bench device lives
	Dialect *dialect.Dialect
	Runbook *runbook.Prepared      // to be carried out in it; may be nil
	Given   string                 // the password of a shell session, where it was said
	Approve func(event.Ask) string // answers holds where no operator is; may be nil
	Begun   func(*Opened)          // what is done once it has begun; may be nil
	Seconds []Second               // second lines beside it
	Ask     line.Asker             // asks what the line wants to know, in the interface; nil for the settings' way

	Name, Where string            // what the device is called, and where it stands; as the bench says unless said
	Saved       *inventory.Device // as it is kept, nil where it is not
}

// BenchError is why a simulated device could not be brought up: it has no such thing.
type BenchError struct{ error }

// Begin opens a line and the logbook. Bench targets get a clock of their own.
func (p *Settings) Begin(ctx context.Context, with Opening) (*Opened, error) {
	o := &Opened{host: reach.NewHost()}
	c := clock.Real()
	if with.Target.Kind == line.Bench {
		c = clock.Scaled(with.Scale)
	}
	opener := line.NewOpener(c)
	if err := p.addBench(o, opener, with.Target, c); err != nil {
		return nil, BenchError{err}
	}
	o.place = with.placeOr(o.place)
	p.asksBy(opener, with.Ask)
	if with.Given != "" {
		opener.Shells.Give(with.Given)
	}
	var secrets []string
	if with.Runbook != nil {
		secrets = with.Runbook.Secrets()
	}
	s, err := session.Open(ctx, session.Options{
		Secrets:  secrets,
		Target:   with.Target,
		Dialect:  with.Dialect,
		Clock:    c,
		Opener:   opener,
		Approve:  with.Approve,
		Device:   o.place.Name,
		Identity: with.identity(),
		Reach:    o.host,
	})
	if err != nil {
		return nil, errors.Join(err, o.Close("the line did not open"))
	}
	o.Session = s
	o.lendHand()
	p.keep(o, with.Target)
	if err := p.openSeconds(ctx, o, with, append(secrets, opener.Shells.Secrets()...)); err != nil {
		return nil, errors.Join(err, o.Close("a second line did not open"))
	}
	if with.Saved != nil {
		o.watchIdentity(*with.Saved)
	}
	if with.Runbook != nil {
		with.Runbook.Kit.Network, with.Runbook.Kit.CutOff = o.host, o.cutOff
	}
	return o, nil
}

// identity is what the device that was named was known by before, empty for none.
func (w Opening) identity() string {
	if w.Saved == nil {
		return ""
	}
	return w.Saved.Identity
}

// placeOr is what a session's device is called and where it stands: as it is kept, or as the bench says.
func (w Opening) placeOr(place demo.Place) demo.Place {
	place.Name = cmp.Or(w.Name, place.Name)
	if w.Target.Kind == line.None {
		place.Name = cmp.Or(place.Name, w.Target.Address)
	}
	place.Where = cmp.Or(w.Where, place.Where)
	return place
}
