package session

import (
	"bytes"
	"fmt"
	"maps"
	"strings"
	"time"

	"pilotrix/core/dialect"
	"pilotrix/core/event"
	"pilotrix/core/exchange"
	"pilotrix/core/sense"
	"pilotrix/core/units"
)

// guard stops the Enter of a command that the dialect calls a danger. It judges by what is typed and by what the device
// shows, since either alone can be wrong: the echo may be late, and a device may put a line there that was never typed.
// It belongs to the session's loop.
type guard struct {
	commands   *dialect.Interlocks
	off        bool
	line       *exchange.Typed
	answers    time.Duration // within that time the device shows what a key has put there that changes the line
	held       []byte        // the Enter that was stopped, and what was pasted after it
	command    string
	stranded   string          // what stood on the line when all that is known of it was forgotten
	unrecorded bool            // what holds it is that the change is not on record
	bytes      int64           // how much the device had sent when the last command went out
	gone       []event.Pending // what ran out, or was lost by a restart, since the run began
	starting   bool            // it starts, and has not come to a prompt
	begins     bool            // a command was sent whose restart is waited for, and has not begun yet
}

// A device answers a key that recalls a line within that time, over a cable and over a network.
const (
	answersNear = 300 * time.Millisecond
	answersFar  = 1200 * time.Millisecond
)

// unseen is said of a line that the device put there and has not shown yet.
const unseen = "was put there by the device, which has not shown it yet; see it first"

// stops says why an Enter has to be stopped now, and the command.
func (k *guard) stops(v sense.State, now time.Time) (command, says string) {
	if k.off {
		return "", ""
	}
	if k.stranded != "" {
		if says = k.commands.Stops(k.whole(string(k.line.Keys))); says != "" {
			return strings.TrimSpace(k.whole(string(k.line.Keys))), says + "; it was not sent before, and may stand on the device's line yet"
		}
	}
	if k.line.Certain() {
		if says = k.commands.Stops(string(k.line.Keys)); says != "" {
			return strings.TrimSpace(string(k.line.Keys)), says
		}
	}
	shown, known := k.line.Drawn(v)
	if says = k.commands.Stops(shown); says != "" {
		return strings.TrimSpace(shown), says
	}
	if !k.commands.Any() {
		return "", ""
	}
	if k.line.Certain() {
		return k.doubt(shown, known)
	}
	// The device may have put a line there, and a log line of its may have come after it.
	if above, found := v.AnyLine(func(typed string) bool { return k.commands.Stops(typed) != "" }); found {
		return strings.TrimSpace(above), k.commands.Stops(above)
	}
	empty := strings.TrimSpace(shown) == ""
	if empty && now.Sub(k.line.Doubt) >= k.answers && (v.LastByte.IsZero() || now.Sub(v.LastByte) >= k.answers) {
		return "", "" // it had the time to put a line there, and has not
	}
	if v.LastByte.Before(k.line.Doubt) || !known && empty {
		return "…", unseen
	}
	return "", ""
}

// doubt holds an Enter where the device shows something else than what was typed: what it will take cannot be reported.
// What it has not shown yet is no doubt.
func (k *guard) doubt(shown string, known bool) (command, says string) {
	typed, shown := strings.TrimSpace(string(k.line.Keys)), strings.TrimSpace(shown)
	if k.line.Mode == "" || !known || typed == "" || shown == "" || strings.HasPrefix(typed, shown) {
		return "", ""
	}
	return typed, fmt.Sprintf("was typed, and the line shows “%s”: see which of the two it is", shown)
}

// pressLines sends the operator's keys line by line, until one has to be stopped at its Enter.
func (s *Session) pressLines(keys []byte) {
	if s.wire.line == nil { // what the device's line holds is what it held when the line was lost
		if len(keys) > 0 {
			s.hub.Emit(event.Note{Level: event.Warning, Text: "there is no line: what you type goes nowhere"})
			s.tryNow()
		}
		return
	}
	s.forgetHeld()
	for len(keys) > 0 {
		end := bytes.IndexAny(keys, s.Dialect().Ends()+"\x03")
		if end < 0 {
			s.follow(keys)
			s.pressNow(keys, nil)
			return
		}
		s.follow(keys[:end])
		s.pressNow(keys[:end], nil)
		key, behind := keys[end:end+1], keys[end+1:]
		secret := s.sense.State().Secret
		switch command, says := s.stopsEnter(key, secret); {
		case says != "":
			s.hold(keys[end:], command, says)
			return
		case key[0] == interrupt:
			s.breakOff(key)
		case !secret && s.recordsFirst(keys[end:]):
			return
		default:
			s.enter(key)
		}
		if keys = behind; secret && len(keys) > 0 {
			s.keepBehindSecret(keys)
			return
		}
	}
}

