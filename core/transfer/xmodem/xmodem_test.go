package xmodem

import (
	"bytes"
	"context"
	"errors"
	"io"
	"math/rand/v2"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"pilotrix/core/transfer"
)

// end is one end of a line in memory. Whatever is written passes through fault first, a message at a
// time: a block, an answer, a cancel.
type end struct {
	in    <-chan []byte
	out   chan<- []byte
	fault func([]byte) []byte
	rest  []byte
}

func pair() (*end, *end) {
	there, back := make(chan []byte, 1024), make(chan []byte, 1024)
	keep := func(p []byte) []byte { return p }
	return &end{in: back, out: there, fault: keep}, &end{in: there, out: back, fault: keep}
}

func (e *end) Read(ctx context.Context, p []byte, wait time.Duration) (int, error) {
	if len(e.rest) == 0 {
		select {
		case e.rest = <-e.in:
		case <-time.After(wait):
			return 0, transfer.ErrSilent
		case <-ctx.Done():
			return 0, ctx.Err()
		}
	}
	n := copy(p, e.rest)
	e.rest = e.rest[n:]
	return n, nil
}

func (e *end) Unread(p []byte) { e.rest = append(bytes.Clone(p), e.rest...) }

func (e *end) Write(_ context.Context, p []byte) error {
	if p = e.fault(bytes.Clone(p)); len(p) > 0 {
		e.out <- p
	}
	return nil
}

type sink struct {
	bytes.Buffer
	header Header
	closed bool
}

func (s *sink) Close() error { s.closed = true; return nil }

type outcome struct {
	sent, received      Result
	sendErr, receiveErr error
	sinks               []*sink
	sender, receiver    *end
}

// exchange runs a sender and a receiver against each other in virtual time.
func exchange(t *testing.T, files []File, send, receive Options, prepare func(sender, receiver *end)) (o outcome) {
	synctest.Test(t, func(t *testing.T) {
		o.sender, o.receiver = pair()
		if prepare != nil {
			prepare(o.sender, o.receiver)
		}
		done := make(chan struct{})
		go func() {
			defer close(done)
			o.received, o.receiveErr = Receive(t.Context(), o.receiver, func(h Header) (io.WriteCloser, error) {
				o.sinks = append(o.sinks, &sink{header: h})
				return o.sinks[len(o.sinks)-1], nil
			}, receive)
		}()
		o.sent, o.sendErr = Send(t.Context(), o.sender, files, send)
		<-done
	})
	return o
}

func one(payload []byte) []File {
	return []File{{Header: Header{Name: "tern.brm", Size: int64(len(payload))}, Data: bytes.NewReader(payload)}}
}

func payload(n int) []byte {
	data := make([]byte, n)
	random := rand.New(rand.NewPCG(uint64(n), 7))
	for i := range data {
		data[i] = byte(random.Uint32())
	}
	return data
}

func requirePadded(t require.TestingT, want, got []byte) {
	require.GreaterOrEqual(t, len(got), len(want))
	require.True(t, bytes.Equal(want, got[:len(want)]), "the payload differs")
	require.Less(t, len(got)-len(want), largeBlock)
	for _, b := range got[len(want):] {
		require.EqualValues(t, pad, b)
	}
}

func TestCRCIsTheOneOfTheReference(t *testing.T) {
	assert.EqualValues(t, 0x31c3, crc16([]byte("123456789")), "CRC-16/XMODEM check value")
}

