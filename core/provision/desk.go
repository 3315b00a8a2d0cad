package provision

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"maps"
	"net/netip"
	"sync"
	"sync/atomic"
	"time"

	"pilotrix/core/clock"
	"pilotrix/core/event"
	"pilotrix/core/network"
)

// ErrAnother says that another DHCP server is on the network.
var ErrAnother = errors.New("another DHCP server is on the network")

// Desk serves one network and follows those who come: by what they ask the server, and by what they fetch from the file
// servers of this laptop. It says every message as a rung, each new device as it comes further, and those that stall or
// go round and round.
type Desk struct {
	server *Server
	opt    DeskOptions

	mu         sync.Mutex
	courses    Courses
	transfers  map[string]event.TransferBegin
	reportedOf map[string]event.NewDevice // by MAC
	rows       int
	unsaid     int // messages reported of those that wait for the word

	another  atomic.Pointer[netip.Addr] // the other server that offers addresses now, nil for none
	suspects chan struct{}              // somebody says that there is one
	held     map[string]bool            // MAC addresses that are not answered for that

	strangers map[string]bool // that were reported; only the goroutine that serves uses it
	warned    map[string]time.Time
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
	Leased func(netip.Addr)    // somebody has an address
	Probe  Probe
	// Lookout looks for other servers; nil looks for none. Another is reported of each time that one is found.
	Lookout *Lookout
	Another func(netip.Addr)
	// Needs are what a device has to have had; nil says of none that it is done. Prove looks whether one that has had
	// it answers: the error says what does not; nil takes it for granted.
	Needs func(Client) Needs
	Prove func(context.Context, Course) error
}

// NewDesk makes one with the leases that are known.
func NewDesk(opt Options, known []Lease, with DeskOptions) (*Desk, error) {
	d := &Desk{
		opt:        with,
		transfers:  map[string]event.TransferBegin{},
		reportedOf: map[string]event.NewDevice{},
		suspects:   make(chan struct{}, 1),
		held:       map[string]bool{},
		strangers:  map[string]bool{},
		warned:     map[string]time.Time{},
		loops:      map[string]string{},
		stalled:    map[string]string{},
	}
	if admit := opt.Admit; admit != nil {
		opt.Admit = func(c Client) Verdict { return d.admit(c, admit) }
	}
	opt.Probes = with.Probe != nil
	if with.Lookout != nil {
		opt.Looks = with.Lookout.MAC()
	}
	server, err := New(opt, known)
	if err != nil {
		return nil, err
	}
	d.server = server
	return d, nil
}

// admit answers no new device while another server offers addresses, too: which of the two it takes would be chance.
// Those that have taken ours are brought to their end.
func (d *Desk) admit(c Client, admit func(Client) Verdict) Verdict {
	verdict := admit(c)
	other := d.another.Load()
	if verdict == Ignored || other == nil {
		return verdict
	}
	d.mu.Lock()
	course := d.courses.all[c.MAC]
	underWay := course != nil && course.Stage >= HasOffer
	d.mu.Unlock()
	if underWay {
		return verdict
	}
	d.mu.Lock()
	if len(d.held) < maxCourses {
		d.held[c.MAC] = true
	}
	d.mu.Unlock()
	return Ignored
}

func heldText(mac string, other netip.Addr) string {
	return fmt.Sprintf("%s is not answered for now: another DHCP server, %s, offers addresses here", mac, other)
}

// Serve answers what comes to a socket until ctx ends or the socket fails.
func (d *Desk) Serve(ctx context.Context, conn network.PacketConn) error {
	ctx, cancel := context.WithCancel(ctx)
	var watching sync.WaitGroup
	watching.Go(func() { d.watch(ctx) })
	if d.opt.Lookout != nil {
		watching.Go(func() { d.lookForOthers(ctx) })
	}
	if d.opt.Prove != nil {
		watching.Go(func() { d.prove(ctx) })
	}
	err := d.server.Serve(ctx, Wire{conn, d.opt.Clock, d.opt.Probe},
		Report{Message: d.message, Reported: d.reported, Leases: d.keep})
	cancel()
	watching.Wait()
	return err
}

// Another server is looked for now and then, and soon after somebody has spoken of one: not at once each time, as
// anybody may say so.
const (
	othersEvery = time.Minute
	othersPause = 10 * time.Second
)

