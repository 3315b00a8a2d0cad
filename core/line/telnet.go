package line

import (
	"context"
	"net"
	"sync"
	"time"

	"pilotrix/core/clock"
	"pilotrix/core/line/telnet"
)

const (
	telnetPort   = "23"
	terminalType = "xterm-256color"
	usualCols    = 80
	usualRows    = 24
)

// telnetLine is a Line over telnet.
type telnetLine struct {
	*stream
	wire *telnetWire
}

func openTelnet(ctx context.Context, t Target, c clock.Clock) (Line, error) {
	wire, err := dialTelnet(ctx, t, telnet.Options{Binary: true})
	if err != nil {
		return nil, err
	}
	return &telnetLine{newTelnetStream(t, wire, c), wire}, nil
}

// dialTelnet connects and opens with what the client wants.
func dialTelnet(ctx context.Context, t Target, opt telnet.Options) (*telnetWire, error) {
	conn, err := dialTCP(ctx, t.Address)
	if err != nil {
		return nil, socketError(t, err)
	}
	opt.Terminal, opt.Cols, opt.Rows = terminalType, usualCols, usualRows
	if cols, rows, _ := ParseSize(t.Size); cols > 0 {
		opt.Cols, opt.Rows = cols, rows
	}
	return newTelnetWire(conn, opt), nil
}

func newTelnetStream(t Target, wire *telnetWire, c clock.Clock) *stream {
	return newStream(t, wire, c, func(err error) error {
		return &Error{Target: t, Reason: ErrUnplugged, Cause: err, Remedy: goneText(err)}
	})
}

// Resize implements Resizer, over com-port control, too: a console server that wants to know the size asks for it (RFC
// 1073).
func (l *telnetLine) Resize(cols, rows int) error { return l.wire.resize(cols, rows) }

// SendBreak implements Breaker.
func (l *telnetLine) SendBreak(context.Context) error {
	l.wire.reply(telnet.Break())
	return nil
}

// telnetWire is a connection whose bytes are data only: what is telnet's own is dealt with inside.
type telnetWire struct {
	net.Conn
	reported func(telnet.Message) // of a message of an option; may be nil

	mu      sync.Mutex // of the machine
	machine *telnet.Machine
	changed chan struct{} // closed and made again when an option may have come into force

	buffer, rest []byte // of the reader
	replies      chan []byte
	ended        chan struct{}
	ending       sync.Once
	closeErr     error

	hold chan struct{} // closed while the other side takes data
}

// maxReplies is how many wait to be sent: whoever makes more of them does not read.
const maxReplies = 64

func newTelnetWire(conn net.Conn, opt telnet.Options) *telnetWire {
	w := &telnetWire{
		Conn: conn, machine: telnet.New(opt), changed: make(chan struct{}), buffer: make([]byte, 16<<10),
		replies: make(chan []byte, maxReplies), ended: make(chan struct{}), hold: closed(),
	}
	w.reply(w.machine.Begin())
	go w.answer()
	return w
}

func closed() chan struct{} {
	c := make(chan struct{})
	close(c)
	return c
}

// reply queues something of telnet's own. A side that asks and does not read is not answered for ever.
func (w *telnetWire) reply(p []byte) {
	if len(p) == 0 {
		return
	}
	select {
	case w.replies <- p:
	case <-w.ended:
	default:
		_ = w.Close()
	}
}

// answer sends the replies: reading never waits for writing.
func (w *telnetWire) answer() {
	for {
		select {
		case p := <-w.replies:
			if _, err := w.Conn.Write(p); err != nil {
				return
			}
		case <-w.ended:
			return
		}
	}
}

// Read implements io.Reader: it returns data.
func (w *telnetWire) Read(p []byte) (int, error) {
	for len(w.rest) == 0 {
		n, err := w.Conn.Read(w.buffer)
		if n == 0 && err != nil {
			return 0, err
		}
		w.rest = w.receive(w.buffer[:n])
	}
	n := copy(p, w.rest)
	w.rest = w.rest[n:]
	return n, nil
}

func (w *telnetWire) receive(p []byte) (data []byte) {
	w.mu.Lock()
	data = w.machine.Receive(p)
	replies, messages := w.machine.Replies(), w.machine.Messages()
	close(w.changed)
	w.changed = make(chan struct{})
	w.mu.Unlock()
	w.reply(replies)
	for _, message := range messages {
		if w.reported != nil {
			w.reported(message)
		}
	}
	return data
}

// suspendLimit is how long a server may hold what is to be sent: a resume may have been lost with it.
const suspendLimit = 30 * time.Second

// Write implements io.Writer.
func (w *telnetWire) Write(p []byte) (int, error) {
	w.mu.Lock()
	encoded, hold := w.machine.Encode(p), w.hold
	w.mu.Unlock()
	limit := time.NewTimer(suspendLimit)
	defer limit.Stop()
	select {
	case <-hold:
	case <-limit.C:
	case <-w.ended:
	}
	if _, err := w.Conn.Write(encoded); err != nil {
		return 0, err
	}
	return len(p), nil
}

// suspend holds what is to be sent, or lets it go.
func (w *telnetWire) suspend(on bool) {
	w.mu.Lock()
	defer w.mu.Unlock()
	select {
	case <-w.hold:
		if on {
			w.hold = make(chan struct{})
		}
	default:
		if !on {
			close(w.hold)
		}
	}
}

func (w *telnetWire) resize(cols, rows int) error {
	w.mu.Lock()
	size := w.machine.Resize(cols, rows)
	w.mu.Unlock()
	w.reply(size)
	return nil
}

// await waits until the options are as is says.
func (w *telnetWire) await(ctx context.Context, ok func(*telnet.Machine) bool) error {
	for {
		w.mu.Lock()
		so, changed := ok(w.machine), w.changed
		w.mu.Unlock()
		if so {
			return nil
		}
		select {
		case <-changed:
		case <-w.ended:
			return net.ErrClosed
		case <-ctx.Done():
			return ctx.Err()
		}
	}
}

// Close implements io.Closer.
func (w *telnetWire) Close() error {
	w.ending.Do(func() {
		close(w.ended)
		w.closeErr = w.Conn.Close()
	})
	return w.closeErr
}
