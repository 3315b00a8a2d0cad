// Package network is where servers, checks and watches get their sockets. In the program it is the
// laptop's own network; a test, or the bench, puts another in its place.
package network

import (
	"context"
	"net"
	"net/netip"
	"time"
)

// PacketConn is a datagram socket. *net.UDPConn is one; its address-port methods allocate nothing.
type PacketConn interface {
	ReadFromUDPAddrPort(p []byte) (n int, from netip.AddrPort, err error)
	WriteToUDPAddrPort(p []byte, to netip.AddrPort) (n int, err error)
	SetReadDeadline(t time.Time) error
	LocalAddr() net.Addr
	Close() error
}

// Network opens sockets of one host.
type Network interface {
	// ListenPacket binds a datagram socket; port 0 takes any.
	ListenPacket(at netip.AddrPort) (PacketConn, error)
	// Listen binds a stream socket; port 0 takes any.
	Listen(at netip.AddrPort) (net.Listener, error)
	// Dial connects a stream.
	Dial(ctx context.Context, to netip.AddrPort) (net.Conn, error)
	// Interfaces lists the host's networks, those that are down left out.
	Interfaces() ([]Interface, error)
}

// Broadcaster is a network on which everybody can be heard and spoken to.
type Broadcaster interface {
	// ListenBroadcast binds a datagram socket that hears what comes to everybody on one interface, and may send to
	// everybody there.
	ListenBroadcast(on Interface, port uint16) (PacketConn, error)
}

// Asker is a network on which it can be asked who has an address.
type Asker interface {
	// WhoHas returns the MAC address of who has it, empty for nobody.
	WhoHas(ctx context.Context, on Interface, addr netip.Addr) (mac string, err error)
}

// Overhearer is a network on which a server hears what is sent to everybody, too.
type Overhearer interface {
	// HearBroadcasts binds sockets for the addresses of everybody on the network that an address is on.
	HearBroadcasts(at netip.AddrPort) []PacketConn
}

// Interface is one network that the host is on: its address there and how far that network reaches.
type Interface struct {
	Name   string
	Prefix netip.Prefix // the host's own address with the network's length
}

// Reaches reports whether an address is on this network.
func (i Interface) Reaches(addr netip.Addr) bool { return i.Prefix.Masked().Contains(addr) }

// Everybody is the address by which everybody on this network of IPv4 is spoken to (RFC 919).
func (i Interface) Everybody() netip.Addr {
	four := i.Prefix.Addr().As4()
	for bit := i.Prefix.Bits(); bit < 32; bit++ {
		four[bit/8] |= 0x80 >> (bit % 8)
	}
	return netip.AddrFrom4(four)
}

// Host is the machine that the program runs on. The zero value is ready to use.
type Host struct{}

// receiveBuffer holds a whole window of large blocks; the system's usual size does not.
const receiveBuffer = 4 << 20

// ListenPacket implements Network.
func (Host) ListenPacket(at netip.AddrPort) (PacketConn, error) {
	conn, err := net.ListenUDP("udp", net.UDPAddrFromAddrPort(at))
	if err != nil {
		return nil, err
	}
	_ = conn.SetReadBuffer(receiveBuffer) // smaller is slower, not wrong
	_ = conn.SetWriteBuffer(receiveBuffer)
	return conn, nil
}

// Listen implements Network.
func (Host) Listen(at netip.AddrPort) (net.Listener, error) {
	return net.ListenTCP("tcp", net.TCPAddrFromAddrPort(at))
}

// Dial implements Network.
func (Host) Dial(ctx context.Context, to netip.AddrPort) (net.Conn, error) {
	return (&net.Dialer{}).DialContext(ctx, "tcp", to.String())
}

// Interfaces implements Network.
func (Host) Interfaces() ([]Interface, error) {
	all, err := net.Interfaces()
	if err != nil {
		return nil, err
	}
	var up []Interface
	for _, one := range all {
		if one.Flags&net.FlagUp == 0 {
			continue
		}
		addrs, err := one.Addrs()
		if err != nil {
			return nil, err
		}
		for _, addr := range addrs {
			if prefix, err := netip.ParsePrefix(addr.String()); err == nil {
				up = append(up, Interface{Name: one.Name, Prefix: prefix})
			}
		}
	}
	return up, nil
}

// Unmap gives the plain form of an address: a socket for both families says IPv4 peers in the form of
// IPv6 (RFC 4291 §2.5.5.2).
func Unmap(addr netip.AddrPort) netip.AddrPort {
	return netip.AddrPortFrom(addr.Addr().Unmap(), addr.Port())
}
