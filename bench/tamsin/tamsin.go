// Package tamsin simulates the Tamsin E8 edge router: a hold of parcels, which are unfolded beside each other, and an
// operating system named marl that is changed on trial. Maker, model and every word of its command language are
// invented.
//
// What it exists to show: a new system runs on trial for a time that was set with the command, and goes back by itself
// when nobody settles it; what was settled is gone with the power unless it was anchored; a look ahead that changes
// nothing and says what would restart, and what would refuse; a command that does everything, which older releases
// refuse once they have the whole parcel.
package tamsin

import (
	"context"
	"errors"
	"fmt"
	"iter"
	"maps"
	"net/netip"
	"slices"
	"strings"
	"time"

	"pilotrix/bench"
	"pilotrix/core/transfer/tftp"
)

const (
	consoleBaud = 115200
	holdRoom    = 16 << 20
	fetchRate   = 300_000 // bytes a second into the hold
	unfoldRate  = 120_000 // bytes of a parcel a second
	unfolded    = 2       // times as large as its parcel
	fallsBack   = 45 * time.Second
	sweepSince  = "5.4"
)

// Faults are what can go wrong on purpose.
type Faults struct {
	SpoilsParcels bool // a bit of what is brought flips in the hold
	DoesNotComeUp bool // a swung system stays stuck, and goes back by itself
	ForgetsAnchor bool // says that it is anchored, and did not keep it
	OverstaysTime bool // a trial that is over goes on
	OverlooksRoom bool // a look ahead does not see that there is too little
}

// Settings are what a router is made with.
type Settings struct {
	Model, HostName, Serial string
	Login, Code             string
	Address                 netip.Prefix
	Setup                   []string // the lines of its configuration
	Room                    int      // of the hold, holdRoom when 0
}

// Router is one E8. What is behind kept survives without power.
type Router struct {
	Settings
	bench.Warmth
	lan  *bench.LAN
	host bench.LANHost
	net  bench.Client

	bench.Guarded[Faults]

	hold    *bench.Store      // kept: parcels
	systems map[string]Parcel // kept: those that are unfolded, by release
	lasting string            // kept: the release that starts after a power cut
	once    string            // kept: the release of the next start only, empty for none
	minutes int               // kept: how long that is on trial then
	running string
	until   time.Time // of the trial, zero where none is open
	settled bool      // it is not lasting, and not on trial
	stick   *bench.Store
}

// New makes a router without a system.
func New(s Settings, lan *bench.LAN) *Router {
	if s.Room == 0 {
		s.Room = holdRoom
	}
	r := &Router{
		Settings: s,
		lan:      lan,
		host:     lan.Host("lan", s.Address),
		hold:     &bench.Store{Capacity: s.Room},
		systems:  map[string]Parcel{},
	}
	r.net = bench.Client{Host: r.host, Options: tftp.Client{Block: 1024, Window: 8}}
	lan.SetUp(s.Address.Addr(), false)
	return r
}

// Unfold has a parcel unfolded, and says its release.
func (r *Router) Unfold(parcel []byte) (release string) {
	p, err := readParcel(parcel)
	if err != nil {
		panic(err) // of whoever makes the scene
	}
	r.Mu.Lock()
	defer r.Mu.Unlock()
	r.systems[p.Release] = p
	return p.Release
}

// Install unfolds a parcel, and makes it the lasting one.
func (r *Router) Install(parcel []byte) { r.lasting = r.Unfold(parcel) }

// Try lets a parcel's system run on trial from the first start on.
func (r *Router) Try(parcel []byte, minutes int) { r.once, r.minutes = r.Unfold(parcel), minutes }

// Unfolded are the releases that are, the newest first.
func (r *Router) Unfolded() []string {
	r.Mu.Lock()
	defer r.Mu.Unlock()
	return newestFirst(maps.Keys(r.systems))
}

func newestFirst(releases iter.Seq[string]) []string {
	return slices.SortedFunc(releases,
		func(a, b string) int { return map[bool]int{true: 1, false: -1}[bench.Older(a, b)] })
}

// Runs is the release that runs, whether it is on trial, and the one that a power cut leads to.
func (r *Router) Runs() (release string, trial bool, lasting string) {
	r.Mu.Lock()
	defer r.Mu.Unlock()
	return r.running, !r.until.IsZero(), r.lasting
}

// Hold is what it keeps parcels in.
func (r *Router) Hold() *bench.Store { return r.hold }

// Account implements bench.Account.
func (r *Router) Account() (login, word string) { return r.Login, r.Code }

// Baud implements bench.Device.
func (r *Router) Baud() int { return consoleBaud }

