package xmodem

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"time"

	"pilotrix/core/transfer"
)

// File is one file to send.
type File struct {
	Header
	Data io.Reader
}

// Send sends files: one for the XMODEM variants, any number for YMODEM. It returns without an error
// only when the receiver has acknowledged the end of every file.
//
// When ctx ends, the block in flight is finished (a receiver does not see a cancel inside a block),
// the receiver is told to stop, and ctx's error is returned; the line is usable at once.
func Send(ctx context.Context, port transfer.Duplex, files []File, opt Options) (Result, error) {
	s := &sender{conn: newConn(port, opt), size: opt.Variant.Block()}
	err := s.sendAll(ctx, files)
	if err != nil && !errors.Is(err, transfer.ErrCancelled) {
		s.cancel(ctx)
	}
	return s.finish(), err
}

// sender is the state of one sending side. Frames go out with a context of their own, so that a
// cancel falls between two blocks.
type sender struct {
	*conn
	answers
	size     int // of the blocks being sent now
	checksum bool
	stream   bool
	started  bool // block 1 of this file was acknowledged
	request  byte // the latest that asked for the start
	refusals int  // of block 1
	clean    int  // small blocks in a row without a retry
	calm     int  // of them until large blocks are tried again; doubles each time that fails
	number   byte
}

func (s *sender) sendAll(ctx context.Context, files []File) error {
	if !s.opt.Variant.Batch() {
		if len(files) != 1 {
			return fmt.Errorf("%s sends one file at a time, got %d", s.opt.Variant, len(files))
		}
		if err := s.awaitStart(ctx, s.opt.StartWait); err != nil {
			return err
		}
		s.number = 1
		return s.sendFile(ctx, files[0])
	}
	for _, file := range files {
		if err := s.sendHeader(ctx, file.Header); err != nil {
			return err
		}
		if err := s.awaitStart(ctx, s.opt.Answer); err != nil {
			return fmt.Errorf("after the header of %s: %w", file.Name, err)
		}
		s.number = 1
		if err := s.sendFile(ctx, file); err != nil {
			return err
		}
	}
	return s.endBatch(ctx)
}

// awaitStart waits for the receiver to say how it wants its blocks. Until block 1 is acknowledged its latest
// request counts.
func (s *sender) awaitStart(ctx context.Context, wait time.Duration) error {
	s.report("awaiting the receiver")
	s.started, s.refusals = false, 0
	deadline := s.opt.Clock.Now().Add(wait)
	var cancels cancels
	streams, asked := false, byte(0)
	for {
		wait := deadline.Sub(s.opt.Clock.Now())
		if asked != 0 {
			wait = asksAlone
		}
		b, err := s.next(ctx, wait)
		if errors.Is(err, transfer.ErrSilent) && asked != 0 {
			s.begin(asked)
			return nil
		}
		if errors.Is(err, transfer.ErrSilent) && streams {
			return fmt.Errorf("the receiver asks for blocks without answers (G) only; choose ymodem-g: %w", err)
		}
		if errors.Is(err, transfer.ErrSilent) {
			return fmt.Errorf("the receiver did not ask for the file within %s: %w", wait, err)
		}
		if err != nil {
			return err
		}
		if ok, err := cancels.heard(b); err != nil {
			return err
		} else if ok {
			continue
		}
		asked = 0
		switch {
		case b == str && s.opt.Variant != Streaming:
			streams = true // a C with one bit flipped, or a receiver that wants what was not chosen
		case b == crc || b == nak || b == str:
			asked = b
		}
	}
}

// begin takes a request: what the blocks are checked by, and whether they are answered.
func (s *sender) begin(request byte) {
	s.request, s.stream = request, request == str
	s.check(request == nak)
}

// check says by what blocks are checked; those of 1024 bytes are defined with CRC-16 only.
func (s *sender) check(sums bool) {
	s.checksum = sums
	if s.size = s.opt.Variant.Block(); sums {
		s.size = smallBlock
	}
}

func (s *sender) sendHeader(ctx context.Context, h Header) error {
	block, err := h.block()
	if err != nil {
		return err
	}
	if err := s.awaitStart(ctx, s.opt.StartWait); err != nil {
		return err
	}
	s.number = 0
	s.progress.File, s.progress.Size, s.progress.Bytes = h.Name, max(h.Size, 0), 0
	return s.sendBlock(ctx, func() ([]byte, error) { return block, nil })
}

