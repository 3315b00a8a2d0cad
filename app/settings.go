// Package app begins a session and keeps it: a line is opened with all that stands beside it (a simulated device,
// second lines, the logbook, the shelf, what is kept of the device), and closed with it. It prints nothing and asks
// nobody by itself: commands and the interface do.
package app

import (
	"context"

	"pilotrix/bench"
	"pilotrix/core/clock"
	"pilotrix/core/line"
	"pilotrix/core/network"
	"pilotrix/core/reach"
	"pilotrix/demo"
)

// NoLogbook stands for the logbook's file where nothing is kept.
const NoLogbook = "none"

// Settings are what every session of the program is begun with.
type Settings struct {
	Logbook string        // the logbook's file, or NoLogbook
	Awkward bench.Awkward // of simulated devices
	Stick   string        // a folder that is on a stick in their port, empty for none
	Ask     line.Asker    // asks what a line wants to know where the interface does not; nil where nobody can be asked
}

// host is the network that servers, checks and watches use.
type host interface {
	network.Network
	reach.Network
}

// addBench brings the device up when the target is one of the bench's.
func (p *Settings) addBench(o *Opened, opener *line.Opener, target line.Target, c clock.Clock) (err error) {
	if target.Kind != line.Bench {
		return nil
	}
	lan := bench.NewLAN(false, 1)
	o.host = demo.Laptop(lan)
	o.machine, o.place, err = demo.Machine(target.Address, c, !bench.HasTerminals, lan, p.Awkward)
	if err != nil {
		return err
	}
	if p.Stick != "" {
		if err := o.machine.Stick(p.Stick); err != nil {
			return err
		}
	}
	if err := o.machine.Start(); err != nil {
		return err
	}
	opener.Register(line.Bench, func(ctx context.Context, t line.Target) (line.Line, error) {
		return o.machine.Open(ctx, opener, t)
	})
	return nil
}

// asksBy has what the lines of an opener want to know asked: in the interface, or else as the settings say.
func (p *Settings) asksBy(opener *line.Opener, ask line.Asker) {
	if ask == nil {
		ask = p.Ask
	}
	if ask != nil {
		opener.Shells.SetAsk(ask)
	}
}
