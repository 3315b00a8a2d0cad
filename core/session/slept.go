package session

import (
	"fmt"
	"strings"
	"time"

	"pilotrix/core/event"
	"pilotrix/core/units"
)

// A machine that was suspended has a clock that stood still, and a device that went on: what the device does by itself
// comes sooner by our clock, and whoever is on the line now may be another one.

const (
	// sleptAfter is how long it may have been suspended without that being said.
	sleptAfter = 2 * time.Second
	// sleptEvery is how often it is asked: the loop turns with every key and every piece that arrives.
	sleptEvery = 250 * time.Millisecond
)

// noticeSleep notices that this machine was suspended. It is called in the loop, before anything is judged by the time.
func (s *Session) noticeSleep(now time.Time) {
	if now.Sub(s.sleptAt) < sleptEvery {
		return
	}
	s.sleptAt = now
	slept := s.opt.Slept()
	gone := slept - s.slept
	if gone < sleptAfter {
		return
	}
	s.slept = slept
	gone = time.Duration(float64(gone) * s.opt.Clock.Scale())
	text := fmt.Sprintf("this machine was suspended for %s, and the device was not",
		units.Text(gone.Round(time.Second)))
	s.doubts.add("this machine was suspended")
	moved := s.guard.commands.Slept(gone)
	for _, a := range s.asked { // what is pending again where the device has not done it
		for i := range a.dealt {
			if until := &a.dealt[i].Until; !until.IsZero() {
				*until = until.Add(-gone)
			}
		}
	}
	for _, open := range moved {
		left := open.Until.Sub(s.opt.Clock.Now())
		if left <= 0 {
			text += fmt.Sprintf("; its time is over: %s", open.Says)
		} else {
			text += fmt.Sprintf("; %s left: %s", units.Text(left.Round(time.Second)), open.Says)
		}
	}
	s.hub.Emit(event.Note{Level: event.Warning, Text: strings.TrimSpace(text)})
	s.reportPending(event.PendingOpen, moved)
	s.ranOut()
	s.schedule()
}
