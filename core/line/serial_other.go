//go:build !linux

package line

import "fmt"

// inUse is left to the system's own answer here.
func inUse(Target) error { return nil }

func permissionRemedy(path string) string {
	return "look at the owner and mode of " + path + " and open it as a user who may"
}

func describe(*Port) {}

func flowControl(t Target) (set func() error, release func(), err error) {
	return nil, nil, fmt.Errorf("flow=%s is set on Linux only so far; use flow=none", t.Flow)
}

// IsTerminal reports whether a serial target is a pseudo-terminal, which may carry no speed.
func IsTerminal(Target) bool { return false }
