package reach

import (
	"context"
	"errors"
	"net/netip"
	"os"
	"runtime"
	"sync/atomic"
	"syscall"
	"time"

	probing "github.com/prometheus-community/pro-bing"

	"pilotrix/core/network"
)

// Host watches from the machine that the program runs on.
type Host struct {
	network.Host
	raw *atomic.Bool // unprivileged sockets were refused, raw ones are tried
}

// NewHost makes one.
func NewHost() Host { return Host{raw: &atomic.Bool{}} }

// Ping implements Network: by a datagram socket, which needs no privilege where the system is set so, and
// else by a raw one.
func (h Host) Ping(ctx context.Context, to netip.Addr) (time.Duration, error) {
	raw := h.raw.Load() || runtime.GOOS == "windows"
	trip, err := echo(ctx, to, raw)
	if !raw && notPermitted(err) {
		trip, err = echo(ctx, to, true)
		if !notPermitted(err) {
			h.raw.Store(true)
		}
	}
	if notPermitted(err) {
		err = ErrNotPermitted
	}
	return trip, err
}

func echo(ctx context.Context, to netip.Addr, raw bool) (time.Duration, error) {
	pinger := probing.New(to.String())
	pinger.Count = 1
	pinger.SetPrivileged(raw)
	pinger.SetLogger(probing.NoopLogger{})
	if err := pinger.RunWithContext(ctx); err != nil {
		return 0, err
	}
	if pinger.PacketsRecv == 0 {
		return 0, context.DeadlineExceeded
	}
	return pinger.Statistics().AvgRtt, nil
}

func notPermitted(err error) bool {
	return errors.Is(err, os.ErrPermission) || errors.Is(err, syscall.EPERM) || errors.Is(err, syscall.EACCES) ||
		errors.Is(err, syscall.EPROTONOSUPPORT)
}
