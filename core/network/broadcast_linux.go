package network

import (
	"context"
	"errors"
	"fmt"
	"net"
	"syscall"

	"golang.org/x/sys/unix"
)

// ListenBroadcast binds a datagram socket of IPv4 that hears what comes to everybody on one interface, and may send to
// everybody there; nothing of it crosses another interface. Ports below 1024 want root.
func (Host) ListenBroadcast(on Interface, port uint16) (PacketConn, error) {
	set := func(fd int) error {
		return errors.Join(
			unix.SetsockoptInt(fd, unix.SOL_SOCKET, unix.SO_REUSEADDR, 1),
			unix.SetsockoptInt(fd, unix.SOL_SOCKET, unix.SO_BROADCAST, 1),
			unix.SetsockoptString(fd, unix.SOL_SOCKET, unix.SO_BINDTODEVICE, on.Name),
		)
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
