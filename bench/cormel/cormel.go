// Package cormel simulates the Cormel G2 voice gateway: two banks for its operating system lark, of which
// one runs and the other takes the next release, a boot program named peg, plug-in cards with firmware of
// their own. Maker, model and every word of its command language are invented.
//
// What it exists to show: a download in the background that is polled until it is idle; a choice of the
// next bank that is lost unless it is stowed; a restart of minutes; a licence tied to the major release;
// an intermediate release that must come first, since it converts the data; a registration with the call
// server that comes some time after the prompt does.
package cormel

import (
	"context"
	"errors"
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"time"

	"pilotrix/bench"
	"pilotrix/core/transfer/tftp"
)

// How long things take, in the device's time.
const (
	prepareTime  = 8 * time.Second
	checkTime    = 5 * time.Second
	registerTime = 40 * time.Second
	fetchRate    = 96_000 // bytes a second into a bank
	bankRoom     = 12 << 20
	consoleBaud  = 57600
)

// Faults are what can go wrong on purpose.
type Faults struct {
	StuckPreparing bool // a download never gets beyond preparing
	ForgetsStow    bool // says that the choice is stowed, and does not write it
	CardDies       int  // the card of this slot does not start with its new firmware, and is not listed any more
	CardIsDumb     int  // that of this slot does not start either, and is listed without a firmware
}

// card is a plug-in module.
type card struct {
	Kind     string
	Firmware string
}

// Settings are what a gateway is made with.
type Settings struct {
	Model, HostName, Serial string
	Login, Word             string
	Boot                    string // its boot firmware
	Address                 netip.Prefix
	Room                    int // of a bank, bankRoom when 0
}

// Gateway is one G2. What is behind kept survives without power.
type Gateway struct {
	Settings
	bench.Warmth
	lan  *bench.LAN
	host bench.LANHost
	net  bench.Client

	bench.Guarded[Faults]

	banks    map[string][]byte // kept
	keptNext string            // kept
	passes   []string          // kept
	dataForm int               // kept: what the running release's data look like
	cards    map[int]card      // kept
	stick    *bench.Store      // in the port, nil without one
	indexed  string            // kept: the release that made the index of the dial plan
	running  string            // bank
	release  string
	next     string // chosen, lost at a restart
	haul     bench.Download
	since    time.Time // of the prompt after the last start
}

// New makes a gateway with two empty banks.
func New(s Settings, lan *bench.LAN) *Gateway {
	if s.Room == 0 {
		s.Room = bankRoom
	}
	g := &Gateway{
		Settings: s,
		lan:      lan,
		host:     lan.Host("lan", s.Address),
		banks:    map[string][]byte{},
		keptNext: "A",
		dataForm: 1,
		passes:   []string{"7"},
		cards:    map[int]card{1: {"trunk", "3.1"}, 2: {"line", "3.1"}, 3: {"line", "3.1"}},
	}
	g.net = bench.Client{Host: g.host, Options: tftp.Client{Block: 1428, Window: 4}}
	g.haul.Forget()
	lan.SetUp(s.Address.Addr(), false)
	return g
}

// Install puts an image into a bank.
func (g *Gateway) Install(name string, cargo []byte) {
	g.Mu.Lock()
	defer g.Mu.Unlock()
	g.banks[name] = cargo
}

// Runs is the release and the bank that it runs, empty while it starts.
func (g *Gateway) Runs() (release, bank string) {
	g.Mu.Lock()
	defer g.Mu.Unlock()
	return g.release, g.running
}

// Starts is the bank that the next start takes.
func (g *Gateway) Starts() string {
	g.Mu.Lock()
	defer g.Mu.Unlock()
	return g.keptNext
}

// Firmware is that of a card.
func (g *Gateway) Firmware(slot int) string {
	g.Mu.Lock()
	defer g.Mu.Unlock()
	return g.cards[slot].Firmware
}

// Account implements bench.Account.
func (g *Gateway) Account() (login, word string) { return g.Login, g.Word }

// Baud implements bench.Device.
func (g *Gateway) Baud() int { return consoleBaud }

// PowerOn implements bench.Device.
func (g *Gateway) PowerOn(ctx context.Context, w *bench.Wire) {
	for ctx.Err() == nil {
		up, down := context.WithCancel(ctx)
		g.Mu.Lock()
		g.comeTrue()
		g.release, g.next, g.net.Clock = "", g.keptNext, w.Clock()
		g.Mu.Unlock()
		l := &lark{Gateway: g, Shell: bench.NewShell(up, w)}
		l.run()
		w.HangUp()
		g.lan.SetUp(g.Address.Addr(), false)
		down()
		g.haul.Forget()
	}
}

// standby is the bank that does not run. The caller holds mu.
func (g *Gateway) standby() string { return other(g.running) }

func other(bank string) string {
	if bank == "A" {
		return "B"
	}
	return "A"
}

// startable says why a bank cannot be started, and what is in it. The caller holds mu.
func (g *Gateway) startable(name string) (Cargo, error) {
	if len(g.banks[name]) == 0 {
		return Cargo{}, errors.New("empty")
	}
	c, err := readCargo(g.banks[name], cargoMagic)
	if err != nil {
		return c, err
	}
	if err := g.fits(c); err != nil {
		return c, err
	}
	if c.Licence != "" && !slices.Contains(g.passes, c.Licence) {
		return c, fmt.Errorf("lark %s wants a licence for release %s", c.Release, c.Licence)
	}
	if strings.HasPrefix(c.Release, "8.") && g.dataForm < 2 {
		return c, fmt.Errorf("lark %s cannot read data of form %d", c.Release, g.dataForm)
	}
	return c, nil
}

// fits holds an image against this device.
func (g *Gateway) fits(c Cargo) error {
	if !slices.Contains(c.Models, g.Model) {
		return fmt.Errorf("made for %s, this is %s", strings.Join(c.Models, ", "), g.Model)
	}
	if c.Boot > g.Boot { // both have one digit before and one behind the point
		return fmt.Errorf("wants boot firmware %s, this has %s", c.Boot, g.Boot)
	}
	return nil
}

// takeOver makes a bank the running one, converting the data where its release does that.
func (g *Gateway) takeOver(name string, c Cargo) (converted bool) {
	g.Mu.Lock()
	defer g.Mu.Unlock()
	g.running = name
	if g.indexed == "" {
		g.indexed = c.Release
	}
	if strings.HasPrefix(c.Release, "7.6") && g.dataForm == 1 {
		g.dataForm, converted = 2, true
	}
	return converted
}
