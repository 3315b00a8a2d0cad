package xmodem

import (
	"context"
	"errors"
	"fmt"
	"time"

	"pilotrix/core/clock"
	"pilotrix/core/transfer"
)

// Variant is one of the protocols of the family.
type Variant int

// The variants that can be asked for.
const (
	XMODEM    Variant = iota // blocks of 128 bytes
	XMODEM1K                 // blocks of 1024, the tail in blocks of 128
	YMODEM                   // the same, with a header for each file
	Streaming                // YMODEM without an answer to each block, for lines without errors
)

var names = map[string]Variant{"xmodem": XMODEM, "xmodem-1k": XMODEM1K, "ymodem": YMODEM, "ymodem-g": Streaming}

// Parse reads xmodem, xmodem-1k, ymodem or ymodem-g.
func Parse(name string) (Variant, error) {
	v, known := names[name]
	if !known {
		return 0, fmt.Errorf("no protocol %q; there are xmodem, xmodem-1k, ymodem and ymodem-g", name)
	}
	return v, nil
}

func (v Variant) String() string {
	return [...]string{"XMODEM", "XMODEM-1K", "YMODEM", "YMODEM-G"}[v]
}

// Batch reports whether the variant sends a header before each file.
func (v Variant) Batch() bool { return v == YMODEM || v == Streaming }

// Block is the variant's usual block size in bytes.
func (v Variant) Block() int {
	if v == XMODEM {
		return smallBlock
	}
	return largeBlock
}

// Options sets a transfer. Its zero value is XMODEM with the limits of XYMODEM chapter 7.
type Options struct {
	Variant   Variant
	Clock     clock.Clock
	Retries   int           // tries for one block or answer, default 10
	Silence   int           // of those tries, how many in a row may stay without any answer; 0: all
	StartWait time.Duration // how long to wait for the other side to begin, default 60 s
	Answer    time.Duration // how long to wait for an answer or a block, default 10 s
	TimeLimit time.Duration // how long one block may stay unanswered in all, default 150 s: a device may erase its flash
	EndWait   time.Duration // the same for the end of a file, default TimeLimit: it may write its store before it answers
	Character time.Duration // what one character takes on the line, 0 when that is not known
	Checksum  bool          // receive with sums of one byte instead of CRC-16
	Linger    time.Duration // how long a receiver answers a repeated end of file
	File      string        // for Progress
	Progress  func(transfer.Progress)
}

// Result is what a finished transfer amounts to.
type Result struct {
	Bytes   int64 // of the file
	Padding int   // added to fill the last block
	Blocks  int
	Resent  int
	Took    time.Duration
}

const (
	usualTimeLimit = 150 * time.Second
	maxWait        = time.Minute             // between two copies of one block
	betweenBytes   = time.Second             // inside a block
	settle         = 30 * time.Millisecond   // of silence end a broken block
	startEvery     = 3 * time.Second         // a receiver asks for the start
	crcAsks        = 8                       // with C before a receiver falls back to NAK
	asksAlone      = 150 * time.Millisecond  // of quiet say a request from a letter in a text
	unclearWait    = 1500 * time.Millisecond // for more after an answer that was not one
)

func (o Options) withDefaults() Options {
	if o.Retries == 0 {
		o.Retries = 10
	}
	if o.StartWait == 0 {
		o.StartWait = time.Minute
	}
	if o.Answer == 0 {
		o.Answer = 10 * time.Second
	}
	if o.TimeLimit == 0 {
		o.TimeLimit = usualTimeLimit
	}
	if o.EndWait == 0 {
		o.EndWait = o.TimeLimit
	}
	if o.Progress == nil {
		o.Progress = func(transfer.Progress) {}
	}
	return o
}

// conn reads the port byte by byte and counts.
type conn struct {
	port     transfer.Duplex
	opt      Options
	meter    *transfer.Meter
	progress transfer.Progress
	result   Result

	buffer []byte
	unread []byte
	out    []byte
}

func newConn(port transfer.Duplex, opt Options) *conn {
	opt = opt.withDefaults()
	return &conn{
		port: port, opt: opt, meter: transfer.NewMeter(opt.Clock), buffer: make([]byte, 4096),
		progress: transfer.Progress{File: opt.File},
	}
}

