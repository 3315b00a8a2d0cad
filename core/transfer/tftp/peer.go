package tftp

import (
	"context"
	"errors"
	"fmt"
	"net/netip"
	"os"
	"time"

	"pilotrix/core/clock"
	"pilotrix/core/network"
	"pilotrix/core/offer"
	"pilotrix/core/transfer"
)

// peer is the other side of one transfer: its address, which is the transfer's identity there
// (RFC 1350 §4), and our socket, which is the identity here.
type peer struct {
	conn    network.PacketConn
	addr    netip.AddrPort // port 0 until the other side has answered from its own
	clock   clock.Clock
	said    func(offer.Rung) // nil when nobody watches
	id      string
	retries int
	buffer  []byte
	armed   time.Time       // the socket's deadline
	heard   func(time.Time) // called whenever the other side goes on; may be nil

	timeLimit time.Duration // with its silence, once it was heard

	// modest holds back what is sent to a peer that has not spoken yet: whose address it is, is not known then.
	modest bool
	spoke  bool

	elsewhere netip.AddrPort // who answered our request instead of the one that was asked
}

// maxUnheard are the packets that go to an address from which only the request came.
const maxUnheard = 3

// holdsBack reports whether nothing more is sent after so many tries. A device whose first answer takes long has what
// was sent.
func (p *peer) holdsBack(tries int) bool { return p.modest && !p.spoke && tries >= maxUnheard }

// gaveUp reports that enough was tried: so often, and for as long as a device may be busy with its flash; or twice as
// long, however long it has asked us to wait between two tries.
func (p *peer) gaveUp(tries int, since time.Time) bool {
	silent := p.clock.Since(since)
	return tries > p.retries && silent >= p.timeLimit || p.timeLimit > 0 && silent >= 2*p.timeLimit
}

func (p *peer) message(fromPeer bool, kind string, block int64, bytes int, again bool, text string) {
	if p.said != nil {
		p.said(offer.Rung{
			Transfer: p.id,
			Protocol: "TFTP",
			Peer:     p.addr,
			FromPeer: fromPeer,
			Kind:     kind,
			Block:    block,
			Bytes:    bytes,
			Resent:   again,
			Text:     text,
		})
	}
}

// write sends a packet. A failure that may pass is a lost packet: it is sent again in its time.
func (p *peer) write(data []byte) error {
	if _, err := p.conn.WriteToUDPAddrPort(data, p.addr); err != nil && !passing(err) {
		return fmt.Errorf("sending to %s: %w", p.addr, err)
	}
	return nil
}

// refuse ends the other side's transfer.
func (p *peer) refuse(code Code, message string) {
	p.message(false, "ERROR", 0, 0, false, message)
	_ = p.write(putError(code, message))
}

// errSilent says that a wait is over.
var errSilent = transfer.ErrSilent

// within is the moment that far from now, of the wall.
func (p *peer) within(wait time.Duration) time.Time { return time.Now().Add(p.clock.Wall(wait)) }

// read waits for the transfer's next packet, until a moment of the wall. Packets of another sender are
// answered with an error and change nothing (RFC 1350 §4: "the transfer should not be disturbed").
func (p *peer) read(ctx context.Context, until time.Time) (packet, error) {
	for {
		if err := p.arm(until); err != nil {
			return packet{}, err
		}
		if ctx.Err() != nil { // after the deadline was set: the end of ctx sets it, too
			return packet{}, ctx.Err()
		}
		n, from, err := p.conn.ReadFromUDPAddrPort(p.buffer)
		switch {
		case errors.Is(err, os.ErrDeadlineExceeded):
			p.armed = time.Time{}
			if ctx.Err() == nil && time.Now().Before(until) {
				continue // an earlier wait's deadline
			}
			if ctx.Err() != nil {
				return packet{}, ctx.Err()
			}
			return packet{}, errSilent
		case err != nil && refusedPort(err):
			continue // an earlier packet found the port closed; the wait decides
		case err != nil:
			return packet{}, err
		}
		from = network.Unmap(from)
		switch open := p.addr.Port() == 0; {
		case open && from.Addr() == p.addr.Addr():
			p.addr = from // the answer to a request comes from a port of its own
		case open:
			p.elsewhere = from
		}
		if from != p.addr {
			p.message(true, "STRAY", 0, n, false, "from "+from.String())
			_, _ = p.conn.WriteToUDPAddrPort(putError(CodeUnknownID, "this transfer is another one's"), from)
			continue
		}
		got, err := parse(p.buffer[:n])
		if err != nil {
			p.refuse(CodeIllegal, "that packet is not understood: "+err.Error())
			return got, fmt.Errorf("a packet of %d bytes from %s is not understood: %w", n, from, err)
		}
		p.spoke = true
		if p.heard != nil {
			p.heard(p.clock.Now())
		}
		if got.op == opError {
			p.message(true, "ERROR", 0, n, false, got.refused.Message)
			return got, &got.refused
		}
		return got, nil
	}
}

// arm sets the socket's deadline. One that is ahead and not too late is left: setting it for every packet
// costs more than it is worth, and when it comes too early it is set again.
func (p *peer) arm(until time.Time) error {
	if !p.armed.IsZero() && !p.armed.After(until) {
		return nil
	}
	p.armed = until
	return p.conn.SetReadDeadline(until)
}

// endWith makes reads return when ctx ends; the returned function undoes that.
func (p *peer) endWith(ctx context.Context) func() bool {
	return context.AfterFunc(ctx, func() { _ = p.conn.SetReadDeadline(time.Unix(1, 0)) })
}

// pace is the time before something is sent again. It follows the round trips that were seen, grows by
// half with each try (RFC 1350 leaves both open), and begins with the agreed timeout where there is one
// (RFC 2349).
type pace struct {
	agreed  time.Duration
	smooth  time.Duration
	backOff int
}

const (
	firstWait = time.Second
	minWait   = 250 * time.Millisecond
	maxWait   = 8 * time.Second
)

func (w *pace) wait() time.Duration {
	base := firstWait
	switch {
	case w.agreed > 0:
		base = w.agreed
	case w.smooth > 0:
		base = min(max(4*w.smooth, minWait), firstWait)
	}
	for range w.backOff {
		base = base * 3 / 2
	}
	return min(base, max(maxWait, w.agreed))
}

func (w *pace) seen(trip time.Duration) {
	w.backOff = 0
	if w.smooth == 0 {
		w.smooth = trip
		return
	}
	w.smooth += (trip - w.smooth) / 8
}
