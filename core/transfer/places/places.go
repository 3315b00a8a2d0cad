// Package places says how many may be served at once and by whom, so that nobody who asks too often shuts the others
// out: places.go has the rules, listener.go holds a server's connections to them.
package places

import (
	"cmp"
	"fmt"
	"net/netip"
	"slices"
	"sync"
	"sync/atomic"
	"time"
)

// Limits are how many may be served at once. A number that is 0 is without a limit.
type Limits struct {
	Settled int // those that have shown that they are there
	New     int // those that have only asked so far: anybody may write any sender's address into a packet
	Each    int // of one sender
	File    int // of one sender for one file
	// Stale is how long one is not heard before it gives way to a new one of the same sender; before one of another
	// sender it gives way after five times as long, and only where every place is taken.
	Stale time.Duration
	// Long is how long one may be served, however slowly it takes what it gets, where every place is taken and another
	// one asks.
	Long time.Duration
}

// Refused says why somebody is not served now.
type Refused struct{ Why string }

func (r *Refused) Error() string { return r.Why }

// GaveWay says why somebody that was served is not any more.
type GaveWay struct{ Why string }

func (g *GaveWay) Error() string { return g.Why }

// Places are those of one server. They may be used by several goroutines.
type Places struct {
	limits  Limits
	expects func(netip.Addr) bool
	now     func() time.Time

	mu     sync.Mutex
	guests map[*Guest]bool
	count  map[netip.Addr]int
}

// New makes places that are all free. Expects reports whether a step is waiting for a sender: such a one finds a place
// whoever else there is, and keeps it. It may be nil.
func New(limits Limits, expects func(netip.Addr) bool, now func() time.Time) *Places {
	if expects == nil {
		expects = func(netip.Addr) bool { return false }
	}
	return &Places{limits: limits, expects: expects, now: now, guests: map[*Guest]bool{}, count: map[netip.Addr]int{}}
}

// Guest is one that is served.
type Guest struct {
	places  *Places
	from    netip.Addr
	file    string
	began   time.Time
	settled atomic.Bool
	heard   atomic.Int64 // in nanoseconds
	leave   func(error)
}

// Enter takes a place for a sender that asks for a file ("" where that is not known yet). Leave is called, from another
// goroutine, when it has to give way. The error is a *Refused.
func (p *Places) Enter(from netip.Addr, file string, leave func(error)) (*Guest, error) {
	p.mu.Lock()
	defer p.mu.Unlock()
	g := &Guest{places: p, from: from, file: file, leave: leave, began: p.now()}
	g.Heard()
	if err := p.roomOfSender(g); err != nil {
		return nil, err
	}
	if !p.expects(from) {
		if err := p.roomForAll(); err != nil {
			return nil, err
		}
	}
	p.guests[g] = true
	p.count[from]++
	return g, nil
}

// roomOfSender holds a new guest to what one sender may have.
func (p *Places) roomOfSender(g *Guest) error {
	same := func(o *Guest) bool { return o.from == g.from && o.file == g.file }
	if n := p.number(same); g.file != "" && over(n+1, p.limits.File) &&
		!p.giveWay(same, p.limits.Stale, "the same sender asked for the file once more") {
		return &Refused{fmt.Sprintf("this sender is being sent the file %d times already", n)}
	}
	own := func(o *Guest) bool { return o.from == g.from }
	if over(p.count[g.from]+1, p.limits.Each) && !p.giveWay(own, p.limits.Stale, "the same sender asked once more") {
		return &Refused{fmt.Sprintf("%d of this sender's are being served already", p.count[g.from])}
	}
	return nil
}

const strangersStay = 5 // times as long as one's own

// roomForAll makes room for one that nobody waits for: of those that have only asked the oldest goes, of the others one
// that has been silent for long.
func (p *Places) roomForAll() error {
	fresh := func(o *Guest) bool { return !o.settled.Load() && !p.expects(o.from) }
	if over(p.number(fresh)+1, p.limits.New) && !p.giveWay(fresh, 0, "it only asked, and others asked after it") {
		return &Refused{"too many ask at once"}
	}
	settled := func(o *Guest) bool { return o.settled.Load() && !p.expects(o.from) }
	long := func(o *Guest) bool { return settled(o) && p.limits.Long > 0 && p.now().Sub(o.began) >= p.limits.Long }
	if n := p.number(settled); over(n+1, p.limits.Settled) &&
		!p.giveWay(settled, strangersStay*p.limits.Stale, "it was silent, and others asked") &&
		!p.giveWay(long, 0, "it took very long, and others asked") {
		return &Refused{fmt.Sprintf("%d are being served already", n)}
	}
	return nil
}

func over(n, limit int) bool { return limit > 0 && n > limit }

func (p *Places) number(which func(*Guest) bool) (n int) {
	for g := range p.guests {
		if which(g) {
			n++
		}
	}
	return n
}

// giveWay has the one leave that was heard longest ago, if it was silent for that long. It reports whether there is
// one.
func (p *Places) giveWay(which func(*Guest) bool, silent time.Duration, why string) bool {
	var some []*Guest
	for g := range p.guests {
		if which(g) {
			some = append(some, g)
		}
	}
	if len(some) == 0 {
		return false
	}
	g := slices.MinFunc(some, func(a, b *Guest) int { return cmp.Compare(a.heard.Load(), b.heard.Load()) })
	if p.now().Sub(time.Unix(0, g.heard.Load())) < silent {
		return false
	}
	p.drop(g)
	go g.leave(&GaveWay{why})
	return true
}

func (p *Places) drop(g *Guest) {
	if !p.guests[g] {
		return
	}
	delete(p.guests, g)
	if p.count[g.from]--; p.count[g.from] == 0 {
		delete(p.count, g.from)
	}
}

// Number is how many are served.
func (p *Places) Number() int {
	p.mu.Lock()
	defer p.mu.Unlock()
	return len(p.guests)
}

// Heard notes that a guest goes on.
func (g *Guest) Heard() { g.HeardAt(g.places.now()) }

// HeardAt notes that for whoever has looked at the clock already.
func (g *Guest) HeardAt(now time.Time) { g.heard.Store(now.UnixNano()) }

// Settled notes that a guest has shown that it is there: it answered, it logged in, it knew what it may fetch.
func (g *Guest) Settled() {
	g.settled.Store(true)
	g.Heard()
}

// Leave gives the place back. Calling it again changes nothing.
func (g *Guest) Leave() {
	g.places.mu.Lock()
	defer g.places.mu.Unlock()
	g.places.drop(g)
}
