package provision

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"maps"
	"net/netip"
	"sync"
	"time"

	"pilotrix/core/clock"
	"pilotrix/core/event"
	"pilotrix/core/network"
)

// ErrAnother says that another DHCP server is on the network.
var ErrAnother = errors.New("another DHCP server is on the network")

// Desk serves one network and follows those who come: by what they ask the server, and by what they fetch from the file servers
// of this laptop. It tells every message as a rung, each newcomer as it comes further, and those that stall or go round and round.
type Desk struct {
	server *Server
	opt    DeskOptions

	mu        sync.Mutex
	courses   Courses
	transfers map[string]event.TransferBegin
	toldOf    map[string]event.Newcomer // by MAC
	rows      int
	unsaid    int // messages told of those that wait for the word

	strangers map[string]bool // that were told; only the goroutine that serves uses it
	loops     map[string]string
	stalled   map[string]string // only the goroutine that watches uses these two
}

// DeskOptions is what a Desk needs besides the server's own. Clock and Emit have to be set.
type DeskOptions struct {
	Clock  clock.Clock
	Emit   func(event.Body)
	Keep   func([]Lease) error // after each change, nil keeps nothing
	Waits  func()              // somebody waits until it is said whether it is answered
	Change func()              // somebody has come further
}

// NewDesk makes one with the leases that are known.
func NewDesk(opt Options, known []Lease, with DeskOptions) (*Desk, error) {
	server, err := New(opt, known)
	if err != nil {
		return nil, err
	}
	return &Desk{
		server: server, opt: with, transfers: map[string]event.TransferBegin{}, toldOf: map[string]event.Newcomer{},
		strangers: map[string]bool{}, loops: map[string]string{}, stalled: map[string]string{},
	}, nil
}

// Serve answers what comes to a socket until ctx ends, the socket fails, or another server is found.
func (d *Desk) Serve(ctx context.Context, conn network.PacketConn) error {
	ctx, cancel := context.WithCancelCause(ctx)
	defer cancel(nil)
	watching := make(chan struct{})
	go func() {
		defer close(watching)
		d.watch(ctx)
	}()
	err := d.server.Serve(ctx, conn, d.opt.Clock, Tell{Message: d.message, Told: func(t Told) { d.told(t, cancel) }, Leases: d.keep})
	if cause := context.Cause(ctx); errors.Is(cause, ErrAnother) {
		err = cause
	}
	cancel(nil)
	<-watching
	return err
}

func (d *Desk) keep(all []Lease) {
	if d.opt.Keep == nil {
		return
	}
	if err := d.opt.Keep(all); err != nil {
		d.note(event.Warning, err.Error())
	}
}

func (d *Desk) note(level event.Level, text string) {
	d.opt.Emit(event.Note{Level: level, Text: text})
}

// mostUnsaid bounds how many messages are told of devices that wait for the word: a flood of them tells nothing more.
const mostUnsaid = 400

// message tells one of DHCP as a rung of the ladder.
func (d *Desk) message(m Message) {
	d.mu.Lock()
	if m.Waits {
		d.unsaid++
	}
	d.rows++
	row, tooMany := d.rows, m.Waits && d.unsaid > mostUnsaid
	d.mu.Unlock()
	if tooMany {
		return
	}
	text := m.Client.MAC
	if m.Addr.IsValid() {
		text += "  " + m.Addr.String()
	}
	if m.BootFile != "" {
		text += "  " + m.BootFile
	}
	d.opt.Emit(event.Rung{Transfer: event.RungDHCP, Row: row, Protocol: "DHCP", Peer: m.Client.MAC, FromDevice: m.FromClient, What: m.Kind, Text: text})
}

func (d *Desk) told(t Told, cancel context.CancelCauseFunc) {
	d.mu.Lock()
	followed := d.courses.all[t.Client.MAC] != nil
	d.courses.Told(t, d.opt.Clock.Now())
	d.mu.Unlock()
	switch t.Kind {
	case Asked:
		return // what comes of it is told next
	case Another:
		d.note(event.Error, t.Text)
		cancel(fmt.Errorf("%w: %s", ErrAnother, t.Addr))
	case Stranger:
		if !followed { // else it was said of it, by whoever knows
			d.stranger(t)
		}
	case Waits:
		if d.opt.Waits != nil {
			d.opt.Waits()
		}
	case Refused, Conflict, Left:
		d.note(event.Warning, t.Text)
	default:
		d.note(event.Info, t.Text)
	}
	d.newcomer(t.Client.MAC)
}

// mostStrangers bounds how many devices are told of that are not meant: a busy network has more.
const mostStrangers = 64

// stranger tells of one that is not meant, once: it asks on, for as long as it has no address.
func (d *Desk) stranger(t Told) {
	switch {
	case d.strangers[t.Client.MAC] || len(d.strangers) > mostStrangers:
		return
	case len(d.strangers) == mostStrangers:
		t.Text = "others that are not meant are told of no more"
	}
	d.strangers[t.Client.MAC] = true
	d.note(event.Warning, t.Text)
}

