package xmodem

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"time"

	"pilotrix/core/carrier"
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
func Send(ctx context.Context, port carrier.Port, files []File, opt Options) (Result, error) {
	s := &sender{conn: newConn(port, opt), size: opt.Variant.Block()}
	err := s.sendAll(ctx, files)
	if err != nil && !errors.Is(err, carrier.ErrCancelled) {
		s.cancel(ctx)
	}
	return s.finish(), err
}

// sender is the state of one sending side. Frames go out with a context of their own, so that a
// cancel falls between two blocks.
type sender struct {
	*conn
	size     int // of the blocks being sent now
	checksum bool
	stream   bool
	clean    int // small blocks in a row without a retry
	calm     int // of them until large blocks are tried again; doubles each time that fails
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

// awaitStart waits for the receiver to say how it wants its blocks.
func (s *sender) awaitStart(ctx context.Context, wait time.Duration) error {
	s.tell("awaiting the receiver")
	deadline := s.opt.Clock.Now().Add(wait)
	cancels := 0
	for {
		b, err := s.next(ctx, deadline.Sub(s.opt.Clock.Now()))
		if errors.Is(err, carrier.ErrSilent) {
			return fmt.Errorf("the receiver did not ask for the file within %s: %w", wait, err)
		}
		if err != nil {
			return err
		}
		if b == can {
			if cancels++; cancels == 2 {
				return carrier.ErrCancelled
			}
			continue
		}
		cancels = 0
		switch b {
		case crc, nak, str:
			s.checksum, s.stream = b == nak, b == str
			return s.dropStarts(ctx)
		}
	}
}

// dropStarts forgets further requests that came while nobody answered, without waiting for more.
func (s *sender) dropStarts(ctx context.Context) error {
	err := s.drop(ctx, time.Millisecond)
	if err == nil && s.checksum {
		s.size = smallBlock // blocks of 1024 bytes are defined with CRC-16 only
	}
	return err
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
	return s.sendBlock(ctx, block)
}

func (s *sender) sendFile(ctx context.Context, file File) error {
	s.progress.File, s.progress.Size, s.progress.Bytes = file.Name, max(file.Size, 0), 0
	s.meter.Start()
	data := bufio.NewReaderSize(carrier.Whole(file.Data, file.Size), 2*largeBlock)
	block := make([]byte, largeBlock)
	for {
		n, err := s.fill(data, block)
		if err != nil {
			return fmt.Errorf("reading %s: %w", file.Name, err)
		}
		if n == 0 {
			return s.endFile(ctx)
		}
		size := blockFor(n)
		for i := n; i < size; i++ {
			block[i] = pad
		}
		s.result.Padding += size - n
		if err := s.sendBlock(ctx, block[:size]); err != nil {
			return err
		}
		s.progress.Bytes += int64(n)
		s.result.Bytes += int64(n)
		s.tell("sending")
	}
}

// fill reads the data of the next block: a whole one, or what is left up to a small one, so that the
// end of a file is never padded by more than 127 bytes.
func (s *sender) fill(data *bufio.Reader, block []byte) (int, error) {
	ahead, err := data.Peek(s.size)
	if err != nil && !errors.Is(err, io.EOF) {
		return 0, err
	}
	n := len(ahead)
	if n < s.size {
		n = min(n, smallBlock)
	}
	return io.ReadFull(data, block[:n])
}

func blockFor(n int) int {
	if n <= smallBlock {
		return smallBlock
	}
	return largeBlock
}

// sendBlock sends one block until it is acknowledged, then counts its number on (255 is followed by
// 0).
func (s *sender) sendBlock(ctx context.Context, data []byte) error {
	s.out = frame(s.out[:0], s.number, data, s.checksum)
	tries, err := s.until(ctx, fmt.Sprintf("block %d", s.result.Blocks+1), s.out)
	if err != nil {
		return err
	}
	if tries > 1 { // an answer too many would be taken for the next block's
		if err := s.drop(ctx, settle); err != nil {
			return err
		}
	}
	s.number++
	s.result.Blocks++
	s.adapt(len(data), tries)
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
	s.tell("awaiting the receiver's word on the end")
	if err := s.drop(ctx, settle); err != nil { // an answer too many must not pass for this one
		return err
	}
	stream := s.stream
	s.stream = false // the end is always answered
	_, err := s.until(ctx, "the end of the file", []byte{eot})
	s.stream = stream
	return err
}

// endBatch sends the empty header. Every file was acknowledged by then, so a receiver that has gone
// on instead of asking for it, or whose answer is lost, changes nothing.
func (s *sender) endBatch(ctx context.Context) error {
	err := s.awaitStart(ctx, startEvery+betweenBytes)
	if err == nil {
		s.number, s.stream = 0, false
		s.opt.Answer = startEvery
		err = s.sendBlock(ctx, make([]byte, smallBlock))
	}
	if errors.Is(err, carrier.ErrSilent) || errors.Is(err, errAgain) {
		return ctx.Err()
	}
	return err
}

// until writes what until it is acknowledged and says how many tries it took.
func (s *sender) until(ctx context.Context, name string, what []byte) (tries int, err error) {
	silent := 0
	for tries = 1; ; tries++ {
		if err := ctx.Err(); err != nil {
			return tries, err
		}
		if err := s.port.Write(context.WithoutCancel(ctx), what); err != nil {
			return tries, err
		}
		if s.stream {
			return tries, s.objection(ctx)
		}
		err := s.answer(ctx)
		switch {
		case err == nil:
			return tries, nil
		case !errors.Is(err, errAgain):
			return tries, fmt.Errorf("%s: %w", name, err)
		case errors.Is(err, errNoWord):
			silent++
		default:
			silent = 0
		}
		if tries > s.opt.Retries || (silent > s.opt.Silence && s.opt.Silence > 0) {
			return tries, gaveUp(name, tries, err)
		}
		if len(what) > 1 { // an end of file is asked for twice as a rule
			s.result.Again++
		}
		s.tell("sending again")
	}
}

var (
	errAgain   = errors.New("not acknowledged")
	errRefused = fmt.Errorf("%w: the receiver found an error in it", errAgain)
	errNoWord  = fmt.Errorf("%w: no answer in time", errAgain)
	errUnclear = fmt.Errorf("%w: the answer was unclear", errAgain)
)

// answer waits for the receiver's word on what was sent last. A byte that is no answer is most
// likely a broken one, so the wait for more is short after it. When ctx ends meanwhile, what is in
// flight may still arrive and be answered, so that a cancel finds the receiver between two blocks.
func (s *sender) answer(ctx context.Context) error {
	deadline := s.opt.Clock.Now().Add(s.opt.Answer + s.opt.Answer/2) // the receiver complains first
	sooner := func(wait time.Duration) {
		if soon := s.opt.Clock.Now().Add(wait); soon.Before(deadline) {
			deadline = soon
		}
	}
	silent, cancels := errNoWord, 0
	for {
		b, err := s.next(ctx, deadline.Sub(s.opt.Clock.Now()))
		switch {
		case errors.Is(err, carrier.ErrSilent):
			return silent
		case err != nil && ctx.Err() != nil:
			ctx = context.WithoutCancel(ctx)
			sooner(cancelLimit)
			continue
		case err != nil:
			return err
		}
		if b == can {
			if cancels++; cancels == 2 {
				return carrier.ErrCancelled
			}
			continue
		}
		cancels = 0
		switch b {
		case ack:
			return nil
		case nak:
			return errRefused
		case crc, str:
			if s.progress.Bytes == 0 { // it still asks for the start: the first block was lost
				return errRefused
			}
		default:
			silent = errUnclear
			sooner(unclearWait)
		}
	}
}

// objection looks whether a streaming receiver wants us to stop.
func (s *sender) objection(ctx context.Context) error {
	b, err := s.next(ctx, time.Microsecond)
	if err == nil && b == can {
		return carrier.ErrCancelled
	}
	if errors.Is(err, carrier.ErrSilent) {
		return nil
	}
	return err
}