// PowerOn implements bench.Device. Power that comes back finds the lasting system; the choice for one start is kept
// only over the restart that it was made for.
func (r *Router) PowerOn(ctx context.Context, w *bench.Wire) {
	r.Mu.Lock()
	if !r.IsWarm() {
		r.once = ""
	}
	r.net.Clock = w.Clock()
	r.Mu.Unlock()
	for ctx.Err() == nil {
		up, down := context.WithCancelCause(ctx)
		m := &marl{Router: r, Shell: bench.NewShell(up, w), restart: down}
		m.run()
		down(nil)
		m.group.Wait()
		w.HangUp()
		r.lan.SetUp(r.Address.Addr(), false)
		if why := context.Cause(up); errors.Is(why, errTrialOver) {
			bench.NewShell(ctx, w).Say("\r\nmarl: the trial is over and nobody settled it\r\n")
		}
	}
}

var errTrialOver = errors.New("the trial is over")

// starts takes the system of the next start, and is what follows from it.
func (r *Router) starts() (release string, trial time.Duration) {
	r.Mu.Lock()
	defer r.Mu.Unlock()
	if r.Lying.IsAnother {
		r.Serial = "TE8-009999"
	}
	release = r.lasting
	if r.once != "" && !r.Lying.StaysOld && !r.Lying.LosesChoice {
		release, trial = r.once, time.Duration(r.minutes)*time.Minute
	}
	r.once, r.until, r.settled, r.running = "", time.Time{}, false, ""
	r.Lying = bench.Fibs{}
	return release, trial
}

// Verdicts of a look ahead.
const (
	goes    = "goes"
	warns   = "warns"
	refuses = "refuses"
)

// part is a row of a look ahead.
type part struct {
	name, effect    string
	seconds         int
	verdict, reason string
}

// ahead is what would happen if a system were swung to; nothing is changed by looking. The caller holds mu.
func (r *Router) ahead(p Parcel) []part {
	rows := []part{
		{"system", "is replaced", 70, goes, ""},
		{"uplink", "restarts", 35, goes, ""},
		{"lan", "restarts", 20, goes, ""},
		{"tide gauges", "stay", 0, goes, ""},
	}
	if !slices.Contains(p.Models, r.Model) {
		rows[0].verdict, rows[0].reason = refuses, fmt.Sprintf("made for %s, this is %s", strings.Join(p.Models, ", "),
			r.Model)
	}
	if p.Least != "" && bench.Older(r.running, p.Least) {
		rows[0].verdict, rows[0].reason = refuses, fmt.Sprintf("wants marl %s to come from, this is %s", p.Least,
			r.running)
	}
	setup := part{"setup", "is taken over", 0, goes, ""}
	for _, dropped := range p.Drops {
		if slices.ContainsFunc(r.Setup, func(line string) bool { return strings.HasPrefix(line, dropped) }) {
			setup.verdict, setup.reason = warns, "drops "+dropped
		}
	}
	rows = append(rows, setup)
	if _, there := r.systems[p.Release]; !there {
		room := part{"room", "is needed", p.Length / unfoldRate, goes, ""}
		if missing := p.Length*unfolded - r.free(); missing > 0 && !r.Faults.OverlooksRoom {
			room.verdict, room.reason = refuses, bench.Commas(missing)+" B are missing in the hold"
		}
		rows = append(rows, room)
	}
	return rows
}

// free is the room of the hold that neither parcels nor systems take. The caller holds mu.
func (r *Router) free() int {
	free := r.hold.Free()
	for _, p := range r.systems {
		free -= p.Length * unfolded
	}
	return free
}

// refused is what a look ahead has against it, empty for nothing.
func refused(rows []part) string {
	for _, row := range rows {
		if row.verdict == refuses {
			return row.name + ": " + row.reason
		}
	}
	return ""
}

// Remember implements bench.Pretender.
func (r *Router) Remember() (restore func()) {
	r.Mu.Lock()
	defer r.Mu.Unlock()
	files, systems, lasting, once, until, settled := r.hold.Remember(), map[string]Parcel{}, r.lasting, r.once, r.until, r.settled
	for release, p := range r.systems {
		systems[release] = p
	}
	return func() {
		files()
		r.Mu.Lock()
		defer r.Mu.Unlock()
		r.systems, r.lasting, r.once, r.until, r.settled = systems, lasting, once, until, settled
	}
}

// Fibs implements bench.Fibber.
func (r *Router) Fibs(lie bench.Lie) bool {
	r.Mu.Lock()
	defer r.Mu.Unlock()
	return r.Lying.Report(lie, bench.StaysOld, bench.LosesChoice, bench.IsAnother)
}

// PlugStick implements bench.Sticks.
func (r *Router) PlugStick(files ...bench.File) error {
	var stick *bench.Store
	if len(files) > 0 {
		stick = &bench.Store{Capacity: 1 << 30}
	}
	for _, file := range files {
		if err := stick.Put(file); err != nil {
			return err
		}
	}
	r.Mu.Lock()
	defer r.Mu.Unlock()
	r.stick = stick
	return nil
}
