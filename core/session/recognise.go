package session

import (
	"errors"
	"slices"
	"strings"

	"pilotrix/core/dialect"
	"pilotrix/core/event"
)

// Which device is this? While no dialect is known, the lines that the device has drawn are kept for a while, so that
// known ones can be held against them.

// maxHeard is how many lines are kept, at least.
const maxHeard = 400

func (s *Session) hear(line string) {
	if s.Dialect() != nil {
		return
	}
	if s.heard = append(s.heard, line); len(s.heard) >= 2*maxHeard {
		s.heard = slices.Clone(s.heard[maxHeard:])
	}
}

// Heard are the lines that the device has drawn, the last one that it waits with. It is empty once a dialect is known.
func (s *Session) Heard() (lines []string) {
	s.do(func() {
		lines = slices.Clone(s.heard)
		if text, _ := s.sense.Model().Line(); s.Dialect() == nil && strings.TrimSpace(text) != "" {
			lines = append(lines, text)
		}
	})
	return lines
}

// ErrBusy is reported by what cannot be done while a runbook has the line.
var ErrBusy = errors.New("a runbook is under way")

// Learn says how the device talks: prompts, questions and dangers are known from here on.
func (s *Session) Learn(d *dialect.Dialect) (err error) {
	s.do(func() {
		if s.helm.running || s.helm.borrowed != nil {
			err = ErrBusy
			return
		}
		s.dialect.Store(d)
		s.heard, s.learnt = nil, false
		s.guard.commands = d.NewInterlocks()
		s.closeExchange(event.EndCut)
		s.exchanges.Learn(d)
		s.sense.Learn(s.senseConfig(), s.opt.Clock.Now())
		s.hub.Emit(event.Learned{Dialect: d.Dialect})
		s.report()
		s.schedule()
	})
	return err
}
