package tftp

import (
	"errors"

	"golang.org/x/sys/windows"
)

// refusedPort says an ICMP port-unreachable that an earlier packet of ours brought about; Windows calls
// it a reset connection.
func refusedPort(err error) bool { return errors.Is(err, windows.WSAECONNRESET) }

// full says that a disk has no room.
func full(err error) bool { return errors.Is(err, windows.ERROR_DISK_FULL) }

// passing says a failure to send that may be over at the next try: a cable that has no carrier while a
// device restarts takes its routes with it.
func passing(err error) bool {
	for _, one := range []error{windows.WSAENETUNREACH, windows.WSAEHOSTUNREACH, windows.WSAENETDOWN, windows.WSAENOBUFS, windows.WSAECONNRESET} {
		if errors.Is(err, one) {
			return true
		}
	}
	return false
}
