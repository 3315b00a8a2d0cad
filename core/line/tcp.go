package line

import (
	"context"
	"errors"
	"net"
	"syscall"
	"time"
)

// muteFor is how long the other side of a connection may acknowledge nothing, neither what was sent nor what asks
// whether it is there, before it counts as gone. A device that lost its power says nothing of that.
const muteFor = 45 * time.Second

// dialTCP connects to an address, and has a peer that dies noticed.
func dialTCP(ctx context.Context, address string) (net.Conn, error) {
	return dialWithin(ctx, address, muteFor)
}

func dialWithin(ctx context.Context, address string, most time.Duration) (net.Conn, error) {
	dialer := dialerWithin(most)
	return dialer.DialContext(ctx, "tcp", address)
}

// dialerWithin makes connections whose end is known after that long at the most.
func dialerWithin(most time.Duration) net.Dialer {
	const asks = 3
	return net.Dialer{
		KeepAliveConfig: net.KeepAliveConfig{
			Enable:   true,
			Idle:     most / (asks + 1),
			Interval: most / (asks + 1),
			Count:    asks,
		},
		Control: func(_, _ string, c syscall.RawConn) error { return limitSilence(c, most) },
	}
}

// goneText is why a connection ended, in words.
func goneText(err error) string {
	if isLost(err) {
		return "nothing came back from it any more: it has no power, or the way to it is gone"
	}
	return "the other side closed it"
}

// isLost reports whether the way to the other side is gone: a network that has lost its carrier says that no host is to
// be reached.
func isLost(err error) bool {
	return errors.Is(err, syscall.ETIMEDOUT) || errors.Is(err, syscall.EHOSTUNREACH) ||
		errors.Is(err, syscall.ENETUNREACH) ||
		errors.Is(err, syscall.EHOSTDOWN)
}
