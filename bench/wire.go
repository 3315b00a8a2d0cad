// Package bench is the kit for simulated devices: a line with an honest speed, a store, a shell,
// faults. A device made with it is no script of answers: it reads what arrives at the speed it is set
// to, at the pace of that speed, keeps what it was told to keep and forgets the rest.
package bench

import (
	"context"
	"errors"
	"io"
	"math/rand/v2"
	"sync"
	"sync/atomic"
	"time"

	"pilotrix/core/clock"
)

// Host is the program's end of a device's line.
type Host interface {
	io.ReadWriteCloser
	// Speed is what the program has set its end to, in baud.
	Speed() int
}

// errNobody is what a Host's Read returns while nothing holds its other side; Write drops then.
var errNobody = errors.New("nobody is on the line")

const bitsPerCharacter = 10 // 8N1

// Wire is the device's end of its line.
type Wire struct {
	clock clock.Clock
	host  Host
	in    chan []byte

	mu       sync.Mutex
	baud     int
	fixed    bool    // a session: it has no speed
	errorsAt float64 // bit errors a bit, each way
	random   *rand.Rand
	received int64
	after    int64 // call at after bytes received
	call     func()
	txFree   time.Time
	rest     []byte

	beside    Host // the console beside sessions, nil without one
	extraBaud int

	quirks  *quirks
	liar    *liar
	unread  atomic.Int64 // bytes that have arrived and were not read
	runIn   busy
	runOut  busy
	held    []byte // what the adapter has and delivers at its next tick
	ticking bool
	noisy   time.Time // when the next burst of noise comes
	holds   time.Time // when flow control holds the line next
}

// busy counts bytes that pass without a pause.
type busy struct {
	last time.Time
	run  int
}

func (b *busy) pass(now time.Time, n int) (run int) {
	const pause = 50 * time.Millisecond
	if now.Sub(b.last) > pause {
		b.run = 0
	}
	b.last = now
	b.run += n
	return b.run
}

// setQuirks makes the line and the device on it awkward.
func (w *Wire) setQuirks(q *quirks) {
	w.mu.Lock()
	w.quirks = q
	w.mu.Unlock()
}

// mangle loses and doubles bytes of a piece while much comes.
func (w *Wire) mangle(b *busy, p []byte) []byte {
	w.mu.Lock()
	defer w.mu.Unlock()
	if run := b.pass(w.clock.Now(), len(p)); !w.quirks.has(Bytes) || run < busyAfter {
		return p
	}
	out := make([]byte, 0, len(p)+1)
	for _, one := range p {
		switch w.quirks.draw(2 * oneInBytes) {
		case 0:
		case 1:
			out = append(out, one, one)
		default:
			out = append(out, one)
		}
	}
	return out
}

func newWire(host Host, baud int, c clock.Clock) *Wire {
	return &Wire{clock: c, host: host, in: make(chan []byte, 256), baud: baud}
}

// Retune sets the device's end.
func (w *Wire) Retune(baud int) {
	w.mu.Lock()
	if !w.fixed {
		w.baud = baud
	}
	w.mu.Unlock()
}

// knock has the device show its prompt to who has come: it gets an Enter.
func (w *Wire) knock() {
	select {
	case w.in <- []byte{'\r'}:
	default: // it has enough to read
	}
}

// Baud is what the device's end is set to.
func (w *Wire) Baud() int {
	w.mu.Lock()
	defer w.mu.Unlock()
	return w.baud
}

// Clock is the device's time.
func (w *Wire) Clock() clock.Clock { return w.clock }

// BitErrors flips bits at that rate from now on, each way, in a way that the seed decides.
func (w *Wire) BitErrors(rate float64, seed uint64) {
	w.mu.Lock()
	w.errorsAt, w.random = rate, rand.New(rand.NewPCG(seed, seed))
	w.mu.Unlock()
}

// AfterReceived calls f once that many more bytes have reached the device.
func (w *Wire) AfterReceived(n int64, f func()) {
	w.mu.Lock()
	w.after, w.call = w.received+n, f
	w.mu.Unlock()
}

func charTime(baud int) time.Duration {
	return time.Duration(float64(bitsPerCharacter) / float64(baud) * float64(time.Second))
}

// sliceTime is how much of the line is delivered in one piece: small beside what anything waits for.
const sliceTime = 2 * time.Millisecond

// listen brings what the program sends to the device, at the pace and speed the program has set.
func (w *Wire) listen(ctx context.Context, host Host) {
	buffer := make([]byte, 4096)
	var free time.Time
	for ctx.Err() == nil {
		n, err := host.Read(buffer)
		if errors.Is(err, errNobody) {
			_ = w.clock.Wait(ctx, w.clockTime(nobodyEvery))
			continue
		}
		if err != nil {
			return
		}
		speed := host.Speed()
		if now := w.clock.Now(); free.Before(now) {
			free = now
		}
		for rest := buffer[:n]; len(rest) > 0; {
			piece := rest[:min(len(rest), w.slice(speed))]
			rest = rest[len(piece):]
			free = free.Add(time.Duration(len(piece)) * charTime(speed))
			if w.pace(ctx, free) != nil {
				return
			}
			if w.hold(ctx) != nil {
				return
			}
			w.deliver(ctx, w.mangle(&w.runIn, resample(append([]byte(nil), piece...), speed, w.Baud())))
		}
	}
}

// timerSlack is by how much a timer is late on the wall, about. Waits end that much early; what was
// gained is paid back by the next byte, which starts when the line is free and not before.
const timerSlack = 700 * time.Microsecond

