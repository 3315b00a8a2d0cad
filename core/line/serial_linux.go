package line

import (
	"fmt"
	"os"
	"os/user"
	"path/filepath"
	"strconv"
	"strings"

	"golang.org/x/sys/unix"
)

// inUse finds another process that holds the port open, by its device number, so that a second name
// for the same port is seen too.
func inUse(t Target) error {
	holder := holderOf(t.Address)
	if holder == "" {
		return nil
	}
	return &Error{Target: t, Reason: ErrInUse, Remedy: "by " + holder + "; close it there first"}
}

func holderOf(path string) string {
	var want unix.Stat_t
	if unix.Stat(path, &want) != nil || want.Mode&unix.S_IFMT != unix.S_IFCHR {
		return ""
	}
	handles, _ := filepath.Glob("/proc/[0-9]*/fd/*")
	for _, handle := range handles {
		var got unix.Stat_t
		if unix.Stat(handle, &got) != nil || got.Mode&unix.S_IFMT != unix.S_IFCHR || got.Rdev != want.Rdev {
			continue
		}
		process := filepath.Dir(filepath.Dir(handle))
		if filepath.Base(process) == strconv.Itoa(os.Getpid()) {
			return "this program itself"
		}
		return fmt.Sprintf("%s (process %s)", commandOf(process), filepath.Base(process))
	}
	return ""
}

func commandOf(process string) string {
	name, err := os.ReadFile(filepath.Join(process, "comm"))
	if err != nil {
		return "a program"
	}
	return strings.TrimSpace(string(name))
}

// permissionRemedy names the group that owns the port.
func permissionRemedy(path string) string {
	var st unix.Stat_t
	if err := unix.Stat(path, &st); err != nil {
		return "look at its owner and mode with ls -l " + path
	}
	group := strconv.Itoa(int(st.Gid))
	if found, err := user.LookupGroupId(group); err == nil {
		group = found.Name
	}
	return fmt.Sprintf("it belongs to group %s; add yourself with: sudo usermod -aG %s $USER, then log in again", group, group)
}

// describe adds what sysfs knows of the USB adapter behind a port, and who holds it.
func describe(p *Port) {
	p.UsedBy = holderOf(p.Path)
	folder, err := filepath.EvalSymlinks("/sys/class/tty/" + filepath.Base(p.Path) + "/device")
	if err != nil {
		return
	}
	for ; folder != "/" && folder != "."; folder = filepath.Dir(folder) {
		if _, err := os.Stat(filepath.Join(folder, "idVendor")); err != nil {
			continue
		}
		p.Maker = attribute(folder, "manufacturer")
		p.Name = attribute(folder, "product")
		p.Serial = attribute(folder, "serial")
		return
	}
}

// attribute reads one line of sysfs, which the adapter wrote: only printable text is kept.
func attribute(folder, name string) string {
	data, err := os.ReadFile(filepath.Join(folder, name))
	if err != nil {
		return ""
	}
	return strings.Map(func(r rune) rune {
		if r < ' ' || r == 0x7f || (r >= 0x80 && r < 0xa0) {
			return -1
		}
		return r
	}, string(data))
}

// flowControl takes a handle on the port and returns how to set its flow control and how to let go.
func flowControl(t Target) (set func() error, release func(), err error) {
	handle, err := unix.Open(t.Address, unix.O_RDWR|unix.O_NOCTTY|unix.O_NONBLOCK, 0)
	if err != nil {
		return nil, nil, err
	}
	set = func() error {
		settings, err := unix.IoctlGetTermios(handle, unix.TCGETS)
		if err != nil {
			return err
		}
		switch t.Flow {
		case "rtscts":
			settings.Cflag |= unix.CRTSCTS
		case "xonxoff":
			settings.Iflag |= unix.IXON | unix.IXOFF
		}
		return unix.IoctlSetTermios(handle, unix.TCSETS, settings)
	}
	return set, func() { _ = unix.Close(handle) }, nil
}

// IsTerminal reports whether a serial target is a pseudo-terminal, which may carry no speed.
func IsTerminal(t Target) bool {
	if t.Kind != Serial {
		return false
	}
	path, err := filepath.EvalSymlinks(t.Address)
	return err == nil && strings.HasPrefix(path, "/dev/pts/")
}