// hold stops the Enter behind a command, and what was pasted after.
func (s *Session) hold(keys []byte, command, says string) {
	s.guard.held, s.guard.command, s.guard.unrecorded = bytes.Clone(keys), command, false
	s.hub.Emit(event.Interlock{
		State:   event.InterlockHeld,
		Command: command,
		Says:    says,
		Now:     append(s.nextStart(command), s.present()...),
	})
}

// stopsEnter says why a key that ends a line is stopped, empty where it is not.
func (s *Session) stopsEnter(key []byte, secret bool) (command, says string) {
	if secret || key[0] == interrupt {
		return "", ""
	}
	return s.guard.stops(s.sense.State(), s.opt.Clock.Now())
}

// breakOff sends the key that breaks off what the device does, and drops the line.
func (s *Session) breakOff(key []byte) {
	s.guard.emptied(key[0])
	ends := s.exchanges.Interrupt()
	open := s.exchanges.Open()
	maps.DeleteFunc(s.asked,
		func(ref int, _ *asked) bool { return open == nil || ref != open.Ref }) // what was typed ahead is dropped
	s.pressNow(key, &ends)
}

// follow counts the operator's keys, none of which ends the line.
func (s *Session) follow(keys []byte) {
	if len(keys) == 0 {
		return
	}
	v, now := s.sense.State(), s.opt.Clock.Now()
	line := &s.exchanges.Typed
	line.Begin(event.Hand, v, now)
	if v.Secret {
		return
	}
	for _, key := range keys {
		line.Key(key, now)
		s.guard.emptied(key)
	}
}

// enter sends the key that ends a line; the line before it goes to the device.
func (s *Session) enter(key []byte) {
	v := s.sense.State()
	line := &s.exchanges.Typed
	command := line.Text(v)
	whole, secret := s.guard.whole(command), v.Secret
	ends := s.sends(event.Hand, command, secret, v)
	line.Entered(key[0], s.opt.Clock.Now())
	s.guard.emptied(key[0])
	s.pressNow(key, &ends)
	if secret {
		return
	}
	s.sentCommand(whole)
}

// forgetHeld drops an Enter that was stopped: the line is being changed.
func (s *Session) forgetHeld() {
	k := s.guard
	if k.held == nil {
		return
	}
	behind := len(k.held) - 1
	k.held = nil
	s.hub.Emit(event.Interlock{State: event.InterlockForgotten, Command: k.command})
	if behind > 0 {
		s.hub.Emit(event.Note{
			Level: event.Warning,
			Text:  fmt.Sprintf("not sent: %s, pasted behind “%s”", units.Many(behind, "character"), k.command),
		})
	}
}

// SendHeld sends the Enter that an interlock stopped, and what was pasted after it. It reports whether
// there was one.
func (s *Session) SendHeld() (sent bool) {
	s.do(func() {
		k := s.guard
		if k.held == nil || s.wire.line == nil || s.helm.who != event.Hand || s.lent != nil {
			return
		}
		keys := k.held
		k.held = nil
		sent = true
		s.hub.Emit(event.Interlock{State: event.InterlockSent, Command: k.command})
		if k.unrecorded || !s.recordsFirst(keys) {
			s.enter(keys[:1])
			s.pressLines(keys[1:])
		}
	})
	return sent
}

// SetInterlocks switches the interlocks of this session off or on; that is recorded.
func (s *Session) SetInterlocks(on bool) {
	s.do(func() {
		if s.guard.off == !on {
			return
		}
		s.guard.off = !on
		state := event.InterlockOn
		if !on {
			state = event.InterlockOff
		}
		s.hub.Emit(event.Interlock{State: state})
	})
}

// noticeRestart notices that the device starts, by whatever: what was unsaved is lost by it, and what begins with a
// restart begins. A command that comes back to a prompt instead was refused.
func (s *Session) noticeRestart() {
	starts := s.Dialect().Starts(s.reported.Mode)
	s.guard.ashore(s.reported, starts)
	switch {
	case starts && !s.guard.starting:
		s.reportPending(event.PendingLost, s.guard.commands.Restarted())
		s.guard.begins = false
		s.restartBegins()
	case s.guard.begins && s.cameBack():
		s.reportPending(event.PendingNever, s.guard.commands.Refused())
		s.guard.begins = false
	}
	s.guard.starting = starts || s.guard.starting && !s.reported.AtPrompt
}

// lineWent takes a line that goes after a restart for the restart: what a device says then is not seen.
func (s *Session) lineWent() {
	if sent := s.restarts.sent; sent.command != "" && s.opt.Clock.Since(sent.at) < sentIsThat {
		s.restartBegins()
	}
	if s.guard.begins {
		s.guard.begins = false
		s.guard.commands.Begun()
	}
}