// lookForOthers believes in another server when it offers an address to this program itself.
func (d *Desk) lookForOthers(ctx context.Context) {
	gone := 0
	for d.opt.Clock.Wait(ctx, othersPause) == nil {
		pause := othersEvery - othersPause
		if d.another.Load() != nil {
			pause = 0
		}
		timer := d.opt.Clock.NewTimer(pause)
		select {
		case <-ctx.Done():
		case <-timer.C:
		case <-d.suspects:
		}
		timer.Stop()
		found, err := d.opt.Lookout.Others(ctx)
		before := d.another.Load()
		switch {
		case ctx.Err() != nil:
			return
		case err != nil:
			d.warn("others", "another DHCP server could not be looked for: "+err.Error())
		case len(found) > 0:
			gone = 0
			d.another.Store(&found[0])
			if before == nil || *before != found[0] {
				d.note(event.Error,
					fmt.Sprintf("another DHCP server, %s, offers addresses here: new devices are not answered until it is gone; those under way are brought to their end",
						found[0]))
			}
			if d.opt.Another != nil {
				d.opt.Another(found[0])
			}
		case before != nil:
			if gone++; gone == goneAfter {
				d.another.Store(nil)
				d.note(event.Info,
					fmt.Sprintf("the other DHCP server, %s, offers nothing any more: new devices are answered again",
						*before))
			}
		}
	}
}

// goneAfter is how often in a row another server has to be missed before it counts as gone.
const goneAfter = 2

// proveEvery is how often it is looked whether a device answers that is complete its files.
const proveEvery = 2 * time.Second

// prove looks whether devices answer that have had what they need, each by itself, until each does.
func (d *Desk) prove(ctx context.Context) {
	var looks sync.WaitGroup
	defer looks.Wait()
	looking := map[string]bool{}
	ended := make(chan string)
	for d.opt.Clock.Wait(ctx, proveEvery) == nil {
		for more := true; more; {
			select {
			case mac := <-ended:
				delete(looking, mac)
			default:
				more = false
			}
		}
		for _, c := range d.All() {
			if !c.Proves || c.Done || looking[c.Client.MAC] {
				continue
			}
			looking[c.Client.MAC] = true
			looks.Go(func() {
				d.proves(ctx, c)
				select {
				case ended <- c.Client.MAC:
				case <-ctx.Done():
				}
			})
		}
	}
}

func (d *Desk) proves(ctx context.Context, c Course) {
	err := d.opt.Prove(ctx, c)
	switch {
	case ctx.Err() != nil:
	case err == nil:
		d.Finish(c.Client.MAC)
	default:
		d.mu.Lock()
		d.courses.Proves(c.Client.MAC, err.Error(), d.opt.Clock.Now())
		d.mu.Unlock()
		d.newDevice(c.Client.MAC)
	}
}

// meets takes in that a device has had all that it needs, where that is known.
func (d *Desk) meets(mac string) {
	d.mu.Lock()
	c := d.courses.all[mac]
	if c == nil || c.Done || c.Proves || d.opt.Needs == nil || !c.Meets(d.opt.Needs(c.Client)) {
		d.mu.Unlock()
		return
	}
	if d.opt.Prove == nil {
		d.courses.Finish(mac, d.opt.Clock.Now())
	} else {
		d.courses.Proves(mac, "", d.opt.Clock.Now())
	}
	d.mu.Unlock()
}

func (d *Desk) keep(all []Lease) {
	if d.opt.Keep == nil {
		return
	}
	if err := d.opt.Keep(all); err != nil {
		d.note(event.Warning, err.Error())
	}
}

// The same warning is reported once in a while, and of so many: packets may come from anybody, in any number.
const (
	warnAgain = 10 * time.Minute
	maxWarns  = 200
)

func (d *Desk) warn(about, text string) {
	d.mu.Lock()
	now := d.opt.Clock.Now()
	maps.DeleteFunc(d.warned, func(_ string, at time.Time) bool { return now.Sub(at) >= warnAgain })
	_, known := d.warned[about]
	report := !known && len(d.warned) < maxWarns
	if report {
		d.warned[about] = now
	}
	d.mu.Unlock()
	if report {
		d.note(event.Warning, text)
	}
}

func (d *Desk) note(level event.Level, text string) {
	d.opt.Emit(event.Note{Level: level, Text: text})
}

// maxUnsaid bounds how many messages are reported of devices that wait for the word: a flood of them says nothing more.
const maxUnsaid = 400

// message tells one of DHCP as a rung of the ladder.
func (d *Desk) message(m Message) {
	d.mu.Lock()
	if m.Waits {
		d.unsaid++
	}
	d.rows++
	row, tooMany := d.rows, m.Waits && d.unsaid > maxUnsaid
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
	d.opt.Emit(event.Rung{
		Transfer:   event.RungDHCP,
		Row:        row,
		Protocol:   "DHCP",
		Peer:       m.Client.MAC,
		FromDevice: m.FromClient,
		What:       m.Kind,
		Text:       text,
	})
}

