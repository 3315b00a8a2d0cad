package event

import (
	"context"
	"io"
	"sync"

	"pilotrix/core/clock"
)

// Hub numbers events and hands each to every feed, in one order for all of them. A slow reader does not
// hold up what happens, its feed queues; but whoever takes bytes in from the line is told when a queue is
// long, and waits then: a flood slows the line down instead of filling the memory.
type Hub struct {
	clock clock.Clock
	room  chan struct{}

	mu     sync.Mutex
	seq    int64
	feeds  []*Feed
	closed bool
}

// mostQueued is how many bytes of the stream a feed may hold before the line waits for its reader.
const mostQueued = 4 << 20

// NewHub makes a hub that stamps events with c.
func NewHub(c clock.Clock) *Hub { return &Hub{clock: c, room: make(chan struct{}, 1)} }

// Emit stamps and hands out one event.
func (h *Hub) Emit(body Body) Event {
	h.mu.Lock()
	defer h.mu.Unlock()
	h.seq++
	e := Event{Seq: h.seq, At: h.clock.Now(), Body: body}
	for _, feed := range h.feeds {
		feed.put(e)
	}
	return e
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

// Close ends every feed once it has been read empty.
func (h *Hub) Close() {
	h.mu.Lock()
	defer h.mu.Unlock()
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
}

// weight is how much of the stream an event carries, in bytes.
func weight(e Event) int {
	if in, is := e.Body.(In); is {
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
	return f.bytes >= mostQueued
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

// Next waits for events and returns all that are queued. After the hub closed and the queue is
// read, it returns io.EOF.
func (f *Feed) Next(ctx context.Context) ([]Event, error) { return f.Some(ctx, mostQueued*2) }

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
	if was >= mostQueued && f.bytes < mostQueued {
		wake(f.room)
	}
	return batch, f.closed && len(f.queue) == 0
}
