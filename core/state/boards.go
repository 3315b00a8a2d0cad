package state

import (
	"slices"
	"strconv"
	"time"

	"pilotrix/core/event"
)

// What lists of certain names become: boards that are drawn.

// board keeps the rows of a list that is drawn.
func (s *State) board(at time.Time, fact event.Fact) {
	if fact.Rows == nil {
		return
	}
	switch fact.Name {
	case "banks":
		s.BoardRead = at
		s.bankRows(fact.Rows)
	case "systems":
		s.BoardRead = at
		s.systemRows(fact.Rows)
	case "units":
		s.BoardRead = at
		s.unitRows(fact.Rows)
	case "copies":
		s.copyRows(fact.Rows)
	case "layers":
		s.BoardRead = at
		s.layerRows(fact.Rows)
	case "attached":
		s.BoardRead = at
		s.attachedRows(at, fact.Rows)
	case "dryrun":
		s.dryRunRows(at, fact.Rows)
	}
}

// Of is what a board shows, with the device that it is of where its name was read.
func (s *State) Of(what string) string {
	if name := s.Fact("device.name"); name != "" {
		return what + " of " + name
	}
	return what
}

// BoardOld reports whether the device was changed, or restarted, since its banks or systems were read.
func (s *State) BoardOld() bool { return s.Old(s.BoardRead) }

// Old reports whether the device was changed, or restarted, since something was read.
func (s *State) Old(read time.Time) bool { return s.ChangedAt.After(read) }

// NextStartText is said in the place of what starts next where that is from before a change, empty where it is not.
func (s *State) NextStartText() string {
	if !s.BoardOld() {
		return ""
	}
	return "What the next start takes is not known: as of " + s.BoardRead.Format(
		"15:04:05",
	) + ", " + s.ChangedText() + "."
}

// ChangedText says what changed the device last, for what was read before.
func (s *State) ChangedText() string {
	switch {
	case s.Changed.Maybe:
		return "may have been changed by hand since"
	case s.Changed.Hand:
		return "changed by hand since"
	}
	return "changed since"
}

// Unit is one of several devices that answer as one.
type Unit struct {
	Number, Model, Role, State, Release string
	RoleThen, ReleaseThen               string // when it was first read
	Copy, Reason                        string // how far a load has come into it
	Percent                             int
}

// unitRows keeps the rows of the list called units.
func (s *State) unitRows(rows []map[string]string) {
	if s.unitsBefore == nil {
		s.unitsBefore = rows
	}
	was := s.Units
	s.Units = nil
	for i, row := range rows {
		unit := Unit{
			Number:  row["unit"],
			Model:   row["model"],
			Role:    row["role"],
			State:   row["state"],
			Release: row["release"],
		}
		for _, before := range s.unitsBefore {
			if before["unit"] == unit.Number {
				unit.RoleThen, unit.ReleaseThen = before["role"], before["release"]
			}
		}
		if i < len(was) && was[i].Number == unit.Number {
			unit.Copy, unit.Percent, unit.Reason = was[i].Copy, was[i].Percent, was[i].Reason
		}
		s.Units = append(s.Units, unit)
	}
}

// copyRows keeps the rows of the list called copies: how far each unit has taken a load.
func (s *State) copyRows(rows []map[string]string) {
	for _, row := range rows {
		for i := range s.Units {
			if s.Units[i].Number == row["unit"] {
				s.Units[i].Copy, s.Units[i].Reason = row["copy"], row["reason"]
				s.Units[i].Percent, _ = strconv.Atoi(row["percent"])
			}
		}
	}
}

// BanksOf are the banks of a unit.
func (s *State) BanksOf(unit string) (banks []Bank) {
	for _, b := range s.Banks {
		if b.Unit == unit {
			banks = append(banks, b)
		}
	}
	return banks
}

// Ring is whether the units' ring is closed, in words of its own, and where it is not; empty where it was not read.
func (s *State) Ring() (state, where string) { return s.Fact("ring.state"), s.Fact("ring.where") }

// System is a release that a device has, of those that it keeps beside each other.
type System struct {
	Release                        string
	Packed, Unpacked, Runs, Lasts  bool
	RanThen, LastedThen, ThereThen bool // when it was first read
}

func yes(text string) bool { return text == "yes" }

// systemRows keeps the rows of the list called systems.
func (s *State) systemRows(rows []map[string]string) {
	if s.systemsBefore == nil {
		s.systemsBefore = rows
	}
	s.Systems = nil
	for _, row := range rows {
		var before map[string]string
		if at := slices.IndexFunc(s.systemsBefore,
			func(b map[string]string) bool { return b["release"] == row["release"] }); at >= 0 {
			before = s.systemsBefore[at]
		}
		s.Systems = append(s.Systems, System{
			Release:    row["release"],
			Packed:     yes(row["packed"]),
			Unpacked:   yes(row["unpacked"]),
			Runs:       yes(row["running"]),
			Lasts:      yes(row["lasting"]),
			RanThen:    yes(before["running"]),
			LastedThen: yes(before["lasting"]),
			ThereThen:  before != nil,
		})
	}
}

// Verdicts of a dry run.
const (
	Goes    = "goes"
	Warns   = "warns"
	Refuses = "refuses"
)

