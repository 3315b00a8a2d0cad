package session

import (
	"errors"
	"slices"
	"strings"

	"pilotrix/core/dialect"
	"pilotrix/core/event"
	"pilotrix/core/shown"
)

// Which device is this? While no dialect is known, what the device writes is kept for a while, so that known ones can be
// held against it.

const (
	mostHeard = 32 << 10
	wideHeard = 250 // columns, in which hardly a line wraps
)

func (s *Session) hear(p []byte) {
	if s.Dialect() != nil {
		return
	}
	s.heard = append(s.heard, p...)
	if over := len(s.heard) - mostHeard; over > 0 {
		s.heard = slices.Delete(s.heard, 0, over)
	}
}

// Heard are the lines that the device has written, as they were drawn, the last one that it waits with. It is empty once
// a dialect is known.
func (s *Session) Heard() (lines []string) {
	var raw []byte
	s.do(func() { raw = slices.Clone(s.heard) })
	model := shown.New(wideHeard, 50, shown.Options{})
	model.Write(raw, func(line shown.Ended) { lines = append(lines, string(line.Text)) })
	if text, _ := model.Line(); strings.TrimSpace(text) != "" {
		lines = append(lines, text)
	}
	return lines
}

// ErrBusy is told by what cannot be done while a runbook has the line.
var ErrBusy = errors.New("a runbook is under way")

// Learn says how the device talks: prompts, questions and dangers are known from here on.
func (s *Session) Learn(d *dialect.Dialect) (err error) {
	s.do(func() {
		if s.helm.running {
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
		s.tell()
		s.schedule()
	})
	return err
}
