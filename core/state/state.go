// Package state is what is known of a session: a fold over its events and of nothing
// else, so that a live session and a replay look the same.
package state

import (
	"slices"
	"strings"
	"time"

	"pilotrix/core/event"
)

// Step is a step of the course as it stands.
type Step struct {
	event.StepPlan
	Outcome event.Outcome // empty while ahead or here
	Begun   time.Time
	Took    time.Duration
	Try     int
	Message string
}

// Moves reports whether a file is on its way while the step is under way.
func (s *Step) Moves() bool { return slices.Contains(s.Cards, "transfer") }

// Transfer is a transfer as it stands.
type Transfer struct {
	Plan  event.TransferBegin
	Got   event.Transfer
	Begun time.Time
	Rates []float64 // bytes a second, one a sample
	End   *event.TransferEnd

	sampleAt    time.Time
	sampleBytes int64
}

// Fact is a fact with what it was before, and the count of its reading.
type Fact struct {
	event.Fact
	At      time.Time
	Before  string // what it was at the reading before, where that was something else
	reading int
}

// Changed reports whether the newest reading of the fact gave something else than the previous one.
func (f Fact) Changed() bool { return f.Before != "" }

// Remark is a note with its time.
type Remark struct {
	At time.Time
	event.Note
}

// State is everything shown. It is used by one goroutine.
type State struct {
	Now       time.Time // of the newest event or tick
	Session   event.SessionBegin
	Line      event.Line
	Speed     int
	Framing   string
	Flow      string
	Signals   event.Signals
	Recording event.Recording
	Helm      event.Helm
	helmAt    time.Time
	Mode      event.Mode
	Prompt    string
	Typed     []Typed // by hand, the newest last

	Run      *event.RunBegin
	RunBegun time.Time
	RunEnd   *event.RunEnd
	Ended    time.Time
	Steps    []Step
	Here     int // index of the present step, -1 before the first
	Doing    event.StepNow
	DoingAt  time.Time

	Transfer                                *Transfer   // over the line
	Moves                                   []*Transfer // by servers, the newest last
	Servers                                 []event.Server
	Staged                                  []event.Staged
	Ladder                                  []Rung
	LeftOut                                 map[string]int    // rungs that are not kept any more, by transfer
	Preflight                               []event.Preflight // of the present step
	Banks                                   []Bank
	Systems                                 []System
	Units                                   []Unit
	Layers                                  []Layer
	Attached                                []Attached
	NewDevice                               []event.NewDevice
	BoardRead                               time.Time    // when banks or systems were read last
	ChangedAt                               time.Time    // when the device was changed last, or restarted
	Changed                                 event.Change // what that was, where a command did it
	DryRun                                  *DryRun      // nil until there was one
	Flash                                   *event.Flash // nil until one was computed
	FlashPhase                              string       // of the step that reported of it last
	Window                                  *event.Window
	WindowBegun                             time.Time
	Reach                                   []*Watched
	Deeds                                   []Deed // that are open, the oldest first
	Restart                                 *event.Restart
	Estimates                               *event.Estimates
	Shelf                                   *event.Shelf
	Upgrades                                *event.UpgradePath
	Pending                                 []event.Pending  // what the device loses, or does by itself, unless it is dealt with
	Deadlines                               []Deadline       // all that had one, the oldest first
	Held                                    *event.Interlock // a command stopped at its Enter
	Kept                                    int              // keys that wait while a transfer has the line
	LocksOff                                bool
	banksBefore, systemsBefore, unitsBefore []map[string]string
	Ask                                     *event.Ask
	AskedAt                                 time.Time
	Facts                                   []Fact // the newest reading first
	ReadAt                                  time.Time
	Checks                                  []event.Check
	Tried                                   []event.Speed // speeds tried by the hunt of this step
	Remarks                                 []Remark
	Closed                                  string

	In, Out Rate
}

// Rate counts bytes over the last seconds.
type Rate struct {
	at    time.Time
	bytes int
	value float64
}

const rateWindow = time.Second

