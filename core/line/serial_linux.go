package line

import (
	"fmt"
	"os"
	"os/user"
	"path/filepath"
	"strconv"
	"strings"
	"time"
	"unsafe"

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
	return fmt.Sprintf("it belongs to group %s; add yourself with: sudo usermod -aG %s $USER, then log in again", group,
		group)
}

// ttys is where the system says of its serial devices.
const ttys = "/sys/class/tty"

// portPaths lists the ports that have hardware after them. A built-in port without any is of type 0.
func portPaths() ([]string, error) { return portPathsIn(ttys) }

func portPathsIn(root string) (paths []string, err error) {
	entries, err := os.ReadDir(root)
	if err != nil {
		return nil, err
	}
	for _, entry := range entries {
		folder := filepath.Join(root, entry.Name())
		if _, err := os.Stat(filepath.Join(folder, "device")); err != nil {
			continue // a console, or a pseudo-terminal
		}
		if kind, err := os.ReadFile(filepath.Join(folder, "type")); err == nil &&
			strings.TrimSpace(string(kind)) == "0" {
			continue
		}
		paths = append(paths, "/dev/"+entry.Name())
	}
	return paths, nil
}

// describe adds what sysfs knows of the USB adapter behind a port, and who holds it.
func describe(p *Port) {
	p.UsedBy = holderOf(p.Path)
	describeIn(ttys, p)
}

func describeIn(root string, p *Port) {
	folder, err := filepath.EvalSymlinks(filepath.Join(root, filepath.Base(p.Path), "device"))
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
		p.Place = filepath.Base(folder)
		return
	}
}

// latencyIn is how often the adapter delivers, 0 when it does not say.
func latencyIn(root, path string) time.Duration {
	text, err := os.ReadFile(filepath.Join(root, filepath.Base(path), "device", "latency_timer"))
	if err != nil {
		return 0
	}
	ms, err := strconv.Atoi(strings.TrimSpace(string(text)))
	if err != nil || ms < 0 || ms > 1000 {
		return 0
	}
	return time.Duration(ms) * time.Millisecond
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

// serialSettings is struct serial_struct of linux/serial.h, as TIOCGSERIAL gives it.
type serialSettings struct {
	kind, line    int32
	port          uint32
	irq, flags    int32
	transmitSize  int32
	divisor, baud int32
	closeDelay    uint16
	ioKind        int8
	_             [1]int8
	hub6          int32
	closingWait   uint16
	closingWait2  uint16
	memory        uintptr
	memoryShift   uint16
	portHigh      uint32
	mapBase       uintptr
}

const lowLatency = 1 << 13 // ASYNC_LOW_LATENCY of linux/tty_flags.h

func serialControl(handle int, order uint, s *serialSettings) error {
	if _, _, failed := unix.Syscall(unix.SYS_IOCTL, uintptr(handle), uintptr(order),
		uintptr(unsafe.Pointer(s))); failed != 0 {
		return failed
	}
	return nil
}

// prepare takes a handle on a port, before the port is held exclusively, and returns what sets it once it is
// open and what puts back what was set.
func prepare(t Target) (set func() error, restore func(), err error) {
	handle, err := unix.Open(t.Address, unix.O_RDWR|unix.O_NOCTTY|unix.O_NONBLOCK, 0)
	if err != nil {
		return nil, nil, err
	}
	var before serialSettings
	asked := false
	set = func() error {
		// Adapters hold what arrives back for up to 16 ms unless they are asked not to. Not every driver can.
		if serialControl(handle, unix.TIOCGSERIAL, &before) == nil && before.flags&lowLatency == 0 {
			quick := before
			quick.flags |= lowLatency
			asked = serialControl(handle, unix.TIOCSSERIAL, &quick) == nil
		}
		return setFlow(handle, t.Flow)
	}
	restore = func() {
		if asked {
			_ = serialControl(handle, unix.TIOCSSERIAL, &before)
		}
		_ = unix.Close(handle)
	}
	return set, restore, nil
}

// setFlow sets flow control, which the serial package leaves off.
func setFlow(handle int, flow string) error {
	if flow == DefaultFlow {
		return nil
	}
	settings, err := unix.IoctlGetTermios(handle, unix.TCGETS)
	if err != nil {
		return err
	}
	switch flow {
	case "rtscts":
		settings.Cflag |= unix.CRTSCTS
	case "xonxoff":
		settings.Iflag |= unix.IXON | unix.IXOFF
	}
	return unix.IoctlSetTermios(handle, unix.TCSETS, settings)
}

// latencyOf is how often the port's adapter delivers, 0 when it does not say.
func latencyOf(path string) time.Duration { return latencyIn(ttys, path) }

// IsTerminal reports whether a serial target is a pseudo-terminal, which may carry no speed.
func IsTerminal(t Target) bool {
	if t.Kind != Serial {
		return false
	}
	path, err := filepath.EvalSymlinks(t.Address)
	return err == nil && strings.HasPrefix(path, "/dev/pts/")
}
