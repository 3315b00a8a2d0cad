package event

import (
	"time"

	"pilotrix/core/units"
)

// The events of whether a device answers.

// States of a Reach.
const (
	Gone      = "gone"
	Back      = "back"
	Unwatched = "unwatched" // from Begin on
)

// Probe is one try whether one that is watched answers.
type Probe struct {
	Watched string        `json:"watched"`
	Held    bool          `json:"held"`
	Trip    time.Duration `json:"trip,omitempty"`
	Text    string        `json:"text,omitempty"`
}

var probeKind = declare(Kind[Probe]{
	Name:   "reach.probe",
	Sample: Probe{Watched: "icmp:192.0.2.40", Held: true, Trip: time.Millisecond},
})

func (Probe) kind() *declaration { return probeKind }

// Reach says that one that is watched stopped answering, or answers again after that long.
type Reach struct {
	Watched string        `json:"watched"`
	State   string        `json:"state"`
	Begin   time.Time     `json:"begin"`
	Length  time.Duration `json:"length,omitempty"`
	Step    string        `json:"step,omitempty"`
}

var reachKind = declare(Kind[Reach]{
	Name: "reach",
	Sample: Reach{
		Watched: "icmp:192.0.2.40",
		State:   Back,
		Begin:   time.Date(2026, 3, 2, 14, 0, 0, 0, time.UTC),
		Length:  time.Minute,
	},
	Report: func(b Reach) (string, bool) {
		switch b.State {
		case Back:
			return b.Watched + " answers again after " + units.Text(b.Length), true
		case Unwatched:
			return b.Watched + " is watched no longer", true
		}
		return b.Watched + " does not answer since " + b.Begin.Format("15:04:05"), true
	},
})

func (Reach) kind() *declaration { return reachKind }
