package xmodem_test

import (
	"bytes"
	"context"
	"errors"
	"flag"
	"fmt"
	"io"
	"math/rand/v2"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"pilotrix/core/clock"
	"pilotrix/core/transfer"
	"pilotrix/core/transfer/xmodem"
)

// The receiver and the sender below were written from the description of the protocol for these tests alone;
// they share no code with the package.

var runs = flag.Int("xmodem.runs", 300, "transfers of TestNoSuccessIsToldThatWasNone")

const (
	bSOH = 0x01
	bSTX = 0x02
	bEOT = 0x04
	bACK = 0x06
	bNAK = 0x15
	bCAN = 0x18
)

// cable is one direction of a line: bytes arrive in order, each when the line has carried it.
type cable struct {
	char    time.Duration
	free    time.Time
	bytes   chan timed
	latency func() time.Duration
	spoil   func(byte) []byte // what arrives for a byte
	room    int               // bytes that wait at the far end at most, 0 for any
}

type timed struct {
	at time.Time
	b  byte
}

func (c *cable) put(p []byte) {
	for _, b := range p {
		if now := time.Now(); c.free.Before(now) {
			c.free = now
		}
		c.free = c.free.Add(c.char)
		at := c.free.Add(c.latency())
		for _, got := range c.spoil(b) {
			if c.room > 0 && len(c.bytes) >= c.room {
				continue // the far end does not look, and its buffer is full
			}
			c.bytes <- timed{at, got}
		}
	}
}

// get waits for a byte.
func (c *cable) get(ctx context.Context, pending *[]timed, wait time.Duration) (byte, error) {
	deadline := time.Now().Add(wait)
	if len(*pending) == 0 {
		select {
		case next := <-c.bytes:
			*pending = append(*pending, next)
		default:
			timer := time.NewTimer(wait)
			defer timer.Stop()
			select {
			case next := <-c.bytes:
				*pending = append(*pending, next)
			case <-timer.C:
				return 0, transfer.ErrSilent
			case <-ctx.Done():
				return 0, ctx.Err()
			}
		}
	}
	next := (*pending)[0]
	if next.at.After(deadline) {
		select {
		case <-time.After(max(0, time.Until(deadline))):
			return 0, transfer.ErrSilent
		case <-ctx.Done():
			return 0, ctx.Err()
		}
	}
	time.Sleep(time.Until(next.at))
	*pending = (*pending)[1:]
	return next.b, nil
}

// ours is the end of the line that the package holds.
type ours struct {
	in, out *cable
	pending []timed
}

func (p *ours) Write(_ context.Context, data []byte) error { p.out.put(data); return nil }

func (p *ours) Read(ctx context.Context, out []byte, wait time.Duration) (int, error) {
	b, err := p.in.get(ctx, &p.pending, wait)
	if err != nil {
		return 0, err
	}
	out[0] = b
	return 1, nil
}

// plainReceiver is a receiver as boot loaders have it.
type plainReceiver struct {
	in, out *cable
	pending []timed
	sums    bool
	slow    func(block int) time.Duration // how long it works on a block before it answers
	refuses bool                          // it cannot keep the file, and refuses every end
	twice   bool                          // it refuses the first end, to be sure of it
	got     []byte
	done    bool
	blocks  int
}

func (r *plainReceiver) say(p ...byte) { r.out.put(p) }

// sum is the check of a block: one byte, or a CRC of two.
func (r *plainReceiver) sum(data []byte) []byte {
	if r.sums {
		total := byte(0)
		for _, b := range data {
			total += b
		}
		return []byte{total}
	}
	crc := uint16(0)
	for _, b := range data {
		crc ^= uint16(b) << 8
		for range 8 {
			high := crc & 0x8000
			crc <<= 1
			if high != 0 {
				crc ^= 0x1021
			}
		}
	}
	return []byte{byte(crc >> 8), byte(crc)}
}

