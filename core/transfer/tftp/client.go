package tftp

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/netip"
	"strconv"
	"time"

	"pilotrix/core/clock"
	"pilotrix/core/network"
	"pilotrix/core/offer"
	"pilotrix/core/transfer"
)

// Client fetches from and puts to a TFTP server. Network has to be set; the zero value of all else
// means: no options asked for, octet mode, DefaultRetries.
type Client struct {
	Network   network.Network
	Clock     clock.Clock
	Mode      string        // Octet or Netascii
	Block     int           // asked for, 0 leaves it at 512
	Window    int           // asked for, 0 leaves it at 1
	Timeout   time.Duration // asked for in whole seconds, 0 does not ask
	NoSize    bool          // do not ask for the file's size
	Retries   int
	TimeLimit time.Duration // with a server's silence once a transfer is under way, 0 for what the retries take
	Progress  func(transfer.Progress)
	Said      func(offer.Rung) // reported every packet
	Agreed    func(Terms)      // told what was agreed on, before the first block
	Remark    func(string)     // told what is odd about the other side, and no reason to stop

	hurry  time.Duration // between requests, 0 as usual
	opened func()        // reported once a request was answered
}

// Result is how a transfer went.
type Result struct {
	Terms Terms
	transfer.Progress
	Took time.Duration
}

// errNoOptions says that the server refused the options; the request goes out once more without.
var errNoOptions = errors.New("options refused")

// Get fetches a file. Its size is in the result's Terms where the server told it.
func (c Client) Get(ctx context.Context, server netip.AddrPort, name string, to io.Writer) (Result, error) {
	mode := c.mode()
	sink, text := to, &fromNetascii{sink: to}
	if mode == Netascii {
		sink = text
	}
	result, err := c.withAndWithout(c.options(0), func(options []option) (Result, error) {
		return c.get(ctx, server, request{name: name, mode: mode, options: options}, sink)
	})
	if err == nil {
		err = text.end()
	}
	return result, err
}

// Put sends a file of that size; -1 when it is not known.
func (c Client) Put(
	ctx context.Context, server netip.AddrPort, name string, from io.Reader, size int64,
) (Result, error) {
	mode := c.mode()
	from = transfer.Whole(from, size)
	if mode == Netascii {
		from, size = &toNetascii{source: from}, -1
	}
	return c.withAndWithout(c.options(size), func(options []option) (Result, error) {
		return c.put(ctx, server, request{write: true, name: name, mode: mode, options: options}, from, size)
	})
}

// ErrNoAnswer says that nobody answered the request: the server is not there, or not yet.
var ErrNoAnswer = errors.New("nobody answered")

// Elsewhere says that another address answered than the one that was asked, as a device with several addresses may. It
// is an ErrNoAnswer.
type Elsewhere struct{ Asked, Answered netip.AddrPort }

func (e *Elsewhere) Error() string {
	return fmt.Sprintf("%s at %s, but %s did: a device that has both addresses has to be asked at that one",
		ErrNoAnswer, e.Asked, e.Answered)
}

// Is makes an Elsewhere an ErrNoAnswer.
func (e *Elsewhere) Is(target error) bool { return target == ErrNoAnswer }

// ErrUnconfirmed says of a put whose last block alone was not acknowledged: the loader may have it all, and gone on
// with it.
var ErrUnconfirmed = errors.New("all of it was sent, and the last block was not acknowledged")

// Opening is reported how it goes with a window that is tried.
type Opening struct {
	Trying func(tries int)                // before each try
	Began  func()                         // it has opened: it answered
	Cut    func(sent int64, reason error) // what was under way broke off; it is begun again
	// Refused, when set, is reported that the server does not take it now: it is tried on. Without it a server that
	// refuses has the last word.
	Refused func(error)
}

