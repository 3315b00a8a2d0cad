// Package serve starts the servers that a device fetches from or leaves files with, and says what
// happens on them as events: what is staged, each transfer, and the ladder of messages.
package serve

import (
	"context"
	"net/netip"
	"slices"
	"strings"
	"sync"

	"pilotrix/core/carrier"
	"pilotrix/core/clock"
	"pilotrix/core/event"
	"pilotrix/core/network"
	"pilotrix/core/offer"
	"pilotrix/core/transfer"
)

// Options is what a Dock needs.
type Options struct {
	Network network.Network
	Clock   clock.Clock
	Emit    func(event.Body)
	// Old lets old clients in over SSH; OldBy is how an operator allows that, in words.
	Old   bool
	OldBy string
}

// Dock is where files are staged and servers listen. It may be used by several goroutines.
type Dock struct {
	opt    Options
	stage  offer.Stage
	ctx    context.Context
	cancel context.CancelFunc
	group  sync.WaitGroup
	ladder *ladder

	leases    sync.Mutex // held while a server begins or ends: one that ends is gone before it is there again
	mu        sync.Mutex
	listening map[string]*server // by protocol and address asked for
	endings   []chan Ending
	deeds     map[string]string // by the names of what they offer
	checking  int               // checks of our own under way
	own       map[string]bool   // transfers that are such a check
}

// server is one that listens, for as long as somebody uses it.
type server struct {
	carrier.Endpoint
	uses int  // of those that leave again
	kept bool // it ends with the dock
	end  context.CancelFunc
	over chan struct{}
}

// Ending says how a transfer ended.
type Ending struct {
	offer.Transfer
	transfer.Progress
	Err error
}

// NewDock makes a dock on which nothing listens yet.
func NewDock(ctx context.Context, opt Options) *Dock {
	d := &Dock{
		opt: opt, listening: map[string]*server{}, own: map[string]bool{}, deeds: map[string]string{},
	}
	d.ctx, d.cancel = context.WithCancel(ctx)
	d.ladder = newLadder(opt.Clock, opt.Emit)
	return d
}

// Close ends every server and waits for it. Its error is always nil.
func (d *Dock) Close() error {
	d.cancel()
	d.group.Wait()
	d.mu.Lock()
	defer d.mu.Unlock()
	for _, ending := range d.endings {
		close(ending)
	}
	d.endings = nil
	return nil
}

// OfDeed notes which deed offers what has that name, and has its transfers say so; it is forgotten by what is returned.
func (d *Dock) OfDeed(name, deed string) (forget func()) {
	if deed == "" {
		return func() {}
	}
	d.mu.Lock()
	defer d.mu.Unlock()
	d.deeds[name] = deed
	return func() {
		d.mu.Lock()
		defer d.mu.Unlock()
		delete(d.deeds, name)
	}
}

// deedOf is the deed that offers what has that name, empty for none.
func (d *Dock) deedOf(name string) string {
	d.mu.Lock()
	defer d.mu.Unlock()
	return d.deeds[name]
}

// Offer stages a file and says so; the returned function withdraws it.
func (d *Dock) Offer(o offer.File, by string) (withdraw func(), err error) {
	undo, err := d.stage.Offer(o)
	if err != nil {
		return nil, err
	}
	return d.staged(event.Staged{Name: o.Name, Protocol: strings.ToUpper(by), Size: o.Size, SHA256: o.SHA256},
		undo), nil
}

// OpenSlot lets one upload in and says so; the returned function closes it.
func (d *Dock) OpenSlot(s offer.Slot, by string) (closeSlot func(), err error) {
	undo, err := d.stage.OpenSlot(s)
	if err != nil {
		return nil, err
	}
	return d.staged(event.Staged{Name: s.Name, Protocol: strings.ToUpper(by), Slot: true, Size: s.Most}, undo), nil
}

// staged says what is staged now, and that it is no more when undo is called.
func (d *Dock) staged(what event.Staged, undo func()) func() {
	what.State = event.Offered
	d.opt.Emit(what)
	return sync.OnceFunc(func() {
		undo()
		what.State = event.Withdrawn
		d.opt.Emit(what)
	})
}

// Endings is reported every transfer that ends from now on, until leave is called. It is closed with the dock.
func (d *Dock) Endings() (endings <-chan Ending, leave func()) {
	d.mu.Lock()
	defer d.mu.Unlock()
	c := make(chan Ending, 64)
	d.endings = append(d.endings, c)
	return c, func() {
		d.mu.Lock()
		defer d.mu.Unlock()
		d.endings = slices.DeleteFunc(d.endings, func(one chan Ending) bool { return one == c })
	}
}

// Checking runs a check of our own: what this laptop fetches from itself meanwhile is no transfer of the
// device's and is not reported.
func (d *Dock) Checking(check func()) {
	d.add(1)
	defer d.add(-1)
	check()
}

func (d *Dock) add(n int) {
	d.mu.Lock()
	defer d.mu.Unlock()
	d.checking += n
}

// isOwn reports whether a transfer is a check of our own: one that begins during such a check, from an
// address that we serve at.
func (d *Dock) isOwn(transfer string, peer netip.AddrPort) bool {
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.own[transfer] {
		return true
	}
	if d.checking == 0 {
		return false
	}
	for _, place := range d.listening {
		if place.At.Addr() == peer.Addr() {
			d.own[transfer] = true
			return true
		}
	}
	return false
}

