// Package simulated is a network inside the process: hosts with addresses, datagrams that may be lost,
// come twice or in another order, and streams. It stands in for real sockets where a test has to be
// fast, sure and the same each time; it works in virtual time (testing/synctest).
package simulated

import (
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"net"
	"net/netip"
	"os"
	"slices"
	"sync"
	"syscall"
	"time"

	"pilotrix/core/network"
)

// Faults are what may happen to a datagram, each as a share from 0 to 1.
type Faults struct {
	Loss, Twice, Late float64
	// Lateness is by how much a late datagram is behind; it comes after those sent meanwhile.
	Lateness time.Duration
}

// Net is a network. Latency is how long every datagram takes.
type Net struct {
	Latency time.Duration

	mu      sync.Mutex
	faults  Faults
	random  *rand.Rand
	packets map[netip.AddrPort]*packetConn
	streams map[netip.AddrPort]*listener
	hosts   map[netip.Addr]bool // up
	ports   uint16
	sent    int
	spoiled int
}

// New makes a network whose faults the seed decides.
func New(seed uint64) *Net {
	return &Net{
		random: rand.New(rand.NewPCG(seed, seed)), packets: map[netip.AddrPort]*packetConn{},
		streams: map[netip.AddrPort]*listener{}, hosts: map[netip.Addr]bool{}, ports: 49151,
	}
}

// Spoil sets the faults from now on.
func (n *Net) Spoil(f Faults) {
	n.mu.Lock()
	defer n.mu.Unlock()
	n.faults = f
}

// Counts are the datagrams sent and those that a fault met.
func (n *Net) Counts() (sent, spoiled int) {
	n.mu.Lock()
	defer n.mu.Unlock()
	return n.sent, n.spoiled
}

// Host is the network as one host sees it.
func (n *Net) Host(name string, prefix netip.Prefix) *Host {
	n.SetUp(prefix.Addr(), true)
	return &Host{net: n, name: name, prefix: prefix}
}

// SetUp says whether a host answers at all.
func (n *Net) SetUp(addr netip.Addr, up bool) {
	n.mu.Lock()
	defer n.mu.Unlock()
	n.hosts[addr] = up
}

// Host implements network.Network.
type Host struct {
	net    *Net
	name   string
	prefix netip.Prefix
}

var _ network.Network = (*Host)(nil)

// Addr is the host's address.
func (h *Host) Addr() netip.Addr { return h.prefix.Addr() }

// Interfaces implements network.Network.
func (h *Host) Interfaces() ([]network.Interface, error) {
	return []network.Interface{{Name: h.name, Prefix: h.prefix}}, nil
}

// Ping answers after a round trip when the other host is up, and not at all when it is not.
func (h *Host) Ping(ctx context.Context, to netip.Addr) (time.Duration, error) {
	h.net.mu.Lock()
	up := h.net.hosts[to]
	trip := 2*h.net.Latency + 300*time.Microsecond
	h.net.mu.Unlock()
	if !up {
		<-ctx.Done()
		return 0, ctx.Err()
	}
	timer := time.NewTimer(trip)
	defer timer.Stop()
	select {
	case <-timer.C:
		return trip, nil
	case <-ctx.Done():
		return 0, ctx.Err()
	}
}

// local checks an address to bind, and fills in this host's own and a free port.
func (h *Host) local(at netip.AddrPort, taken func(netip.AddrPort) bool) (netip.AddrPort, error) {
	addr := at.Addr()
	if addr.IsUnspecified() {
		addr = h.Addr()
	}
	if addr != h.Addr() {
		return at, &net.OpError{Op: "listen", Net: "memory", Err: os.NewSyscallError("bind", syscall.EADDRNOTAVAIL)}
	}
	port := at.Port()
	for port == 0 {
		h.net.ports++
		if h.net.ports < 49152 {
			h.net.ports = 49152
		}
		if !taken(netip.AddrPortFrom(addr, h.net.ports)) {
			port = h.net.ports
		}
	}
	at = netip.AddrPortFrom(addr, port)
	if taken(at) {
		return at, &net.OpError{Op: "listen", Net: "memory", Err: os.NewSyscallError("bind", syscall.EADDRINUSE)}
	}
	return at, nil
}

// ListenPacket implements network.Network.
func (h *Host) ListenPacket(at netip.AddrPort) (network.PacketConn, error) {
	h.net.mu.Lock()
	defer h.net.mu.Unlock()
	at, err := h.local(at, func(a netip.AddrPort) bool { return h.net.packets[a] != nil })
	if err != nil {
		return nil, err
	}
	c := &packetConn{net: h.net, at: at, ready: make(chan struct{}, 1)}
	h.net.packets[at] = c
	return c, nil
}

// queued is a datagram on its way.
type queued struct {
	data []byte
	from netip.AddrPort
	due  time.Time
}

// packetConn is a datagram socket.
type packetConn struct {
	net *Net
	at  netip.AddrPort

	mu       sync.Mutex
	queue    []queued
	deadline time.Time
	closed   bool
	ready    chan struct{}
}

const maxQueued = 4096

func (c *packetConn) LocalAddr() net.Addr { return net.UDPAddrFromAddrPort(c.at) }

func (c *packetConn) Close() error {
	c.net.mu.Lock()
	delete(c.net.packets, c.at)
	c.net.mu.Unlock()
	c.mu.Lock()
	c.closed = true
	c.mu.Unlock()
	c.wake()
	return nil
}

func (c *packetConn) wake() {
	select {
	case c.ready <- struct{}{}:
	default:
	}
}

func (c *packetConn) SetReadDeadline(t time.Time) error {
	c.mu.Lock()
	c.deadline = t
	c.mu.Unlock()
	c.wake()
	return nil
}