// PutWhenOpen is Put to a server that is there only for a while, such as a recovery loader's: it asks again until one
// answers or ctx ends, and begins again when a transfer breaks off in its middle. Each try gets the file from open. One
// whose size is not known, -1, comes from a pipe and cannot be begun again in its middle.
func (c Client) PutWhenOpen(
	ctx context.Context, server netip.AddrPort, name string, size int64, open func() (io.ReadCloser, error), on Opening,
) (Result, error) {
	var elsewhere *Elsewhere
	for tries := 1; ; tries++ {
		file, err := open()
		if err != nil {
			return Result{}, err
		}
		one := c
		one.Retries, one.hurry, one.opened, one.TimeLimit = 1, windowTry, on.Began, cutAfter
		if on.Trying != nil {
			on.Trying(tries)
		}
		result, err := one.Put(ctx, server, name, file, size)
		_ = file.Close()
		_ = errors.As(err, &elsewhere)
		var refused *Refused
		switch {
		case err == nil:
			return result, nil
		case errors.As(err, &refused):
			if on.Refused == nil || ctx.Err() != nil {
				return result, err
			}
			on.Refused(err)
			_ = c.Clock.Wait(ctx, windowTry)
		case ctx.Err() != nil:
			return result, notOpened(err, result, elsewhere, tries)
		case errors.Is(err, transfer.ErrGaveUp):
			if err := cutFor(err, result, size); err != nil {
				return result, err
			}
			if on.Cut != nil {
				on.Cut(result.Bytes, err)
			}
		case !errors.Is(err, ErrNoAnswer):
			return result, err
		}
	}
}

// notOpened is the error of a put whose time is over.
func notOpened(err error, result Result, elsewhere *Elsewhere, tries int) error {
	switch {
	case result.Bytes == 0 && elsewhere != nil:
		return elsewhere
	case errors.Is(err, ErrNoAnswer):
		return fmt.Errorf("%w within the timeout, after %d tries", ErrNoAnswer, tries)
	}
	return err
}

// cutFor is the error of a put that broke off and is not begun again, nil for one that is: what comes from a pipe is
// gone, and after the last block it may all be there.
func cutFor(err error, result Result, size int64) error {
	switch {
	case size < 0:
		return fmt.Errorf("%w; what comes from a pipe is not begun again: its beginning is gone", err)
	case result.Bytes > 0 && size-result.Bytes <= int64(max(result.Terms.Block, DefaultBlock)):
		return fmt.Errorf("%w: %w", ErrUnconfirmed, err)
	}
	return nil
}

// cutAfter is how long a loader may be silent in the middle, such as while it erases, before the put is taken for one
// that was cut.
const cutAfter = 8 * time.Second

// windowTry is the pause between requests to a loader that listens for a second or two.
const windowTry = 500 * time.Millisecond

func (c Client) mode() string {
	if c.Mode == "" {
		return Octet
	}
	return c.Mode
}

// options are those that are asked for.
func (c Client) options(size int64) (options []option) {
	add := func(name string, value int64) { options = append(options, option{name, strconv.FormatInt(value, 10)}) }
	if c.Block > 0 {
		add(optBlock, int64(c.Block))
	}
	if c.Window > 0 {
		add(optWindow, int64(c.Window))
	}
	if c.Timeout >= time.Second {
		add(optTimeout, int64(c.Timeout/time.Second))
	}
	if !c.NoSize && size >= 0 {
		add(optSize, size)
	}
	return options
}

func (c Client) withAndWithout(options []option, try func([]option) (Result, error)) (Result, error) {
	result, err := try(options)
	if errors.Is(err, errNoOptions) && len(options) > 0 {
		return try(nil)
	}
	return result, err
}

// begin opens a socket and sends the request until something answers.
func (c Client) begin(ctx context.Context, server netip.AddrPort, req request) (*peer, packet, error) {
	local := netip.IPv4Unspecified()
	if server.Addr().Is6() {
		local = netip.IPv6Unspecified()
	}
	conn, err := c.Network.ListenPacket(netip.AddrPortFrom(local, 0))
	if err != nil {
		return nil, packet{}, err
	}
	retries := c.Retries
	if retries == 0 {
		retries = DefaultRetries
	}
	block := max(c.Block, DefaultBlock)
	p := &peer{
		conn:      conn,
		clock:     c.Clock,
		said:      c.Said,
		retries:   retries,
		timeLimit: c.TimeLimit,
		buffer:    make([]byte, headSize+block+1),
	}
	stop := p.endWith(ctx)
	got, err := p.request(ctx, server, req, pace{agreed: c.hurry})
	if err == nil && p.addr.Port() == server.Port() && c.Remark != nil {
		c.Remark(fmt.Sprintf("%s answers from port %d, where it was asked, and not from a port of the transfer's own",
			server.Addr(), server.Port()))
	}
	if err != nil {
		stop()
		_ = conn.Close()
	}
	return p, got, err
}

