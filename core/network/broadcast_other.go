//go:build !linux

package network

import (
	"errors"
	"fmt"
)

// ListenBroadcast is for Linux so far: elsewhere a socket cannot be held to one interface in the same way.
func (Host) ListenBroadcast(on Interface, _ uint16) (PacketConn, error) {
	return nil, fmt.Errorf("everybody on %s cannot be heard on this system: %w", on.Name, errors.ErrUnsupported)
}
