package xmodem

import (
	"context"
	"errors"
	"fmt"
	"io"
	"time"

	"pilotrix/core/transfer"
)

// Create opens the place for a received file. XMODEM does not say a name: its Header is empty with
// Size -1.
type Create func(Header) (io.WriteCloser, error)

// Receive takes one file (XMODEM) or a batch (YMODEM) and returns when the sender has ended it.
//
// XMODEM does not say the size: what is written ends with up to 127 (or 1023) bytes of padding.
// YMODEM says the size and the padding is left off. On an error both sides end: the sender is reported.
func Receive(ctx context.Context, port transfer.Duplex, create Create, opt Options) (Result, error) {
	r := &receiver{conn: newConn(port, opt), create: create}
	err := r.receiveAll(ctx)
	if err != nil && !errors.Is(err, transfer.ErrCancelled) {
		r.cancel(ctx)
	}
	return r.finish(), err
}

// receiver is the state of one receiving side.
type receiver struct {
	*conn
	create   Create
	checksum bool
	stream   bool
	block    [largeBlock + 4]byte
}

// Events of the wire, besides a block.
var (
	errEnd    = errors.New("end of file")
	errBroken = errors.New("a broken block")
	errLost   = errors.New("a block is missing")
)

func (r *receiver) receiveAll(ctx context.Context) error {
	r.stream = r.opt.Variant == Streaming
	if !r.opt.Variant.Batch() {
		return r.receiveFile(ctx, Header{Name: r.opt.File, Size: -1})
	}
	for {
		data, err := r.first(ctx, 0)
		if err != nil {
			return err
		}
		header, last, err := parseHeader(data)
		if err != nil {
			return err
		}
		if err := r.send(ctx, ack); err != nil || last {
			return err
		}
		if err := r.receiveFile(ctx, header); err != nil {
			return err
		}
	}
}

// starter is the character that asks for the start, for the nth time. After a few requests for CRCs
// a sender that knows only sums gets its turn too.
func (r *receiver) starter(ask int) byte {
	switch {
	case r.stream:
		return str
	case r.opt.Checksum, ask >= crcAsks && ask%2 == 0 && !r.opt.Variant.Batch():
		return nak
	}
	return crc
}

// first asks for the start until block number arrives.
func (r *receiver) first(ctx context.Context, number byte) ([]byte, error) {
	r.report("asking the sender to begin")
	asks := int(r.opt.StartWait/startEvery) + 1
	var last error = transfer.ErrSilent
	for ask := range asks {
		start := r.starter(ask)
		r.checksum = start == nak
		if err := r.send(ctx, start); err != nil {
			return nil, err
		}
		data, got, err := r.nextBlock(ctx, startEvery)
		switch {
		case err == nil && got == number:
			return data, nil
		case err == nil && got == number-1: // our answer to the header was lost
			last = r.send(ctx, ack)
		case err == nil:
			last = fmt.Errorf("%w: began with block %d", errLost, got)
		case errors.Is(err, errEnd) && number == 1:
			if last = r.confirmEnd(ctx); !errors.Is(last, errBroken) {
				return nil, last
			}
			if err := r.drop(ctx, settle); err != nil {
				return nil, err
			}
		case errors.Is(err, errEnd): // our answer to the last file's end was lost
			last = r.send(ctx, ack)
		case isFinal(err):
			return nil, err
		default:
			last = err
			if err := r.drop(ctx, settle); err != nil {
				return nil, err
			}
		}
	}
	return nil, gaveUp("the sender did not begin", asks, last)
}

func (r *receiver) receiveFile(ctx context.Context, header Header) (err error) {
	out, err := r.create(header)
	if err != nil {
		return err
	}
	defer func() {
		if closeErr := out.Close(); err == nil {
			err = closeErr
		}
	}()
	r.progress.File, r.progress.Size, r.progress.Bytes = header.Name, max(header.Size, 0), 0
	data, err := r.first(ctx, 1)
	if errors.Is(err, errEnd) {
		return r.ended(ctx, header)
	}
	r.meter.Start()
	for number := byte(1); ; number++ {
		if err != nil {
			return err
		}
		if err := r.keep(out, header, data); err != nil {
			return err
		}
		if !r.stream {
			if err := r.send(ctx, ack); err != nil {
				return err
			}
		}
		data, err = r.following(ctx, number)
		if errors.Is(err, errEnd) {
			return r.ended(ctx, header)
		}
	}
}

// ErrCutShort says that a file ended before the size that its sender had said.
var ErrCutShort = errors.New("the file is cut short")

// ended acknowledges the end of a file that is whole.
func (r *receiver) ended(ctx context.Context, header Header) error {
	if header.Size >= 0 && r.progress.Bytes < header.Size {
		return fmt.Errorf("%w: %s ended after %d of %d B", ErrCutShort, header.Name, r.progress.Bytes, header.Size)
	}
	return r.acknowledgeEnd(ctx)
}

