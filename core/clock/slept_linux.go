package clock

import (
	"time"

	"golang.org/x/sys/unix"
)

// Slept is how long this machine was suspended since it started: Go's own clock stands still meanwhile, and that of a
// device does not.
func Slept() time.Duration {
	var whole, awake unix.Timespec
	if unix.ClockGettime(unix.CLOCK_BOOTTIME, &whole) != nil || unix.ClockGettime(unix.CLOCK_MONOTONIC, &awake) != nil {
		return 0
	}
	return max(0, time.Duration(whole.Nano()-awake.Nano()))
}
