package state

import (
	"slices"
	"strings"
	"time"

	"pilotrix/core/event"
	"pilotrix/core/units"
)

// Bank is one bank of one unit, as it was first read and as it is.
type Bank struct {
	Unit, Name    string
	Before, Now   string // release
	Runs, RanThen bool
	Next, Kept    bool
}

// ThenText is what it was before, empty for a standby bank that did not run.
func (b Bank) ThenText() string {
	switch {
	case b.Runs && b.RanThen:
		return "as before"
	case b.Runs:
		return "was standby before"
	case b.RanThen:
		return "ran before"
	}
	return ""
}

// ChoiceText is what it is chosen for, empty for nothing.
func (b Bank) ChoiceText() string {
	switch {
	case b.Next && b.Kept:
		return "starts next, kept"
	case b.Next:
		return "chosen for the next start, not kept yet"
	case b.Kept:
		return "kept for the next start"
	}
	return ""
}

// bankRows keeps the rows of the list called banks.
func (s *State) bankRows(rows []map[string]string) {
	runs := func(row map[string]string) bool {
		return row["state"] == "running" || row["running"] == "yes"
	}
	find := func(list []map[string]string, unit, bank string) map[string]string {
		for _, row := range list {
			if row["unit"] == unit && row["bank"] == bank {
				return row
			}
		}
		return nil
	}
	if s.banksBefore == nil {
		s.banksBefore = rows
	}
	s.Banks = nil
	for _, row := range rows {
		before := find(s.banksBefore, row["unit"], row["bank"])
		s.Banks = append(s.Banks, Bank{
			Unit: row["unit"], Name: row["bank"], Before: before["release"], Now: row["release"],
			Runs: runs(row), RanThen: runs(before), Next: row["next"] == "yes", Kept: row["saved"] == "yes",
		})
	}
}

// Rung is one line of the ladder of a transfer, or of a peer that came to none.
type Rung struct {
	At time.Time
	event.Rung
}

// Line are what the rung says: a run of packets by its first and last.
func (r Rung) Line() string {
	switch {
	case r.Transfer == event.RungDHCP: // its ACK counts nothing
		return strings.TrimSpace(r.What + "  " + r.Text)
	case (r.What == "DATA" || r.What == "ACK") && r.Last > r.First:
		return r.What + " " + units.Count(r.First) + " … " + units.Count(r.Last)
	case r.What == "DATA" || r.What == "ACK":
		return r.What + " " + units.Count(r.First)
	case r.Text != "":
		return r.What + "  " + r.Text
	}
	return r.What
}

const (
	maxRungs = 400
	maxMoves = 40
)

// message takes a rung in; one with the row of an earlier one replaces it.
func (s *State) message(m event.Rung, at time.Time) {
	for i := len(s.Ladder) - 1; i >= 0; i-- {
		if s.Ladder[i].Transfer == m.Transfer && s.Ladder[i].Row == m.Row && s.Ladder[i].What == m.What {
			s.Ladder[i].Rung = m
			return
		}
	}
	s.Ladder = append(s.Ladder, Rung{at, m})
	if over := len(s.Ladder) - maxRungs; over > 0 {
		if s.LeftOut == nil {
			s.LeftOut = map[string]int{}
		}
		for _, gone := range s.Ladder[:over] {
			s.LeftOut[gone.Transfer]++
		}
		s.Ladder = append(s.Ladder[:0], s.Ladder[over:]...)
	}
}

// Rungs are those of one transfer.
func (s *State) Rungs(transfer string) (rungs []Rung) {
	for _, r := range s.Ladder {
		if r.Transfer == transfer {
			rungs = append(rungs, r)
		}
	}
	return rungs
}

// Moving is the newest transfer by a protocol that is under way, or else the newest.
func (s *State) Moving() *Transfer {
	for i := len(s.Moves) - 1; i >= 0; i-- {
		if s.Moves[i].Active() {
			return s.Moves[i]
		}
	}
	if len(s.Moves) == 0 {
		return nil
	}
	return s.Moves[len(s.Moves)-1]
}

func (s *State) move(id string) *Transfer {
	for i := len(s.Moves) - 1; i >= 0; i-- {
		if s.Moves[i].Plan.ID == id {
			return s.Moves[i]
		}
	}
	return nil
}

func (s *State) server(b event.Server) {
	s.Servers = slices.DeleteFunc(s.Servers,
		func(c event.Server) bool { return c.Name == b.Name && c.Address == b.Address })
	s.Servers = append(s.Servers, b)
}

