package maskel

import (
	"context"
	"net/netip"

	"pilotrix/bench"
	"pilotrix/core/transfer/tftp"
)

// The Maskel S8 is a single switch that comes without a setup. It exists to show a device that provisions itself: it
// asks for an address, fetches the image that it is reported of, restarts, asks again, and fetches its setup under
// names made of its host name and its MAC, one after the other.

// NewFaults are what can go wrong on purpose with a new switch.
type NewFaults struct {
	TakesNoOffer bool // what is offered never suits it
	TakesOther   bool // of several offers it takes that of another server than 192.0.2.10
	AsksOther    bool // it asks for its setup under names with another ending
	Elsewhere    bool // it fetches from another server than it is reported
	WasElsewhere bool // it had an address on another network, and asks for that first
	Restarts     bool // it does not like the image, and starts over
	Forgets      bool // it takes the image, and runs the old release all the same
}

// NewSettings are what a new switch is made with.
type NewSettings struct {
	Model, Serial string
	MAC           [6]byte
	Runs          string // the release that it comes with
}

// NewSwitch is one of them. What it keeps without power is behind the lock.
type NewSwitch struct {
	NewSettings
	lan *bench.LAN

	bench.Guarded[NewFaults]

	runs   string
	image  string       // name of the one that it took, empty where it came with what it runs
	setup  string       // empty until it has one
	from   string       // the name that the setup was fetched under
	at     netip.Prefix // its address, invalid while it has none
	starts int
}

// NewOne makes a switch without a setup.
func NewOne(s NewSettings, lan *bench.LAN) *NewSwitch {
	return &NewSwitch{NewSettings: s, lan: lan, runs: s.Runs}
}

// Runs is its release, the name that its setup was fetched under, and the setup.
func (n *NewSwitch) Runs() (release, from, setup string) {
	n.Mu.Lock()
	defer n.Mu.Unlock()
	return n.runs, n.from, n.setup
}

// Address is the one that it has, invalid while it has none.
func (n *NewSwitch) Address() netip.Addr {
	n.Mu.Lock()
	defer n.Mu.Unlock()
	return n.at.Addr()
}

// Baud implements bench.Device.
func (n *NewSwitch) Baud() int { return consoleBaud }

// PowerOn implements bench.Device.
func (n *NewSwitch) PowerOn(ctx context.Context, w *bench.Wire) {
	for ctx.Err() == nil {
		up, down := context.WithCancel(ctx)
		x := &fresh{
			NewSwitch: n,
			Shell:     bench.NewShell(up, w),
			client:    bench.Client{Clock: w.Clock(), Options: tftp.Client{Block: 1428, Window: 4}},
		}
		x.run()
		down()
		x.group.Wait()
		n.leave()
	}
}

// leave gives up the address that it had.
func (n *NewSwitch) leave() {
	n.Mu.Lock()
	at := n.at
	n.at = netip.Prefix{}
	n.Mu.Unlock()
	if at.IsValid() {
		n.lan.SetUp(at.Addr(), false)
	}
}

// Remember implements bench.Pretender.
func (n *NewSwitch) Remember() (restore func()) {
	n.Mu.Lock()
	defer n.Mu.Unlock()
	runs, image, setup, from := n.runs, n.image, n.setup, n.from
	return func() {
		n.Mu.Lock()
		defer n.Mu.Unlock()
		n.runs, n.image, n.setup, n.from = runs, image, setup, from
	}
}