func (d *Desk) reported(t Reported) {
	d.mu.Lock()
	if other := d.another.Load(); other != nil && t.Kind == Stranger && d.held[t.Client.MAC] {
		t.Kind, t.Text = Left, heldText(t.Client.MAC, *other)
	}
	followed := d.courses.all[t.Client.MAC] != nil
	d.courses.Reported(t, d.opt.Clock.Now())
	d.mu.Unlock()
	switch t.Kind {
	case Asked:
		return // what comes of it is reported next
	case Another:
		d.warn("another "+t.Client.MAC+t.Addr.String(), t.Text+"; it is looked for")
		select {
		case d.suspects <- struct{}{}:
		default: // it is looked for already
		}
	case Stranger:
		if !followed { // else it was said of it, by whoever knows
			d.stranger(t)
		}
	case Waits:
		if d.opt.Waits != nil {
			d.opt.Waits()
		}
	case Refused, Conflict, Left:
		d.warn(t.Text, t.Text)
	default:
		d.note(event.Info, t.Text)
	}
	if t.Kind == Leased && d.opt.Leased != nil {
		d.opt.Leased(t.Addr)
	}
	d.newDevice(t.Client.MAC)
}

// maxStrangers bounds how many devices are told of that are not meant: a busy network has more.
const maxStrangers = 64

// stranger says of one that is not meant, once: it asks on, for as long as it has no address.
func (d *Desk) stranger(t Reported) {
	switch {
	case d.strangers[t.Client.MAC] || len(d.strangers) > maxStrangers:
		return
	case len(d.strangers) == maxStrangers:
		t.Text = "others that are not meant are told of no more"
	}
	d.strangers[t.Client.MAC] = true
	d.note(event.Warning, t.Text)
}

// File passes on what the file servers say, and follows who fetches. Any goroutine may call it.
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
	d.newDevice(mac)
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

// Finish says that a device is complete.
func (d *Desk) Finish(mac string) {
	d.mu.Lock()
	d.courses.Finish(mac, d.opt.Clock.Now())
	d.mu.Unlock()
	d.newDevice(mac)
}

// newDevice tells one that has come further.
func (d *Desk) newDevice(mac string) {
	d.meets(mac)
	d.mu.Lock()
	course := d.courses.all[mac]
	if course == nil || course.Waits && d.unsaid > maxUnsaid {
		d.mu.Unlock()
		return
	}
	now := course.reported()
	if give := d.server.opt.Give; !course.Waits && !course.Alone {
		now.Name = give(course.Client).HostName
	}
	before, known := d.reportedOf[mac]
	news := !known && !course.Alone || known && before.Differs(now)
	if news {
		d.reportedOf[mac] = now
		maps.DeleteFunc(d.reportedOf, func(mac string, _ event.NewDevice) bool { // what a flood has pushed out
			return len(d.reportedOf) > 2*maxCourses && d.courses.all[mac] == nil
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

// reported is a course as it is reported.
func (c Course) reported() event.NewDevice {
	n := event.NewDevice{
		MAC:    c.Client.MAC,
		Vendor: c.Client.Vendor,
		Stage:  c.Stage.String(),
		Step:   int(c.Stage),
		Since:  c.Since,
		File:   c.File,
		Files:  len(c.Files),
		Wrong:  c.Wrong,
		Rounds: c.Rounds,
		Alone:  c.Alone,
	}
	n.Next, n.Within = c.Next()
	if n.Wrong == "" {
		n.Wrong = c.Loops()
	}
	switch {
	case c.Alone:
		n.Stage = "is left alone"
	case c.Proves:
		n.Stage, n.Step = "has its files", int(Restarted)
	case c.Done:
		n.Stage, n.Step = "complete", int(Restarted)+1
	}
	if c.Addr.IsValid() {
		n.Addr = c.Addr.String()
	}
	return n
}

// looksEvery is how often devices are looked at that are waited for.
const looksEvery = 5 * time.Second

// watch says once of each device that is waited for longer than usual, or that goes round and round.
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

// ProbeOn looks on a network who has an address; nil where the network cannot be asked.
func ProbeOn(at network.Broadcaster, on network.Interface) Probe {
	asker, can := at.(network.Asker)
	if !can {
		return nil
	}
	return func(ctx context.Context, addr netip.Addr) (string, error) { return asker.WhoHas(ctx, on, addr) }
}

// LooksFor is how long another DHCP server is looked for before this one begins.
const LooksFor = 3 * time.Second