func (s *sender) sendFile(ctx context.Context, file File) error {
	s.progress.File, s.progress.Size, s.progress.Bytes = file.Name, max(file.Size, 0), 0
	s.meter.Start()
	data := bufio.NewReaderSize(transfer.Whole(file.Data, file.Size), 2*largeBlock)
	block := make([]byte, largeBlock)
	for {
		n := 0
		cut := func() ([]byte, error) { // again for each copy: block 1 may be asked for in another size
			ahead, err := s.peek(data)
			if err != nil {
				return nil, fmt.Errorf("reading %s: %w", file.Name, err)
			}
			n = copy(block, ahead)
			size := blockFor(n)
			for i := n; i < size; i++ {
				block[i] = pad
			}
			return block[:size], nil
		}
		if ahead, err := s.peek(data); err != nil {
			return fmt.Errorf("reading %s: %w", file.Name, err)
		} else if len(ahead) == 0 {
			return s.endFile(ctx)
		}
		if err := s.sendBlock(ctx, cut); err != nil {
			return err
		}
		_, _ = data.Discard(n)
		s.result.Padding += blockFor(n) - n
		s.progress.Bytes += int64(n)
		s.result.Bytes += int64(n)
		s.report("sending")
	}
}

// peek looks at the data of the next block: a whole one, or what is left up to a small one, so that the
// end of a file is never padded by more than 127 bytes.
func (s *sender) peek(data *bufio.Reader) ([]byte, error) {
	ahead, err := data.Peek(s.size)
	if err != nil && !errors.Is(err, io.EOF) {
		return nil, err
	}
	if len(ahead) < s.size {
		ahead = ahead[:min(len(ahead), smallBlock)]
	}
	return ahead, nil
}

func blockFor(n int) int {
	if n <= smallBlock {
		return smallBlock
	}
	return largeBlock
}

// sendBlock sends one block until it is acknowledged, then counts its number on (255 is followed by
// 0).
func (s *sender) sendBlock(ctx context.Context, cut func() ([]byte, error)) error {
	size := 0
	tries, err := s.until(ctx, fmt.Sprintf("block %d", s.result.Blocks+1), func() ([]byte, error) {
		data, err := cut()
		size = len(data)
		s.out = frame(s.out[:0], s.number, data, s.checksum)
		return s.out, err
	})
	if err != nil {
		return err
	}
	s.started = s.started || s.number == 1
	s.number++
	s.result.Blocks++
	s.adapt(size, tries)
	return nil
}

// adapt sends small blocks on a line with errors: after a block that took several tries, until
// enough in a row passed. The size changes between two block numbers only; a repeated number with
// another size could be taken for a duplicate and its rest be lost.
func (s *sender) adapt(size, tries int) {
	const troubled, firstCalm = 3, 24
	switch {
	case s.checksum || s.opt.Variant == XMODEM:
	case tries >= troubled:
		s.size, s.clean, s.calm = smallBlock, 0, max(firstCalm, 2*s.calm)
	case size == smallBlock && s.size == smallBlock && tries == 1:
		if s.clean++; s.clean >= s.calm {
			s.size = largeBlock
		}
	default:
		s.clean = 0
	}
}

func (s *sender) endFile(ctx context.Context) error {
	s.report("awaiting the receiver's word on the end")
	if err := s.settled(ctx); err != nil { // an answer too many must not pass for this one
		return err
	}
	if err := s.drop(ctx, settle); err != nil {
		return err
	}
	stream := s.stream
	s.stream = false // the end is always answered
	_, err := s.until(ctx, endOfFile, func() ([]byte, error) { return []byte{eot}, nil })
	s.stream = stream
	return err
}

// endBatch sends the empty header. Every file was acknowledged by then, so a receiver that has gone
// on instead of asking for it, or whose answer is lost, changes nothing.
func (s *sender) endBatch(ctx context.Context) error {
	err := s.awaitStart(ctx, startEvery+betweenBytes)
	if err == nil {
		s.number, s.stream = 0, false
		s.opt.Answer, s.opt.TimeLimit = startEvery, 5*startEvery
		err = s.sendBlock(ctx, func() ([]byte, error) { return make([]byte, smallBlock), nil })
	}
	if errors.Is(err, transfer.ErrSilent) || errors.Is(err, errAgain) {
		return ctx.Err()
	}
	return err
}
