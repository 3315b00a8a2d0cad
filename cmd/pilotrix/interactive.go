package main

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"sync"

	"pilotrix/core/dialect"
	"pilotrix/core/event"
	"pilotrix/core/image"
	"pilotrix/core/inventory"
	"pilotrix/core/line"
	"pilotrix/core/logbook"
	"pilotrix/core/session"
	"pilotrix/core/shelves"
	"pilotrix/core/shipped"
	"pilotrix/demo"
	"pilotrix/tui"
	"pilotrix/tui/start"
)

// interactive opens a session in the interface, with a runbook or without. The shelf is made beside it,
// since the first frame does not wait for it.
func (p *program) interactive(ctx context.Context, with opening, shelf func() (*image.Shelf, error)) error {
	return tui.Run(ctx, tui.Interface{
		Theme: p.theme, Leader: p.leader, Text: with.target.String(),
		Open: func(ctx context.Context, _ start.Opening, ask tui.Ask) (tui.Options, func() error, error) {
			with.ask = ask
			return p.shown(ctx, with, shelf)
		},
	})
}

// start shows what there is, and opens what is chosen.
func (p *program) start(ctx context.Context) error {
	return tui.Run(ctx, tui.Interface{
		Theme: p.theme, Leader: p.leader,
		Start: &tui.Start{Source: &startSource{p}, Dialects: shipped.DialectNames()},
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
	with := opening{
		target:  target,
		scale:   usualScale,
		dialect: d,
		given:   given,
		ask:     ask,
		name:    what.Device.Device,
		where:   what.Place,
	}
	if what.Saved {
		with.saved = &what.Device
	}
	return p.shown(ctx, with, sync.OnceValues(func() (*image.Shelf, error) { return shelfFor(nil, d, nil) }))
}

// usualScale is how much faster than real time a simulated device lives.
const usualScale = 8

// shown opens a session for the interface.
func (p *program) shown(
	ctx context.Context, with opening, shelf func() (*image.Shelf, error),
) (tui.Options, func() error, error) {
	o, err := p.begin(ctx, with)
	if err != nil {
		return tui.Options{}, nil, err
	}
	life, cancel := context.WithCancel(context.WithoutCancel(ctx))
	var beside sync.WaitGroup
	options := tui.Options{
		Begun: func() {
			if with.begun != nil {
				with.begun(o)
			}
			beside.Go(func() { showShelf(life, o, shelf) })
		},
		AddFolder: func(folder string) error { return addToShelf(shelf, folder) },
		Session:   o.Session,
		Runbook:   with.runbook,
		Dialects:  sync.OnceValue(knownDialects),
		Chosen:    p.remembers(with.saved),
		Library:   &library{p: p, o: o, shelf: shelf},
		Seconds:   o.seconds(),
		Notices:   o.notices,
		Device:    o.place.Name,
		About:     o.place.Text(),
		Line:      session.LineState(with.target),
	}
	return options, func() error {
		cancel()
		beside.Wait()
		return o.close("the operator left")
	}, nil
}

// knownDialects are those that a device may be found to talk.
func knownDialects() (all []*dialect.Dialect) {
	for _, name := range shipped.DialectNames() {
		if d, err := shipped.Dialect(name); err == nil {
			all = append(all, d)
		}
	}
	return all
}

// remembers keeps the dialect that was chosen for a device that is kept; nil for one that is not.
func (p *program) remembers(saved *inventory.Device) func(*dialect.Dialect) error {
	if saved == nil {
		return nil
	}
	return func(d *dialect.Dialect) error {
		kept, err := inventory.Load(inventoryPath())
		if err != nil {
			return err
		}
		device, found := kept.Find(saved.Device)
		if !found || device.Dialect != "" && device.Dialect != "none" {
			return nil
		}
		device.Dialect = d.Dialect
		return kept.Put(saved.Device, device)
	}
}

// startSource is where the start has from what it shows.
type startSource struct{ p *program }

// Inventory implements start.Source.
func (*startSource) Inventory() (*inventory.Inventory, error) { return inventory.Load(inventoryPath()) }

// Ports implements start.Source.
func (*startSource) Ports() ([]line.Port, error) { return line.Ports() }

// Folders implements start.Source.
func (*startSource) Folders() []string {
	register, err := shelves.Load()
	if err != nil {
		return nil
	}
	return register.Folders
}

// Book implements start.Source.
func (s *startSource) Book() (known map[string]logbook.Known, cut []logbook.Last, err error) {
	if s.p.logbookPath == "none" {
		return nil, nil, nil
	}
	book, err := logbook.OpenToRead(s.p.logbookPath)
	if errors.Is(err, logbook.ErrNone) {
		return nil, nil, nil
	}
	if err != nil {
		return nil, nil, err
	}
	defer book.Close()
	known, err = book.Known()
	cut, cutErr := book.Unsettled()
	return known, cut, errors.Join(err, cutErr)
}

// watchIdentity keeps what a device is known by when it is first read, and says loudly when another one answers at its
// target.
func (p *program) watchIdentity(o *opened, saved inventory.Device) {
	go o.watchFacts(func(name, ok string) {
		if name != o.Dialect().IdentityFact() {
			return
		}
		if err := p.keepIdentity(o, saved.Device, ok); err != nil {
			o.Emit(event.Note{Level: event.Error, Text: err.Error()})
		}
	})
}

func (p *program) keepIdentity(o *opened, name, ok string) error {
	kept, err := inventory.Load(inventoryPath())
	if err != nil {
		return err
	}
	device, known := kept.Find(name)
	switch {
	case !known || device.Identity == ok:
		return nil
	case device.Identity != "":
		return fmt.Errorf("this is another device: %s is known by %s, and %s answers at %s", name, device.Identity, ok,
			device.Target)
	}
	device.Identity = ok
	return kept.Put(name, device)
}

// nameOr is what a session's device is called: as it is kept, or as the bench calls it.
func (w opening) nameOr(place demo.Place) demo.Place {
	place.Name = cmp.Or(w.name, place.Name)
	if w.target.Kind == line.None {
		place.Name = cmp.Or(place.Name, w.target.Address)
	}
	place.Where = cmp.Or(w.where, place.Where)
	return place
}
