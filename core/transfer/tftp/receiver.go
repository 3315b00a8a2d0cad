package tftp

import (
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"time"

	"pilotrix/core/offer"
	"pilotrix/core/transfer"
)

// receiver is the half of a transfer that gets the file.
type receiver struct {
	*peer
	numbering
	offered int // how often the block after number 65535 came with the number 1
	terms   Terms
	sink    io.Writer
	moved   func(blocks, bytes int64, again int)
	hello   []byte // what begins the transfer, sent again until the first block comes: a request, an OACK or nothing

	size     int64     // of the whole, 0 when it was not said
	expected int64     // the next block
	window   int64     // the first block of the window that the sender is in, as far as is known
	missed   int64     // the block that was asked for again because one after it came
	answered time.Time // when the last acknowledgement went out
	again    int
	bytes    int64

	agreed  bool // our options were answered: the other side may not hold to it
	doubted bool // block 1 may be the last one by what was agreed, or the first of many without
}

func newReceiver(p *peer, terms Terms, sink io.Writer, moved func(blocks, bytes int64, again int)) *receiver {
	return &receiver{peer: p, terms: terms, sink: sink, moved: moved, size: max(terms.Size, 0), expected: 1, window: 1}
}

// run receives the file, beginning with a packet that came already, or with none (op 0).
func (r *receiver) run(ctx context.Context, first packet) error {
	wait := pace{agreed: r.terms.Timeout}
	tries, progress := 0, r.clock.Now()
	got := first
	for {
		if got.op == opData {
			took, last, err := r.take(got)
			if err != nil || last {
				return err
			}
			if took {
				tries, wait.backOff = 0, 0
				progress = r.clock.Now()
			}
		}
		var err error
		got, err = r.read(ctx, r.within(wait.wait()))
		switch {
		case errors.Is(err, errSilent) && r.doubted && r.clock.Since(progress) >= maxWait:
			return nil // no second block came: the first was the last one
		case errors.Is(err, errSilent):
			if tries++; r.expected == 1 && tries > r.retries || r.gaveUp(tries, progress) {
				return r.missing()
			}
			wait.backOff++
			if r.holdsBack(tries) {
				got = packet{}
				continue
			}
			if err := r.ask(); err != nil {
				return err
			}
			got = packet{}
		case err != nil:
			return err
		}
	}
}

func (r *receiver) missing() error {
	words := ""
	if rollsOver(r.expected) {
		words = rolloverText
	}
	return fmt.Errorf("%w: block %d did not come%s", transfer.ErrGaveUp, r.expected, words)
}

// ErrCutShort says that a file's end came before the size that was said of it, or after it.
var ErrCutShort = errors.New("the file has not the size that was said")

// ask repeats what the sender may not have heard.
func (r *receiver) ask() error {
	r.again++
	r.missed = 0
	if r.expected == 1 && r.hello != nil {
		return r.write(r.hello)
	}
	return r.acknowledge()
}

// copyGuard is how long an acknowledgement is not repeated for a block that comes twice: a sender that
// missed it waits longer than that before it sends again, a copy that the network made does not.
const copyGuard = 100 * time.Millisecond

// take takes one block. Took reports whether it was the one expected.
func (r *receiver) take(got packet) (took, last bool, err error) {
	r.seesRollover(got)
	block := r.nearest(r.expected, got.block)
	r.message(true, "DATA", block, len(got.data), block < r.expected, "")
	if block == r.expected && r.agreed {
		r.holds(block, len(got.data))
	}
	switch {
	case len(got.data) > r.terms.Block:
		r.refuse(CodeIllegal, "that block is longer than was agreed")
		return false, false, fmt.Errorf("block %d has %d bytes; blocks of %d were agreed", block, len(got.data),
			r.terms.Block)
	case block > r.expected:
		if r.missed == r.expected {
			return false, false, nil
		}
		r.missed = r.expected
		r.again++
		return false, false, r.acknowledge()
	case block < r.expected:
		return false, false, r.copied(block)
	}
	if _, err := r.sink.Write(got.data); err != nil {
		r.refuse(codeOf(err), err.Error())
		return false, false, fmt.Errorf("keeping what came: %w", err)
	}
	r.bytes += int64(len(got.data))
	r.expected++
	last = len(got.data) < r.terms.Block && !r.doubted
	if last && r.size > 0 && r.bytes != r.size {
		err := fmt.Errorf("%w: %d of %d B came", ErrCutShort, r.bytes, r.size)
		r.refuse(CodeOther, err.Error())
		return true, true, err
	}
	if last || block-r.window+1 >= int64(r.terms.Window) {
		err = r.acknowledge()
	}
	if r.moved != nil {
		r.moved(block, r.bytes, r.again)
	}
	return true, last, err
}

