package event

import (
	"context"
	"io"
	"sync"

	"pilotrix/core/clock"
)

// Hub numbers events and hands each to every feed, in one order for all of them. A slow reader
// never holds up the line: its feed queues.
type Hub struct {
	clock clock.Clock

	mu     sync.Mutex
	seq    int64
	feeds  []*Feed
	closed bool
}

// NewHub makes a hub that stamps events with c.
func NewHub(c clock.Clock) *Hub { return &Hub{clock: c} }

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
	feed := &Feed{ready: make(chan struct{}, 1)}
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.closed {
		feed.close()
		return feed
	}
	h.feeds = append(h.feeds, feed)
	return feed
}

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
	closed bool
	ready  chan struct{}
}

func (f *Feed) put(e Event) {
	f.mu.Lock()
	f.queue = append(f.queue, e)
	f.mu.Unlock()
	f.wake()
}

func (f *Feed) close() {
	f.mu.Lock()
	f.closed = true
	f.mu.Unlock()
	f.wake()
}

func (f *Feed) wake() {
	select {
	case f.ready <- struct{}{}:
	default:
	}
}

// Next waits for events and returns all that are queued. After the hub closed and the queue is
// read, it returns io.EOF.
func (f *Feed) Next(ctx context.Context) ([]Event, error) {
	for {
		f.mu.Lock()
		batch, closed := f.queue, f.closed
		f.queue = nil
		f.mu.Unlock()
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