// purge waits until nothing has come for a while.
func (r *plainReceiver) purge(ctx context.Context) {
	for {
		if _, err := r.in.get(ctx, &r.pending, 200*time.Millisecond); err != nil {
			return
		}
	}
}

func (r *plainReceiver) run(ctx context.Context) {
	want, ends, idle := byte(1), 0, 0
	ask := byte('C')
	if r.sums {
		ask = bNAK
	}
	r.say(ask)
	for ctx.Err() == nil {
		b, err := r.in.get(ctx, &r.pending, 3*time.Second)
		if errors.Is(err, transfer.ErrSilent) {
			if idle++; r.blocks == 0 {
				r.say(ask)
			} else if idle%4 == 0 {
				r.say(bNAK)
			}
			if idle > 60 {
				r.say(bCAN, bCAN)
				return
			}
			continue
		}
		if err != nil {
			return
		}
		idle = 0
		switch b {
		case bCAN:
			if next, err := r.in.get(ctx, &r.pending, time.Second); err == nil && next == bCAN {
				return
			}
		case bEOT:
			if _, err := r.in.get(ctx, &r.pending,
				100*time.Millisecond); err == nil { // not alone: part of something broken
				r.purge(ctx)
				r.say(bNAK)
				continue
			}
			if ends++; r.refuses || r.twice && ends == 1 {
				r.say(bNAK)
				continue
			}
			r.done = true
			r.say(bACK)
			return
		case bSOH, bSTX:
			size := 128
			if b == bSTX {
				size = 1024
			}
			tail := 2
			if r.sums {
				tail = 1
			}
			frame := make([]byte, 0, 2+size+tail)
			for len(frame) < cap(frame) {
				b, err := r.in.get(ctx, &r.pending, time.Second)
				if err != nil {
					break
				}
				frame = append(frame, b)
			}
			if len(frame) < cap(frame) || frame[0]^frame[1] != 0xff ||
				!bytes.Equal(r.sum(frame[2:2+size]), frame[2+size:]) {
				r.purge(ctx)
				r.say(bNAK)
				continue
			}
			if r.slow != nil {
				select {
				case <-time.After(r.slow(r.blocks + 1)):
				case <-ctx.Done():
					return
				}
			}
			ends = 0
			switch frame[0] {
			case want:
				r.got = append(r.got, frame[2:2+size]...)
				r.blocks++
				want++
			case want - 1: // a copy
			default:
				r.say(bCAN, bCAN)
				return
			}
			r.say(bACK)
		}
	}
}

// awkward draws a line and a device from a seed.
type awkward struct {
	name     string
	baud     int
	known    bool // whether the sender knows the speed
	variant  xmodem.Variant
	size     int
	receiver plainReceiver
	there    *cable
	back     *cable
}

func clean(b byte) []byte { return []byte{b} }

