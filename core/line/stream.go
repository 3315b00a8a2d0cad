package line

import (
	"context"
	"io"
	"sync"
	"time"

	"pilotrix/core/clock"
)

// stream is the Line that every kind builds on: a goroutine that reads and stamps, one that writes.
type stream struct {
	target Target
	wire   io.ReadWriteCloser
	clock  clock.Clock
	lost   func(error) error // says in our words why a read failed

	chunks chan Chunk
	writes chan write
	done   chan struct{}

	closing  sync.Once
	closeErr error

	mu  sync.Mutex
	err error
}

type write struct {
	data []byte
	done chan error
}

const (
	readBuffer = 64 << 10
	readRoom   = 8 << 10 // a new buffer is begun when less than this is left
)

func newStream(target Target, wire io.ReadWriteCloser, c clock.Clock, lost func(error) error) *stream {
	s := &stream{
		target: target, wire: wire, clock: c, lost: lost,
		chunks: make(chan Chunk, 64),
		writes: make(chan write),
		done:   make(chan struct{}),
	}
	go s.read()
	go s.write()
	return s
}

func (s *stream) Chunks() <-chan Chunk { return s.chunks }
func (s *stream) Target() Target       { return s.target }

func (s *stream) Err() error {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.err
}

// read owns the chunk channel. Each chunk keeps its part of the buffer; the buffer is never reused.
func (s *stream) read() {
	defer close(s.chunks)
	buffer := make([]byte, readBuffer)
	for {
		if len(buffer) < readRoom {
			buffer = make([]byte, readBuffer)
		}
		n, err := s.wire.Read(buffer)
		if n > 0 {
			chunk := Chunk{At: s.clock.Now(), Bytes: buffer[:n:n]}
			buffer = buffer[n:]
			select {
			case s.chunks <- chunk:
			case <-s.done:
				return
			}
		}
		if err != nil {
			s.fail(err)
			return
		}
	}
}

func (s *stream) fail(err error) {
	select {
	case <-s.done:
		return
	default:
	}
	s.mu.Lock()
	s.err = s.lost(err)
	s.mu.Unlock()
}

func (s *stream) write() {
	for {
		select {
		case w := <-s.writes:
			w.done <- writeAll(s.wire, w.data)
		case <-s.done:
			return
		}
	}
}

// writeAll goes on after a short write, as some drivers make them.
func writeAll(to io.Writer, p []byte) error {
	for len(p) > 0 {
		n, err := to.Write(p)
		if err != nil {
			return err
		}
		if n <= 0 {
			return io.ErrShortWrite
		}
		p = p[n:]
	}
	return nil
}

func (s *stream) Write(ctx context.Context, p []byte) error {
	w := write{data: p, done: make(chan error, 1)}
	select {
	case s.writes <- w:
	case <-ctx.Done():
		return ctx.Err()
	case <-s.done:
		return &Error{Target: s.target, Reason: ErrClosed}
	}
	select {
	case err := <-w.done:
		if err != nil {
			return s.lost(err)
		}
		return nil
	case <-ctx.Done():
		s.free(w.done)
		return ctx.Err()
	case <-s.done:
		return &Error{Target: s.target, Reason: ErrClosed}
	}
}

// freeLimit is how long a driver may take to let go of what it holds.
const freeLimit = 200 * time.Millisecond

// free drops what the driver holds and does not send, so that a write that was given up neither keeps later
// ones waiting nor goes out after them.
func (s *stream) free(done <-chan error) {
	let := func() {}
	switch wire := s.wire.(type) {
	case interface{ ResetOutputBuffer() error }:
		let = func() { _ = wire.ResetOutputBuffer() }
	case interface{ SetWriteDeadline(time.Time) error }:
		_ = wire.SetWriteDeadline(time.Now())
		defer func() { _ = wire.SetWriteDeadline(time.Time{}) }()
	default:
		return
	}
	limit := time.NewTimer(freeLimit)
	defer limit.Stop()
	let()
	select {
	case <-done:
		let() // what the driver took after the first time
	case <-limit.C:
	}
}

func (s *stream) Close() error {
	s.closing.Do(func() {
		close(s.done)
		closed := make(chan error, 1)
		go func() { closed <- s.wire.Close() }()
		limit := time.NewTimer(CloseLimit)
		defer limit.Stop()
		select {
		case s.closeErr = <-closed:
		case <-limit.C:
			s.closeErr = &Error{
				Target: s.target,
				Remedy: "the driver did not let go of it in time; it is left to the system",
			}
		}
	})
	return s.closeErr
}
