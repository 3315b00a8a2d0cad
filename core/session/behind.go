package session

import (
	"fmt"
	"time"

	"pilotrix/core/event"
	"pilotrix/core/sense"
	"pilotrix/core/units"
)

// What comes in one piece with a secret and its Enter, as from a paste, is for whatever the device shows next: it waits
// for that, and is held to the interlocks like anything else that is typed.

// later are keys that wait for what the device answers to a secret. They belong to the session's loop.
type later struct {
	keys []byte
	at   time.Time // when the secret's line was ended
}

const (
	// laterQuiet is how long a device is quiet behind its answer where no prompt is known.
	laterQuiet = time.Second
	// laterLimit is how long an answer is waited for.
	laterLimit = 30 * time.Second
)

func (s *Session) keepBehindSecret(keys []byte) {
	s.later = later{append(s.later.keys, keys...), s.opt.Clock.Now()}
	s.schedule()
}

// typeLater types what waits once the device has answered.
func (s *Session) typeLater(v sense.State) {
	if len(s.later.keys) == 0 || s.lent != nil && s.helm.who == event.Hand {
		return
	}
	now := s.opt.Clock.Now()
	asks := v.AtPrompt || v.Dialog != "" || v.Secret || v.Pager || v.UnknownQuestion() != ""
	switch {
	case s.helm.who != event.Hand:
		n := len(s.later.keys)
		s.later = later{}
		s.hub.Emit(event.Note{
			Level: event.Warning, Text: "not sent, since the line is another's by now: " + units.Many(n, "character"),
		})
	case v.Answered && v.Ended && (asks || now.Sub(v.LastByte) >= laterQuiet):
		keys := s.later.keys
		s.later = later{}
		s.pressLines(keys)
	case now.Sub(s.later.at) >= laterLimit:
		n := len(s.later.keys)
		s.later = later{}
		s.hub.Emit(event.Note{
			Level: event.Warning,
			Text: fmt.Sprintf("not sent, since the device has not answered the secret: %s",
				units.Many(n, "character")),
		})
	}
}

// nextLater is when that is looked at again, zero for never.
func (s *Session) nextLater() time.Time {
	if len(s.later.keys) == 0 || s.lent != nil { // it is looked at when the line is back
		return time.Time{}
	}
	limit := s.later.at.Add(laterLimit)
	if quiet := s.sense.State().LastByte.Add(laterQuiet); quiet.After(s.opt.Clock.Now()) && quiet.Before(limit) {
		return quiet
	}
	return limit
}
