package line

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"syscall"

	"pilotrix/core/clock"
)

// Open makes a line of one kind of target.
type Open func(ctx context.Context, target Target) (Line, error)

// Opener opens targets by their kind.
type Opener struct {
	Shells *Shells // what shell sessions need
	kinds  map[string]Open
}

// NewOpener opens every kind of target that is not opened from outside; arrivals are stamped with c.
func NewOpener(c clock.Clock) *Opener {
	home, _ := os.UserHomeDir()
	o := &Opener{Shells: &Shells{Home: home, Agent: os.Getenv("SSH_AUTH_SOCK")}, kinds: map[string]Open{}}
	for _, kind := range kinds {
		if kind.open != nil {
			o.kinds[kind.name] = func(ctx context.Context, t Target) (Line, error) {
				return kind.open(ctx, t, c,
					o.Shells)
			}
		}
	}
	return o
}

// Register adds a kind from outside, such as the bench.
func (o *Opener) Register(kind string, open Open) { o.kinds[kind] = open }

// Open opens a target.
func (o *Opener) Open(ctx context.Context, target Target) (Line, error) {
	open, known := o.kinds[target.Kind]
	if !known {
		return nil, &Error{
			Target: target,
			Remedy: fmt.Sprintf("targets of kind %q are not available here", target.Kind),
		}
	}
	return open(ctx, target)
}

func openSocket(ctx context.Context, t Target, network string, c clock.Clock) (Line, error) {
	dial := dialTCP
	if network != "tcp" {
		dial = func(ctx context.Context, address string) (net.Conn, error) {
			return new(net.Dialer).DialContext(ctx, network, address)
		}
	}
	conn, err := dial(ctx, t.Address)
	if err != nil {
		return nil, socketError(t, err)
	}
	return NewStream(t, conn, c), nil
}

// NewStream makes a line of any connected pair of reader and writer whose Close ends its Read.
func NewStream(t Target, wire io.ReadWriteCloser, c clock.Clock) Line {
	return newStream(t, wire, c, func(err error) error {
		return &Error{Target: t, Reason: ErrUnplugged, Cause: err, Remedy: goneText(err)}
	})
}

func socketError(t Target, err error) error {
	e := &Error{Target: t, Cause: err}
	switch {
	case ended(err):
		return err
	case errors.Is(err, os.ErrNotExist):
		e.Reason, e.Remedy = ErrNoSuch, "is the program that makes this socket running?"
	case errors.Is(err, os.ErrPermission):
		e.Reason, e.Remedy = ErrPermission, "look at the owner and mode of the socket with ls -l "+t.Address
	case errors.Is(err, syscall.ECONNREFUSED):
		e.Reason, e.Remedy = ErrRefused, "nothing listens there; is the address right and the program running?"
	}
	return e
}
