package event

import (
	"strings"
	"time"
)

// States of a Deed.
const (
	DeedBegun = "begun"
	DeedNow   = "now"
	DeedEnded = "ended"
)

// Deed is something that the operator has done by itself, beside whatever else goes on: it is no step of a run.
type Deed struct {
	ID      string    `json:"id"`
	Verb    string    `json:"verb,omitempty"`
	Title   string    `json:"title"`
	State   string    `json:"state"`
	Doing   string    `json:"doing,omitempty"`
	Awaits  string    `json:"awaits,omitempty"`
	Until   time.Time `json:"until,omitzero"`    // when it ends by itself
	Outcome Outcome   `json:"outcome,omitempty"` // once it has ended
	Message string    `json:"message,omitempty"`
}

var deedKind = declare(Kind[Deed]{
	Name: "deed",
	Sample: Deed{
		ID:      "1",
		Verb:    "offer",
		Title:   "Offer tern-4.2.1.brm",
		State:   DeedEnded,
		Doing:   "offers it",
		Awaits:  "that it is fetched",
		Until:   time.Date(2026, 3, 2, 14, 5, 0, 0, time.UTC),
		Outcome: Done,
	},
	Report: func(b Deed) (string, bool) {
		switch b.State {
		case DeedBegun:
			return b.Title + ": begun", true
		case DeedNow:
			return b.Title + ": " + b.Doing, false
		}
		return b.EndText(), true
	},
})

// EndText is how it ended, in words.
func (b Deed) EndText() string {
	return strings.TrimSuffix(b.Title+": "+string(b.Outcome)+", "+b.Message, ", ")
}

func (Deed) kind() *declaration { return deedKind }
