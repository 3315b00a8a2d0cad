package bench

import (
	"context"
	"fmt"
	"math/rand/v2"
	"net"
	"net/netip"
	"os"
	"sync"
	"syscall"
	"time"

	"pilotrix/core/network"
	"pilotrix/core/network/simulated"
)

// LAN is the cable between devices and the laptop: hosts with addresses of their own, which answer while
// they are up. Its sockets are real ones on loopback; a LAN in memory has none and works in virtual time.
type LAN struct {
	memory *simulated.Net
	ether  ether

	dialing sync.RWMutex // held while a stream is registered, so that its other end knows its name
	mu      sync.Mutex
	packets table
	streams table
	peers   map[netip.AddrPort]netip.AddrPort // of streams, by their real address
	up      map[netip.Addr]bool
	faults  simulated.Faults
	random  *rand.Rand
}

// table joins the addresses of the LAN with the real ones.
type table struct {
	real    map[netip.AddrPort]netip.AddrPort
	virtual map[netip.AddrPort]netip.AddrPort
}

func newTable() table {
	return table{map[netip.AddrPort]netip.AddrPort{}, map[netip.AddrPort]netip.AddrPort{}}
}

// NewLAN makes a LAN; the seed decides its faults.
func NewLAN(inMemory bool, seed uint64) *LAN {
	l := &LAN{
		packets: newTable(),
		streams: newTable(),
		peers:   map[netip.AddrPort]netip.AddrPort{},
		up:      map[netip.Addr]bool{},
		random:  rand.New(rand.NewPCG(seed, seed)),
	}
	if inMemory {
		l.memory = simulated.New(seed)
		l.memory.Latency = 300 * time.Microsecond
	}
	return l
}

