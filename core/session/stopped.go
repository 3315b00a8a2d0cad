package session

import (
	"fmt"
	"time"

	"pilotrix/core/event"
	"pilotrix/core/units"
)

// Time that this program did not run does not count against the device: it was stopped by a signal, or starved, and
// what the device has said meanwhile still waits to be read.

const (
	// beatEvery is how often the loop runs at least.
	beatEvery = time.Second
	// stoppedAfter is how long it may not have run before that is taken for the program not running.
	stoppedAfter = 4 * time.Second
)

// noticeStop notices that the loop has not run for long. It is called in it, before anything is judged by the time.
func (s *Session) noticeStop() {
	now := time.Now()
	s.noticeSleep(now)
	away := now.Sub(s.beat)
	s.beat = now
	if away < stoppedAfter {
		return
	}
	gone := time.Duration(float64(away) * s.opt.Clock.Scale())
	s.stopped += gone
	s.sense.Skip(gone, s.opt.Clock.Now())
	s.hub.Emit(event.Note{
		Level: event.Warning,
		Text: fmt.Sprintf("this program did not run for %s: that time does not count against the device",
			units.Text(gone.Round(time.Second))),
	})
}

// Stopped implements engine.Console.
func (c console) Stopped() (gone time.Duration) {
	c.s.do(func() { gone = c.s.stopped })
	return gone
}