// Listen starts a server at an address, or returns where it listens there already. It ends with the dock.
func (d *Dock) Listen(c *carrier.Carrier, at netip.AddrPort) (carrier.Endpoint, error) {
	d.leases.Lock()
	defer d.leases.Unlock()
	one, err := d.listen(c, at)
	if err != nil {
		return carrier.Endpoint{}, err
	}
	one.kept = true
	return one.Endpoint, nil
}

// Lease is Listen until leave is called: the server ends, and is waited for, when all have left it.
func (d *Dock) Lease(c *carrier.Carrier, at netip.AddrPort) (place carrier.Endpoint, leave func(), err error) {
	d.leases.Lock()
	defer d.leases.Unlock()
	one, err := d.listen(c, at)
	if err != nil {
		return carrier.Endpoint{}, nil, err
	}
	one.uses++
	return one.Endpoint, sync.OnceFunc(func() {
		d.leases.Lock()
		defer d.leases.Unlock()
		if one.uses--; one.uses == 0 && !one.kept {
			one.end()
			<-one.over
		}
	}), nil
}

// listen starts a server, where it does not listen yet.
func (d *Dock) listen(c *carrier.Carrier, at netip.AddrPort) (*server, error) {
	d.mu.Lock()
	defer d.mu.Unlock()
	c = c.Server()
	key := c.Name + " " + at.String()
	if one, there := d.listening[key]; there && at.Port() != 0 {
		return one, nil
	}
	s, place, err := c.Listen(at, d.serving())
	if err != nil {
		return nil, err
	}
	place.Protocol, place.At = c.Name, s.Addr()
	one := &server{Endpoint: place, over: make(chan struct{})}
	var ctx context.Context
	ctx, one.end = context.WithCancel(d.ctx)
	d.listening[key] = one
	title := c.Title()
	d.opt.Emit(event.Server{Name: title, State: event.Listening, Address: place.At.String()})
	d.group.Go(func() {
		defer close(one.over)
		defer one.end()
		err := s.Serve(ctx)
		ended := event.Server{Name: title, State: event.Ended, Address: place.At.String()}
		if err != nil {
			ended.Note = err.Error()
		}
		d.opt.Emit(ended)
		d.mu.Lock()
		defer d.mu.Unlock()
		if d.listening[key] == one {
			delete(d.listening, key)
		}
	})
	return one, nil
}

// LetOldIn lets old clients in over SSH from the next server on.
func (d *Dock) LetOldIn() {
	d.mu.Lock()
	defer d.mu.Unlock()
	d.opt.Old = true
}

func (d *Dock) serving() offer.Serving {
	return offer.Serving{
		Network: d.opt.Network,
		Stage:   &d.stage,
		Clock:   d.opt.Clock,
		Watcher: watcher{d},
		Old:     d.opt.Old,
		OldBy:   d.opt.OldBy,
	}
}

// Expect says that a step waits for that address: it finds a place on every server, whoever else asks.
func (d *Dock) Expect(addr netip.Addr) { d.stage.Expect(addr) }

// watcher turns what the servers say into events.
type watcher struct{ d *Dock }

func (w watcher) Began(t offer.Transfer) {
	if w.d.isOwn(t.ID, t.Peer) {
		return
	}
	w.d.ladder.begin(t)
	w.d.opt.Emit(event.TransferBegin{
		ID:       t.ID,
		Deed:     w.d.deedOf(t.File),
		File:     t.File,
		Size:     max(t.Size, 0),
		Protocol: t.Protocol,
		Peer:     t.Peer.String(),
		Terms:    t.Terms,
		Receive:  t.Upload,
	})
}

func (w watcher) Moved(t offer.Transfer, p transfer.Progress) {
	if w.d.isOwn(t.ID, t.Peer) {
		return
	}
	w.d.ladder.flush()
	w.d.opt.Emit(event.Transfer{
		ID:     t.ID,
		Bytes:  p.Bytes,
		Size:   p.Size,
		Blocks: p.Blocks,
		Resent: p.Resent,
		Rate:   p.Rate,
		Left:   p.Left,
	})
}

func (w watcher) Ended(t offer.Transfer, p transfer.Progress, err error) {
	if w.d.isOwn(t.ID, t.Peer) {
		w.d.mu.Lock()
		defer w.d.mu.Unlock()
		delete(w.d.own, t.ID)
		return
	}
	w.d.ladder.end(t.ID)
	w.d.opt.Emit(
		event.Transfer{ID: t.ID, Bytes: p.Bytes, Size: p.Size, Blocks: p.Blocks, Resent: p.Resent, Rate: p.Rate})
	end := event.TransferEnd{
		ID:      t.ID,
		Outcome: event.Done,
		From:    t.From,
		Bytes:   p.Bytes,
		Blocks:  p.Blocks,
		Resent:  p.Resent,
	}
	if p.Rate > 0 {
		end.Took = clockSpan(p)
	}
	end.Outcome, end.Message = event.OutcomeOf(err)
	w.d.opt.Emit(end)
	w.d.mu.Lock()
	defer w.d.mu.Unlock()
	for _, ending := range w.d.endings {
		select {
		case ending <- Ending{t, p, err}:
		default: // nobody reads it any more
		}
	}
}

func (w watcher) Said(m offer.Rung) {
	if m.Kind == offer.Over {
		w.d.mu.Lock()
		delete(w.d.own, m.Transfer)
		w.d.mu.Unlock()
		w.d.ladder.say(m)
		return
	}
	if !w.d.isOwn(m.Transfer, m.Peer) {
		w.d.ladder.say(m)
	}
}