// WriteToUDPAddrPort sends a datagram: at once into the other's queue, to be read when it is due.
func (c *packetConn) WriteToUDPAddrPort(p []byte, to netip.AddrPort) (int, error) {
	c.mu.Lock()
	closed := c.closed
	c.mu.Unlock()
	if closed {
		return 0, net.ErrClosed
	}
	n := c.net
	n.mu.Lock()
	defer n.mu.Unlock()
	n.sent++
	other := n.packets[to]
	due := time.Now().Add(n.Latency)
	roll := n.random.Float64()
	copies := 1
	switch f := n.faults; {
	case roll < f.Loss:
		copies = 0
	case roll < f.Loss+f.Twice:
		copies = 2
	case roll < f.Loss+f.Twice+f.Late:
		due = due.Add(time.Duration(n.random.Float64() * float64(f.Lateness)))
		n.spoiled++
	}
	if copies != 1 {
		n.spoiled++
	}
	if other == nil || !n.hosts[to.Addr()] || !n.hosts[c.at.Addr()] {
		return len(p), nil // nobody there: gone
	}
	for range copies {
		other.put(queued{slices.Clone(p), c.at, due})
	}
	return len(p), nil
}

func (c *packetConn) put(q queued) {
	c.mu.Lock()
	if len(c.queue) < maxQueued {
		at := len(c.queue)
		for at > 0 && c.queue[at-1].due.After(q.due) {
			at--
		}
		c.queue = slices.Insert(c.queue, at, q)
	}
	c.mu.Unlock()
	c.wake()
}

// ReadFromUDPAddrPort waits for the next datagram that is due.
func (c *packetConn) ReadFromUDPAddrPort(p []byte) (int, netip.AddrPort, error) {
	for {
		c.mu.Lock()
		now := time.Now()
		wait := time.Duration(-1)
		switch {
		case c.closed:
			c.mu.Unlock()
			return 0, netip.AddrPort{}, net.ErrClosed
		case len(c.queue) > 0 && !c.queue[0].due.After(now):
			q := c.queue[0]
			c.queue = c.queue[1:]
			c.mu.Unlock()
			return copy(p, q.data), q.from, nil
		case !c.deadline.IsZero() && !c.deadline.After(now):
			c.mu.Unlock()
			return 0, netip.AddrPort{}, os.ErrDeadlineExceeded
		}
		if len(c.queue) > 0 {
			wait = c.queue[0].due.Sub(now)
		}
		if !c.deadline.IsZero() && (wait < 0 || c.deadline.Sub(now) < wait) {
			wait = c.deadline.Sub(now)
		}
		c.mu.Unlock()
		c.await(wait)
	}
}

func (c *packetConn) await(wait time.Duration) {
	if wait < 0 {
		<-c.ready
		return
	}
	timer := time.NewTimer(wait)
	defer timer.Stop()
	select {
	case <-c.ready:
	case <-timer.C:
	}
}

// listener takes streams in.
type listener struct {
	net     *Net
	at      netip.AddrPort
	streams chan net.Conn
	once    sync.Once
	closed  chan struct{}
}

// Listen implements network.Network.
func (h *Host) Listen(at netip.AddrPort) (net.Listener, error) {
	h.net.mu.Lock()
	defer h.net.mu.Unlock()
	at, err := h.local(at, func(a netip.AddrPort) bool { return h.net.streams[a] != nil })
	if err != nil {
		return nil, err
	}
	l := &listener{net: h.net, at: at, streams: make(chan net.Conn), closed: make(chan struct{})}
	h.net.streams[at] = l
	return l, nil
}

func (l *listener) Accept() (net.Conn, error) {
	select {
	case conn := <-l.streams:
		return conn, nil
	case <-l.closed:
		return nil, net.ErrClosed
	}
}

func (l *listener) Close() error {
	l.once.Do(func() {
		l.net.mu.Lock()
		delete(l.net.streams, l.at)
		l.net.mu.Unlock()
		close(l.closed)
	})
	return nil
}

func (l *listener) Addr() net.Addr { return net.TCPAddrFromAddrPort(l.at) }

// named gives a pipe's end the addresses of a stream.
type named struct {
	net.Conn
	local, remote net.Addr
}

func (n named) LocalAddr() net.Addr  { return n.local }
func (n named) RemoteAddr() net.Addr { return n.remote }

// Dial implements network.Network.
func (h *Host) Dial(ctx context.Context, to netip.AddrPort) (net.Conn, error) {
	h.net.mu.Lock()
	l, up := h.net.streams[to], h.net.hosts[to.Addr()] && h.net.hosts[h.Addr()]
	from, _ := h.local(netip.AddrPortFrom(h.Addr(), 0), func(netip.AddrPort) bool { return false })
	h.net.mu.Unlock()
	switch {
	case !up:
		<-ctx.Done()
		return nil, fmt.Errorf("dial %s: %w", to, ctx.Err())
	case l == nil:
		return nil, &net.OpError{
			Op:   "dial",
			Net:  "memory",
			Addr: net.TCPAddrFromAddrPort(to),
			Err:  os.NewSyscallError("connect", syscall.ECONNREFUSED),
		}
	}
	near, far := net.Pipe()
	nearAddr, farAddr := net.Addr(net.TCPAddrFromAddrPort(from)), net.Addr(net.TCPAddrFromAddrPort(to))
	select {
	case l.streams <- named{far, farAddr, nearAddr}:
		return named{near, nearAddr, farAddr}, nil
	case <-l.closed:
		return nil, errors.Join(net.ErrClosed, near.Close())
	case <-ctx.Done():
		return nil, errors.Join(ctx.Err(), near.Close())
	}
}
