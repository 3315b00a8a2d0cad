package session

import (
	"slices"
	"strconv"
	"time"

	"pilotrix/core/dialect"
	"pilotrix/core/event"
	"pilotrix/core/exchange"
	"pilotrix/core/image"
)

// What a device will lose, or do by itself, belongs to the session and not to a step: it is reported when a command
// makes it pending, when another one deals with it, when it runs out, and when a restart loses it.

// sentCommand takes note of a command that goes to the device, whoever typed it.
func (s *Session) sentCommand(command string) {
	opened, dealt := s.guard.commands.Typed(command, s.opt.Clock.Now())
	s.reportPending(event.PendingDealt, dealt)
	s.reportPending(event.PendingOpen, opened)
	s.guard.begins = s.guard.begins || s.guard.commands.Begins()
	if a := s.asked[s.sent]; a != nil {
		a.awaited = awaited{opened, dealt}
	}
	s.guard.bytes = s.sense.State().Bytes
	s.schedule()
}

// awaited is what a command opened, and what it dealt with: its answer says whether it was done.
type awaited struct{ opened, dealt []dialect.Open }

// cameBack reports whether the device has come to a prompt after the last command, by what it has sent since.
func (s *Session) cameBack() bool { return s.reported.AtPrompt && s.reported.Bytes > s.guard.bytes }

// noticeAnswer puts right what was taken for opened, or dealt with, when the device says that the command was not done.
func (s *Session) noticeAnswer(x exchange.Exchange, a *asked) {
	if len(a.opened) == 0 && len(a.dealt) == 0 || !x.CameBack() {
		return
	}
	if denies, _ := a.meaning.Denies(x.Answer()); !denies {
		return
	}
	s.guard.commands.Denied(a.opened, a.dealt)
	s.reportPending(event.PendingNever, a.opened)
	s.reportPending(event.PendingOpen, a.dealt)
}

// readFact takes note of a fact that says which release runs, or how long something is still pending. It is reported
// before the fact is.
func (s *Session) readFact(fact event.Fact) {
	if fact.Name == image.FactRelease {
		s.guard.commands.Runs(fact.Value)
		defer s.readsRelease(fact)
	}
	seconds, err := strconv.ParseFloat(fact.Value, 64)
	if err != nil {
		return
	}
	opened, ended := s.guard.commands.Read(fact.Name, seconds, s.opt.Clock.Now())
	s.reportPending(event.PendingDealt, ended)
	s.reportPending(event.PendingOpen, opened)
	s.schedule()
}

func (s *Session) reportPending(state string, all []dialect.Open) {
	for _, open := range all {
		report := event.Pending{Name: open.Name, State: state, Says: open.Says, Until: open.Until}
		if state == event.PendingRan || state == event.PendingLost {
			s.guard.gone = append(s.guard.gone, report)
		}
		s.hub.Emit(report)
	}
}

// ranOut notices what the device has done by itself by now.
func (s *Session) ranOut() {
	s.reportPending(event.PendingRan, s.guard.commands.RanOut(s.opt.Clock.Now()))
}

// nextDeadline is when something runs out next, zero when nothing does.
func (s *Session) nextDeadline() (next time.Time) {
	for _, open := range s.guard.commands.Pending() {
		if !open.Until.IsZero() && (next.IsZero() || open.Until.Before(next)) {
			next = open.Until
		}
	}
	return next
}

// Pending implements engine.Console.
func (c console) Pending() (open []dialect.Open) {
	c.s.do(func() { open = c.s.guard.commands.Pending() })
	return open
}

// Gone implements engine.Console.
func (c console) Gone() (gone []event.Pending) {
	c.s.do(func() { gone = slices.Clone(c.s.guard.gone) })
	return gone
}
