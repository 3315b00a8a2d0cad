// Package pellow simulates the Pellow W3 wireless bridge: the open-source bootloader U-Boot, as far as the job needs it
// and as its documentation says it, before a NOR flash with sectors of two sizes; a recovery loader that takes one file
// by TFTP; and a small Linux-like system named skua with a web page. Maker, model and the system's own commands are
// invented.
//
// What it exists to show: a system that is booted from memory before the flash is erased for it; addresses that nobody
// should type by hand; a window of seconds in which a file may be put; a command that writes the system, asks an
// unclear question, and is silent for long.
//
// Where the real bootloader is hard to deal with, this one is as hard: it says done for a sector that did not take what
// was written, counts protected sectors among those that it erased, and goes on behind a failure in a line of several
// commands.
package pellow

import (
	"bytes"
	"context"
	"maps"
	"net/netip"
	"time"

	"pilotrix/bench"
	"pilotrix/core/transfer/tftp"
)

const consoleBaud = 115200

// Faults are what can go wrong on purpose.
type Faults struct {
	EraseStops    bool // an erase never ends, half done
	StuckSector   bool // a sector of the system takes no writing
	EnvFails      bool // the environment cannot be written, and it says so
	EnvForgotten  bool // it says that the environment is saved, and did not
	SpoilsMemory  bool // a bit of what is fetched flips in memory
	RecoveryDrops bool // the recovery loader drops the first file in its middle
	RenewStaysOld bool // the system's own command says that it is done, and wrote nothing
}

// Settings are what a bridge is made with.
type Settings struct {
	Model, HostName, Serial string
	Login, Word             string
	Address                 netip.Prefix
}

// Bridge is one W3. What is behind kept survives without power.
type Bridge struct {
	Settings
	bench.Warmth
	lan  *bench.LAN
	host bench.LANHost
	net  bench.Client

	bench.Guarded[Faults]

	flash   *flash            // kept
	ram     []byte            // as far as it was written
	env     map[string]string // of the bootloader, as it is in memory
	held    bool              // the button, when the power comes
	running string            // the release that runs, empty in the loader
	memory  bool              // and it was booted from memory
}

// New makes a bridge with an empty system part and the factory's environment.
func New(s Settings, lan *bench.LAN) *Bridge {
	b := &Bridge{Settings: s, lan: lan, host: lan.Host("eth0", s.Address), flash: newFlash()}
	b.net = bench.Client{Host: b.host, Options: tftp.Client{Block: 1468}}
	lan.SetUp(s.Address.Addr(), false)
	return b
}

// Install puts a system into the flash; a broken one is what a power cut while it was written leaves.
func (b *Bridge) Install(system []byte, broken bool) error {
	if broken {
		system = system[:len(system)/3]
	}
	b.Mu.Lock()
	defer b.Mu.Unlock()
	return b.flash.put(systemArea, system)
}

// Fail switches faults on.
func (b *Bridge) Fail(f Faults) {
	b.Mu.Lock()
	defer b.Mu.Unlock()
	b.Faults, b.flash.stuck = f, -1
	if f.StuckSector {
		b.flash.stuck = sectorAt(systemArea.at) + 2
	}
}

// Hold keeps the button pressed, or lets go of it. It is looked at when the power comes.
func (b *Bridge) Hold(pressed bool) {
	b.Mu.Lock()
	defer b.Mu.Unlock()
	b.held = pressed
}

// KeepEnvironment writes the bootloader's environment, as an earlier saveenv did.
func (b *Bridge) KeepEnvironment(env map[string]string) {
	b.Mu.Lock()
	defer b.Mu.Unlock()
	_ = b.flash.put(envArea, environmentText(env))
}

// Runs is the release that runs, and whether it was booted from memory.
func (b *Bridge) Runs() (release string, memory bool) {
	b.Mu.Lock()
	defer b.Mu.Unlock()
	return b.running, b.memory
}

