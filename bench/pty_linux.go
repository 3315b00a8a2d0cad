package bench

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"syscall"

	"github.com/creack/pty"
	"golang.org/x/sys/unix"
)

// HasTerminals says that devices here have a path of their own to open.
const HasTerminals = true

// ptyHost is a pseudo-terminal: the program opens its path like any serial port, and the speed it
// sets there is read back here.
type ptyHost struct {
	master *os.File
	link   string
}

// newPtyHost makes a pseudo-terminal and a link to it with a name that stays when it is plugged out
// and in.
func newPtyHost(link string) (*ptyHost, error) {
	master, slave, err := pty.Open()
	if err != nil {
		return nil, fmt.Errorf("bench: no pseudo-terminal to be had: %w", err)
	}
	defer slave.Close() // the line is the program's; holding it would look like another user
	if err := makeRaw(int(slave.Fd())); err != nil {
		return nil, err
	}
	polled, err := pollable(master)
	if err != nil {
		return nil, err
	}
	if err := os.MkdirAll(filepath.Dir(link), 0o700); err != nil {
		return nil, err
	}
	_ = os.Remove(link)
	if err := os.Symlink(slave.Name(), link); err != nil {
		return nil, err
	}
	return &ptyHost{master: polled, link: link}, nil
}

// pollable gives a handle whose reads the runtime can wait for and end: asking the package's file
// for its number has put that one into blocking mode.
func pollable(f *os.File) (*os.File, error) {
	defer f.Close()
	fd, err := unix.FcntlInt(f.Fd(), unix.F_DUPFD_CLOEXEC, 3)
	if err != nil {
		return nil, err
	}
	if err := unix.SetNonblock(fd, true); err != nil {
		return nil, err
	}
	return os.NewFile(uintptr(fd), "ptmx"), nil
}

func makeRaw(fd int) error {
	settings, err := unix.IoctlGetTermios(fd, unix.TCGETS)
	if err != nil {
		return err
	}
	settings.Iflag, settings.Oflag, settings.Lflag = 0, 0, 0
	return unix.IoctlSetTermios(fd, unix.TCSETS, settings)
}

func (h *ptyHost) Read(p []byte) (int, error) {
	n, err := h.master.Read(p)
	if errors.Is(err, syscall.EIO) {
		err = errNobody
	}
	return n, err
}

// Write drops what nobody listens to, as a cable does.
func (h *ptyHost) Write(p []byte) (int, error) {
	if !h.held() {
		return len(p), nil
	}
	return h.master.Write(p)
}

func (h *ptyHost) held() bool {
	held := true
	raw, err := h.master.SyscallConn()
	if err != nil {
		return false
	}
	_ = raw.Control(func(fd uintptr) {
		poll := []unix.PollFd{{Fd: int32(fd), Events: unix.POLLOUT}}
		if n, err := unix.Poll(poll, 0); err == nil && n > 0 {
			held = poll[0].Revents&unix.POLLHUP == 0
		}
	})
	return held
}

// Speed reads the program's setting back from the terminal (termios2 of the Linux kernel holds it as
// a number).
func (h *ptyHost) Speed() (baud int) {
	raw, err := h.master.SyscallConn()
	if err != nil {
		return 0
	}
	_ = raw.Control(func(fd uintptr) {
		if settings, err := unix.IoctlGetTermios(int(fd), unix.TCGETS2); err == nil {
			baud = int(settings.Ospeed)
		}
	})
	return baud
}

func (h *ptyHost) Close() error {
	_ = os.Remove(h.link)
	return h.master.Close()
}
