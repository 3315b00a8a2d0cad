package bench

import (
	"context"
	"io"
	"sync"
	"sync/atomic"

	"pilotrix/core/clock"
	"pilotrix/core/line"
)

// memoryHost is a line inside the process: for tests in virtual time, and for systems without
// pseudo-terminals. It keeps its speed as a port would.
type memoryHost struct {
	toDevice  *pipe
	toProgram atomic.Pointer[pipe] // a new one each time the program opens its side
	speed     atomic.Int64
}

// pipe is a queue of bytes with an end.
type pipe struct {
	mu     sync.Mutex
	data   []byte
	closed bool
	ready  chan struct{}
}

func newPipe() *pipe { return &pipe{ready: make(chan struct{}, 1)} }

func (p *pipe) wake() {
	select {
	case p.ready <- struct{}{}:
	default:
	}
}

func (p *pipe) Write(data []byte) (int, error) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.closed {
		return 0, io.ErrClosedPipe
	}
	p.data = append(p.data, data...)
	p.wake()
	return len(data), nil
}

func (p *pipe) Read(out []byte) (int, error) {
	for {
		p.mu.Lock()
		n, closed := copy(out, p.data), p.closed
		p.data = p.data[n:]
		p.mu.Unlock()
		switch {
		case n > 0:
			return n, nil
		case closed:
			p.wake()
			return 0, io.EOF
		}
		<-p.ready
	}
}

func (p *pipe) close() {
	p.mu.Lock()
	p.closed = true
	p.mu.Unlock()
	p.wake()
}

func newMemoryHost() *memoryHost {
	h := &memoryHost{toDevice: newPipe()}
	h.toProgram.Store(newPipe())
	h.speed.Store(line.DefaultSpeed)
	return h
}

func (h *memoryHost) Read(p []byte) (int, error)  { return h.toDevice.Read(p) }
func (h *memoryHost) Write(p []byte) (int, error) { return h.toProgram.Load().Write(p) }
func (h *memoryHost) Speed() int                  { return int(h.speed.Load()) }

func (h *memoryHost) Close() error {
	h.toDevice.close()
	h.toProgram.Load().close()
	return nil
}

// memoryLine is the program's side of a memoryHost.
type memoryLine struct {
	line.Line
	host *memoryHost
}

func (h *memoryHost) open(t line.Target, c clock.Clock) line.Line {
	t = t.WithDefaults(0)
	h.speed.Store(int64(t.Speed))
	inbox := newPipe()
	h.toProgram.Load().close()
	h.toProgram.Store(inbox)
	return &memoryLine{line.NewStream(t, programSide{inbox, h.toDevice}, c), h}
}

func (l *memoryLine) Speed() int { return l.host.Speed() }

func (l *memoryLine) SetSpeed(_ context.Context, baud int) error {
	l.host.speed.Store(int64(baud))
	return nil
}

// programSide is what the program reads and writes; closing it leaves the device's side alone.
type programSide struct{ in, out *pipe }

func (s programSide) Read(p []byte) (int, error)  { return s.in.Read(p) }
func (s programSide) Write(p []byte) (int, error) { return s.out.Write(p) }
func (s programSide) Close() error                { s.in.close(); return nil }