func draw(random *rand.Rand) *awkward {
	a := &awkward{
		baud:    []int{9600, 38400, 115200}[random.IntN(3)],
		known:   random.IntN(4) > 0,
		variant: []xmodem.Variant{xmodem.XMODEM, xmodem.XMODEM1K}[random.IntN(2)],
		size:    random.IntN(6000),
	}
	char := 10 * time.Second / time.Duration(a.baud)
	none := func() time.Duration { return 0 }
	a.there = &cable{char: char, bytes: make(chan timed, 1<<20), latency: none, spoil: clean}
	a.back = &cable{char: char, bytes: make(chan timed, 1<<20), latency: none, spoil: clean}
	a.receiver = plainReceiver{in: a.there, out: a.back, twice: random.IntN(2) == 0, refuses: random.IntN(8) == 0}
	spoilt := func(chance float64, how func(byte) []byte) func(byte) []byte {
		return func(b byte) []byte {
			if random.Float64() < chance {
				return how(b)
			}
			return []byte{b}
		}
	}
	switch random.IntN(9) {
	case 0:
		a.name = "slow blocks"
		at, long := 1+random.IntN(8), time.Duration(random.IntN(60_000))*time.Millisecond
		a.receiver.slow = func(block int) time.Duration {
			if block == at {
				return long
			}
			return 0
		}
	case 1:
		a.name = "slow blocks, again and again"
		a.receiver.slow = func(int) time.Duration {
			if random.IntN(5) == 0 {
				return time.Duration(random.IntN(20_000)) * time.Millisecond
			}
			return 0
		}
	case 2:
		a.name = "slow blocks, and a small buffer"
		a.there.room = 64 + random.IntN(2000)
		a.receiver.slow = func(int) time.Duration {
			if random.IntN(6) == 0 {
				return time.Duration(random.IntN(30_000)) * time.Millisecond
			}
			return 0
		}
	case 3:
		a.name = "lost answers"
		a.back.spoil = spoilt(0.1, func(byte) []byte { return nil })
	case 4:
		a.name = "doubled answers"
		a.back.spoil = spoilt(0.3, func(b byte) []byte { return []byte{b, b} })
	case 5:
		a.name = "noise both ways"
		a.there.spoil = spoilt(0.0005, func(b byte) []byte { return []byte{b, byte(random.Uint32())} })
		a.back.spoil = spoilt(0.1, func(b byte) []byte { return []byte{byte(random.Uint32()), b} })
	case 6:
		a.name = "lost and doubled bytes, flipped answers"
		a.there.spoil = spoilt(0.0005, func(b byte) []byte { return [][]byte{nil, {b, b}}[random.IntN(2)] })
		a.back.spoil = spoilt(0.05, func(b byte) []byte { return []byte{b ^ 1<<random.IntN(8)} })
	case 7:
		a.name = "a satellite upgrade"
		upgrade := time.Duration(200+random.IntN(1500)) * time.Millisecond
		a.there.latency, a.back.latency = func() time.Duration { return upgrade }, func() time.Duration { return upgrade }
	case 8:
		a.name = "sums, and slow blocks"
		a.receiver.sums = true
		a.receiver.slow = func(int) time.Duration { return time.Duration(random.IntN(3000)) * time.Millisecond }
	}
	return a
}

// TestNoSuccessIsReportedThatWasNone sends to a receiver that shares no code with the sender, over lines and to
// devices that are drawn from a seed. Whatever happens, an end is reported, and a success only where the receiver
// has the whole file and has said so.
func TestNoSuccessIsReportedThatWasNone(t *testing.T) {
	outcomes := map[string]int{}
	for seed := range *runs {
		synctest.Test(t, func(t *testing.T) {
			random := rand.New(rand.NewPCG(uint64(seed), 99))
			a := draw(random)
			data := make([]byte, a.size)
			for i := range data {
				data[i] = byte(random.Uint32())
			}
			ctx, cancel := context.WithCancel(t.Context())
			over := make(chan struct{})
			go func() { defer close(over); a.receiver.run(ctx) }()
			opt := xmodem.Options{Variant: a.variant, Clock: clock.Real(), Retries: 20, Answer: 6 * time.Second}
			if a.known {
				opt.Character = a.there.char
			}
			limit, stop := context.WithTimeout(t.Context(), 6*time.Hour)
			defer stop()
			_, err := xmodem.Send(limit, &ours{in: a.back, out: a.there},
				[]xmodem.File{{Header: xmodem.Header{Name: "x", Size: int64(a.size)}, Data: bytes.NewReader(data)}},
				opt)
			require.NoError(t, limit.Err(), "seed %d (%s): it hangs", seed, a.name)
			time.Sleep(time.Minute)
			cancel()
			<-over
			if a.receiver.done {
				require.True(t, bytes.HasPrefix(a.receiver.got, data), "seed %d (%s): the receiver has another file",
					seed, a.name)
			}
			if err == nil {
				require.True(t, a.receiver.done,
					"seed %d (%s, %d baud, known %v, %d B): success was told, and the receiver never said so", seed,
					a.name, a.baud, a.known, a.size)
				require.False(t, a.receiver.refuses)
			}
			outcome := "failed"
			if err == nil {
				outcome = "done"
			}
			outcomes[fmt.Sprintf("%-40s %s", a.name, outcome)]++
			if err != nil && !a.receiver.refuses &&
				(a.name == "a satellite upgrade" || a.name == "slow blocks" || a.name == "doubled answers") {
				t.Errorf("seed %d (%s, %d baud, known %v, %d B): %v", seed, a.name, a.baud, a.known, a.size, err)
			}
		})
	}
	for name, n := range outcomes {
		t.Logf("%5d %s", n, name)
	}
}