func (s *State) staged(b event.Staged) {
	s.Staged = slices.DeleteFunc(s.Staged, func(f event.Staged) bool { return f.Name == b.Name })
	if b.State == event.Offered {
		s.Staged = append(s.Staged, b)
	}
}

// Try is one try of a watch.
type Try struct {
	At   time.Time
	Held bool
	Trip time.Duration
}

// Away is a time in which one that is watched did not answer, and the step in which it began.
type Away struct {
	Begin  time.Time
	Length time.Duration // 0 while it lasts
	Step   string
}

// Watched is one that is watched.
type Watched struct {
	Name  string
	Tries []Try
	Away  []Away
	Last  event.Probe
	Over  time.Time // since when it is watched no longer, zero while it is
}

const maxTries = 7200

// Lost counts the tries without an answer.
func (t *Watched) Lost() (lost int) {
	for _, try := range t.Tries {
		if !try.Held {
			lost++
		}
	}
	return lost
}

// Gone is the absence that lasts, if one does.
func (t *Watched) Gone() (Away, bool) {
	if n := len(t.Away); n > 0 && t.Away[n-1].Length == 0 && t.Over.IsZero() {
		return t.Away[n-1], true
	}
	return Away{}, false
}

func (s *State) watched(name string) *Watched {
	for _, t := range s.Reach {
		if t.Name == name {
			return t
		}
	}
	t := &Watched{Name: name}
	s.Reach = append(s.Reach, t)
	slices.SortFunc(s.Reach, func(a, b *Watched) int { return strings.Compare(a.Name, b.Name) })
	return t
}

func (s *State) probe(b event.Probe, at time.Time) {
	t := s.watched(b.Watched)
	t.Last, t.Over = b, time.Time{}
	t.Tries = append(t.Tries, Try{at, b.Held, b.Trip})
	if over := len(t.Tries) - maxTries; over > 0 {
		t.Tries = append(t.Tries[:0], t.Tries[over:]...)
	}
}

func (s *State) reach(b event.Reach) {
	t := s.watched(b.Watched)
	if b.State == event.Unwatched {
		t.Over = b.Begin
		return
	}
	if b.State == event.Back {
		if n := len(t.Away); n > 0 {
			t.Away[n-1].Length = max(b.Length, time.Millisecond)
		}
		return
	}
	away := Away{Begin: b.Begin}
	if step := s.Present(); step != nil && s.Running() {
		away.Step = step.Title
	}
	t.Away = append(t.Away, away)
}

// course takes the steps of an unrolled loop in: what was done keeps its outcome.
func (s *State) course(plans []event.StepPlan) {
	old := map[string]Step{}
	for _, step := range s.Steps {
		old[step.ID] = step
	}
	here := ""
	if p := s.Present(); p != nil {
		here = p.ID
	}
	s.Steps = nil
	for i, plan := range plans {
		step, known := old[plan.ID]
		if !known || step.Outcome == "" { // what is over was what it was then, whatever was read since
			step.StepPlan = plan
		}
		s.Steps = append(s.Steps, step)
		if plan.ID == here {
			s.Here = i
		}
	}
}

// applyServers takes the events of servers, watches and the shelf in.
func (s *State) applyServers(e event.Event) {
	switch b := e.Body.(type) {
	case event.Course:
		s.course(b.Steps)
	case event.Server:
		s.server(b)
	case event.Staged:
		s.staged(b)
	case event.Rung:
		s.message(b, e.At)
	case event.Estimates:
		s.Estimates = &b
	case event.Preflight:
		s.Preflight = append(s.Preflight, b)
	case event.Probe:
		s.probe(b, e.At)
	case event.Reach:
		s.reach(b)
	case event.Deed:
		s.deed(b, e.At)
	case event.Restart:
		s.Restart, s.ChangedAt, s.Changed = &b, e.At, event.Change{}
	case event.Flash:
		s.Flash = &b
		if step := s.Present(); step != nil {
			s.FlashPhase = step.Phase
		}
	case event.NewDevice:
		s.newDevice(b)
	case event.Window:
		if s.Window == nil || b.Tries <= 1 && b.State == event.WindowAwaited {
			s.WindowBegun = e.At
		}
		s.Window = &b
	case event.Shelf:
		s.Shelf = &b
	case event.UpgradePath:
		s.Upgrades = &b
	case event.Interlock:
		s.interlock(b)
	case event.KeysKept:
		s.Kept = b.Count
	}
}

func (s *State) interlock(b event.Interlock) {
	switch b.State {
	case event.InterlockHeld:
		s.Held = &b
	case event.InterlockOff, event.InterlockOn:
		s.LocksOff = b.State == event.InterlockOff
		s.Held = nil
	default:
		s.Held = nil
	}
}
