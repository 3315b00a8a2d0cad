// Package dunlin simulates the Dunlin N1, a small router without a console, with an operating system named reed that
// comes in parts, and board firmware beside it. Maker, models and every word of its command language are invented.
//
// What it exists to show: packages by architecture, dropped over SFTP and applied at a restart, which has to be told to
// go down; one for another architecture stays where it is, without a word; an installed part whose package did not come
// along rests; board firmware as a second layer, with a command, a restart and a release of its own.
package dunlin

import (
	"context"
	"net/netip"
	"slices"
	"time"

	"pilotrix/bench"
	"pilotrix/core/transfer/tftp"
)

const (
	trayRoom = 8 << 20
	core     = "core"
	boots    = 20 * time.Second // besides what it applies
	applies  = 6 * time.Second  // a package
)

// Part is a part of the operating system that is installed. One whose release is not the core's rests.
type Part struct{ Name, Release string }

// Faults are what can go wrong on purpose.
type Faults struct {
	Skips    string // the part whose package is not applied, without a word
	BoardOld bool   // the board's firmware is the old one after its restart
}

// Settings are what a router is made with.
type Settings struct {
	Model, HostName, Serial string
	Architecture            string
	Login, Word             string
	Address                 netip.Prefix
	Parts                   []Part // the core first
	Board                   string // release of the board's firmware
	Uses                    []string
	Room                    int // of the tray, trayRoom when 0
}

// Router is one of them. What it keeps without power is behind the lock.
type Router struct {
	Settings
	bench.Warmth
	bench.NoConsole
	lan  *bench.LAN
	host bench.LANHost
	net  bench.Client
	tray *bench.Store

	bench.Guarded[Faults]

	parts []Part
	board string
	taken string // board firmware that the next restart begins with, empty for none
	down  bool   // the next restart applies what is older, too
}

// New makes one.
func New(s Settings, lan *bench.LAN) *Router {
	if s.Room == 0 {
		s.Room = trayRoom
	}
	r := &Router{
		Settings: s,
		lan:      lan,
		host:     lan.Host("lan", s.Address),
		tray:     &bench.Store{Capacity: s.Room},
		parts:    slices.Clone(s.Parts),
		board:    s.Board,
	}
	r.net = bench.Client{Host: r.host, Options: tftp.Client{Block: 1024, Window: 8}}
	lan.SetUp(s.Address.Addr(), false)
	return r
}

// Layers are the releases of its parts, by name, and of its board.
func (r *Router) Layers() (parts map[string]string, board string) {
	r.Mu.Lock()
	defer r.Mu.Unlock()
	parts = map[string]string{}
	for _, p := range r.parts {
		parts[p.Name] = p.Release
	}
	return parts, r.board
}

// Drop implements bench.Takes.
func (r *Router) Drop() *bench.Store { return r.tray }

// Account implements bench.Account.
func (r *Router) Account() (login, word string) { return r.Login, r.Word }

// PowerOn implements bench.Device. A restart that was to go down and was not made is forgotten with the power.
func (r *Router) PowerOn(ctx context.Context, w *bench.Wire) {
	r.net.Clock = w.Clock()
	for ctx.Err() == nil {
		x := &reed{Router: r, Shell: bench.NewShell(ctx, w)}
		x.run()
		w.HangUp()
		r.lan.SetUp(r.Address.Addr(), false)
	}
	r.Mu.Lock()
	r.down = false
	r.Mu.Unlock()
}

// release is the core's. The caller holds mu.
func (r *Router) release() string { return r.parts[0].Release }

// apply takes what the tray holds: for this architecture, whole, newer than what is installed, or other where it is to
// go down. It says how many packages it took. What it does not take stays in the tray, without a word.
func (r *Router) apply() (took int) {
	r.Mu.Lock()
	defer r.Mu.Unlock()
	down := r.down
	r.down = false
	if r.Lying.LosesChoice {
		down, r.taken = false, ""
	}
	if r.Lying.IsAnother {
		r.Serial = "DN1-099999"
	}
	if r.taken != "" && !r.Faults.BoardOld && !r.Lying.StaysOld {
		r.board = r.taken
	}
	r.taken = ""
	if !r.Lying.StaysOld {
		took = r.take(core, func(p Package) bool {
			return bench.Older(r.release(), p.Release) || down && p.Release != r.release()
		})
		for _, f := range r.tray.Files() {
			if p, err := readPackage(f.Data); err == nil && p.Part != core && p.Release == r.release() {
				took += r.take(p.Part, func(q Package) bool { return q.Release == r.release() })
			}
		}
	}
	r.Lying = bench.Fibs{}
	return took
}

// take installs a part's package, if one of the tray is wanted. The caller holds mu.
func (r *Router) take(part string, wanted func(Package) bool) int {
	for _, f := range r.tray.Files() {
		p, err := readPackage(f.Data)
		if err != nil || f.Broken || p.Part != part || p.Architecture != r.Architecture || part == r.Faults.Skips ||
			!wanted(p) {
			continue
		}
		at := slices.IndexFunc(r.parts, func(have Part) bool { return have.Name == part })
		if at < 0 {
			r.parts = append(r.parts, Part{Name: part})
			at = len(r.parts) - 1
		}
		r.parts[at].Release = p.Release
		r.tray.Drop(f.Name)
		return 1
	}
	return 0
}

// Remember implements bench.Pretender.
func (r *Router) Remember() (restore func()) {
	r.Mu.Lock()
	defer r.Mu.Unlock()
	parts, board, taken, down, tray := slices.Clone(r.parts), r.board, r.taken, r.down, r.tray.Remember()
	return func() {
		tray()
		r.Mu.Lock()
		defer r.Mu.Unlock()
		r.parts, r.board, r.taken, r.down = parts, board, taken, down
	}
}

// Fibs implements bench.Fibber.
func (r *Router) Fibs(lie bench.Lie) bool {
	r.Mu.Lock()
	defer r.Mu.Unlock()
	return r.Lying.Report(lie, bench.StaysOld, bench.LosesChoice, bench.IsAnother)
}