func TestSizesAndVariants(t *testing.T) {
	for _, variant := range []Variant{XMODEM, XMODEM1K, YMODEM, Streaming} {
		for _, size := range []int{0, 1, 127, 128, 129, 1023, 1024, 1025, 33*1024 + 5, 300 * 1024} {
			want := payload(size)
			o := exchange(t, one(want), Options{Variant: variant}, Options{Variant: variant}, nil)
			require.NoError(t, o.sendErr, "%s, %d bytes", variant, size)
			require.NoError(t, o.receiveErr, "%s, %d bytes", variant, size)
			require.Len(t, o.sinks, 1)
			require.True(t, o.sinks[0].closed)
			if variant.Batch() {
				require.True(t, bytes.Equal(want, o.sinks[0].Bytes()), "%s keeps the size", variant)
			} else {
				requirePadded(t, want, o.sinks[0].Bytes())
			}
			require.EqualValues(t, size, o.sent.Bytes)
			require.Less(t, o.sent.Padding, smallBlock, "the tail goes in small blocks")
		}
	}
}

func TestBatchCarriesNameSizeAndTime(t *testing.T) {
	when := time.Date(2026, 3, 4, 5, 6, 7, 0, time.UTC)
	first := File{
		Header: Header{Name: "tern-4.2.1.brm", Size: 2000, Modified: when},
		Data:   bytes.NewReader(payload(2000)),
	}
	second := File{Header: Header{Name: "saved.conf", Size: 3}, Data: bytes.NewReader([]byte("abc"))}
	o := exchange(t, []File{first, second}, Options{Variant: YMODEM}, Options{Variant: YMODEM}, nil)
	require.NoError(t, errors.Join(o.sendErr, o.receiveErr))
	require.Len(t, o.sinks, 2)
	assert.Equal(t, first.Header, o.sinks[0].header)
	assert.Equal(t, "saved.conf", o.sinks[1].header.Name)
	assert.Equal(t, "abc", o.sinks[1].String())
}

func TestSenderFallsBackToSums(t *testing.T) {
	want := payload(5000)
	o := exchange(t, one(want), Options{Variant: XMODEM1K}, Options{Checksum: true}, nil)
	require.NoError(t, errors.Join(o.sendErr, o.receiveErr))
	requirePadded(t, want, o.sinks[0].Bytes())
	assert.Equal(t, 40, o.sent.Blocks, "sums go with blocks of 128 bytes only")
}

// faults is what can happen to one message; each stays within what a retry mends.
var faults = map[string]func(*rand.Rand, []byte) []byte{
	"none":      func(_ *rand.Rand, p []byte) []byte { return p },
	"lost":      func(*rand.Rand, []byte) []byte { return nil },
	"flipped":   func(r *rand.Rand, p []byte) []byte { p[r.IntN(len(p))] ^= 1 << r.IntN(8); return p },
	"cut":       func(r *rand.Rand, p []byte) []byte { return p[:r.IntN(len(p))] },
	"noise":     func(r *rand.Rand, p []byte) []byte { return append([]byte{soh, eot, 'x', byte(r.IntN(256))}, p...) },
	"duplicate": func(_ *rand.Rand, p []byte) []byte { return append(p, p...) },
}

// TestFaultsWithinTheLimit is the property the protocol lives on: whatever happens to blocks and
// answers, as long as no more than Retries in a row are hit, the bytes arrive whole.
func TestFaultsWithinTheLimit(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		want := rapid.SliceOfN(rapid.Byte(), 0, 9000).Draw(rt, "payload")
		variant := rapid.SampledFrom([]Variant{XMODEM, XMODEM1K, YMODEM}).Draw(rt, "variant")
		checksum := variant == XMODEM && rapid.Bool().Draw(rt, "checksum")
		blockFaults := rapid.SliceOfN(rapid.SampledFrom([]string{"none", "lost", "flipped", "cut", "noise"}), 0, 40).
			Draw(rt, "blocks")
		answerFaults := rapid.SliceOfN(rapid.SampledFrom([]string{"none", "none", "lost"}), 0, 40).Draw(rt, "answers")
		random := rand.New(rand.NewPCG(rapid.Uint64().Draw(rt, "seed"), 1))
		if checksum { // a sum of one byte may not see a block shifted by noise
			for i, name := range blockFaults {
				if name == "noise" {
					blockFaults[i] = "flipped"
				}
			}
		}
		o := exchange(
			t,
			one(want),
			Options{Variant: variant},
			Options{Variant: variant, Checksum: checksum, Linger: 10 * time.Minute},
			func(sender, receiver *end) {
				sender.fault = inject(random, blockFaults, 3)
				receiver.fault = inject(random, answerFaults, 1)
			},
		)
		require.NoError(rt, o.sendErr)
		require.NoError(rt, o.receiveErr)
		require.Len(rt, o.sinks, 1)
		requirePadded(rt, want, o.sinks[0].Bytes())
	})
}

