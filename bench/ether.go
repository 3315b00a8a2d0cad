package bench

import (
	"net"
	"net/netip"
	"os"
	"slices"
	"sync"
	"time"
)

// ether carries datagrams between sockets that hear everybody: what new devices and DHCP servers use, before there are
// addresses. What goes to a port reaches every such socket of that port but the sender's, as on a cable that all hang
// on.
type ether struct {
	mu    sync.Mutex
	socks []*etherSock
}

// maxHeard bounds how many datagrams wait in a socket; more are lost, as in a real one.
const maxHeard = 256

func (e *ether) listen(port uint16) *etherSock {
	s := &etherSock{
		ether:  e,
		port:   port,
		heard:  make(chan heard, maxHeard),
		closed: make(chan struct{}),
		late:   make(chan struct{}),
	}
	e.mu.Lock()
	defer e.mu.Unlock()
	e.socks = append(e.socks, s)
	return s
}

type heard struct {
	data []byte
	from netip.AddrPort
}

type etherSock struct {
	ether  *ether
	port   uint16
	heard  chan heard
	closed chan struct{}
	once   sync.Once

	mu   sync.Mutex
	late chan struct{} // closed when the time to read is over
}

// WriteToUDPAddrPort implements network.PacketConn.
func (s *etherSock) WriteToUDPAddrPort(p []byte, to netip.AddrPort) (int, error) {
	s.ether.mu.Lock()
	defer s.ether.mu.Unlock()
	for _, other := range s.ether.socks {
		if other == s || other.port != to.Port() {
			continue
		}
		select {
		case other.heard <- heard{slices.Clone(p), netip.AddrPortFrom(netip.IPv4Unspecified(), s.port)}:
		default:
		}
	}
	return len(p), nil
}

// ReadFromUDPAddrPort implements network.PacketConn.
func (s *etherSock) ReadFromUDPAddrPort(p []byte) (int, netip.AddrPort, error) {
	s.mu.Lock()
	late := s.late
	s.mu.Unlock()
	select {
	case one := <-s.heard:
		return copy(p, one.data), one.from, nil
	case <-late:
		return 0, netip.AddrPort{}, os.ErrDeadlineExceeded
	case <-s.closed:
		return 0, netip.AddrPort{}, net.ErrClosed
	}
}

// SetReadDeadline implements network.PacketConn for times that are over, which is what ends a read, and for none.
func (s *etherSock) SetReadDeadline(at time.Time) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	over := false
	select {
	case <-s.late:
		over = true
	default:
	}
	switch {
	case at.IsZero() && over:
		s.late = make(chan struct{})
	case !at.IsZero() && !over:
		close(s.late)
	}
	return nil
}

// LocalAddr implements network.PacketConn.
func (s *etherSock) LocalAddr() net.Addr {
	return net.UDPAddrFromAddrPort(netip.AddrPortFrom(netip.IPv4Unspecified(), s.port))
}

// Close implements network.PacketConn.
func (s *etherSock) Close() error {
	s.once.Do(func() {
		close(s.closed)
		s.ether.mu.Lock()
		defer s.ether.mu.Unlock()
		s.ether.socks = slices.DeleteFunc(s.ether.socks, func(other *etherSock) bool { return other == s })
	})
	return nil
}
