package network

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"syscall"

	"golang.org/x/sys/unix"
)

// ListenBroadcast binds a datagram socket of IPv4 that hears what comes to everybody on one interface, and may send to
// everybody there; nothing of it crosses another interface. Ports below 1024 want root.
func (Host) ListenBroadcast(on Interface, port uint16) (PacketConn, error) {
	set := func(fd int) error {
		return errors.Join(unix.SetsockoptInt(fd, unix.SOL_SOCKET, unix.SO_REUSEADDR, 1),
			unix.SetsockoptInt(fd, unix.SOL_SOCKET, unix.SO_BROADCAST, 1),
			unix.SetsockoptString(fd, unix.SOL_SOCKET, unix.SO_BINDTODEVICE, on.Name))
	}
	config := net.ListenConfig{Control: func(_, _ string, raw syscall.RawConn) error {
		var failed error
		err := raw.Control(func(fd uintptr) { failed = set(int(fd)) })
		return errors.Join(err, failed)
	}}
	conn, err := config.ListenPacket(context.Background(), "udp4", fmt.Sprintf(":%d", port))
	if err != nil {
		return nil, err
	}
	return conn.(*net.UDPConn), nil
}

// HearBroadcasts binds a datagram socket for each address by which everybody on the network of this one is spoken to
// (RFC 919): a socket of the address itself does not hear these. A socket that is not available is left out.
func (h Host) HearBroadcasts(at netip.AddrPort) (sockets []PacketConn) {
	if !at.Addr().Is4() {
		return nil
	}
	all, err := h.Interfaces()
	if err != nil {
		return nil
	}
	for _, one := range all {
		if one.Prefix.Addr() != at.Addr() {
			continue
		}
		for _, everybody := range []netip.Addr{one.Everybody(), netip.AddrFrom4([4]byte{255, 255, 255, 255})} {
			config := net.ListenConfig{Control: func(_, _ string, raw syscall.RawConn) error {
				return raw.Control(
					func(fd uintptr) { // a kernel may keep this for root: it only holds the other networks off
						_ = unix.SetsockoptString(int(fd), unix.SOL_SOCKET, unix.SO_BINDTODEVICE, one.Name)
					},
				)
			}}
			conn, err := config.ListenPacket(context.Background(), "udp4",
				netip.AddrPortFrom(everybody, at.Port()).String())
			if err == nil {
				sockets = append(sockets, conn.(*net.UDPConn))
			}
		}
	}
	return sockets
}
