package state

import (
	"slices"
	"time"

	"pilotrix/core/event"
)

// Newcomer is a device that provisions itself, with when it came to each stage last.
type Newcomer struct {
	event.Newcomer
	Reached map[int]time.Time // by the stage's place
}

// mostNewcomers bounds how many are kept; the one that was told of longest ago is left out.
const mostNewcomers = 64

// newcomer keeps one that has come further.
func (s *State) newcomer(at time.Time, n event.Newcomer) {
	i := slices.IndexFunc(s.Newcomers, func(o Newcomer) bool { return o.MAC == n.MAC })
	if i < 0 {
		s.Newcomers = append(s.Newcomers, Newcomer{Reached: map[int]time.Time{}})
		if over := len(s.Newcomers) - mostNewcomers; over > 0 {
			s.Newcomers = slices.Delete(s.Newcomers, 0, over)
		}
		i = len(s.Newcomers) - 1
	}
	was := &s.Newcomers[i]
	if was.Step != n.Step || len(was.Reached) == 0 {
		was.Reached[n.Step] = at
	}
	was.Newcomer = n
}

// Late reports whether a newcomer is waited for longer than usual.
func (n Newcomer) Late(now time.Time) bool { return n.Within > 0 && now.Sub(n.Since) > n.Within }
