package session

import (
	"fmt"
	"slices"

	"pilotrix/core/event"
	"pilotrix/core/units"
)

// What is under way on the device and on this laptop is told with every danger: the same command is another one while
// a bank is being written.

// under follows the transfers that are under way, by their names. It belongs to the session's loop.
type under struct{ files map[string]string }

func (u *under) note(body event.Body) {
	switch b := body.(type) {
	case event.TransferBegin:
		if u.files == nil {
			u.files = map[string]string{}
		}
		u.files[b.ID] = fmt.Sprintf("%s is being moved by %s", b.File, b.Protocol)
	case event.TransferEnd:
		delete(u.files, b.ID)
	}
}

// present is what is under way now, in words: transfers, what the device does beside its shell as far as it was read,
// and what runs out by itself.
func (s *Session) present() (words []string) {
	for _, file := range s.under.files {
		words = append(words, file)
	}
	slices.Sort(words)
	now := s.opt.Clock.Now()
	words = append(words, s.Dialect().Does(&s.facts, now)...)
	for _, open := range s.guard.commands.Pending() {
		if !open.Until.IsZero() {
			words = append(words, fmt.Sprintf("%s, in %s", open.Says, units.Clock(max(0, open.Until.Sub(now)))))
		}
	}
	return words
}

// Present implements engine.Console.
func (c console) Present() (words []string) {
	c.s.do(func() { words = c.s.present() })
	return words
}

// Emit implements engine.Console.
func (c console) Emit(body event.Body) {
	switch body := body.(type) {
	case event.TransferBegin, event.TransferEnd:
		c.s.do(func() { c.s.under.note(body) })
	case event.Fact:
		c.s.do(func() { c.s.readFact(body) })
	case event.StepBegin:
		c.s.do(func() { c.s.step = body.ID })
	case event.StepEnd:
		c.s.do(func() { c.s.step = "" })
	}
	c.s.hub.Emit(body)
}
