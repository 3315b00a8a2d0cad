package session

import (
	"bytes"
	"context"
	"sync"
	"time"

	"pilotrix/core/clock"
	"pilotrix/core/line"
	"pilotrix/core/transfer"
)

// tap is a queue of bytes between the loop and one reader.
type tap struct {
	mu    sync.Mutex
	data  []byte
	err   error
	ready chan struct{}
}

func newTap() *tap { return &tap{ready: make(chan struct{}, 1)} }

func (t *tap) put(p []byte) {
	t.mu.Lock()
	t.data = append(t.data, p...)
	t.mu.Unlock()
	t.wake()
}

func (t *tap) size() int {
	t.mu.Lock()
	defer t.mu.Unlock()
	return len(t.data)
}

func (t *tap) fail(err error) {
	t.mu.Lock()
	t.err = err
	t.mu.Unlock()
	t.wake()
}

func (t *tap) wake() {
	select {
	case t.ready <- struct{}{}:
	default:
	}
}

// take returns what is there.
func (t *tap) take() ([]byte, error) {
	t.mu.Lock()
	defer t.mu.Unlock()
	data := t.data
	t.data = nil
	if len(data) > 0 {
		return data, nil
	}
	return nil, t.err
}

// read waits for bytes up to that long; none and no error mean that the time is over.
func (t *tap) read(ctx context.Context, c clock.Clock, wait time.Duration) ([]byte, error) {
	data, err := t.take()
	if len(data) > 0 || err != nil || wait <= 0 {
		return data, err
	}
	timer := c.NewTimer(wait)
	defer timer.Stop()
	for {
		select {
		case <-t.ready:
			if data, err := t.take(); len(data) > 0 || err != nil {
				return data, err
			}
		case <-timer.C:
			return t.take()
		case <-ctx.Done():
			return nil, ctx.Err()
		}
	}
}

// lent is the line while a transfer owns it.
type lent struct {
	*tap
	clock  clock.Clock
	line   line.Line
	unread []byte
	room   func() // reported when much was read at once: the line may have waited for it
}

// Read implements transfer.Duplex.
func (p *lent) Read(ctx context.Context, out []byte, wait time.Duration) (int, error) {
	if len(p.unread) == 0 {
		if p.size() > maxUnread/2 {
			defer p.room()
		}
		data, err := p.read(ctx, p.clock, wait)
		if err != nil {
			return 0, err
		}
		if len(data) == 0 {
			return 0, transfer.ErrSilent
		}
		p.unread = data
	}
	n := copy(out, p.unread)
	p.unread = p.unread[n:]
	return n, nil
}

// Unread implements transfer.Unreader.
func (p *lent) Unread(data []byte) { p.unread = append(bytes.Clone(data), p.unread...) }

// Write implements transfer.Duplex.
func (p *lent) Write(ctx context.Context, data []byte) error { return p.line.Write(ctx, data) }

// rest is what arrived and was not read.
func (p *lent) rest() []byte {
	more, _ := p.take()
	return append(p.unread, more...)
}

// outgoing is something to write, or to do with the line in its turn; done, when there, is reported how it went.
type outgoing struct {
	data []byte
	act  func(context.Context, line.Line) error // nil where data is written
	done chan error
	ctx  context.Context
}

func (o outgoing) context(fallback context.Context) context.Context {
	if o.ctx != nil {
		return o.ctx
	}
	return fallback
}

// outbox is the queue of what the loop has put out and the line has not taken yet.
type outbox struct {
	mu    sync.Mutex
	items []outgoing
	ready chan struct{}
}

func newOutbox() *outbox { return &outbox{ready: make(chan struct{}, 1)} }

func (o *outbox) put(item outgoing) {
	o.mu.Lock()
	o.items = append(o.items, item)
	o.mu.Unlock()
	select {
	case o.ready <- struct{}{}:
	default:
	}
}

func (o *outbox) waiting() int {
	o.mu.Lock()
	defer o.mu.Unlock()
	return len(o.items)
}

func (o *outbox) next(ctx context.Context) (outgoing, error) {
	for {
		o.mu.Lock()
		if len(o.items) > 0 {
			item := o.items[0]
			o.items = o.items[1:]
			o.mu.Unlock()
			return item, nil
		}
		o.mu.Unlock()
		select {
		case <-o.ready:
		case <-ctx.Done():
			return outgoing{}, ctx.Err()
		}
	}
}
