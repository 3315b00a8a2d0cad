// Package maskel simulates the Maskel S24, a stack of switches in a ring that answers as one, with an operating system
// named strand. Maker, models and every word of its command language are invented.
//
// What it exists to show: one command fills every unit and another one only the unit whose prompt it is; copying to the
// units takes minutes, each for itself, and a unit may not take what it is given; a restart of all, of one, at a time
// and taken back; roles that move with a restart, which drops the session; a ring that is broken; a unit whose release
// is not the others' stands apart.
package maskel

import (
	"cmp"
	"context"
	"net/netip"
	"slices"
	"sync"
	"time"

	"pilotrix/bench"
	"pilotrix/core/transfer/tftp"
)

const (
	consoleBaud = 38400
	fetchRate   = 200_000 // bytes a second into the lead unit
	copyRate    = 60_000  // bytes a second to a unit
	room        = 16 << 20
	unitStart   = 100 * time.Second // of one unit, beside the others
	moveTime    = 8 * time.Second   // until another unit leads
)

// Roles of a unit. One that is away, or apart, has none.
const (
	lead   = "lead"
	deputy = "deputy"
	member = "member"
)

// States of a unit.
const (
	here     = "here"
	away     = "away"     // not in the ring, or without power
	apart    = "apart"    // it runs another release than the lead unit
	starting = "starting" // it comes back
)

// Unit is what a unit of the stack is made with.
type Unit struct {
	Model, Serial, Boot string
	Ports               int
	Release             string // that it runs, when it is not the stack's
}

// copied is how far a load has come into a unit. Its states are idle, waits, copying, written, refused, away and
// failed.
type copied struct {
	state, reason string
	percent       int
}

type unit struct {
	Unit
	number      int
	banks       map[string]Load // kept
	runs, next  string          // banks; next is kept
	role, state string
	copied      copied
	release     string // that it runs
}

// Faults are what can go wrong on purpose, by the number of a unit, 0 for none.
type Faults struct {
	Away      int  // the unit is not in the ring
	TakesNot  int  // it breaks off in the middle of its copy
	ComesOld  int  // it comes up with the old release after a restart
	RingBreak int  // the ring is broken after that unit
	LeadLate  bool // the lead unit comes up late after a restart of all, and another one leads
}

// Settings are what a stack is made with.
type Settings struct {
	HostName     string
	Login, Word  string
	Address      netip.Prefix
	Units        []Unit
	Release, Old string // that all run, and that of their other banks
}

// Stack is one of them.
type Stack struct {
	Settings
	bench.Warmth
	lan  *bench.LAN
	host bench.LANHost
	net  bench.Client
	load bench.Download

	bench.Guarded[Faults]

	units []*unit
	timed timer
	stick *bench.Store
	moved bool // another unit leads, and the rest went on

	powered context.Context
	back    sync.WaitGroup // units that start beside the others: they outlive a shell
}

// timer is a restart that was set for later.
type timer struct {
	at   time.Time // zero for none
	stop context.CancelFunc
}

// New makes a stack whose units run what they are made with.
func New(s Settings, lan *bench.LAN) *Stack {
	t := &Stack{Settings: s, lan: lan, host: lan.Host("lan", s.Address)}
	for i, made := range s.Units {
		u := &unit{Unit: made, number: i + 1, runs: "A", next: "A", state: here, copied: copied{state: "idle"}}
		u.banks = map[string]Load{
			"A": {Release: cmp.Or(made.Release, s.Release), Models: []string{made.Model}},
			"B": {Release: s.Old, Models: []string{made.Model}},
		}
		t.units = append(t.units, u)
	}
	t.net = bench.Client{Host: t.host, Options: tftp.Client{Block: 1428, Window: 8}}
	t.load.Forget()
	lan.SetUp(s.Address.Addr(), false)
	return t
}

// Standing is how a unit stands, for whoever looks from outside.
type Standing struct {
	Number              int
	Role, State         string
	Runs, Next, Standby string // releases
}

// Units is how the units stand.
func (t *Stack) Units() (all []Standing) {
	t.Mu.Lock()
	defer t.Mu.Unlock()
	for _, u := range t.units {
		all = append(all,
			Standing{u.number, u.role, u.state, u.release, u.banks[u.next].Release, u.banks[other(u.runs)].Release})
	}
	return all
}

// Timed reports whether a restart is set for later.
func (t *Stack) Timed() bool {
	t.Mu.Lock()
	defer t.Mu.Unlock()
	return !t.timed.at.IsZero()
}