// keep writes a block, without what lies beyond the size that the header said.
func (r *receiver) keep(out io.Writer, header Header, data []byte) error {
	r.result.Blocks++
	if header.Size >= 0 {
		rest := header.Size - r.progress.Bytes
		if int64(len(data)) > rest {
			r.result.Padding += len(data) - int(rest)
			data = data[:rest]
		}
	}
	if _, err := out.Write(data); err != nil {
		return fmt.Errorf("keeping %s: %w", header.Name, err)
	}
	r.progress.Bytes += int64(len(data))
	r.result.Bytes += int64(len(data))
	r.report("receiving")
	return nil
}

// following takes the block after number, asking again for a broken one and answering a repeated
// one. Whatever went wrong, it asks once the line is quiet, so that one block never gets two answers.
func (r *receiver) following(ctx context.Context, number byte) ([]byte, error) {
	for tries := 1; ; {
		data, got, err := r.nextBlock(ctx, r.opt.Answer)
		switch {
		case err == nil && got == number+1:
			return data, nil
		case err == nil && got == number:
			if err := r.send(ctx, ack); err != nil { // our answer to it was lost
				return nil, err
			}
			tries = 1 // the sender is there, and the line carries blocks
			continue
		case err == nil:
			return nil, fmt.Errorf("%w: block %d came after %d", errLost, got, number)
		case errors.Is(err, errEnd):
			if err := r.confirmEnd(ctx); !errors.Is(err, errBroken) {
				return nil, err
			}
		case isFinal(err):
			return nil, err
		case r.stream:
			return nil, fmt.Errorf("%w, and a streaming sender does not repeat", err)
		case tries >= r.opt.Retries:
			return nil, gaveUp(fmt.Sprintf("block %d", r.result.Blocks+1), tries, err)
		}
		tries++
		r.result.Resent++
		r.report("asking again")
		if err := r.askAgain(ctx); err != nil {
			return nil, err
		}
	}
}

func (r *receiver) askAgain(ctx context.Context) error {
	if err := r.drop(ctx, settle); err != nil {
		return err
	}
	return r.send(ctx, nak)
}

// confirmEnd makes sure of an end of file, which is one byte without a check: it must come alone,
// and once more when it is refused. It returns errEnd when it did, errBroken when something else
// came.
func (r *receiver) confirmEnd(ctx context.Context) error {
	for tries := 1; tries <= r.opt.Retries; tries++ {
		if err := r.askAgain(ctx); err != nil {
			return err
		}
		b, err := r.next(ctx, r.opt.Answer)
		switch {
		case err == nil && b == eot:
			return errEnd
		case err == nil:
			return errBroken
		case !errors.Is(err, transfer.ErrSilent):
			return err
		}
	}
	return gaveUp("the end of the file", r.opt.Retries, transfer.ErrSilent)
}

// isFinal reports whether an error ends the transfer at once.
func isFinal(err error) bool {
	return !errors.Is(err, errBroken) && !errors.Is(err, transfer.ErrSilent) && !errors.Is(err, errEnd)
}

// nextBlock reads one block, skipping what is no beginning of one.
func (r *receiver) nextBlock(ctx context.Context, wait time.Duration) (data []byte, number byte, err error) {
	var cancels cancels
	deadline := r.opt.Clock.Now().Add(wait)
	for {
		b, err := r.next(ctx, deadline.Sub(r.opt.Clock.Now()))
		if err != nil {
			return nil, 0, err
		}
		if ok, err := cancels.heard(b); err != nil {
			return nil, 0, err
		} else if ok {
			continue
		}
		switch b {
		case eot:
			return nil, 0, errEnd
		case soh:
			return r.body(ctx, smallBlock)
		case stx:
			return r.body(ctx, largeBlock)
		}
	}
}

// body reads the rest of a block of that size.
func (r *receiver) body(ctx context.Context, size int) ([]byte, byte, error) {
	tail := 2
	if r.checksum {
		tail = 1
	}
	rest := r.block[:2+size+tail]
	err := r.full(ctx, rest)
	if errors.Is(err, transfer.ErrSilent) {
		return nil, 0, fmt.Errorf("%w: it ended early", errBroken)
	}
	if err != nil {
		return nil, 0, err
	}
	data, check := rest[2:2+size], rest[2+size:]
	switch {
	case rest[0] != ^rest[1]:
		return nil, 0, fmt.Errorf("%w: its number and complement differ", errBroken)
	case r.checksum && check[0] != sum8(data):
		return nil, 0, fmt.Errorf("%w: its sum differs", errBroken)
	case !r.checksum && crc16(data) != uint16(check[0])<<8|uint16(check[1]):
		return nil, 0, fmt.Errorf("%w: its CRC differs", errBroken)
	}
	return data, rest[0], nil
}

// acknowledgeEnd answers the end of the file. With Linger, a sender whose last answer was lost is
// answered once more.
func (r *receiver) acknowledgeEnd(ctx context.Context) error {
	if err := r.send(ctx, ack); err != nil || r.opt.Variant.Batch() {
		return err // in a batch the request for the next header follows
	}
	for {
		b, err := r.next(ctx, r.opt.Linger)
		switch {
		case err != nil:
			return nil // the sender has gone on
		case b == eot:
			if err := r.send(ctx, ack); err != nil {
				return err
			}
		}
	}
}