// inject hits messages in turn, but after limit hits it lets two in a row pass: the end of a file
// takes two.
func inject(random *rand.Rand, plan []string, limit int) func([]byte) []byte {
	hits := 0
	return func(p []byte) []byte {
		if len(plan) == 0 {
			return p
		}
		name := plan[0]
		plan = plan[1:]
		switch {
		case hits < 0:
			hits++
			return p
		case name != "none":
			if hits++; hits == limit {
				hits = -2
			}
		}
		return faults[name](random, p)
	}
}

func TestOverTheLimitBothEndsFail(t *testing.T) {
	for _, name := range []string{"lost", "flipped"} {
		blocks := 0
		o := exchange(
			t,
			one(payload(20_000)),
			Options{Variant: XMODEM1K},
			Options{Variant: XMODEM1K},
			func(sender, _ *end) {
				random := rand.New(rand.NewPCG(1, 2))
				sender.fault = func(p []byte) []byte {
					if blocks++; blocks > 5 && len(p) > smallBlock {
						return faults[name](random, p)
					}
					return p
				}
			},
		)
		require.Error(t, o.sendErr, name)
		require.Error(t, o.receiveErr, name)
		assert.True(t, errors.Is(o.sendErr, transfer.ErrGaveUp) || errors.Is(o.receiveErr, transfer.ErrGaveUp),
			"%s: %v / %v", name, o.sendErr, o.receiveErr)
	}
}

func TestNoSuccessWithoutTheEndAcknowledged(t *testing.T) {
	o := exchange(t, one(payload(3000)), Options{Variant: XMODEM}, Options{}, func(sender, _ *end) {
		sender.fault = func(p []byte) []byte {
			if len(p) == 1 && p[0] == eot {
				return nil
			}
			return p
		}
	})
	require.Error(t, o.sendErr)
	require.ErrorIs(t, o.receiveErr, transfer.ErrGaveUp)
}

func TestRepeatedBlocksAreTakenOnce(t *testing.T) {
	want := payload(9000)
	o := exchange(t, one(want), Options{Variant: XMODEM1K}, Options{}, func(sender, _ *end) {
		sender.fault = func(p []byte) []byte { return faults["duplicate"](nil, p) }
	})
	require.NoError(t, errors.Join(o.sendErr, o.receiveErr))
	requirePadded(t, want, o.sinks[0].Bytes())
}

func TestReceiverCancels(t *testing.T) {
	full := errors.New("the store is full")
	synctest.Test(t, func(t *testing.T) {
		sender, receiver := pair()
		failed := make(chan error, 1)
		go func() {
			_, err := Receive(t.Context(), receiver,
				func(Header) (io.WriteCloser, error) { return fullStore{full}, nil }, Options{})
			failed <- err
		}()
		_, err := Send(t.Context(), sender, one(payload(4000)), Options{})
		require.ErrorIs(t, err, transfer.ErrCancelled)
		require.ErrorIs(t, <-failed, full)
	})
}

type fullStore struct{ err error }

func (s fullStore) Write([]byte) (int, error) { return 0, s.err }
func (s fullStore) Close() error              { return nil }

