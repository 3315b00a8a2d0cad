//go:build !linux

package network

import (
	"context"
	"errors"
	"fmt"
	"net/netip"
)

// WhoHas is for Linux so far.
func (Host) WhoHas(_ context.Context, on Interface, addr netip.Addr) (string, error) {
	return "", fmt.Errorf("who has %s on %s cannot be asked on this system: %w", addr, on.Name, errors.ErrUnsupported)
}