// request sends the request until something answers, which it may do from a port of its own.
func (p *peer) request(ctx context.Context, server netip.AddrPort, req request, wait pace) (packet, error) {
	out := putRequest(req)
	for try := 0; try <= p.retries; try++ {
		p.addr = server
		p.message(false, requestKind(req), 0, 0, try > 0, requestText(req))
		if err := p.write(out); err != nil {
			return packet{}, err
		}
		p.addr = netip.AddrPortFrom(server.Addr(), 0)
		got, err := p.read(ctx, p.within(wait.wait()))
		var refused *Refused
		switch {
		case err == nil:
			return got, nil
		case errors.As(err, &refused) && refused.Code == CodeOptions && len(req.options) > 0:
			return got, errNoOptions
		case !errors.Is(err, errSilent):
			return got, err
		}
		wait.backOff++
	}
	if p.elsewhere.IsValid() {
		return packet{}, &Elsewhere{server, p.elsewhere}
	}
	return packet{}, fmt.Errorf(
		"%w at %s after %d requests: is a TFTP server listening there, and does a firewall let it through?",
		ErrNoAnswer, server, p.retries+1)
}

// terms reads an answer to a request: what was agreed, or the plain terms when the other side passed
// our options over.
func (p *peer) terms(req request, got packet, size int64) (Terms, error) {
	if got.op != opOptions {
		plain := plainTerms()
		if req.write {
			plain.Size = size
		}
		return plain, nil
	}
	p.message(true, "OACK", 0, 0, false, optionText(got.options))
	terms, err := accept(req.options, got.options, req.write, size)
	if err != nil {
		p.refuse(CodeOptions, err.Error())
	}
	return terms, err
}

func (c Client) get(ctx context.Context, server netip.AddrPort, req request, sink io.Writer) (Result, error) {
	began := c.Clock.Now()
	p, got, err := c.begin(ctx, server, req)
	if err != nil {
		return Result{}, err
	}
	terms, err := p.terms(req, got, -1)
	if err != nil {
		_ = p.conn.Close()
		return Result{Terms: terms}, err
	}
	if c.Agreed != nil {
		c.Agreed(terms)
	}
	meter := c.meter(terms, req.name)
	r := newReceiver(p, terms, sink, meter.moved)
	if req.mode == Netascii {
		r.size = 0
	}
	switch got.op {
	case opOptions:
		r.agreed = true
		err = r.acknowledge() // of block 0: the options are taken
		got = packet{}
	case opData:
	default:
		p.refuse(CodeIllegal, "that is no answer to a read request")
		err = fmt.Errorf("%s answered a read request with operation %d", p.addr, got.op)
	}
	if err == nil {
		err = r.run(ctx, got)
	}
	result := meter.result(terms, c.Clock.Since(began))
	if err != nil {
		if ctx.Err() != nil {
			p.refuse(CodeOther, "cancelled")
		}
		_ = p.conn.Close()
		return result, err
	}
	go func() {
		r.linger(ctx)
		_ = p.conn.Close()
	}()
	return result, nil
}

func (c Client) put(
	ctx context.Context, server netip.AddrPort, req request, source io.Reader, size int64,
) (Result, error) {
	began := c.Clock.Now()
	p, got, err := c.begin(ctx, server, req)
	if err != nil {
		return Result{}, err
	}
	defer p.conn.Close()
	if c.opened != nil {
		c.opened()
	}
	terms, err := p.terms(req, got, size)
	if err == nil && got.op != opOptions && (got.op != opAck || got.block != 0) {
		p.refuse(CodeIllegal, "that is no answer to a write request")
		err = fmt.Errorf("%s answered a write request with operation %d", p.addr, got.op)
	}
	if err != nil {
		return Result{Terms: terms}, err
	}
	meter := c.meter(terms, req.name)
	err = newSender(p, terms, source, meter.moved).run(ctx)
	if err != nil && ctx.Err() != nil {
		p.refuse(CodeOther, "cancelled")
	}
	return meter.result(terms, c.Clock.Since(began)), err
}

// clientMeter is a report without a Watcher.
type clientMeter struct {
	*report
}

type progressOnly struct {
	offer.NoWatcher
	report func(transfer.Progress)
}

func (p progressOnly) Moved(_ offer.Transfer, progress transfer.Progress) {
	if p.report != nil {
		p.report(progress)
	}
}

func (c Client) meter(terms Terms, name string) clientMeter {
	opt := Options{Clock: c.Clock, Watcher: progressOnly{report: c.Progress}}
	return clientMeter{newReport(opt, offer.Transfer{File: name, Size: terms.Size}, nil)}
}

func (m clientMeter) result(terms Terms, took time.Duration) Result {
	m.end(nil)
	return Result{Terms: terms, Progress: m.p, Took: took}
}
