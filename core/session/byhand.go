package session

import (
	"bytes"
	"fmt"
	"strings"

	"pilotrix/core/device"
	"pilotrix/core/dialect"
	"pilotrix/core/event"
	"pilotrix/core/exchange"
	"pilotrix/core/plain"
)

// What is typed by hand is understood as a runbook's command is: a reading makes facts, an action is judged by what the
// dialect says of its success.

// byHand judges an exchange that was begun by hand, and that has ended.
func (s *Session) byHand(x exchange.Exchange, a *asked) {
	s.judge(x, a.meaning)
	if len(a.meaning.Readings) == 0 || !x.Whole() {
		return
	}
	s.read(parsing{x, a, s.Dialect()})
}

// judge says whether an action that was typed by hand was done.
func (s *Session) judge(x exchange.Exchange, m dialect.Meaning) {
	if m.Action == nil || !x.CameBack() || x.Over.Doubt {
		return
	}
	note := event.Note{Level: event.Info, Text: fmt.Sprintf("“%s” was done", x.Text)}
	denies, words := m.Denies(x.Answer())
	if denies && m.Restarts() {
		s.restarts.sent = restartSent{}
	}
	switch to := m.Action.To; {
	case denies && words != "":
		note = event.Note{Level: event.Warning, Text: fmt.Sprintf("“%s” was not done: %s", x.Text, words)}
	case denies:
		note = event.Note{Level: event.Warning, Text: fmt.Sprintf("“%s” did not say that it was done", x.Text)}
	case to != "" && x.Over.Mode != to:
		note = event.Note{
			Level: event.Warning,
			Text:  fmt.Sprintf("“%s” did not lead to mode %s", x.Text, s.Dialect().ModeTitle(to)),
		}
	case to != "":
		return // which mode it is in is shown
	case m.Way.Done != nil:
		note.Text += ": " + plain.Clip(m.Way.Done.Find(x.Answer()), maxOfAnswer)
	}
	s.hub.Emit(note)
}

// maxOfAnswer is how much of an answer is repeated, in bytes.
const maxOfAnswer = 100

// parsing is an answer that is read for facts outside of the loop: a pattern takes its time over a long one.
type parsing struct {
	exchange.Exchange
	asked *asked
	d     *dialect.Dialect
}

// read has an answer read for facts, behind those that wait.
func (s *Session) read(one parsing) {
	s.parsings = append(s.parsings, one)
	if len(s.parsings) == 1 {
		go s.parse(one)
	}
}

// parse reads answers for facts, one behind the other, until none is left.
func (s *Session) parse(one parsing) {
	for more := true; more; {
		facts, err := one.facts(&s.facts)
		alive := s.do(func() {
			s.keepFacts(one, facts, err)
			if s.parsings = s.parsings[1:]; len(s.parsings) > 0 {
				one = s.parsings[0]
			} else {
				more = false
			}
		})
		more = more && alive
	}
}

// facts are those that the readings make of the answer.
func (p parsing) facts(known *device.Facts) (all []device.Fact, err error) {
	for _, reading := range p.asked.meaning.Readings {
		facts, failed := reading.Parse(p.Answer(), p.Text, p.Begun, known)
		if failed == nil {
			failed = reading.Repeats(p.Text, p.Answer(), known.Tree())
		}
		if failed != nil {
			err = failed
			continue
		}
		all = append(all, facts...)
	}
	return all, err
}

// keepFacts keeps facts that were read by hand, unless the device was looked at again since.
func (s *Session) keepFacts(one parsing, facts []device.Fact, err error) {
	if s.Dialect() != one.d {
		return
	}
	if err != nil {
		s.hub.Emit(event.Note{Level: event.Info, Text: fmt.Sprintf("typed by hand, and not understood: %v", err)})
	}
	for _, fact := range facts {
		if newer, known := s.facts.Get(fact.Name); known && newer.At.After(fact.At) {
			continue
		}
		before, _ := s.facts.SetAsOf(fact, one.asked.changes)
		read := event.Fact{
			Name:   fact.Name,
			Value:  fact.Text,
			Source: fact.Source,
			After:  one.asked.changes,
			Rows:   dialect.TextRows(fact.Value),
			Read:   fact.At,
			Hand:   true,
		}
		if before.Text != fact.Text {
			read.Was = before.Text
		}
		s.readFact(read)
		s.hub.Emit(read)
	}
}

// changes takes note of a line that is ended now by hand, or by a text that is pasted, and that changes the device, or
// may. One that is not shown may be a secret.
func (s *Session) changes(command string, m dialect.Meaning) {
	line, v := &s.exchanges.Typed, s.sense.State()
	if shown, _ := line.Drawn(v); line.Mode == "" && strings.TrimSpace(shown) != strings.TrimSpace(command) {
		command = hiddenLine
	}
	s.facts.Change()
	s.hub.Emit(event.Change{Command: command, Hand: true, Maybe: m.Alters == dialect.AltersMaybe})
}

// hiddenLine stands for a command that the device has not shown: it may be a secret.
const hiddenLine = "a line that is not shown"

// onRecord are keys that wait until the change that the first of them sends is on record. They belong to the session's
// loop.
type onRecord struct {
	keys    []byte
	command string
}

// recordsFirst notes the change that a line makes whose Enter is the first of keys, and has the keys wait until that is
// on record, where it surely is one. It reports whether they wait.
func (s *Session) recordsFirst(keys []byte) (waits bool) {
	v, line := s.sense.State(), &s.exchanges.Typed
	command := line.Text(v)
	if !line.Command() || strings.TrimSpace(command) == "" {
		return false
	}
	m := s.means(command, line.Mode)
	if m.Alters == dialect.AltersNot {
		return false
	}
	s.sendsRestart(command, m)
	s.changes(command, m)
	if m.Alters == dialect.AltersMaybe || !s.hub.Keeps() {
		return false
	}
	s.recording = onRecord{bytes.Clone(keys), command}
	go func() {
		err := s.run().Settle(s.life)
		s.do(func() { s.recorded(err) })
	}()
	return true
}

// recorded sends what waited for the record, or holds it where there is none.
func (s *Session) recorded(err error) {
	waited := s.recording
	s.recording = onRecord{}
	switch {
	case len(waited.keys) == 0:
	case s.wire.line == nil || s.helm.who != event.Hand || s.lent != nil:
		s.hub.Emit(
			event.Note{Level: event.Warning, Text: fmt.Sprintf("not sent: the Enter behind “%s”", waited.command)})
	case err != nil:
		s.hold(waited.keys, waited.command,
			fmt.Sprintf("changes the device and is %v; mend that, or send it without a record", err))
		s.guard.unrecorded = true
	default:
		s.enter(waited.keys[:1])
		s.pressLines(waited.keys[1:])
	}
}