// next is the next byte, waited for up to wait.
func (c *conn) next(ctx context.Context, wait time.Duration) (byte, error) {
	if len(c.unread) == 0 {
		if wait <= 0 {
			return 0, transfer.ErrSilent
		}
		n, err := c.port.Read(ctx, c.buffer, wait)
		if err != nil {
			return 0, err
		}
		c.unread = c.buffer[:n]
	}
	b := c.unread[0]
	c.unread = c.unread[1:]
	return b, nil
}

// full fills p, allowing betweenBytes for each piece.
func (c *conn) full(ctx context.Context, p []byte) error {
	for len(p) > 0 {
		if len(c.unread) == 0 {
			n, err := c.port.Read(ctx, c.buffer, betweenBytes)
			if err != nil {
				return err
			}
			c.unread = c.buffer[:n]
		}
		n := copy(p, c.unread)
		c.unread, p = c.unread[n:], p[n:]
	}
	return nil
}

// drop forgets what has arrived, and what still arrives until there is silence.
func (c *conn) drop(ctx context.Context, silence time.Duration) error {
	for {
		c.unread = nil
		_, err := c.next(ctx, silence)
		switch {
		case errors.Is(err, transfer.ErrSilent):
			return nil
		case err != nil:
			return err
		}
	}
}

func (c *conn) send(ctx context.Context, b ...byte) error { return c.write(ctx, b) }

// ErrHeld says that the line takes nothing.
var ErrHeld = errors.New("the line takes nothing")

const (
	heldLimit = 2 * time.Second
	slowest   = 4 * time.Millisecond // a character at 2400 baud, where nothing is known of the line
)

// passage is what n characters take on the line, 0 when that is not known.
func (c *conn) passage(n int) time.Duration { return time.Duration(n) * c.opt.Character }

// write sends bytes within the time that the line needs for them and a little more: flow control that holds
// it, or a peer that is gone, ends the transfer instead of keeping the line.
func (c *conn) write(ctx context.Context, p []byte) error {
	limit := heldLimit + c.passage(len(p))
	if c.opt.Character == 0 {
		limit += time.Duration(len(p)) * slowest
	}
	limited, stop := c.opt.Clock.WithTimeout(ctx, limit)
	defer stop()
	err := c.port.Write(limited, p)
	if err != nil && errors.Is(err, context.DeadlineExceeded) && ctx.Err() == nil {
		return fmt.Errorf("%w for %s: flow control holds it, or nobody is there", ErrHeld,
			limit.Round(100*time.Millisecond))
	}
	return err
}

func (c *conn) report(state string) {
	c.progress.State = state
	c.progress.Blocks, c.progress.Resent = c.result.Blocks, c.result.Resent
	c.meter.Fill(&c.progress)
	c.opt.Progress(c.progress)
}

// cancels counts CANs in a row: one may be a broken byte, two end the transfer.
type cancels int

// heard takes a byte that came, and says whether it was a CAN; the second one in a row is an error.
func (c *cancels) heard(b byte) (ok bool, err error) {
	if b != can {
		*c = 0
		return false, nil
	}
	if *c++; *c >= 2 {
		err = transfer.ErrCancelled
	}
	return true, err
}

// cancelTail is more cancels than a receiver needs, since one may be lost, then as many backspaces,
// since those too many are typed into its shell (XYMODEM chapter 7.2).
var cancelTail = []byte{can, can, can, can, can, bs, bs, bs, bs, bs}

// cancelLimit bounds the cancel itself, when the line does not take it.
const cancelLimit = 2 * time.Second

// cancel says the other side to stop. It works when ctx has ended already.
func (c *conn) cancel(ctx context.Context) {
	free, stop := c.opt.Clock.WithTimeout(context.WithoutCancel(ctx), cancelLimit)
	defer stop()
	_ = Cancel(free, c.port)
}

// Cancel ends a receiver or sender that an earlier transfer left behind on the line.
func Cancel(ctx context.Context, port transfer.Duplex) error { return port.Write(ctx, cancelTail) }

// finish sets the times of the result and gives back what was read beyond the end.
func (c *conn) finish() Result {
	if port, can := c.port.(transfer.Unreader); can && len(c.unread) > 0 {
		port.Unread(c.unread)
	}
	c.result.Took = c.meter.Elapsed()
	return c.result
}

func gaveUp(what string, tries int, last error) error {
	return fmt.Errorf("%s: %w (%d), last: %w", what, transfer.ErrGaveUp, tries, last)
}