// File passes on what the file servers tell, and follows who fetches. Any goroutine may call it.
func (d *Desk) File(body event.Body) {
	now, peer := d.opt.Clock.Now(), ""
	d.mu.Lock()
	switch b := body.(type) {
	case event.TransferBegin:
		d.transfers[b.ID], peer = b, b.Peer
		d.courses.Asks(peerOf(b.Peer), b.File, "", now)
	case event.TransferEnd:
		if began, known := d.transfers[b.ID]; known {
			delete(d.transfers, b.ID)
			peer = began.Peer
			var failure error
			if b.Outcome != event.Done {
				failure = errors.New(cmp.Or(b.Message, string(b.Outcome)))
			}
			d.courses.Got(peerOf(began.Peer), Moved{began.File, b.From, b.Bytes, began.Size}, failure, now)
		}
	case event.Rung:
		if b.FromDevice && b.What == "refused" {
			peer = b.Peer
			d.courses.Asks(peerOf(b.Peer), "", b.Text, now)
		}
	}
	mac := ""
	if c := d.courses.at(peerOf(peer)); c != nil {
		mac = c.Client.MAC
	}
	d.mu.Unlock()
	d.opt.Emit(body)
	d.newcomer(mac)
}

func peerOf(peer string) netip.Addr {
	at, err := netip.ParseAddrPort(peer)
	if err != nil {
		addr, _ := netip.ParseAddr(peer)
		return addr
	}
	return at.Addr()
}

// All are the devices in the order in which they came.
func (d *Desk) All() []Course {
	d.mu.Lock()
	defer d.mu.Unlock()
	return d.courses.All()
}

// Finish says that a device has all that it was to get.
func (d *Desk) Finish(mac string) {
	d.mu.Lock()
	d.courses.Finish(mac, d.opt.Clock.Now())
	d.mu.Unlock()
	d.newcomer(mac)
}

// newcomer tells one that has come further.
func (d *Desk) newcomer(mac string) {
	d.mu.Lock()
	course := d.courses.all[mac]
	if course == nil || course.Waits && d.unsaid > mostUnsaid {
		d.mu.Unlock()
		return
	}
	now := course.told()
	before, known := d.toldOf[mac]
	news := !known && !course.Alone || known && before.Differs(now)
	if news {
		d.toldOf[mac] = now
		maps.DeleteFunc(d.toldOf, func(mac string, _ event.Newcomer) bool { // what a flood has pushed out
			return len(d.toldOf) > 2*mostCourses && d.courses.all[mac] == nil
		})
	}
	d.mu.Unlock()
	if !news {
		return
	}
	d.opt.Emit(now)
	if d.opt.Change != nil {
		d.opt.Change()
	}
}

// told is a course as it is told.
func (c Course) told() event.Newcomer {
	n := event.Newcomer{MAC: c.Client.MAC, Vendor: c.Client.Vendor, Stage: c.Stage.String(), Step: int(c.Stage), Since: c.Since, File: c.File, Files: len(c.Files), Wrong: c.Wrong, Rounds: c.Rounds, Alone: c.Alone}
	n.Next, n.Within = c.Next()
	switch {
	case c.Alone:
		n.Stage = "is left alone"
	case c.Done:
		n.Stage, n.Step = "has all that it was to get", int(Restarted)+1
	}
	if c.Addr.IsValid() {
		n.Addr = c.Addr.String()
	}
	return n
}

// looksEvery is how often devices are looked at that are waited for.
const looksEvery = 5 * time.Second

// watch tells once of each device that is waited for longer than usual, or that goes round and round.
func (d *Desk) watch(ctx context.Context) {
	for d.opt.Clock.Wait(ctx, looksEvery) == nil {
		now := d.opt.Clock.Now()
		for _, c := range d.All() {
			if loops := c.Loops(); loops != "" && d.loops[c.Client.MAC] != loops {
				d.loops[c.Client.MAC] = loops
				d.note(event.Warning, loops)
			}
			stall, stage := c.Stalls(now), fmt.Sprint(c.Stage, c.Since)
			if stall == "" || d.stalled[c.Client.MAC] == stage {
				continue
			}
			d.stalled[c.Client.MAC] = stage
			d.note(event.Warning, stall)
		}
	}
}

// Alone says whether another server answers on a network already, within a time that is looked for.
func Alone(ctx context.Context, at network.Broadcaster, on network.Interface, c clock.Clock) error {
	conn, err := at.ListenBroadcast(on, 68)
	if err != nil {
		return fmt.Errorf("looking for another DHCP server on %s: %w; it wants root", on.Name, err)
	}
	defer conn.Close()
	others, err := Others(ctx, conn, [6]byte{2, 0x70, 0x69, 0x6c, 0x6f, 0x74}, c, LooksFor)
	if err == nil && len(others) > 0 {
		err = fmt.Errorf("%w: %s answers; nothing was begun", ErrAnother, others[0])
	}
	return err
}

// LooksFor is how long another DHCP server is looked for before this one begins.
const LooksFor = 3 * time.Second
