//go:build !windows

package line

import (
	"context"
	"errors"
	"io"
	"os"
	"os/exec"
	"sync"
	"syscall"
	"time"

	"github.com/creack/pty"

	"pilotrix/core/clock"
)

// killAfter is how long a child may take to end once its terminal is gone.
const killAfter = 500 * time.Millisecond

// execLine is a Line to a child program on a pseudo-terminal.
type execLine struct {
	*stream
	terminal *os.File
}

func openExec(_ context.Context, t Target, c clock.Clock) (Line, error) {
	child := exec.Command("/bin/sh", "-c", t.Address)
	child.Env = append(os.Environ(), "TERM=xterm-256color")
	terminal, err := pty.StartWithSize(child, &pty.Winsize{Cols: 80, Rows: 24})
	if err != nil {
		return nil, &Error{Target: t, Cause: err, Remedy: "could not start it"}
	}
	wire := &childWire{File: terminal, child: child, gone: make(chan struct{})}
	go wire.wait()
	return &execLine{
		stream: newStream(t, wire, c, func(err error) error {
			return &Error{Target: t, Reason: ErrUnplugged, Cause: err, Remedy: "the program ended: " + wire.state()}
		}),
		terminal: terminal,
	}, nil
}

func (l *execLine) Resize(cols, rows int) error {
	return pty.Setsize(l.terminal, &pty.Winsize{Cols: uint16(cols), Rows: uint16(rows)})
}

// childWire ends the child together with its terminal.
type childWire struct {
	*os.File
	child *exec.Cmd
	gone  chan struct{}
	once  sync.Once
}

func (w *childWire) wait() {
	_ = w.child.Wait()
	close(w.gone)
}

// Read turns the error that a terminal without a program gives into the end of the stream.
func (w *childWire) Read(p []byte) (int, error) {
	n, err := w.File.Read(p)
	if errors.Is(err, syscall.EIO) {
		err = io.EOF
	}
	return n, err
}

func (w *childWire) state() string {
	select {
	case <-w.gone:
		return w.child.ProcessState.String()
	case <-time.After(killAfter):
		return "it closed its terminal"
	}
}

// Close hangs up, then kills the child's whole group when that was not enough.
func (w *childWire) Close() (err error) {
	w.once.Do(func() {
		_ = syscall.Kill(-w.child.Process.Pid, syscall.SIGHUP)
		err = w.File.Close()
		select {
		case <-w.gone:
		case <-time.After(killAfter):
			_ = syscall.Kill(-w.child.Process.Pid, syscall.SIGKILL)
			<-w.gone
		}
	})
	return err
}
