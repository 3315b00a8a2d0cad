package tftp

import (
	"errors"

	"golang.org/x/sys/windows"
)

// refusedPort tells an ICMP port-unreachable that an earlier packet of ours brought about; Windows calls
// it a reset connection.
func refusedPort(err error) bool { return errors.Is(err, windows.WSAECONNRESET) }

// full tells that a disk has no room.
func full(err error) bool { return errors.Is(err, windows.ERROR_DISK_FULL) }
