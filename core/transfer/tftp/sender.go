package tftp

import (
	"context"
	"errors"
	"fmt"
	"io"
	"time"

	"pilotrix/core/transfer"
)

// sender is the half of a transfer that has the file. Blocks are numbered from 1 without end here; the
// wire carries the low 16 bits of that, so that a file of any size goes through.
type sender struct {
	*peer
	numbering
	asked  int // how often the receiver has asked for the block whose number rolls over
	terms  Terms
	source io.Reader
	moved  func(blocks, bytes int64, again int)
	began  func(packet []byte) // called with the first block that goes out; may be nil

	slots   []byte // one packet a slot: the blocks that may have to be sent again, and one read ahead
	length  []int  // of each slot's packet
	base    int64  // the first block that was not acknowledged
	next    int64  // the first block that was not read yet
	last    int64  // the file's last block, 0 until it is read
	highest int64  // the last block that was sent at all
	resent  int64  // the base that was sent again because the receiver asked for it
	again   int
	bytes   int64 // acknowledged
	trips   pace
	rounds  int
	sentAt  time.Time // of the wall
}

func newSender(p *peer, terms Terms, source io.Reader, moved func(blocks, bytes int64, again int)) *sender {
	slots := terms.Window + 1
	return &sender{
		peer: p, terms: terms, source: source, moved: moved, base: 1, next: 1, trips: pace{agreed: terms.Timeout},
		slots: make([]byte, slots*(headSize+terms.Block)), length: make([]int, slots),
	}
}

// slot is a block's packet. Blocks further apart than the window have the same.
func (s *sender) slot(block int64) []byte {
	i, size := int(block)%len(s.length), headSize+s.terms.Block
	return s.slots[i*size : (i+1)*size]
}

func (s *sender) size(block int64) *int { return &s.length[int(block)%len(s.length)] }

// run sends the file. It returns when the last block was acknowledged.
func (s *sender) run(ctx context.Context) error {
	tries, progress := 0, s.clock.Now()
	for from := s.base; ; {
		if err := s.sendFrom(from); err != nil {
			return err
		}
		got, err := s.acknowledgement(ctx)
		switch {
		case errors.Is(err, errSilent):
			if tries++; s.base == 1 && tries > s.retries || s.gaveUp(tries, progress) {
				return s.unacknowledged()
			}
			s.trips.backOff++
			from, s.resent = s.base, 0
			if s.holdsBack(tries) {
				from = s.end() // nothing
			}
			continue
		case err != nil:
			return err
		case s.last != 0 && got == s.last:
			s.advance(got)
			return nil
		case got >= s.base:
			if s.rounds++; s.rounds%16 == 1 && tries == 0 { // a sample now and then is enough
				s.trips.seen(time.Duration(float64(time.Since(s.sentAt)) * s.clock.Scale()))
			}
			tries, s.trips.backOff = 0, 0
			progress = s.clock.Now()
			s.advance(got)
		}
		from = s.base // what the receiver missed of the window, and what follows
	}
}

func (s *sender) unacknowledged() error {
	words := ""
	if rollsOver(s.base) {
		words = rolloverText
	}
	return fmt.Errorf("%w: block %d was not acknowledged%s", transfer.ErrGaveUp, s.base, words)
}

// sendFrom sends the blocks from there to the window's end, each as soon as it is read, then reads one
// ahead: that one is read while the others travel.
func (s *sender) sendFrom(from int64) error {
	s.sentAt = time.Now()
	for block := from; block < s.base+int64(s.terms.Window); block++ {
		if err := s.readTo(block + 1); err != nil {
			return err
		}
		if block == s.next {
			return nil // behind the file's end
		}
		if err := s.send(block); err != nil {
			return err
		}
	}
	return s.readTo(s.base + int64(len(s.length)))
}

