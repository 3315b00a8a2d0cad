package session

import (
	"fmt"
	"strings"
	"time"

	"pilotrix/core/dialect"
	"pilotrix/core/event"
	"pilotrix/core/image"
	"pilotrix/core/reach"
	"pilotrix/core/units"
)

// A restart that no runbook watches, since it was typed or the device has done it by itself, is watched here: how long
// it is away, whether it answers, and at which prompt it is back.

// restarts are what is known of them. It belongs to the session's loop.
type restarts struct {
	sent   restartSent
	now    *event.Restart // the one that is under way, nil for none
	by     string         // the command that it comes by, empty where the device did it by itself
	before string         // the mode of the last prompt before it
	rested string         // the mode of the last prompt
	asks   bool           // which release runs is not known since the last one
}

// restartSent is a restart that was typed.
type restartSent struct {
	command string
	at      time.Time
	takes   time.Duration
}

// sentIsThat is how long behind its command a restart is taken for that one.
const sentIsThat = time.Hour

// atOnce is how long behind its command a restart begins that no timer of the device's waits for.
const atOnce = time.Minute

// sendsRestart notes that a line goes out by hand that restarts the device.
func (s *Session) sendsRestart(command string, m dialect.Meaning) {
	if !m.Restarts() {
		return
	}
	s.restarts.sent = restartSent{command: command, at: s.opt.Clock.Now()}
	if m.Action != nil && m.Action.Takes != nil {
		s.restarts.sent.takes = time.Duration(*m.Action.Takes)
	}
	s.watchAddress()
}

// watchAddress watches the device's address, where one was read.
func (s *Session) watchAddress() {
	for _, name := range []string{"device.host", "device.address"} {
		if fact, known := s.facts.Get(name); known && s.watch != nil {
			if watched, err := reach.ParseWatched("icmp:" + beforeSlash(fact.Text)); err == nil {
				s.watch.Add(watched)
				return
			}
		}
	}
}

// beforeSlash is an address without the length of its network.
func beforeSlash(address string) string {
	address, _, _ = strings.Cut(address, "/")
	return address
}

// restartBegins takes note of a restart that begins, unless a runbook watches it.
func (s *Session) restartBegins() {
	r := &s.restarts
	now := s.opt.Clock.Now()
	if s.helm.running || r.rested == "" || r.now != nil {
		return
	}
	r.now, r.by, r.before = &event.Restart{Begun: now}, "", r.rested
	if sent := r.sent; sent.command != "" && now.Sub(sent.at) < sentIsThat {
		if r.by, r.now.Expected = sent.command, sent.takes; now.Sub(sent.at) < atOnce {
			r.now.Begun = sent.at
		}
	} else {
		s.facts.Change()
		s.hub.Emit(
			event.Note{Level: event.Warning, Text: "the device restarts, and nothing was typed here that does that"})
		s.watchAddress()
	}
	r.sent = restartSent{}
	r.asks = true
	s.followRestart()
}

// followRestart says its progress, when that has changed.
func (s *Session) followRestart() {
	r, v := &s.restarts, s.reported
	if v.AtPrompt && r.now == nil {
		r.rested = v.Mode
	}
	if r.now == nil {
		return
	}
	state := *r.now
	state.Console, state.Prompt, state.Reach = v.Mode, "", s.reachText()
	if s.wire.line == nil {
		state.Console = "no line"
	}
	if v.AtPrompt {
		state.Prompt = v.Prompt
		state.Over = v.Mode == r.before || s.Dialect().MoveFrom(v.Mode, r.before) != nil
	}
	if state == *r.now {
		return
	}
	r.now = &state
	s.hub.Emit(state)
	if state.Over {
		s.restartOver(v.Mode)
	}
}

func (s *Session) restartOver(mode string) {
	r := &s.restarts
	took := s.opt.Clock.Now().Sub(r.now.Begun)
	text := fmt.Sprintf("back after %s", units.Text(took))
	if r.now.Expected > 0 {
		text += fmt.Sprintf(" (usually %s)", units.Text(r.now.Expected))
	}
	if mode != r.before {
		text += fmt.Sprintf(", at the prompt of %s", s.Dialect().ModeTitle(mode))
	}
	s.hub.Emit(event.Note{Level: event.Info, Text: text})
	s.facts.Change() // what was read while it went down is old as well
	r.now, r.rested = nil, mode
}

// reachText is whether what is watched answers, empty where nothing is.
func (s *Session) reachText() string {
	if s.watch == nil {
		return ""
	}
	text := ""
	for _, state := range s.watch.States() {
		switch {
		case !state.Known:
		case !state.Up:
			return "does not answer"
		default:
			text = "answers"
		}
	}
	return text
}

// readsRelease says which release runs, once that is read after a restart.
func (s *Session) readsRelease(fact event.Fact) {
	if fact.Name == image.FactRelease && s.restarts.asks && s.restarts.now == nil {
		s.restarts.asks = false
		s.hub.Emit(event.Note{Level: event.Info, Text: "since its restart it runs " + fact.Value})
	}
}

// nextStart says what a line that restarts the device has it start, empty for any other line.
func (s *Session) nextStart(command string) (words []string) {
	if !s.means(command, "").Restarts() {
		return nil
	}
	if text := s.Dialect().NextStart(&s.facts, s.opt.Clock.Now()); text != "" {
		words = append(words, text)
	}
	return words
}
