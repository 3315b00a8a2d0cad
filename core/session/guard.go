package session

import (
	"bytes"
	"fmt"
	"strings"
	"time"

	"pilotrix/core/dialect"
	"pilotrix/core/event"
	"pilotrix/core/sense"
	"pilotrix/core/units"
)

// guard stops the Enter of a command that the dialect calls a danger. It follows what the hand types
// by its own count of keys and by what the device shows, since either alone can be wrong: the echo may be
// late, and a device may put a line there that was never typed. It belongs to the session's loop.
type guard struct {
	commands *dialect.Interlocks
	off      bool
	typed    []byte
	asked    string        // what the device asked when it began: what is typed behind it is an answer
	prompted bool          // that began at a prompt which was seen
	unsure   time.Time     // when a key was typed that changes the line in ways only the device knows
	answers  time.Duration // within that time the device shows what such a key has put there
	held     []byte        // the Enter that was stopped, and what was pasted behind it
	command  string
	awaited  awaited
	sent     int64           // how much the device had sent when the last command went out
	gone     []event.Pending // what ran out, or was lost by a restart, since the run began
	starting bool            // it starts, and has not come to a prompt
	begins   bool            // a command was sent whose restart is waited for, and has not begun yet

	ours   string // what the runbook typed on the present line and has not ended
	proofs int    // the device's mode proofs until a key was last typed
}

// key follows one byte of the hand's.
func (k *guard) key(b byte, now time.Time) {
	switch {
	case b == 0x7f || b == '\b':
		k.typed = k.typed[:max(0, len(k.typed)-1)]
	case b == 0x03: // Ctrl-C
		k.typed, k.unsure = k.typed[:0], time.Time{}
	case b == 0x15: // Ctrl-U: shells take back what stands before the cursor, wherever that was moved to
		if k.typed = k.typed[:0]; !k.unsure.IsZero() {
			k.unsure = now
		}
	case b == 0x17: // Ctrl-W
		k.typed = k.typed[:bytes.LastIndexByte(bytes.TrimRight(k.typed, " "), ' ')+1]
	case b < 0x20: // Tab, Escape and its sequences, the keys that recall and move
		k.unsure = now
	default:
		const most = 4096
		if len(k.typed) < most {
			k.typed = append(k.typed, b)
		}
	}
}

func (k *guard) newLine() { k.typed, k.unsure, k.asked = k.typed[:0], time.Time{}, "" }

// lineTaken notes the key by which the device takes the line.
func (k *guard) lineTaken(key byte, now time.Time) {
	if k.newLine(); key == dialect.TakeAndNext[0] {
		k.unsure = now
	}
}

// shown is what stands on the line, without what the device asks there.
func (k *guard) shown(v sense.State) (text string, known bool) {
	text, known = v.Typed()
	if rest, answers := strings.CutPrefix(text, k.asked); !known && k.asked != "" && answers {
		return rest, true
	}
	return text, known
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
	if k.unsure.IsZero() {
		if says = k.commands.Stops(string(k.typed)); says != "" {
			return strings.TrimSpace(string(k.typed)), says
		}
	}
	shown, known := k.shown(v)
	if says = k.commands.Stops(shown); says != "" {
		return strings.TrimSpace(shown), says
	}
	if !k.commands.Any() {
		return "", ""
	}
	if k.unsure.IsZero() {
		return k.doubt(shown, known)
	}
	// The device may have put a line there, and a log line of its may have come behind it.
	if above, found := v.AnyLine(func(typed string) bool { return k.commands.Stops(typed) != "" }); found {
		return strings.TrimSpace(above), k.commands.Stops(above)
	}
	empty := strings.TrimSpace(shown) == ""
	if empty && now.Sub(k.unsure) >= k.answers && (v.LastByte.IsZero() || now.Sub(v.LastByte) >= k.answers) {
		return "", "" // it had the time to put a line there, and has not
	}
	if v.LastByte.Before(k.unsure) || !known && empty {
		return "…", unseen
	}
	return "", ""
}

