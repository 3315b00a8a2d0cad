package line

import (
	"syscall"
	"time"

	"golang.org/x/sys/unix"
)

// limitSilence bounds how long what was sent may stay unacknowledged.
func limitSilence(c syscall.RawConn, muteFor time.Duration) (err error) {
	control := c.Control(func(fd uintptr) {
		err = unix.SetsockoptInt(int(fd), unix.IPPROTO_TCP, unix.TCP_USER_TIMEOUT, int(muteFor.Milliseconds()))
	})
	if control != nil {
		return control
	}
	return err
}