// pace waits until a moment, timerSlack less.
func (w *Wire) pace(ctx context.Context, until time.Time) error {
	wait := until.Sub(w.clock.Now()) - w.clockTime(timerSlack)
	return w.clock.Wait(ctx, wait)
}

// nobodyEvery is how often the line is looked at while nobody is on it, in time of the wall.
const nobodyEvery = 5 * time.Millisecond

func (w *Wire) clockTime(wall time.Duration) time.Duration {
	return time.Duration(float64(wall) * w.clock.Scale())
}

// slice is how many characters fit into sliceTime of the wall.
func (w *Wire) slice(baud int) int {
	return max(1, int(w.clockTime(sliceTime)/charTime(baud)))
}

func (w *Wire) deliver(ctx context.Context, p []byte) {
	if len(p) == 0 {
		return
	}
	w.mu.Lock()
	w.spoil(p)
	w.received += int64(len(p))
	var call func()
	if w.call != nil && w.received >= w.after {
		call, w.call = w.call, nil
	}
	overrun := w.quirks.has(Overrun) && w.unread.Load()+int64(len(p)) > smallBuffer
	w.mu.Unlock()
	if !overrun {
		w.unread.Add(int64(len(p)))
		select {
		case w.in <- p:
		case <-ctx.Done():
		}
	}
	if call != nil {
		call()
	}
}

// spoil applies bit errors. The caller holds mu.
func (w *Wire) spoil(p []byte) {
	if w.errorsAt == 0 {
		return
	}
	for i := range p {
		for bit := range 8 {
			if w.random.Float64() < w.errorsAt {
				p[i] ^= 1 << bit
			}
		}
	}
}

// Read returns what has reached the device, waited for up to that long; io.ErrNoProgress when
// nothing came.
func (w *Wire) Read(ctx context.Context, p []byte, wait time.Duration) (int, error) {
	if len(w.rest) == 0 {
		timer := w.clock.NewTimer(wait)
		defer timer.Stop()
		select {
		case w.rest = <-w.in:
		case <-timer.C:
			return 0, io.ErrNoProgress
		case <-ctx.Done():
			return 0, ctx.Err()
		}
	}
	n := copy(p, w.rest)
	w.rest = w.rest[n:]
	w.unread.Add(-int64(n))
	return n, nil
}

// hold lets flow control hold the line for a while, now and then.
func (w *Wire) hold(ctx context.Context) error {
	w.mu.Lock()
	now := w.clock.Now()
	wait := time.Duration(0)
	if w.quirks.has(Flow) && now.After(w.holds) {
		if !w.holds.IsZero() {
			wait = w.quirks.between(500*time.Millisecond, 2500*time.Millisecond)
		}
		w.holds = now.Add(w.quirks.between(holdEvery/2, 2*holdEvery))
	}
	w.mu.Unlock()
	return w.clock.Wait(ctx, wait)
}

// burst is noise on the line, now and then: empty as a rule.
func (w *Wire) burst() []byte {
	w.mu.Lock()
	defer w.mu.Unlock()
	now := w.clock.Now()
	if !w.quirks.has(Bursts) || now.Before(w.noisy) {
		return nil
	}
	first := w.noisy.IsZero()
	w.noisy = now.Add(w.quirks.between(burstEvery/2, 2*burstEvery))
	if first {
		return nil
	}
	return w.quirks.garbage()
}

// Write sends at the device's speed and returns when the last bit is out.
func (w *Wire) Write(ctx context.Context, p []byte) error {
	if now := w.clock.Now(); w.txFree.Before(now) {
		w.txFree = now
	}
	for len(p) > 0 {
		baud := w.Baud()
		piece := p[:min(len(p), w.slice(baud))]
		p = p[len(piece):]
		w.txFree = w.txFree.Add(time.Duration(len(piece)) * charTime(baud))
		if err := w.pace(ctx, w.txFree); err != nil {
			return err
		}
		w.emit(piece, baud)
	}
	return nil
}

// emit puts a piece on the cable; without one, or with nobody at its end, it is gone.
func (w *Wire) emit(piece []byte, baud int) {
	w.mu.Lock()
	host := w.host
	w.mu.Unlock()
	w.emitExtra(piece)
	if host == nil {
		return
	}
	heard := w.mangle(&w.runOut, resample(append([]byte(nil), piece...), baud, host.Speed()))
	heard = append(heard, w.burst()...)
	w.mu.Lock()
	defer w.mu.Unlock()
	w.spoil(heard)
	if !w.quirks.has(Latency) {
		_, _ = host.Write(heard)
		return
	}
	w.held = append(w.held, heard...)
	if !w.ticking {
		w.ticking = true
		go w.tick()
	}
}

// tick delivers what the adapter holds, as those that look at their line every 16 ms do.
func (w *Wire) tick() {
	_ = w.clock.Wait(context.Background(), adapterTick)
	w.mu.Lock()
	defer w.mu.Unlock()
	if w.host != nil {
		_, _ = w.host.Write(w.held)
	}
	w.held, w.ticking = nil, false
}

func (w *Wire) currentHost() Host {
	w.mu.Lock()
	defer w.mu.Unlock()
	return w.host
}

func (w *Wire) setHost(host Host) {
	w.mu.Lock()
	w.host = host
	w.mu.Unlock()
}

// Forget drops what arrived before the device had power.
func (w *Wire) Forget() {
	w.rest = nil
	for len(w.in) > 0 {
		<-w.in
	}
	w.unread.Store(0)
}
