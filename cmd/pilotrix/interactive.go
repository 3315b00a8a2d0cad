package main

import (
	"context"
	"sync"

	"pilotrix/app"
	"pilotrix/core/dialect"
	"pilotrix/core/image"
	"pilotrix/core/inventory"
	"pilotrix/core/line"
	"pilotrix/core/session"
	"pilotrix/core/shipped"
	"pilotrix/tui"
	"pilotrix/tui/library"
	"pilotrix/tui/start"
)

// interactive opens a session in the interface, with a runbook or without. The shelf is made beside it,
// since the first frame does not wait for it.
func (p *program) interactive(ctx context.Context, with app.Opening, shelf app.MakeShelf) error {
	return tui.Run(ctx, tui.Interface{
		Theme: p.theme, Leader: p.leader, Text: with.Target.String(),
		Open: func(ctx context.Context, _ start.Opening, ask tui.Ask) (tui.Options, func() error, error) {
			with.Ask = line.Asker(ask)
			return p.shown(ctx, with, shelf)
		},
	})
}

// start shows what there is, and opens what is chosen.
func (p *program) start(ctx context.Context) error {
	return tui.Run(ctx, tui.Interface{
		Theme: p.theme, Leader: p.leader,
		Start: &tui.Start{Source: app.Known{Logbook: p.Logbook}, Dialects: shipped.DialectNames()},
		Open:  p.openChosen,
	})
}

// openChosen opens what was chosen at the start.
func (p *program) openChosen(
	ctx context.Context, what start.Opening, ask tui.Ask,
) (o tui.Options, closes func() error, err error) {
	target, err := line.ParseTarget(what.Target)
	if err != nil {
		return o, nil, err
	}
	flags := targetFlags{dialect: what.Dialect, password: what.Password}
	d, err := flags.loadDialect(target)
	if err != nil {
		return o, nil, err
	}
	given, err := flags.given()
	if err != nil {
		return o, nil, err
	}
	with := app.Opening{
		Target:  target,
		Scale:   usualScale,
		Dialect: d,
		Given:   given,
		Ask:     line.Asker(ask),
		Name:    what.Device.Device,
		Where:   what.Place,
	}
	if what.Saved {
		with.Saved = &what.Device
	}
	return p.shown(ctx, with, sync.OnceValues(func() (*image.Shelf, error) { return app.ShelfFor(nil, d, nil) }))
}

// usualScale is how much faster than real time a simulated device lives.
const usualScale = 8

// shown opens a session for the interface.
func (p *program) shown(
	ctx context.Context, with app.Opening, shelf app.MakeShelf,
) (tui.Options, func() error, error) {
	o, err := p.Begin(ctx, with)
	if err != nil {
		return tui.Options{}, nil, benchUsage(err)
	}
	life, cancel := context.WithCancel(context.WithoutCancel(ctx))
	var beside sync.WaitGroup
	options := tui.Options{
		Begun: func() {
			if with.Begun != nil {
				with.Begun(o)
			}
			beside.Go(func() { o.ShowShelf(life, shelf) })
		},
		AddFolder: func(folder string) error { return app.AddFolder(shelf, folder) },
		Session:   o.Session,
		Runbook:   with.Runbook,
		Dialects:  sync.OnceValue(app.Dialects),
		Chosen:    remembers(with.Saved),
		Library:   library.New(o, shelf, p.Logbook),
		Notices:   o.Notices(),
		Device:    o.Device(),
		About:     o.About(),
		Line:      session.LineState(with.Target),
	}
	for _, one := range o.Seconds() {
		options.Seconds = append(options.Seconds,
			tui.Second{Name: one.Name, Session: one.Session, Line: session.LineState(one.Target)})
	}
	return options, func() error {
		cancel()
		beside.Wait()
		return o.Close("the operator left")
	}, nil
}

// remembers keeps the dialect that was chosen for a device that is kept; nil for one that is not.
func remembers(saved *inventory.Device) func(*dialect.Dialect) error {
	if saved == nil {
		return nil
	}
	return func(d *dialect.Dialect) error { return app.KeepDialect(saved.Device, d) }
}