// doubt holds an Enter where the device shows something else than what was typed: what it will take cannot be told.
// What it has not shown yet is no doubt.
func (k *guard) doubt(shown string, known bool) (command, says string) {
	typed, shown := strings.TrimSpace(string(k.typed)), strings.TrimSpace(shown)
	if !k.prompted || !known || typed == "" || shown == "" || strings.HasPrefix(typed, shown) {
		return "", ""
	}
	return typed, fmt.Sprintf("was typed, and the line shows “%s”: see which of the two it is", shown)
}

// pressLines sends the hand's keys line by line, until one has to be stopped at its Enter.
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
		end := bytes.IndexAny(keys, s.Dialect().Ends())
		switch {
		case end >= 0 && s.sense.State().Secret && end+1 < len(keys):
			s.pressNow(keys[:end+1])
			s.keepBehindSecret(keys[end+1:])
			return
		case end < 0 || s.sense.State().Secret || s.guard.off:
			s.follow(keys)
			s.pressNow(keys)
			return
		}
		s.follow(keys[:end])
		s.pressNow(keys[:end])
		if command, says := s.guard.stops(s.sense.State(), s.opt.Clock.Now()); says != "" {
			s.guard.held, s.guard.command = bytes.Clone(keys[end:]), command
			s.hub.Emit(event.Interlock{State: event.InterlockHeld, Command: command, Says: says, Now: s.present()})
			return
		}
		s.enter(keys[end : end+1])
		keys = keys[end+1:]
	}
}

// follow counts the hand's keys.
func (s *Session) follow(keys []byte) {
	v := s.sense.State()
	s.guard.touched(v)
	if len(s.guard.typed) == 0 {
		s.guard.prompted, s.guard.asked = v.AtPrompt, v.Question()
	}
	if v.Secret {
		return
	}
	for _, b := range keys {
		if strings.IndexByte(s.Dialect().Ends(), b) >= 0 {
			s.guard.lineTaken(b, s.opt.Clock.Now())
			continue
		}
		s.guard.key(b, s.opt.Clock.Now())
	}
}

// enter sends an Enter; the line before it goes to the device.
func (s *Session) enter(key []byte) {
	command, _ := s.sense.State().Typed()
	if s.guard.unsure.IsZero() && len(s.guard.typed) > 0 {
		command = string(s.guard.typed)
	}
	s.guard.lineTaken(key[0], s.opt.Clock.Now())
	s.pressNow(key)
	s.sentCommand(command)
	if strings.TrimSpace(command) != "" {
		s.facts.Change() // as far as can be known: it was typed by hand
	}
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
		s.hub.Emit(event.Note{Level: event.Warning, Text: fmt.Sprintf("not sent: %s, pasted behind “%s”", units.Many(behind, "character"), k.command)})
	}
}

// SendHeld sends the Enter that an interlock stopped, and what was pasted behind it. It reports whether
// there was one.
func (s *Session) SendHeld() (sent bool) {
	s.do(func() {
		k := s.guard
		if k.held == nil || s.wire.line == nil {
			return
		}
		keys := k.held
		k.held = nil
		sent = true
		s.hub.Emit(event.Interlock{State: event.InterlockSent, Command: k.command})
		s.enter(keys[:1])
		if len(keys) > 1 {
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

// noticeRestart notices that the device starts, by whatever: what was unsaved is lost by it, and what begins with a restart
// begins. A command that comes back to a prompt instead was refused.
func (s *Session) noticeRestart() {
	starts := s.Dialect().Starts(s.told.Mode)
	switch {
	case starts && !s.guard.starting:
		s.tellPending(event.PendingLost, s.guard.commands.Restarted())
		s.guard.begins = false
	case s.guard.begins && s.answered():
		s.tellPending(event.PendingNever, s.guard.commands.Refused())
		s.guard.begins = false
	}
	s.guard.starting = starts || s.guard.starting && !s.told.AtPrompt
}

// lineWent takes a line that goes behind a restart for the restart: what a device says then is not seen.
func (s *Session) lineWent() {
	if s.guard.begins {
		s.guard.begins = false
		s.guard.commands.Begun()
	}
}
