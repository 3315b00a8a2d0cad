// Package transfer holds what every way of moving a file has in common: the port it talks through
// while it owns the line, and how it says of its progress.
package transfer

import (
	"context"
	"errors"
	"time"

	"pilotrix/core/clock"
)

// Duplex is the line while a transfer owns it. A Duplex is used by one goroutine at a time.
type Duplex interface {
	// Read waits up to wait for the first byte, then returns what there is. It returns ErrSilent
	// when nothing came, ctx's error when that ended first, or the line's error.
	Read(ctx context.Context, p []byte, wait time.Duration) (int, error)
	// Write sends all of p.
	Write(ctx context.Context, p []byte) error
}

// Unreader is a Duplex that takes back what a transfer read and had no use for: after the last answer
// the device's prompt may follow in the same piece.
type Unreader interface {
	Unread(p []byte)
}

// Failures that every transfer tells apart. Test with errors.Is.
var (
	ErrSilent    = errors.New("nothing arrived in time")
	ErrCancelled = errors.New("the other side cancelled the transfer")
	ErrGaveUp    = errors.New("gave up after too many tries")
)

// Progress is how far a transfer has come.
type Progress struct {
	File   string
	Bytes  int64 // acknowledged by the receiver, padding left out
	Size   int64 // 0 when not known
	Blocks int
	Resent int           // blocks sent or asked for once more
	Rate   float64       // bytes a second since the first block
	Left   time.Duration // at that rate; 0 when not known
	State  string        // what it awaits or does, in words
}

// Meter turns counts into rates.
type Meter struct {
	clock   clock.Clock
	started time.Time
}

// NewMeter measures with c.
func NewMeter(c clock.Clock) *Meter { return &Meter{clock: c} }

// Start marks the first byte; a second call changes nothing.
func (m *Meter) Start() {
	if m.started.IsZero() {
		m.started = m.clock.Now()
	}
}

// Elapsed is the time since Start, 0 before it.
func (m *Meter) Elapsed() time.Duration {
	if m.started.IsZero() {
		return 0
	}
	return m.clock.Since(m.started)
}

// Fill sets Rate and Left from Bytes and Size.
func (m *Meter) Fill(p *Progress) {
	seconds := m.Elapsed().Seconds()
	if seconds <= 0 || p.Bytes <= 0 {
		return
	}
	p.Rate = float64(p.Bytes) / seconds
	if p.Size > p.Bytes {
		p.Left = time.Duration(float64(p.Size-p.Bytes) / p.Rate * float64(time.Second))
	}
}

// Thin lets a few of many reports a second through, so that whoever is reported can follow. It is used by one
// goroutine.
type Thin struct {
	clock        clock.Clock
	last         time.Time
	calls, every int // the clock is looked at at each of so many calls: on a fast network that is dear
}

const (
	thinEvery = 200 * time.Millisecond
	thinCalls = 64
)

// NewThin begins now: the first report is due after a while.
func NewThin(c clock.Clock) *Thin { return &Thin{clock: c, last: c.Now(), every: 1} }

// Due reports whether a report is to be reported.
func (t *Thin) Due() bool {
	if t.calls++; t.calls < t.every {
		return false
	}
	t.calls = 0
	now := t.clock.Now()
	if now.Sub(t.last) < thinEvery {
		t.every = min(2*t.every, thinCalls)
		return false
	}
	t.every = max(1, t.every/4)
	t.last = now
	return true
}

// Quiet is how long a device may be silent in the middle of a transfer: it may erase its flash meanwhile.
const Quiet = 150 * time.Second
