package event

import (
	"context"
	"errors"
	"fmt"
	"io"
	"slices"
	"sync"

	"pilotrix/core/clock"
)

// Hub numbers events and hands each to every feed, in one order for all of them. It takes secrets out of each
// first, here and nowhere else: no view can forget to. A slow reader does not
// hold up what happens, its feed queues; but whoever takes bytes in from the line is reported when a queue is
// long, and waits then: a flood slows the line down instead of filling the memory.
type Hub struct {
	clock clock.Clock
	room  chan struct{}

	mu      sync.Mutex
	seq     int64
	feeds   []*Feed
	secrets redactor
	closed  bool
}

// maxQueued is how many bytes of the stream a feed may hold before the line waits for its reader.
const maxQueued = 4 << 20

// NewHub makes a hub that stamps events with c.
func NewHub(c clock.Clock) *Hub { return &Hub{clock: c, room: make(chan struct{}, 1)} }

// Emit takes the secrets out of one event, stamps it and hands it out.
func (h *Hub) Emit(body Body) {
	h.mu.Lock()
	defer h.mu.Unlock()
	if clean, some := h.secrets.apply(body); some {
		h.hand(clean)
	}
}

func (h *Hub) hand(body Body) {
	h.seq++
	e := Event{Seq: h.seq, At: h.clock.Now(), Body: body}
	for _, feed := range h.feeds {
		feed.put(e)
	}
}

// Protect keeps secrets out of every event from now on, whichever field they would stand in.
func (h *Hub) Protect(secrets ...string) {
	h.mu.Lock()
	defer h.mu.Unlock()
	for _, secret := range secrets {
		h.secrets.protect(secret)
	}
}

// Typing says how far the operator has typed a secret: while that is on its way (Strict) the device may show it letter
// by letter.
func (h *Hub) Typing(secret string) {
	h.mu.Lock()
	defer h.mu.Unlock()
	h.secrets.types(secret)
}

// Clean is a text without secrets, for what leaves the session by another way than an event.
func (h *Hub) Clean(text string) string {
	h.mu.Lock()
	defer h.mu.Unlock()
	return string(h.secrets.text([]byte(text)))
}

// Strict says whether a secret is on its way: it is being typed, and the device may show it wrapped, spoilt, coloured
// or late. Then all is masked that is nearly a piece of one, and nothing is given out that may become that.
func (h *Hub) Strict(on bool) {
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.secrets.strict == on {
		return
	}
	if !on {
		h.flush()
	}
	h.secrets.onItsWay(on)
}

// Flush hands out what was held back of the stream because a secret might have followed. It is called when nothing
// has followed for a while.
func (h *Hub) Flush() {
	h.mu.Lock()
	defer h.mu.Unlock()
	h.flush()
}

func (h *Hub) flush() {
	for _, body := range h.secrets.flush() {
		h.hand(body)
	}
}

// Holds reports whether something is held back.
func (h *Hub) Holds() bool {
	h.mu.Lock()
	defer h.mu.Unlock()
	return h.secrets.holds()
}

// Subscribe starts a feed of all events from now on.
func (h *Hub) Subscribe() *Feed {
	feed := &Feed{ready: make(chan struct{}, 1), room: h.room}
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.closed {
		feed.close()
		return feed
	}
	h.feeds = append(h.feeds, feed)
	return feed
}

// Full reports whether a feed holds as much as it may. Room is signalled when that is over.
func (h *Hub) Full() bool {
	h.mu.Lock()
	defer h.mu.Unlock()
	for _, feed := range h.feeds {
		if feed.full() {
			return true
		}
	}
	return false
}

// Room is signalled when a feed that was full has been read.
func (h *Hub) Room() <-chan struct{} { return h.room }

// ErrNotRecorded is said of what is kept by nobody who should keep it.
var ErrNotRecorded = errors.New("not recorded")

// Keeps reports whether any feed keeps what happens.
func (h *Hub) Keeps() bool {
	h.mu.Lock()
	defer h.mu.Unlock()
	return slices.ContainsFunc(h.feeds, func(f *Feed) bool {
		f.mu.Lock()
		defer f.mu.Unlock()
		return f.keeps
	})
}

// Settle waits until everything that happened so far is kept by every feed that keeps it. Where that has not come to
// pass by the end of ctx, its error is ErrNotRecorded, with what keeps the reader from it.
func (h *Hub) Settle(ctx context.Context) error {
	h.mu.Lock()
	seq, feeds := h.seq, slices.Clone(h.feeds)
	h.mu.Unlock()
	for _, feed := range feeds {
		if err := feed.settle(ctx, seq); err != nil {
			return err
		}
	}
	return nil
}

// Close ends every feed once it has been read empty.
func (h *Hub) Close() {
	h.mu.Lock()
	defer h.mu.Unlock()
	h.flush()
	h.closed = true
	for _, feed := range h.feeds {
		feed.close()
	}
}

