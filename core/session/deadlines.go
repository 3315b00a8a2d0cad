package session

import (
	"time"

	"pilotrix/core/dialect"
	"pilotrix/core/event"
)

// What a device will lose, or do by itself, belongs to the session and not to a step: it is told when a command
// makes it pending, when another one deals with it, when it runs out, and when a restart loses it.

// sentCommand takes note of a command that goes to the device, whoever typed it.
func (s *Session) sentCommand(command string) {
	opened, dealt := s.guard.commands.Typed(command, s.opt.Clock.Now())
	s.tellPending(event.PendingDealt, dealt)
	s.tellPending(event.PendingOpen, opened)
	s.guard.restarts = s.guard.restarts || s.guard.commands.Restarts(command)
	s.schedule()
}

func (s *Session) tellPending(state string, all []dialect.Open) {
	for _, open := range all {
		s.hub.Emit(event.Pending{Name: open.Name, State: state, Says: open.Says, Until: open.Until})
	}
}

// ranOut notices what the device has done by itself by now.
func (s *Session) ranOut() {
	s.tellPending(event.PendingRan, s.guard.commands.RanOut(s.opt.Clock.Now()))
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

// Pending implements runbook.Console.
func (c console) Pending() (open []dialect.Open) {
	c.s.do(func() { open = c.s.guard.commands.Pending() })
	return open
}