// seesRollover sees whether the sender goes on with 1 after number 65535: it waits for the acknowledgement of each
// block, and sends the next but one again and again.
func (r *receiver) seesRollover(got packet) {
	if !rollsOver(r.expected) || r.terms.Window > 1 || r.afterIsOne || got.block != 1 {
		return
	}
	if r.offered++; r.offered >= asksAtRollover-1 {
		r.afterIsOne = true
	}
}

// holds sees whether the other side holds to what was agreed. One that had our request twice may answer the one by
// options and the other without: its blocks are the usual ones then, and its first one would be taken for a whole file.
// A first block of just that length is one of these, or a whole file by what was agreed: where the size that was said
// does not show it, the second one does, or that none comes.
func (r *receiver) holds(block int64, length int) {
	agreed := r.terms.Block
	switch {
	case block == 1 && (length == DefaultBlock && agreed > length || length <= DefaultBlock && length > agreed):
		short := length < agreed
		if r.doubted = short && r.size == 0; !short || r.doubted || r.size > int64(length) {
			r.terms.Block, r.terms.Window = DefaultBlock, 1
			r.message(true, "plain", 0, 0, false, "it agreed to other blocks, and sends the usual ones")
		}
	case block == 2:
		r.doubted = false
	}
}

// copied handles a block that was here before. It says where the sender's window begins; its end is
// acknowledged again, since the sender seems to have missed that.
func (r *receiver) copied(block int64) error {
	r.again++
	if block < 1 {
		return nil
	}
	r.window = min(r.window, block)
	if block != r.expected-1 || block-r.window+1 < int64(r.terms.Window) {
		return nil
	}
	if r.terms.Window > 1 && r.clock.Since(r.answered) < copyGuard {
		return nil
	}
	return r.acknowledge()
}

// acknowledge acknowledges all blocks so far; the sender's next window begins after them.
func (r *receiver) acknowledge() error {
	var out [headSize]byte
	binary.BigEndian.PutUint16(out[:], opAck)
	binary.BigEndian.PutUint16(out[2:], r.number(r.expected-1))
	r.message(false, "ACK", r.expected-1, 0, false, "")
	r.window, r.answered = r.expected, r.clock.Now()
	return r.write(out[:])
}

// linger answers the last block again: its acknowledgement may have been lost (RFC 1350 §6,
// "dallying"). It ends when the sender has been quiet for as long as it may wait a few times.
func (r *receiver) linger(ctx context.Context) {
	// The context is the one whose end wakes the socket: a child of it may end a moment later than the wake,
	// and that one would be lost.
	last := r.within(lingerMost)
	for {
		until := r.within(lingerQuiet)
		if last.Before(until) {
			until = last
		}
		got, err := r.read(ctx, until)
		if err != nil {
			return
		}
		if got.op == opData && got.block == r.number(r.expected-1) {
			_ = r.acknowledge()
		}
	}
}

const (
	lingerQuiet = 3 * maxWait
	lingerMost  = 5 * time.Minute
)

// codeOf is the error code for what went wrong here.
func codeOf(err error) Code {
	switch {
	case errors.Is(err, offer.ErrNotStaged):
		return CodeNotFound
	case errors.Is(err, offer.ErrThere):
		return CodeExists
	case errors.Is(err, offer.ErrTooLarge) || full(err):
		return CodeFull
	case errors.Is(err, offer.ErrNoSlot):
		return CodeAccess
	}
	return CodeOther
}