// Feed is one reader's queue of events.
type Feed struct {
	mu     sync.Mutex
	queue  []Event
	bytes  int
	closed bool
	ready  chan struct{}
	room   chan struct{}

	keeps   bool          // its reader says what it has kept
	kept    int64         // the number of the last event that is safe with it
	problem error         // why it can keep nothing now, nil while it can
	settled chan struct{} // closed whenever one of these changes
	hurry   chan struct{} // reported when somebody waits for that
	waiting int           // how many do
}

// Keeps makes the feed one whose reader keeps what it reads, and says so with Kept: Settle waits for it.
func (f *Feed) Keeps() {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.keeps, f.settled, f.hurry = true, make(chan struct{}), make(chan struct{}, 1)
}

// Kept says that everything up to an event is kept, so that neither the end of this program nor that of the machine
// loses it.
func (f *Feed) Kept(seq int64) {
	f.change(func() { f.kept, f.problem = max(f.kept, seq), nil })
}

// Fails says why nothing can be kept now. Whoever waits goes on waiting: that may pass.
func (f *Feed) Fails(problem error) {
	f.change(func() { f.problem = problem })
}

// Awaited reports whether somebody waits until what was read is kept.
func (f *Feed) Awaited() bool {
	f.mu.Lock()
	defer f.mu.Unlock()
	return f.waiting > 0
}

func (f *Feed) change(what func()) {
	f.mu.Lock()
	defer f.mu.Unlock()
	what()
	close(f.settled)
	f.settled = make(chan struct{})
}

// Abandon says that the reader keeps nothing any more: nobody is to wait for it.
func (f *Feed) Abandon() { f.change(func() { f.keeps = false }) }

// Hurry is reported when somebody waits until what was read is kept.
func (f *Feed) Hurry() <-chan struct{} { return f.hurry }

// settle waits until everything up to an event is kept.
func (f *Feed) settle(ctx context.Context, seq int64) error {
	f.mu.Lock()
	f.waiting++
	f.mu.Unlock()
	defer func() {
		f.mu.Lock()
		defer f.mu.Unlock()
		f.waiting--
	}()
	for {
		f.mu.Lock()
		over := !f.keeps || f.kept >= seq
		settled, problem := f.settled, f.problem
		f.mu.Unlock()
		if over {
			return nil
		}
		wake(f.hurry)
		select {
		case <-settled:
		case <-ctx.Done():
			if problem == nil {
				problem = ctx.Err()
			}
			return fmt.Errorf("%w: %w", ErrNotRecorded, problem)
		}
	}
}

// weight is how much of the stream an event carries, in bytes.
func weight(e Event) int {
	if in, ok := e.Body.(In); ok {
		return len(in.Bytes)
	}
	return 0
}

func (f *Feed) put(e Event) {
	f.mu.Lock()
	f.queue = append(f.queue, e)
	f.bytes += weight(e)
	f.mu.Unlock()
	wake(f.ready)
}

func (f *Feed) full() bool {
	f.mu.Lock()
	defer f.mu.Unlock()
	return f.bytes >= maxQueued
}

func (f *Feed) close() {
	f.mu.Lock()
	f.closed = true
	f.mu.Unlock()
	wake(f.ready)
}

func wake(c chan struct{}) {
	select {
	case c <- struct{}{}:
	default:
	}
}

// Next waits for events and returns all that are queued: none when somebody waits for what was read before to be kept.
// After the hub closed and the queue is read, it returns io.EOF.
func (f *Feed) Next(ctx context.Context) ([]Event, error) { return f.Some(ctx, maxQueued*2) }

// Some is Next for a reader that has other things to do meanwhile: it returns no more events than have so
// many bytes of the stream.
func (f *Feed) Some(ctx context.Context, most int) ([]Event, error) {
	for {
		batch, closed := f.take(most)
		if len(batch) > 0 {
			return batch, nil
		}
		if closed {
			return nil, io.EOF
		}
		select {
		case <-f.ready:
		case <-f.hurry:
			return nil, nil
		case <-ctx.Done():
			return nil, ctx.Err()
		}
	}
}

func (f *Feed) take(most int) (batch []Event, closed bool) {
	f.mu.Lock()
	defer f.mu.Unlock()
	was, n := f.bytes, 0
	for n < len(f.queue) && most > 0 {
		size := weight(f.queue[n])
		most -= size
		f.bytes -= size
		n++
	}
	batch = f.queue[:n:n]
	if f.queue = f.queue[n:]; len(f.queue) == 0 {
		f.queue = nil
	}
	if was >= maxQueued && f.bytes < maxQueued {
		wake(f.room)
	}
	return batch, f.closed && len(f.queue) == 0
}
