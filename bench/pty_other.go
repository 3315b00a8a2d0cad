//go:build !linux

package bench

import "errors"

// HasTerminals says that devices here have a path of their own to open.
const HasTerminals = false

type ptyHost struct{ Host }

// newPtyHost is for Linux, where the speed that a program sets on a pseudo-terminal can be read back.
func newPtyHost(string) (*ptyHost, error) {
	return nil, errors.New("bench: a device with a path of its own needs Linux; bench:NAME works everywhere")
}