func (r *Rate) add(at time.Time, n int) {
	if r.at.IsZero() {
		r.at = at
	}
	r.roll(at)
	r.bytes += n
}

func (r *Rate) roll(at time.Time) {
	if gone := at.Sub(r.at); gone >= rateWindow {
		r.value = float64(r.bytes) / gone.Seconds()
		r.at, r.bytes = at, 0
	}
}

// PerSecond is the rate over the last full window, in bytes.
func (r *Rate) PerSecond() float64 { return r.value }

// New is a state before the first event.
func New() *State { return &State{Here: -1} }

// Tick lets time pass.
func (s *State) Tick(now time.Time) {
	if now.After(s.Now) {
		s.Now = now
	}
	s.In.roll(s.Now)
	s.Out.roll(s.Now)
}

const maxRemarks = 200

// Apply takes one event in.
func (s *State) Apply(e event.Event) {
	s.Now = e.At
	switch b := e.Body.(type) {
	case event.SessionBegin:
		s.Session = b
		if _, rest, found := strings.Cut(b.Target, "framing="); found {
			s.Framing, _, _ = strings.Cut(rest, "&")
		}
		if _, rest, found := strings.Cut(b.Target, "flow="); found {
			s.Flow, _, _ = strings.Cut(rest, "&")
		}
	case event.Learned:
		s.Session.Dialect = b.Dialect
	case event.SessionEnd:
		s.Closed = b.Why
	case event.In:
		s.In.add(e.At, len(b.Bytes))
	case event.Out:
		s.Out.add(e.At, len(b.Bytes)+b.Secret)
		s.Prompt = ""
	case event.Line:
		s.Line = b
		if b.Speed != 0 {
			s.Speed = b.Speed
		}
		if b.State == event.LineLost || b.State == event.LineBack {
			s.remark(e.At,
				event.Note{Level: event.Warning, Text: "the line is " + b.State + strings.TrimRight(": "+b.Note, ": ")})
		}
	case event.Recording:
		s.Recording = b
	case event.Signals:
		s.Signals = b
	case event.Speed:
		s.Speed = b.To
		if strings.HasPrefix(b.Why, "tried") {
			s.Tried = append(s.Tried, b)
		}
	case event.Mode:
		s.Mode, s.Prompt = b, ""
	case event.Prompt:
		s.Prompt = b.Text
	case event.Helm:
		if s.Helm.Who != event.ByDeed { // what a deed has said at its end is news
			s.helmAt = e.At
		}
		s.Helm = b
	case event.Change:
		s.ChangedAt, s.Changed = e.At, b
		if n := len(s.Typed); n > 0 && b.Hand && s.Typed[n-1].Text == b.Command {
			s.Typed[n-1].Changed = true
		}
	case event.Pending:
		s.pending(e.At, b)
	case event.Ask:
		s.Ask, s.AskedAt = &b, e.At
	case event.Answer:
		if s.Ask != nil && s.Ask.ID == b.ID {
			s.Ask = nil
		}
	case event.Fact:
		at := e.At
		if !b.Read.IsZero() {
			at = b.Read
		}
		s.fact(at, b)
		s.board(at, b)
		if at.After(s.ReadAt) {
			s.ReadAt = at
		}
	case event.Check:
		s.Checks = append(s.Checks, b)
	case event.Note:
		s.remark(e.At, b)
	case event.Asked:
		s.asked(b, e.At)
	case event.Answered:
		s.answered(b)
	default:
		s.applyRun(e)
	}
}

