package session

import (
	"maps"
	"time"

	"pilotrix/core/dialect"
	"pilotrix/core/event"
	"pilotrix/core/exchange"
	"pilotrix/core/sense"
)

// What was asked and what was answered, whoever typed it. It is made by the session's loop out of what goes out and
// what comes, and everything that judges an answer does so here.

// asked is what is known of a line whose Enter has gone out, until its answer has come.
type asked struct {
	meaning dialect.Meaning
	changes int // of the device that were known of by then
	awaited
}

// writer is who types while the operator has not got the helm.
func (s *Session) writer() string {
	if s.pasting {
		return event.Paste
	}
	return s.helm.who
}

// means is what a line means that is typed in a mode now.
func (s *Session) means(line, mode string) dialect.Meaning {
	return s.Dialect().Means(line, mode, s.facts.Tree())
}

// sends takes note of a line whose Enter goes out now, and says what the sensing has to know of it.
func (s *Session) sends(who, text string, secret bool, v sense.State) sense.Enter {
	line := &s.exchanges.Typed
	s.sent++
	ref := s.sent
	s.asked[ref] = &asked{changes: s.facts.Changes()}
	one := exchange.Sent{
		Ref: ref, Who: who, Text: text, Certain: line.Certain(), Secret: secret, Mode: line.Mode, Base: line.Base,
		Means: func(command, mode string) string {
			a := s.asked[ref]
			if a != nil {
				a.meaning = s.means(command, mode)
				return a.meaning.Named()
			}
			return ""
		},
		Leads: func(command string) bool { return s.means(command, line.Mode).Leads() },
	}
	if who == event.Runbook {
		one.Step = s.step
	}
	e := s.exchanges.Enter(one, v)
	s.learner.Entered()
	if open := s.exchanges.Open(); !e.Command && (open == nil || open.Ref != ref) {
		delete(s.asked, ref) // it is answered by nothing of its own
	}
	return e
}

// emitExchanges emits what was found of exchanges.
func (s *Session) emitExchanges() {
	for _, found := range s.exchanges.Take() {
		s.emitExchange(found)
	}
}

func (s *Session) emitExchange(found exchange.Found) {
	s.hub.Emit(found.Body)
	if asked, ok := found.Body.(event.Asked); ok && asked.Seen == event.SeenDrawn && asked.Mode == exchange.PromptMode {
		s.echoes[exchange.Kind(asked.Prompt)] = true
	}
	if x := found.Ended; x != nil {
		a := s.asked[x.Ref]
		maps.DeleteFunc(s.asked,
			func(ref int, _ *asked) bool { return ref <= x.Ref }) // those before it were answers within
		if a != nil {
			s.answered(*x, a)
		}
	}
}

// learnPrompt learns the prompt of a device that no dialect is known for.
func (s *Session) learnPrompt(v sense.State) {
	if s.Dialect() != nil || s.learnt {
		return
	}
	if mode := s.learner.See(v, s.opt.Clock.Now(), s.Dialect().AsksSecret); mode != nil {
		s.learnt = true
		s.sense.AddMode(*mode, s.opt.Clock.Now())
	}
}

// nextLearnt is when that is looked at again, zero for never.
func (s *Session) nextLearnt() time.Time {
	if s.Dialect() != nil || s.learnt {
		return time.Time{}
	}
	return s.learner.Next(s.sense.State())
}

// answered judges an exchange that has ended.
func (s *Session) answered(x exchange.Exchange, a *asked) {
	s.noticeAnswer(x, a)
	if x.Who != event.Runbook {
		s.byHand(x, a)
	}
}

// closeExchange ends what goes on, before what is known of the line is forgotten.
func (s *Session) closeExchange(end event.End) {
	s.guard.strands(s.sense.State())
	s.exchanges.Close(end, s.sense.State())
	s.emitExchanges()
	clear(s.asked)
}
