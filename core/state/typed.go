package state

import (
	"time"

	"pilotrix/core/event"
)

// Typed is a command that was typed by hand, and how it was answered.
type Typed struct {
	event.Asked
	At      time.Time
	Changed bool            // the device, as far as is known
	Ended   *event.Answered // nil until it was
}

// Secret reports whether its text is not known, since it may be a secret.
func (t Typed) Secret() bool { return t.Seen == event.SeenSecret }

// maxTyped is how many are kept.
const maxTyped = 4

func (s *State) asked(b event.Asked, at time.Time) {
	if b.Who != event.Hand || b.Text == "" && b.Seen != event.SeenSecret {
		return
	}
	changed := s.ChangedAt.Equal(at) && s.Changed.Command == b.Text // it is said before the command is
	s.Typed = append(s.Typed, Typed{Asked: b, At: at, Changed: changed})
	s.Typed = s.Typed[max(0, len(s.Typed)-maxTyped):]
}

func (s *State) answered(b event.Answered) {
	for i := range s.Typed {
		if s.Typed[i].Number == b.Number {
			s.Typed[i].Ended = &b
		}
	}
}