// readTo reads blocks up to, not with, that one or the file's end. A block shorter than the others, the
// empty one too, is the last (RFC 1350 §6).
func (s *sender) readTo(end int64) error {
	for s.last == 0 && s.next < end {
		slot := s.slot(s.next)
		n, err := io.ReadFull(s.source, slot[headSize:])
		if err != nil && err != io.EOF && err != io.ErrUnexpectedEOF {
			s.refuse(CodeOther, "the file could not be read on")
			return fmt.Errorf("reading the file: %w", err)
		}
		*s.size(s.next) = headSize + n
		if n < s.terms.Block {
			s.last = s.next
		}
		s.next++
	}
	return nil
}

// end is the first block behind the window.
func (s *sender) end() int64 { return min(s.next, s.base+int64(s.terms.Window)) }

func (s *sender) send(block int64) error {
	size := *s.size(block)
	putHead(s.slot(block), opData, s.number(block))
	if err := s.write(s.slot(block)[:size]); err != nil {
		return err
	}
	if s.highest == 0 && s.began != nil {
		s.began(s.slot(block)[:size])
	}
	again := block <= s.highest
	if again {
		s.again++
	}
	s.highest = max(s.highest, block)
	s.message(false, "DATA", block, size-headSize, again, "")
	return nil
}

// wakeAfter is how long after a block its acknowledgement of the previous one is no copy of an old one.
const wakeAfter = 500 * time.Millisecond

// acknowledgement waits for one that means something: of a block of the window, or, in windows of more
// than one block, once of the block before it, which says that the window's first block is missing.
// The acknowledgement of the block before that comes long after the last packet is a receiver's own reminder.
// Copies of old acknowledgements are passed over: answering each with a block would double every packet
// from there on (RFC 1123 §4.2.3.1). One that comes sooner than a round trip can be is a copy.
func (s *sender) acknowledgement(ctx context.Context) (int64, error) {
	deadline := s.within(s.trips.wait())
	for {
		got, err := s.read(ctx, deadline)
		if err != nil {
			return 0, err
		}
		if got.op != opAck {
			continue // such as an answer to the request that came twice
		}
		block := s.nearest(s.base-1, got.block)
		s.message(true, "ACK", block, 0, block < s.base, "")
		switch {
		case block >= s.base && block < s.end():
			return block, nil
		case block == s.base-1 && s.base > 1 && time.Since(s.sentAt) > s.clock.Wall(max(4*s.trips.smooth, wakeAfter)):
			if s.waitsAtRollover() {
				continue
			}
			return block, nil // it waits for the block: it has missed every copy, busy with something else
		case block == s.base-1 && s.terms.Window > 1 && s.resent != s.base && time.Since(s.sentAt) > s.clock.Wall(s.trips.smooth/2):
			s.resent = s.base
			return block, nil
		}
	}
}

// waitsAtRollover counts how often a receiver asks for the block whose number rolls over, and has it sent with the
// other number once it is sure that this receiver passes over the one that was sent. It reports whether nothing is to
// be sent for now. Blocks of windows come together, so that one numbered 1 would be taken for another there: those have
// number 0.
func (s *sender) waitsAtRollover() bool {
	if !rollsOver(s.base) || s.terms.Window > 1 {
		return false
	}
	if s.asked++; s.asked == asksAtRollover {
		s.asked, s.afterIsOne = 0, !s.afterIsOne
		s.message(false, "remark", s.base, 0, false,
			fmt.Sprintf("it does not take the block after number 65535 with the number it was sent; sent as %d",
				s.number(s.base)))
	}
	return s.asked == asksAtRollover-1
}

// advance moves the window behind an acknowledged block.
func (s *sender) advance(acknowledged int64) {
	for block := s.base; block <= acknowledged; block++ {
		s.bytes += int64(*s.size(block) - headSize)
	}
	s.base = acknowledged + 1
	if s.moved != nil {
		s.moved(acknowledged, s.bytes, s.again)
	}
}