// Account implements bench.Account.
func (t *Stack) Account() (login, word string) { return t.Login, t.Word }

// Baud implements bench.Device.
func (t *Stack) Baud() int { return consoleBaud }

// PowerOn implements bench.Device.
func (t *Stack) PowerOn(ctx context.Context, w *bench.Wire) {
	t.net.Clock, t.powered = w.Clock(), ctx
	defer t.back.Wait()
	for ctx.Err() == nil {
		up, down := context.WithCancelCause(ctx)
		s := &strand{Stack: t, Shell: bench.NewShell(up, w), restart: down}
		s.run()
		down(nil)
		w.HangUp()
		t.lan.SetUp(t.Address.Addr(), false)
		s.group.Wait()
		t.load.Forget()
	}
}

func other(bank string) string {
	if bank == "A" {
		return "B"
	}
	return "A"
}

// startAll is what every unit does when all start: each takes its next bank. What was under way is forgotten.
func (t *Stack) startAll() {
	t.Mu.Lock()
	defer t.Mu.Unlock()
	t.timed = timer{}
	for _, u := range t.units {
		u.state, u.copied = here, copied{state: "idle"}
		if u.number == t.Faults.Away {
			u.state, u.role = away, ""
			continue
		}
		t.starts(u)
	}
	t.elect(t.Faults.LeadLate)
	t.Lying.StaysOld, t.Lying.LosesChoice = false, false
	if t.Lying.IsAnother {
		t.units[0].Serial, t.Lying.IsAnother = "MS24-099999", false
	}
}

// starts has a unit take its next bank. The caller holds mu.
func (t *Stack) starts(u *unit) {
	if u.number != t.Faults.ComesOld && !t.Lying.StaysOld && !t.Lying.LosesChoice {
		u.runs = u.next
	}
	u.next = u.runs
	u.release = u.banks[u.runs].Release
	u.state = here
}

// elect gives roles: the unit that led goes on unless it is away or late; the others follow by number. Those whose
// release is not the lead unit's stand apart. The caller holds mu.
func (t *Stack) elect(late bool) {
	var order []*unit
	for _, u := range t.units {
		if u.state == here || u.state == apart {
			order = append(order, u)
		}
	}
	rank := func(u *unit) int {
		switch {
		case u.role == lead && late:
			return 3
		case u.role == lead:
			return 0
		case u.role == deputy:
			return 1
		}
		return 2
	}
	slices.SortStableFunc(order, func(a, b *unit) int { return rank(a) - rank(b) })
	next := []string{lead, deputy}
	for _, u := range t.units {
		u.role = ""
	}
	for _, u := range order {
		if u.release != order[0].release {
			u.state = apart
			continue
		}
		u.state, u.role = here, member
		if len(next) > 0 {
			u.role, next = next[0], next[1:]
		}
	}
}

// leads is the unit that leads. The caller holds mu.
func (t *Stack) leads() *unit {
	for _, u := range t.units {
		if u.role == lead {
			return u
		}
	}
	return t.units[0]
}

// Remember implements bench.Pretender.
func (t *Stack) Remember() (restore func()) {
	t.Mu.Lock()
	defer t.Mu.Unlock()
	load, timed := t.load.Remember(), t.timed
	type kept struct {
		banks             map[string]Load
		next, role, state string
	}
	var all []kept
	for _, u := range t.units {
		all = append(all, kept{map[string]Load{"A": u.banks["A"], "B": u.banks["B"]}, u.next, u.role, u.state})
	}
	return func() {
		load()
		t.Mu.Lock()
		defer t.Mu.Unlock()
		if timed.at.IsZero() && t.timed.stop != nil {
			t.timed.stop()
		}
		t.timed = timed
		for i, u := range t.units {
			u.banks, u.next, u.role, u.state = all[i].banks, all[i].next, all[i].role, all[i].state
		}
	}
}

// Fibs implements bench.Fibber.
func (t *Stack) Fibs(lie bench.Lie) bool {
	t.Mu.Lock()
	defer t.Mu.Unlock()
	return t.Lying.Report(lie, bench.StaysOld, bench.LosesChoice, bench.IsAnother)
}

// PlugStick implements bench.Sticks.
func (t *Stack) PlugStick(files ...bench.File) error {
	stick := &bench.Store{Capacity: 1 << 30}
	for _, file := range files {
		if err := stick.Put(file); err != nil {
			return err
		}
	}
	t.Mu.Lock()
	defer t.Mu.Unlock()
	t.stick = stick
	if len(files) == 0 {
		t.stick = nil
	}
	return nil
}