// Foreseen is a part of a device in a dry run: what a change would do to it.
type Foreseen struct {
	Part, Effect, Verdict, Reason string
	Takes                         time.Duration
}

// DryRun is what a dry run foresaw, and what the first one of this run did.
type DryRun struct {
	At          time.Time
	Rows, First []Foreseen
	FirstAt     time.Time
	run         time.Time
}

// Before is the same part at the first dry run, nil where it was not in it.
func (d *DryRun) Before(part string) *Foreseen {
	for i := range d.First {
		if d.First[i].Part == part {
			return &d.First[i]
		}
	}
	return nil
}

// Gone are the parts that the first dry run reported of, and this one does not.
func (d *DryRun) Gone() (gone []Foreseen) {
	for _, one := range d.First {
		if !slices.ContainsFunc(d.Rows, func(f Foreseen) bool { return f.Part == one.Part }) {
			gone = append(gone, one)
		}
	}
	return gone
}

// Worst is the verdict that counts.
func (d *DryRun) Worst() string {
	for _, verdict := range []string{Refuses, Warns} {
		if slices.ContainsFunc(d.Rows, func(f Foreseen) bool { return f.Verdict == verdict }) {
			return verdict
		}
	}
	return Goes
}

// Restarts is how long what restarts takes, each part for itself.
func (d *DryRun) Restarts() (longest time.Duration) {
	for _, row := range d.Rows {
		longest = max(longest, row.Takes)
	}
	return longest
}

// dryRunRows keeps the rows of the list called dryrun.
func (s *State) dryRunRows(at time.Time, rows []map[string]string) {
	was := s.DryRun
	s.DryRun = &DryRun{At: at, run: s.RunBegun}
	for _, row := range rows {
		seconds, _ := strconv.ParseFloat(row["seconds"], 64)
		s.DryRun.Rows = append(s.DryRun.Rows, Foreseen{
			Part:    row["part"],
			Effect:  row["effect"],
			Verdict: row["verdict"],
			Reason:  row["reason"],
			Takes:   time.Duration(seconds * float64(time.Second)),
		})
	}
	if was != nil && was.run.Equal(s.RunBegun) {
		s.DryRun.First, s.DryRun.FirstAt = was.First, was.FirstAt
		if was.First == nil {
			s.DryRun.First, s.DryRun.FirstAt = was.Rows, was.At
		}
	}
}

// Deadline is something that a device does by itself unless it is dealt with, from where it was first known of to its
// end.
type Deadline struct {
	event.Pending
	Opened time.Time
	End    time.Time // zero while it is open
}

// Whole is how long it had from where it was known of.
func (d Deadline) Whole() time.Duration { return d.Until.Sub(d.Opened) }

// Left is how much of it is left, 0 where it has run out.
func (d Deadline) Left(now time.Time) time.Duration { return max(0, d.Until.Sub(now)) }

// Part is how much of it is gone, from 0 to 1.
func (d Deadline) Part(now time.Time) float64 {
	if d.Whole() <= 0 {
		return 1
	}
	return min(1, max(0, now.Sub(d.Opened).Seconds()/d.Whole().Seconds()))
}

// pending keeps what is pending now, and all that had a deadline.
func (s *State) pending(at time.Time, b event.Pending) {
	s.Pending = slices.DeleteFunc(s.Pending, func(p event.Pending) bool { return p.Name == b.Name })
	open := slices.IndexFunc(s.Deadlines, func(d Deadline) bool { return d.Name == b.Name && d.End.IsZero() })
	if b.State == event.PendingRan || b.State == event.PendingLost {
		s.ChangedAt, s.Changed = at, event.Change{}
	}
	if b.State != event.PendingOpen {
		if open >= 0 {
			s.Deadlines[open].State, s.Deadlines[open].End = b.State, at
		}
		return
	}
	s.Pending = append(s.Pending, b)
	switch {
	case b.Until.IsZero():
	case open >= 0:
		s.Deadlines[open].Until = b.Until
	default:
		s.Deadlines = append(s.Deadlines, Deadline{Pending: b, Opened: at})
	}
}

// Deadline is what runs out next by itself, nil when nothing does.
func (s *State) Deadline() (next *Deadline) {
	for i := range s.Deadlines {
		if d := &s.Deadlines[i]; d.End.IsZero() && (next == nil || d.Until.Before(next.Until)) {
			next = d
		}
	}
	return next
}

// DueAt is where on the course a deadline runs out, by what the steps are expected to take: behind the beginning of a
// step by a part of it, from 0 to 1. Behind the last one it is len(Steps).
func (s *State) DueAt(d *Deadline) (step int, part float64) {
	left := d.Left(s.Now)
	for i := max(0, s.Here); i < len(s.Steps); i++ {
		takes := s.Steps[i].Expected
		if s.Steps[i].Outcome != "" {
			continue
		}
		if i == s.Here {
			takes = max(0, takes-s.Now.Sub(s.Steps[i].Begun))
		}
		if takes >= left && takes > 0 {
			return i, 1 - float64(takes-left)/float64(max(s.Steps[i].Expected, takes))
		}
		left -= takes
	}
	return len(s.Steps), 0
}