// plainSender is a sender as terminal programs have had it for long: it waits for each answer, and repeats.
func plainSender(ctx context.Context, in, out *cable, data []byte, block int) error {
	var pending []timed
	sums := false
	for {
		b, err := in.get(ctx, &pending, time.Minute)
		if err != nil {
			return err
		}
		if b == 'C' || b == bNAK {
			sums = b == bNAK
			break
		}
	}
	r := plainReceiver{sums: sums}
	ask := func(p []byte) error {
		for range 12 {
			out.put(p)
			for {
				b, err := in.get(ctx, &pending, 12*time.Second)
				if errors.Is(err, transfer.ErrSilent) || b == bNAK {
					break
				}
				if err != nil {
					return err
				}
				if b == bACK {
					return nil
				}
				if b == bCAN {
					return errors.New("cancelled")
				}
			}
		}
		return errors.New("gave up")
	}
	for number := byte(1); len(data) > 0; number++ {
		piece := make([]byte, block)
		for i := copy(piece, data); i < block; i++ {
			piece[i] = 0x1a
		}
		data = data[min(block, len(data)):]
		begin := byte(bSOH)
		if block == 1024 {
			begin = bSTX
		}
		frame := append([]byte{begin, number, 255 - number}, piece...)
		frame = append(frame, r.sum(piece)...)
		if err := ask(frame); err != nil {
			return err
		}
	}
	return ask([]byte{bEOT})
}

type kept struct{ bytes.Buffer }

func (*kept) Close() error { return nil }

// TestReceivingFromASenderThatSharesNoCode takes files over a line that loses and breaks things.
func TestReceivingFromASenderThatSharesNoCode(t *testing.T) {
	for seed := range 24 {
		synctest.Test(t, func(t *testing.T) {
			random := rand.New(rand.NewPCG(uint64(seed), 5))
			char := 10 * time.Second / 9600
			spoil := func(b byte) []byte {
				if seed%3 == 1 && random.Float64() < 0.0003 {
					return []byte{b ^ 1<<random.IntN(8)}
				}
				return []byte{b}
			}
			none := func() time.Duration { return 0 }
			there := &cable{char: char, bytes: make(chan timed, 1<<20), latency: none, spoil: spoil}
			back := &cable{char: char, bytes: make(chan timed, 1<<20), latency: none, spoil: clean}
			data := make([]byte, random.IntN(2000))
			for i := range data {
				data[i] = byte(random.Uint32())
			}
			sent := make(chan error, 1)
			go func() {
				sent <- plainSender(t.Context(), back, there, data, []int{128, 1024}[seed%2])
			}()
			got := &kept{}
			_, err := xmodem.Receive(
				t.Context(),
				&ours{in: there, out: back},
				func(xmodem.Header) (io.WriteCloser, error) { return got, nil },
				xmodem.Options{
					Clock:     clock.Real(),
					Checksum:  seed%5 == 4 && seed%2 == 0,
					Linger:    time.Minute,
					Character: char,
				},
			)
			require.NoError(t, err, "seed %d", seed)
			require.NoError(t, <-sent, "seed %d", seed)
			assert.True(t, bytes.HasPrefix(got.Bytes(), data), "seed %d", seed)
		})
	}
}