// TestCancelFallsBetweenBlocks holds the promise that the line is usable at once: the receiver is not
// inside a block when it is reported, and nothing of the file follows.
func TestCancelFallsBetweenBlocks(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		sender, receiver := pair()
		ctx, cancel := context.WithCancel(t.Context())
		failed := make(chan error, 1)
		go func() {
			_, err := Receive(t.Context(), receiver, func(Header) (io.WriteCloser, error) { return &sink{}, nil },
				Options{})
			failed <- err
		}()
		blocks := 0
		_, err := Send(
			ctx,
			sender,
			one(payload(100_000)),
			Options{Variant: XMODEM1K, Progress: func(transfer.Progress) {
				if blocks++; blocks == 20 {
					cancel()
				}
			}},
		)
		require.ErrorIs(t, err, context.Canceled)
		require.ErrorIs(t, <-failed, transfer.ErrCancelled)
		left := receiver.rest
		for len(receiver.in) > 0 {
			left = append(left, <-receiver.in...)
		}
		assert.Subset(t, []byte{can, bs}, left, "only the rest of the cancel is left on the line")
	})
}

// TestWhatFollowsIsGivenBack has a prompt arrive in one piece with the last answer.
func TestWhatFollowsIsGivenBack(t *testing.T) {
	o := exchange(t, one(payload(10)), Options{}, Options{}, func(_, receiver *end) {
		receiver.fault = func(p []byte) []byte {
			if p[0] == ack && len(receiver.in) == 0 {
				return append(p, "sill: "...)
			}
			return p
		}
	})
	require.NoError(t, o.sendErr)
	assert.Equal(t, "sill: ", string(o.sender.rest))
}

func TestLostLineEndsAtOnce(t *testing.T) {
	gone := errors.New("unplugged")
	_, err := Send(t.Context(), brokenPort{gone}, one(payload(10)), Options{})
	require.ErrorIs(t, err, gone)
	_, err = Receive(t.Context(), brokenPort{gone}, func(Header) (io.WriteCloser, error) { return &sink{}, nil },
		Options{})
	require.ErrorIs(t, err, gone)
}

type brokenPort struct{ err error }

func (p brokenPort) Read(context.Context, []byte, time.Duration) (int, error) { return 0, p.err }
func (p brokenPort) Write(context.Context, []byte) error                      { return p.err }

func TestMissingBlockIsNoticed(t *testing.T) {
	sent := 0
	o := exchange(t, one(payload(2000)), Options{}, Options{}, func(sender, receiver *end) {
		sender.fault = func(p []byte) []byte {
			if sent++; sent == 4 {
				return frame(nil, 9, payload(smallBlock), false)
			}
			return p
		}
	})
	require.ErrorIs(t, o.receiveErr, errLost)
	require.ErrorIs(t, o.sendErr, transfer.ErrCancelled)
}

func FuzzHeader(f *testing.F) {
	f.Add([]byte("tern.brm\x00123 14077777777 100644\x00"))
	f.Add([]byte{0})
	f.Add([]byte("x\x00-5"))
	f.Fuzz(func(t *testing.T, block []byte) {
		h, last, err := parseHeader(block)
		if err == nil && !last {
			assert.NotEmpty(t, h.Name)
			assert.GreaterOrEqual(t, h.Size, int64(-1))
		}
	})
}

func FuzzReceiver(f *testing.F) {
	f.Add(frame(nil, 1, payload(smallBlock), false))
	f.Add([]byte{soh, 1, 254, 'x', eot, eot, can, can})
	f.Fuzz(func(t *testing.T, wire []byte) {
		synctest.Test(t, func(t *testing.T) {
			sender, receiver := pair()
			sender.out <- append(wire, can, can)
			out := &sink{}
			_, err := Receive(t.Context(), receiver, func(Header) (io.WriteCloser, error) { return out, nil },
				Options{Retries: 2, Answer: time.Second, StartWait: 5 * time.Second})
			if err == nil {
				assert.Zero(t, out.Len()%smallBlock)
			}
		})
	})
}
