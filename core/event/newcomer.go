package event

import (
	"fmt"
	"time"

	"pilotrix/core/units"
)

// RungDHCP is the transfer that rungs of DHCP are reported under: they belong to no file.
const RungDHCP = "dhcp"

// NewDevice is a device that provisions itself: the progress, and what is awaited of it next.
type NewDevice struct {
	MAC    string        `json:"mac"`
	Name   string        `json:"name,omitempty"` // that it is given
	Vendor string        `json:"vendor,omitempty"`
	Addr   string        `json:"addr,omitempty"`
	Stage  string        `json:"stage"`
	Step   int           `json:"step"` // the stage's place among the stages, from 0
	Since  time.Time     `json:"since"`
	Next   string        `json:"next"`
	Within time.Duration `json:"within"`
	File   string        `json:"file,omitempty"`  // the last one that it asked for
	Files  int           `json:"files,omitempty"` // how many it has whole
	Wrong  string        `json:"wrong,omitempty"`
	Rounds int           `json:"rounds,omitempty"` // how often it has restarted
	Alone  bool          `json:"alone,omitempty"`  // it was said that it is not answered
}

// Differs reports whether it has come further, or something else went wrong.
func (n NewDevice) Differs(o NewDevice) bool {
	n.Since, o.Since = n.Since.UTC(), o.Since.UTC()
	return n != o
}

// Done reports whether it is complete.
func (n NewDevice) Done() bool { return n.Within == 0 && !n.Alone }

// Late reports whether it is waited for longer than usual.
func (n NewDevice) Late(now time.Time) bool { return n.Within > 0 && now.Sub(n.Since) > n.Within }

var newDeviceKind = declare(Kind[NewDevice]{
	Name: "newcomer",
	Sample: NewDevice{
		MAC:    "02:00:5e:10:00:01",
		Stage:  "asks",
		Since:  time.Date(2026, 3, 2, 14, 0, 0, 0, time.UTC),
		Next:   "an offer",
		Within: time.Minute,
		Files:  1,
	},
	Report: func(b NewDevice) (string, bool) {
		text := fmt.Sprintf("%s %s", b.MAC, b.Stage)
		if b.File != "" && (b.Stage == "fetches" || b.Stage == "has fetched") {
			text += " " + b.File
		}
		if b.Within > 0 {
			text += fmt.Sprintf("; awaited: %s, within %s", b.Next, units.Text(b.Within))
		}
		if b.Wrong != "" {
			text += "; " + b.Wrong
		}
		return text, b.Wrong != ""
	},
})

func (NewDevice) kind() *declaration { return newDeviceKind }
