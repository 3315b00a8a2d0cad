//go:build !linux

package network

import (
	"errors"
	"fmt"
	"net/netip"
)

// ListenBroadcast is for Linux so far: elsewhere a socket cannot be held to one interface in the same way.
func (Host) ListenBroadcast(on Interface, _ uint16) (PacketConn, error) {
	return nil, fmt.Errorf("everybody on %s cannot be heard on this system: %w", on.Name, errors.ErrUnsupported)
}

// HearBroadcasts is for Linux so far.
func (Host) HearBroadcasts(netip.AddrPort) []PacketConn { return nil }