// Flash is what the flash holds now: all of it, and each part by its name.
func (b *Bridge) Flash() (whole []byte, parts map[string][]byte) {
	b.Mu.Lock()
	defer b.Mu.Unlock()
	parts = map[string][]byte{}
	for _, a := range areas {
		parts[a.name] = bytes.Clone(b.flash.part(a))
	}
	return bytes.Clone(b.flash.data), parts
}

// Account implements bench.Account.
func (b *Bridge) Account() (login, word string) { return b.Login, b.Word }

// Baud implements bench.Device.
func (b *Bridge) Baud() int { return consoleBaud }

// PowerOn implements bench.Device: the recovery loader where the button is held, else the bootloader, then the system
// that it starts, until the power goes.
func (b *Bridge) PowerOn(ctx context.Context, w *bench.Wire) {
	b.net.Clock = w.Clock()
	b.lock(func() { b.flash.powerUp() })
	for ctx.Err() == nil {
		b.lock(func() { b.running, b.memory = "", false })
		if b.pressed() {
			b.recover(ctx, w)
			continue
		}
		b.start(ctx, w)
		w.HangUp()
		b.lan.SetUp(b.Address.Addr(), false)
	}
}

// start goes through bootloader and system once.
func (b *Bridge) start(ctx context.Context, w *bench.Wire) {
	up, down := context.WithCancel(ctx)
	defer down()
	from := &booted{}
	if b.TakeWarm() {
		from.system, _ = readSystem(b.flash.part(systemArea))
	} else {
		l := &loader{Bridge: b, Shell: bench.NewShell(up, w)}
		from = l.run()
	}
	if from == nil || ctx.Err() != nil {
		return
	}
	s := &skua{Bridge: b, Shell: bench.NewShell(up, w), booted: *from}
	s.run()
	down()
	s.group.Wait()
}

// booted is a system that a bootloader has started.
type booted struct {
	system System
	memory bool // from there, not from the flash
	loud   bool // its start is seen
}

func (b *Bridge) pressed() bool {
	b.Mu.Lock()
	defer b.Mu.Unlock()
	return b.held
}

func (b *Bridge) lock(do func()) {
	b.Mu.Lock()
	defer b.Mu.Unlock()
	do()
}

// fault reads a fault.
func (b *Bridge) fault() Faults {
	b.Mu.Lock()
	defer b.Mu.Unlock()
	return b.Faults
}

const (
	eraseTakes = 350 * time.Millisecond // a large sector
	writeRate  = 150_000                // bytes a second into the flash
	writePiece = 4 << 10
)

// burn writes into the flash at its pace, and says after each piece how much is written. It ends early when the power
// does.
func (b *Bridge) burn(s *bench.Shell, at int, data []byte, report func(written int)) bool {
	for done := 0; done < len(data); done += writePiece {
		piece := data[done:min(done+writePiece, len(data))]
		b.lock(func() { b.flash.write(at+done, piece) })
		if !s.Wait(time.Duration(float64(len(piece)) / writeRate * float64(time.Second))) {
			return false
		}
		if done < len(data)/2 && done+writePiece >= len(data)/2 && !s.Stall() {
			return false
		}
		report(done + len(piece))
	}
	return s.OK()
}

// Remember implements bench.Pretender.
func (b *Bridge) Remember() (restore func()) {
	b.Mu.Lock()
	defer b.Mu.Unlock()
	data, protected, ram, env := bytes.Clone(b.flash.data), maps.Clone(b.flash.protected), bytes.Clone(b.ram), maps.Clone(b.env)
	return func() { b.lock(func() { b.flash.data, b.flash.protected, b.ram, b.env = data, protected, ram, env }) }
}

// Fibs implements bench.Fibber.
func (b *Bridge) Fibs(lie bench.Lie) bool {
	b.Mu.Lock()
	defer b.Mu.Unlock()
	return b.Lying.Report(lie, bench.StaysOld, bench.IsAnother)
}
