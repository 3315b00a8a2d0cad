//go:build !linux

package clock

import "time"

// began is when the program did, with both clocks.
var began = time.Now()

// Slept is how long this machine was suspended since the program started, by how far its wall clock went on without
// Go's own, which stands still meanwhile, and that of a device does not.
func Slept() time.Duration {
	now := time.Now()
	return max(0, now.Round(0).Sub(began.Round(0))-now.Sub(began))
}
