package main

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"os/signal"
	"sync"
	"syscall"

	"golang.org/x/term"
)

// How the program is ended from outside: by a signal, or by whoever reads what it prints going away.

// errSignal is why everything ends at a signal.
var errSignal = errors.New("interrupted")

// exitSignal is what the program ends with at a second signal, as a shell has it for one that was interrupted.
const exitSignal = 128 + int(syscall.SIGINT)

// plainTerminal leaves whatever the interface has switched on: the other screen, the mouse, bracketed paste, a hidden
// cursor.
const plainTerminal = "\x1b[?1049l\x1b[?25h\x1b[?2004l\x1b[?1000l\x1b[?1002l\x1b[?1003l\x1b[?1006l\x1b[>4m\x1b[<u"

// endOnSignals cancels everything at the first signal, which ends it in order: a transfer is cancelled, the speed put
// back. The second one ends it at once, and leaves no dead screen behind.
func endOnSignals(cancel context.CancelCauseFunc) {
	signal.Notify(make(chan os.Signal, 1),
		syscall.SIGPIPE) // a write says it; to ignore it would have programs that we start ignore it, too
	before, _ := term.GetState(int(os.Stdin.Fd()))
	signals := make(chan os.Signal, 2)
	signal.Notify(signals, os.Interrupt, syscall.SIGTERM, syscall.SIGHUP)
	go func() {
		<-signals
		cancel(errSignal)
		<-signals
		if before != nil {
			if term.IsTerminal(int(os.Stdout.Fd())) {
				fmt.Fprint(os.Stdout, plainTerminal)
			}
			_ = term.Restore(int(os.Stdin.Fd()), before)
		}
		os.Exit(exitSignal)
	}()
}

// output is the standard output. When it cannot be written, everything ends as at an interrupt: whoever reads it has
// gone, or a disk is full, and nothing goes on unseen.
type output struct {
	to   io.Writer
	gone context.CancelCauseFunc

	mu  sync.Mutex
	err error
}

// Write implements io.Writer.
func (o *output) Write(p []byte) (int, error) {
	n, err := o.to.Write(p)
	if err == nil {
		return n, nil
	}
	o.mu.Lock()
	defer o.mu.Unlock()
	if o.err == nil {
		o.err = fmt.Errorf("the standard output cannot be written: %w", err)
		o.gone(o.err)
	}
	return n, o.err
}

// failed is why it could not be written, nil where it could.
func (o *output) failed() error {
	o.mu.Lock()
	defer o.mu.Unlock()
	return o.err
}
