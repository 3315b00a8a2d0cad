package state

import (
	"slices"

	"pilotrix/core/event"
)

// mostNewcomers bounds how many new devices are kept; the one that was told of first is left out.
const mostNewcomers = 1024

// newcomer keeps one that has come further.
func (s *State) newcomer(n event.Newcomer) {
	if i := slices.IndexFunc(s.Newcomers, func(o event.Newcomer) bool { return o.MAC == n.MAC }); i >= 0 {
		s.Newcomers[i] = n
		return
	}
	s.Newcomers = append(s.Newcomers, n)
	if over := len(s.Newcomers) - mostNewcomers; over > 0 {
		s.Newcomers = slices.Delete(s.Newcomers, 0, over)
	}
}
