//go:build !linux

package line

import (
	"fmt"
	"time"

	"go.bug.st/serial"
)

// inUse is left to the system's own answer here.
func inUse(Target) error { return nil }

func permissionRemedy(path string) string {
	return "look at the owner and mode of " + path + " and open it as a user who may"
}

func describe(*Port) {}

// portPaths asks the serial package, which opens no port on these systems either.
func portPaths() ([]string, error) { return serial.GetPortsList() }

func latencyOf(string) time.Duration { return 0 }

func prepare(t Target) (set func() error, restore func(), err error) {
	if t.Flow != DefaultFlow {
		return nil, nil, fmt.Errorf("flow=%s is set on Linux only so far; use flow=none", t.Flow)
	}
	return func() error { return nil }, func() {}, nil
}

// IsTerminal reports whether a serial target is a pseudo-terminal, which may carry no speed.
func IsTerminal(Target) bool { return false }