// applyRun takes the events of a runbook in.
func (s *State) applyRun(e event.Event) {
	switch b := e.Body.(type) {
	case event.RunBegin:
		s.Run, s.RunBegun, s.RunEnd, s.Here, s.Checks, s.Transfer = &b, e.At, nil, -1, nil, nil
		s.FlashPhase, s.Window = "", nil
		s.Steps = s.Steps[:0]
		for _, plan := range b.Steps {
			s.Steps = append(s.Steps, Step{StepPlan: plan})
		}
	case event.RunEnd:
		s.RunEnd, s.Ended = &b, e.At
		if s.Ask != nil && s.Ask.Deed == "" {
			s.Ask = nil
		}
	case event.StepBegin:
		s.beginStep(b, e.At)
	case event.StepNow:
		s.Doing, s.DoingAt = b, e.At
	case event.StepEnd:
		if i := s.index(b.ID); i >= 0 {
			s.Steps[i].Outcome, s.Steps[i].Took, s.Steps[i].Message = b.Outcome, b.Took, b.Message
		}
	case event.TransferBegin:
		if b.ID != "" {
			s.Moves = append(s.Moves, &Transfer{Plan: b, Begun: e.At, sampleAt: e.At})
			s.Moves = s.Moves[max(0, len(s.Moves)-maxMoves):]
			return
		}
		s.Transfer = &Transfer{Plan: b, Begun: e.At, sampleAt: e.At}
	case event.Transfer:
		if t := s.transferOf(b.ID); t != nil {
			t.progress(b, e.At)
		}
	case event.TransferEnd:
		if t := s.transferOf(b.ID); t != nil {
			t.ends(b)
		}
	default:
		s.applyServers(e)
	}
}

// transferOf finds the transfer that an event is about.
func (s *State) transferOf(id string) *Transfer {
	if id == "" {
		return s.Transfer
	}
	return s.move(id)
}

func (s *State) index(id string) int {
	for i := range s.Steps {
		if s.Steps[i].ID == id {
			return i
		}
	}
	return -1
}

// beginStep moves to a step. One that is started again after a failure is ahead again, and so is all
// after it.
func (s *State) beginStep(b event.StepBegin, at time.Time) {
	i := s.index(b.ID)
	if i < 0 {
		return
	}
	for j := i; j < len(s.Steps); j++ {
		s.Steps[j].Outcome, s.Steps[j].Message = "", ""
	}
	s.Here = i
	s.Steps[i].Begun, s.Steps[i].Try = at, b.Try
	s.Doing, s.DoingAt, s.Tried = event.StepNow{ID: b.ID, Doing: s.Steps[i].Title}, at, nil
	s.Preflight = nil
}

// fact keeps the newest value of each fact. Facts of one reading stay together, the newest reading
// first: that is what the present step learnt.
func (s *State) fact(at time.Time, b event.Fact) {
	known := Fact{Fact: b, At: at, reading: 1}
	if len(s.Facts) > 0 {
		known.reading = s.Facts[0].reading
		if s.Facts[0].Source != b.Source {
			known.reading++
		}
	}
	if old := slices.IndexFunc(s.Facts, func(f Fact) bool { return f.Name == b.Name }); old >= 0 {
		if before := s.Facts[old].Value; before != b.Value {
			known.Before = before
		}
		s.Facts = slices.Delete(s.Facts, old, old+1)
	}
	place := slices.IndexFunc(s.Facts, func(f Fact) bool { return f.reading < known.reading })
	if place < 0 {
		place = len(s.Facts)
	}
	s.Facts = slices.Insert(s.Facts, place, known)
}

// Fact is the value of a fact, empty when it was not read.
func (s *State) Fact(name string) string {
	for _, f := range s.Facts {
		if f.Name == name {
			return f.Value
		}
	}
	return ""
}

// freshly is how long what was said last is news.
const freshly = 30 * time.Second

// JustSaid is what was said last while the operator has the helm, nil where that is no news any more.
func (s *State) JustSaid() *Remark {
	if len(s.Remarks) == 0 || s.Helm.Who != event.Hand {
		return nil
	}
	last := s.Remarks[len(s.Remarks)-1]
	if s.Now.Sub(last.At) > freshly || last.At.Before(s.Ended) || last.At.Before(s.helmAt) {
		return nil
	}
	return &last
}

// OwnRestart is a restart that is none of a runbook's, while it lasts, nil for none.
func (s *State) OwnRestart() *event.Restart {
	if r := s.Restart; r != nil && r.Step == "" && !r.Over {
		return r
	}
	return nil
}

