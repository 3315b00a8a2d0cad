//go:build !windows

package tftp

import (
	"errors"
	"syscall"
)

// refusedPort says an ICMP port-unreachable that an earlier packet of ours brought about.
func refusedPort(err error) bool { return errors.Is(err, syscall.ECONNREFUSED) }

// full says that a disk has no room.
func full(err error) bool { return errors.Is(err, syscall.ENOSPC) }

// passing says a failure to send that may be over at the next try: a cable that has no carrier while a
// device restarts takes its routes with it.
func passing(err error) bool {
	for _, one := range []error{syscall.ENETUNREACH, syscall.EHOSTUNREACH, syscall.ENETDOWN, syscall.EHOSTDOWN, syscall.ENOBUFS, syscall.ECONNREFUSED} {
		if errors.Is(err, one) {
			return true
		}
	}
	return false
}
