package state

import (
	"slices"
	"time"

	"pilotrix/core/event"
)

// Deed is something that is done by itself beside the line, as it stands.
type Deed struct {
	event.Deed
	Begun time.Time
}

// deed takes in what is said of one: those that have ended are not kept.
func (s *State) deed(b event.Deed, at time.Time) {
	i := slices.IndexFunc(s.Deeds, func(d Deed) bool { return d.ID == b.ID })
	switch {
	case i < 0 && b.State != event.DeedEnded:
		s.Deeds = append(s.Deeds, Deed{b, at})
	case i >= 0 && b.State == event.DeedEnded:
		s.Deeds = slices.Delete(s.Deeds, i, i+1)
	case i >= 0:
		s.Deeds[i].Deed = b
	}
	if b.State == event.DeedEnded && b.Outcome.Taking() == event.Bad { // that it is done its verb has said
		s.remark(at, event.Note{Level: event.Warning, Text: b.EndText()})
	}
}
