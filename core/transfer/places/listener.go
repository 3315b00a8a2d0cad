package places

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"sync"
	"sync/atomic"
	"time"

	"pilotrix/core/network"
	"pilotrix/core/offer"
)

// ofStreams are the limits of a server of connections. What it takes to fill the places is beyond one laptop's devices,
// and far from what the system lets one program have open.
var ofStreams = Limits{Settled: 512, New: 128, Each: 32, Stale: 10 * time.Second, Long: 30 * time.Minute}

// Listener is a server's listener that holds its connections to the rules, and says whom it refuses.
type Listener struct {
	net.Listener
	protocol string
	opt      offer.Serving
	places   *Places

	mu   sync.Mutex
	open map[*Conn]bool
	over bool // nothing is served any more
}

// Listen binds a server of a protocol.
func Listen(protocol string, at netip.AddrPort, opt offer.Serving) (*Listener, error) {
	inner, err := opt.Network.Listen(at)
	if err != nil {
		return nil, err
	}
	return &Listener{
		Listener: inner, protocol: protocol, opt: opt, open: map[*Conn]bool{},
		places: New(ofStreams, opt.Stage.Expects, opt.Clock.Now),
	}, nil
}

// outOfHandles is the wait after the system had no handle left for a connection.
const outOfHandles = 50 * time.Millisecond

// Accept implements net.Listener. It fails only when the listener is closed: a connection that the other side took
// back, and a system that has no handles left for a while, end nothing.
func (l *Listener) Accept() (net.Conn, error) {
	for report := false; ; {
		inner, err := l.Listener.Accept()
		switch {
		case errors.Is(err, net.ErrClosed):
			return nil, err
		case err != nil:
			if !report {
				l.say(netip.AddrPort{}, "no connection to be had: "+err.Error())
			}
			report = true
			time.Sleep(outOfHandles)
			continue
		}
		report = false
		if conn := l.enter(inner); conn != nil {
			return conn, nil
		}
	}
}

// enter finds a place for a connection, and closes one for which there is none.
func (l *Listener) enter(inner net.Conn) *Conn {
	conn := &Conn{Conn: inner, l: l}
	guest, err := l.places.Enter(conn.Peer().Addr(), "", conn.giveWay)
	if err != nil {
		l.say(conn.Peer(), "a connection: "+err.Error())
		abort(inner)
		return nil
	}
	conn.guest = guest
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.open[conn] = true; l.over {
		_ = inner.Close()
	}
	return conn
}

// abort closes a connection without leaving anything of it in the system.
func abort(conn net.Conn) {
	if tcp, ok := conn.(interface{ SetLinger(int) error }); ok {
		_ = tcp.SetLinger(0)
	}
	_ = conn.Close()
}

func (l *Listener) say(peer netip.AddrPort, text string) {
	l.opt.Watcher.Said(offer.Rung{Protocol: l.protocol, Peer: peer, FromPeer: true, Kind: "refused", Text: text})
}

// Each serves every connection by talk, in a goroutine of its own, until ctx ends, and all of them with it.
func (l *Listener) Each(ctx context.Context, talk func(context.Context, *Conn)) error {
	var talks sync.WaitGroup
	defer talks.Wait()
	ctx, end := context.WithCancel(ctx)
	defer end()
	defer l.EndWith(ctx)()
	for {
		conn, err := l.Accept()
		switch {
		case ctx.Err() != nil && err == nil:
			return conn.Close()
		case ctx.Err() != nil:
			return nil
		case err != nil:
			return fmt.Errorf("%s server at %s: %w", l.protocol, l.Addr(), err)
		}
		talks.Go(func() { talk(ctx, conn.(*Conn)) })
	}
}

// EndWith closes the listener and every connection when ctx ends; the returned function undoes that.
func (l *Listener) EndWith(ctx context.Context) (stop func() bool) {
	return context.AfterFunc(ctx, func() {
		_ = l.Close()
		l.mu.Lock()
		defer l.mu.Unlock()
		l.over = true
		for conn := range l.open {
			_ = conn.Conn.Close()
		}
	})
}

// Conn is a connection that has a place.
type Conn struct {
	net.Conn
	l     *Listener
	guest *Guest
	heard atomic.Int64
	idle  atomic.Int64 // nanoseconds, 0 for no limit
}

// Peer is who is at the other end.
func (c *Conn) Peer() netip.AddrPort { return PeerOf(c.Conn.RemoteAddr()) }

// PeerOf is an address of the net package as this program writes it.
func PeerOf(a net.Addr) netip.AddrPort {
	at, _ := netip.ParseAddrPort(a.String())
	return network.Unmap(at)
}

func (c *Conn) giveWay(why error) {
	c.l.say(c.Peer(), "the connection was closed: "+why.Error())
	abort(c.Conn)
}

// Settled notes that the peer may be here: it logged in, or knew what it may fetch.
func (c *Conn) Settled() { c.guest.Settled() }

// IdleAfter ends the connection when nothing moves on it for so long.
func (c *Conn) IdleAfter(idle time.Duration) {
	c.idle.Store(int64(idle))
	_ = c.SetDeadline(time.Now().Add(idle))
}

// moved notes that something went either way; not at every piece, as that is dear.
func (c *Conn) moved(n int) {
	if n == 0 {
		return
	}
	now := c.l.opt.Clock.Now().UnixNano()
	if before := c.heard.Load(); now-before > int64(time.Second) && c.heard.CompareAndSwap(before, now) {
		c.guest.Heard()
		if idle := time.Duration(c.idle.Load()); idle > 0 {
			_ = c.SetDeadline(time.Now().Add(idle))
		}
	}
}

func (c *Conn) Read(p []byte) (int, error) {
	n, err := c.Conn.Read(p)
	c.moved(n)
	return n, err
}

func (c *Conn) Write(p []byte) (int, error) {
	n, err := c.Conn.Write(p)
	c.moved(n)
	return n, err
}

// Close implements net.Conn, and gives the place back.
func (c *Conn) Close() error {
	c.guest.Leave()
	c.l.mu.Lock()
	delete(c.l.open, c)
	c.l.mu.Unlock()
	return c.Conn.Close()
}