func (s *State) remark(at time.Time, n event.Note) {
	s.Remarks = append(s.Remarks, Remark{at, n})
	if over := len(s.Remarks) - maxRemarks; over > 0 {
		s.Remarks = append(s.Remarks[:0], s.Remarks[over:]...)
	}
}

const (
	sampleEvery = 700 * time.Millisecond
	maxSamples  = 120
)

func (t *Transfer) progress(b event.Transfer, at time.Time) {
	t.Got = b
	gone := at.Sub(t.sampleAt)
	if gone < sampleEvery {
		return
	}
	t.Rates = append(t.Rates, float64(b.Bytes-t.sampleBytes)/gone.Seconds())
	if len(t.Rates) > maxSamples {
		t.Rates = t.Rates[1:]
	}
	t.sampleAt, t.sampleBytes = at, b.Bytes
}

// ends takes in how it ended. What was reported on the way stands where the end says less.
func (t *Transfer) ends(b event.TransferEnd) {
	t.End = &b
	t.Got.Left = 0
	if b.Bytes <= t.Got.Bytes {
		return
	}
	t.Got.Bytes, t.Got.Resent = b.Bytes, b.Resent
	if b.Took > 0 {
		t.Got.Rate = float64(b.Bytes) / b.Took.Seconds()
	}
}

// Whole reports whether all of the file was moved, and not only a part of it.
func (t *Transfer) Whole() bool {
	return t.End != nil && t.End.Outcome == event.Done && t.End.From == 0 && t.Got.Bytes >= t.Plan.Size
}

// Active reports whether a transfer is running.
func (t *Transfer) Active() bool { return t != nil && t.End == nil }

// OfStep is the present step's transfer that is under way, nil for none: what the operator began is none of it.
func (s *State) OfStep() *Transfer {
	if t := s.Transfer; t.Active() && t.Plan.Deed == "" {
		return t
	}
	if step := s.Present(); step == nil || !step.Moves() {
		return nil
	}
	if t := s.Moving(); t.Active() && t.Plan.Deed == "" {
		return t
	}
	return nil
}

// Running reports whether a runbook is under way.
func (s *State) Running() bool { return s.Run != nil && s.RunEnd == nil }

// Present is the step we are in, nil when there is none.
func (s *State) Present() *Step {
	if s.Here < 0 || s.Here >= len(s.Steps) {
		return nil
	}
	return &s.Steps[s.Here]
}

// Gone is the time since the runbook began, to its end.
func (s *State) Gone() time.Duration {
	switch {
	case s.Run == nil:
		return 0
	case s.RunEnd != nil:
		return s.Ended.Sub(s.RunBegun)
	}
	return s.Now.Sub(s.RunBegun)
}

// Left is the time the rest is expected to take: what the transfer says, and what the plan says for
// all that is ahead.
func (s *State) Left() (left time.Duration) {
	moves := s.OfStep()
	for i := range s.Steps {
		switch step := &s.Steps[i]; {
		case step.Outcome != "" || i < s.Here:
		case i == s.Here && moves != nil && moves.Got.Left > 0:
			left += moves.Got.Left
		case i == s.Here && s.Doing.ID == step.ID && s.Doing.Left > 0:
			left += max(0, s.Doing.Left-s.Now.Sub(s.DoingAt))
		case i == s.Here:
			left += max(0, step.Expected-s.Now.Sub(step.Begun))
		default:
			left += step.Expected
		}
	}
	return left
}

// HandedOver reports that the operator has the helm because the present step gave it: there is something to try.
func (s *State) HandedOver() bool {
	step := s.Present()
	return s.Helm.Who == event.Hand && step != nil && step.Yours
}

// AwaitsWindow reports that the file is not on its way yet: the loader that takes it is waited for.
func (s *State) AwaitsWindow() bool {
	moving := s.Moving()
	return s.Window != nil && s.Window.State == event.WindowAwaited && moving != nil && moving.Plan.ID == s.Window.ID
}
