package state

import (
	"slices"

	"pilotrix/core/event"
)

// maxNewDevice bounds how many new devices are kept; the one that was reported of first is left out.
const maxNewDevice = 1024

// newDevice keeps one that has come further.
func (s *State) newDevice(n event.NewDevice) {
	if i := slices.IndexFunc(s.NewDevice, func(o event.NewDevice) bool { return o.MAC == n.MAC }); i >= 0 {
		s.NewDevice[i] = n
		return
	}
	s.NewDevice = append(s.NewDevice, n)
	if over := len(s.NewDevice) - maxNewDevice; over > 0 {
		s.NewDevice = slices.Delete(s.NewDevice, 0, over)
	}
}
