// Package orsel simulates the Orsel C1, a controller of wireless access points without a console, with an operating
// system named linnet. Maker, models and every word of its command language are invented.
//
// What it exists to show: a change that is not over when the device is back. The access points that hang on it fetch
// their own firmware afterwards, a few at a time, go away and come back; one may be of a model that the new release has
// none for, one may not come back, one may break off; and without the service that gives it to them nothing happens at
// all.
package orsel

import (
	"context"
	"net/netip"
	"slices"
	"time"

	"pilotrix/bench"
	"pilotrix/core/transfer/tftp"
)

const (
	fetchRate = 300_000 // bytes a second
	room      = 16 << 20
	boots     = 60 * time.Second
)

// Faults are what can go wrong on purpose: the names of points.
type Faults struct {
	Straggles string // it does not come back
	Breaks    string // it breaks off while it loads
}

// Settings are what a controller is made with.
type Settings struct {
	Model, HostName, Serial string
	Login, Word             string
	Address                 netip.Prefix
	Runs                    Load
	Points                  []Point
	Feeds                   bool // the service that gives points their firmware
}

// Controller is one of them.
type Controller struct {
	Settings
	bench.Warmth
	bench.NoConsole
	lan  *bench.LAN
	host bench.LANHost
	net  bench.Client
	load bench.Download

	bench.Guarded[Faults]

	running Load
	loaded  *Load // fetched, and not installed yet
	sound   bool  // it was verified
	install bool  // the next start runs it
	digest  string
	points  []Point
	feeds   bool
	begun   time.Time
	settled bool // it has been running for long
}

// New makes one.
func New(s Settings, lan *bench.LAN) *Controller {
	c := &Controller{
		Settings: s,
		lan:      lan,
		host:     lan.Host("lan", s.Address),
		running:  s.Runs,
		points:   slices.Clone(s.Points),
		feeds:    s.Feeds,
	}
	c.net = bench.Client{Host: c.host, Options: tftp.Client{Block: 1428, Window: 8}}
	c.load.Forget()
	lan.SetUp(s.Address.Addr(), false)
	return c
}

// Runs is the release that runs.
func (c *Controller) Runs() string {
	c.Mu.Lock()
	defer c.Mu.Unlock()
	return c.running.Release
}

// Account implements bench.Account.
func (c *Controller) Account() (login, word string) { return c.Login, c.Word }

// PowerOn implements bench.Device.
func (c *Controller) PowerOn(ctx context.Context, w *bench.Wire) {
	c.net.Clock = w.Clock()
	for ctx.Err() == nil {
		up, down := context.WithCancel(ctx)
		x := &linnet{Controller: c, Shell: bench.NewShell(up, w)}
		x.run()
		c.Mu.Lock()
		c.keepPoints(w.Clock().Since(c.begun))
		c.Mu.Unlock()
		down()
		w.HangUp()
		c.lan.SetUp(c.Address.Addr(), false)
		x.group.Wait()
		c.load.Forget()
	}
}

// takeOver is what a start does: an image that was to be installed runs.
func (c *Controller) takeOver(now time.Time) {
	c.Mu.Lock()
	defer c.Mu.Unlock()
	if c.install && !c.Lying.StaysOld {
		c.running = *c.loaded
		c.loaded, c.sound, c.digest = nil, false, ""
	}
	c.install = false
	if c.Lying.IsAnother {
		c.Serial = "OC1-099999"
	}
	c.Lying = bench.Fibs{}
	c.begun, c.settled = now, false
}

// Remember implements bench.Pretender.
func (c *Controller) Remember() (restore func()) {
	c.Mu.Lock()
	defer c.Mu.Unlock()
	load, loaded, sound, install, feeds := c.load.Remember(), c.loaded, c.sound, c.install, c.feeds
	return func() {
		load()
		c.Mu.Lock()
		defer c.Mu.Unlock()
		c.loaded, c.sound, c.install, c.feeds = loaded, sound, install, feeds
	}
}

// Fibs implements bench.Fibber.
func (c *Controller) Fibs(lie bench.Lie) bool {
	c.Mu.Lock()
	defer c.Mu.Unlock()
	return c.Lying.Report(lie, bench.StaysOld, bench.IsAnother)
}