// Spoil loses, doubles and delays datagrams from now on.
func (l *LAN) Spoil(f simulated.Faults) {
	if l.memory != nil {
		l.memory.Spoil(f)
		return
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	l.faults = f
}

// SetUp says whether a host answers.
func (l *LAN) SetUp(addr netip.Addr, up bool) {
	if l.memory != nil {
		l.memory.SetUp(addr, up)
		return
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	l.up[addr] = up
}

func (l *LAN) isUp(addr netip.Addr) bool {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.up[addr]
}

// LANHost is what a host of the LAN can do: open sockets, and see whether another answers.
type LANHost interface {
	network.Network
	network.Broadcaster
	Ping(ctx context.Context, to netip.Addr) (time.Duration, error)
}

// Host puts a host on the LAN, up.
func (l *LAN) Host(name string, prefix netip.Prefix) LANHost {
	l.SetUp(prefix.Addr(), true)
	if l.memory != nil {
		return memoryLANHost{l.memory.Host(name, prefix), l}
	}
	return &loopbackHost{l, name, prefix}
}

// memoryLANHost is a host inside the process that may hear everybody, too.
type memoryLANHost struct {
	*simulated.Host
	lan *LAN
}

// ListenBroadcast implements network.Broadcaster.
func (h memoryLANHost) ListenBroadcast(_ network.Interface, port uint16) (network.PacketConn, error) {
	return h.lan.ether.listen(port), nil
}

// ListenBroadcast implements network.Broadcaster.
func (h *loopbackHost) ListenBroadcast(_ network.Interface, port uint16) (network.PacketConn, error) {
	return h.lan.ether.listen(port), nil
}

// Everybody is a socket on which everybody on the LAN is heard, for a host that has no address yet.
func (l *LAN) Everybody(port uint16) network.PacketConn { return l.ether.listen(port) }

// loopbackHost is a host whose sockets are real.
type loopbackHost struct {
	lan    *LAN
	name   string
	prefix netip.Prefix
}

// Interfaces implements network.Network.
func (h *loopbackHost) Interfaces() ([]network.Interface, error) {
	return []network.Interface{{Name: h.name, Prefix: h.prefix}}, nil
}

// Ping implements reach.Network: a host that is up answers.
func (h *loopbackHost) Ping(ctx context.Context, to netip.Addr) (time.Duration, error) {
	if !h.lan.isUp(to) {
		<-ctx.Done()
		return 0, ctx.Err()
	}
	trip := time.Duration(300+rand.IntN(400)) * time.Microsecond
	timer := time.NewTimer(trip)
	defer timer.Stop()
	select {
	case <-timer.C:
		return trip, nil
	case <-ctx.Done():
		return 0, ctx.Err()
	}
}

var loopback = netip.AddrPortFrom(netip.AddrFrom4([4]byte{127, 0, 0, 1}), 0)

// bind gives a real address its name on the LAN.
func (h *loopbackHost) bind(t *table, at netip.AddrPort, real net.Addr) (netip.AddrPort, error) {
	socket, err := netip.ParseAddrPort(real.String())
	if err != nil {
		return at, err
	}
	addr, port := at.Addr(), at.Port()
	if addr.IsUnspecified() {
		addr = h.prefix.Addr()
	}
	if addr != h.prefix.Addr() {
		return at, &net.OpError{Op: "listen", Net: "bench", Err: os.NewSyscallError("bind", syscall.EADDRNOTAVAIL)}
	}
	if port == 0 {
		port = socket.Port()
	}
	at = netip.AddrPortFrom(addr, port)
	h.lan.mu.Lock()
	defer h.lan.mu.Unlock()
	if _, taken := t.real[at]; taken {
		return at, &net.OpError{Op: "listen", Net: "bench", Err: os.NewSyscallError("bind", syscall.EADDRINUSE)}
	}
	t.real[at], t.virtual[socket] = socket, at
	return at, nil
}

// unbind frees a name. What the socket sent may still be on its way and has to be known by it: the way
// back from the real address stays until another socket takes that.
func (l *LAN) unbind(t *table, at netip.AddrPort) {
	l.mu.Lock()
	defer l.mu.Unlock()
	delete(t.real, at)
}

// ListenPacket implements network.Network.
func (h *loopbackHost) ListenPacket(at netip.AddrPort) (network.PacketConn, error) {
	conn, err := network.Host{}.ListenPacket(loopback)
	if err != nil {
		return nil, err
	}
	at, err = h.bind(&h.lan.packets, at, conn.LocalAddr())
	if err != nil {
		_ = conn.Close()
		return nil, err
	}
	return &lanPackets{conn, h.lan, at}, nil
}

// lanPackets is a datagram socket whose peers have their names of the LAN.
type lanPackets struct {
	network.PacketConn
	lan *LAN
	at  netip.AddrPort
}

func (c *lanPackets) LocalAddr() net.Addr { return net.UDPAddrFromAddrPort(c.at) }

func (c *lanPackets) Close() error {
	c.lan.unbind(&c.lan.packets, c.at)
	return c.PacketConn.Close()
}

func (c *lanPackets) ReadFromUDPAddrPort(p []byte) (int, netip.AddrPort, error) {
	n, from, err := c.PacketConn.ReadFromUDPAddrPort(p)
	c.lan.mu.Lock()
	defer c.lan.mu.Unlock()
	if name, known := c.lan.packets.virtual[network.Unmap(from)]; known {
		from = name
	}
	return n, from, err
}

func (c *lanPackets) WriteToUDPAddrPort(p []byte, to netip.AddrPort) (int, error) {
	c.lan.mu.Lock()
	real, there := c.lan.packets.real[to]
	there = there && c.lan.up[to.Addr()] && c.lan.up[c.at.Addr()]
	copies := 1
	switch roll := c.lan.random.Float64(); {
	case roll < c.lan.faults.Loss:
		copies = 0
	case roll < c.lan.faults.Loss+c.lan.faults.Twice:
		copies = 2
	}
	c.lan.mu.Unlock()
	if !there {
		return len(p), nil
	}
	for range copies {
		if _, err := c.PacketConn.WriteToUDPAddrPort(p, real); err != nil {
			return 0, err
		}
	}
	return len(p), nil
}

// Listen implements network.Network.
func (h *loopbackHost) Listen(at netip.AddrPort) (net.Listener, error) {
	listener, err := network.Host{}.Listen(loopback)
	if err != nil {
		return nil, err
	}
	at, err = h.bind(&h.lan.streams, at, listener.Addr())
	if err != nil {
		_ = listener.Close()
		return nil, err
	}
	return &lanListener{listener, h.lan, at}, nil
}

type lanListener struct {
	net.Listener
	lan *LAN
	at  netip.AddrPort
}

func (l *lanListener) Addr() net.Addr { return net.TCPAddrFromAddrPort(l.at) }

func (l *lanListener) Close() error {
	l.lan.unbind(&l.lan.streams, l.at)
	return l.Listener.Close()
}

func (l *lanListener) Accept() (net.Conn, error) {
	conn, err := l.Listener.Accept()
	if err != nil {
		return nil, err
	}
	return &lanConn{conn, l.lan}, nil
}

// lanConn is a stream whose other end has its name of the LAN.
type lanConn struct {
	net.Conn
	lan *LAN
}

func (c *lanConn) RemoteAddr() net.Addr {
	real, err := netip.ParseAddrPort(c.Conn.RemoteAddr().String())
	if err != nil {
		return c.Conn.RemoteAddr()
	}
	c.lan.dialing.RLock()
	defer c.lan.dialing.RUnlock()
	c.lan.mu.Lock()
	defer c.lan.mu.Unlock()
	if name, known := c.lan.peers[real]; known {
		return net.TCPAddrFromAddrPort(name)
	}
	return c.Conn.RemoteAddr()
}

// stream finds the real address of a stream's port. A high port that a serving host has not named is
// looked for on the loopback interface: data connections of FTP are there.
func (l *LAN) stream(to netip.AddrPort) (netip.AddrPort, bool) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if real, named := l.streams.real[to]; named {
		return real, true
	}
	serves := to.Addr().IsLoopback()
	for at := range l.streams.real {
		serves = serves || at.Addr() == to.Addr()
	}
	const firstHigh = 1024
	return netip.AddrPortFrom(loopback.Addr(), to.Port()), serves && to.Port() >= firstHigh
}

// Dial implements network.Network.
func (h *loopbackHost) Dial(ctx context.Context, to netip.AddrPort) (net.Conn, error) {
	if !to.Addr().IsLoopback() && !(h.lan.isUp(to.Addr()) && h.lan.isUp(h.prefix.Addr())) {
		<-ctx.Done()
		return nil, fmt.Errorf("dial %s: %w", to, ctx.Err())
	}
	real, open := h.lan.stream(to)
	if !open {
		return nil, &net.OpError{
			Op:   "dial",
			Net:  "bench",
			Addr: net.TCPAddrFromAddrPort(to),
			Err:  os.NewSyscallError("connect", syscall.ECONNREFUSED),
		}
	}
	h.lan.dialing.Lock()
	defer h.lan.dialing.Unlock()
	conn, err := network.Host{}.Dial(ctx, real)
	if err != nil {
		return nil, err
	}
	if local, err := netip.ParseAddrPort(conn.LocalAddr().String()); err == nil {
		h.lan.mu.Lock()
		h.lan.peers[local] = netip.AddrPortFrom(h.prefix.Addr(), local.Port())
		h.lan.mu.Unlock()
	}
	return conn, nil
}
