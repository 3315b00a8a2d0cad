//go:build !windows

package tftp

import (
	"errors"
	"syscall"
)

// refusedPort tells an ICMP port-unreachable that an earlier packet of ours brought about.
func refusedPort(err error) bool { return errors.Is(err, syscall.ECONNREFUSED) }

// full tells that a disk has no room.
func full(err error) bool { return errors.Is(err, syscall.ENOSPC) }
