package bench

import (
	"errors"
	"io"
	"strings"
	"time"
)

// How a line is typed on a device: echo, the usual editing keys, the past, and what interrupts it.

const keyWait = 100 * time.Millisecond

// Key waits for one key, for at most that long; ok is false when none came.
func (s *Shell) Key(wait time.Duration) (key byte, ok bool) {
	var one [1]byte
	if s.err != nil {
		return 0, false
	}
	_, err := s.Wire.Read(s.ctx, one[:], wait)
	if errors.Is(err, io.ErrNoProgress) {
		return 0, false
	}
	s.err = err
	return one[0], err == nil
}

// ReadLine reads a line with the usual editing keys. Nothing is shown of it when echo is off.
func (s *Shell) ReadLine(echo bool) string {
	text, _ := s.readLine(echo, false)
	return text
}

// input is a line that is being typed.
type input struct {
	*Shell
	begin  string // what stands before it
	typed  []byte
	echo   bool
	recall int // lines back in the past
	escape int // inside a sequence of a key: 1 after ESC, 2 after ESC [
}

// readLine reads one; bored says that it waited for too long, where the device logs out then.
func (s *Shell) readLine(echo, logsOut bool) (text string, bored bool) {
	l := &input{Shell: s, begin: s.tail, echo: echo && !s.Wire.quirks.has(Mute)}
	s.lines = 0
	idle, quiet := time.Duration(0), time.Duration(0)
	for s.err == nil {
		key, ok := s.Key(keyWait)
		if ok {
			idle = 0
			if l.key(key) {
				if s.err == nil && len(l.typed) > 0 && echo {
					s.past = append(s.past, string(l.typed))
				}
				return string(l.typed), false
			}
			continue
		}
		idle, quiet = idle+keyWait, quiet+keyWait
		switch {
		case s.Idle != nil && len(l.typed) == 0 && idle >= s.IdleAfter:
			idle = 0
			s.Idle()
		case logsOut && idle >= idleLimit:
			s.write("\r\n  nothing was typed for long, good-bye\r\n")
			return "", true
		case s.Wire.quirks.has(Noise) && quiet >= logEvery:
			quiet = 0
			l.interrupt()
		}
	}
	return "", false
}

// interrupt writes a log line in the middle of the line, which is drawn again below, or goes on there.
func (l *input) interrupt() {
	l.log()
	if l.Wire.quirks.chance(2) {
		l.redraw()
	}
}

// redraw writes the whole line again.
func (l *input) redraw() {
	text := "\r" + l.begin
	if l.echo {
		text += string(l.typed)
	}
	l.write(text + "\x1b[K")
}

const (
	ctrlC, ctrlU, ctrlX = 0x03, 0x15, 0x18
	backspace, escape   = 0x08, 0x1b
	del                 = 0x7f
)

// escapes takes the keys of an escape sequence, such as an arrow's, and reports whether it was one of them.
func (l *input) escapes(key byte) bool {
	switch {
	case l.escape == 1:
		l.escape = 0
		if key == '[' {
			l.escape = 2
		}
	case l.escape == 2:
		if key >= 0x40 {
			l.escape = 0
			l.arrow(key)
		}
	case key == escape:
		l.escape = 1
	default:
		return false
	}
	return true
}

// edit puts a letter behind what was typed, or takes one away, and returns what is shown of that.
func (l *input) edit(key byte) (shown string) {
	switch {
	case key == backspace || key == del:
		if len(l.typed) == 0 {
			return ""
		}
		l.typed = l.typed[:len(l.typed)-1]
		return "\b \b"
	case key >= 0x20 && key < del:
		l.typed = append(l.typed, key)
		return string(rune(key))
	}
	return ""
}

// key takes one; done says that the line ended.
func (l *input) key(key byte) (done bool) {
	q := l.Wire.quirks
	if l.escapes(key) {
		return false
	}
	if l.echo && q.has(SlowEcho) && !l.Wait(q.between(10*time.Millisecond, 100*time.Millisecond)) {
		return false
	}
	shown := ""
	switch key {
	case '\r', '\n':
		return l.write("\r\n")
	case ctrlC:
		l.typed = nil
		return l.write("^C\r\n")
	case ctrlU, ctrlX:
		shown = strings.Repeat("\b \b", len(l.typed))
		l.typed = l.typed[:0]
		if l.echo && (q.has(Wrap) || q.has(History)) {
			l.again()
			return false
		}
	default:
		shown = l.edit(key)
	}
	if !l.echo || shown == "" {
		return false
	}
	if q.has(Wrap) && len(plainText(l.begin))+len(l.typed) >= ownWidth &&
		(len(plainText(l.begin))+len(l.typed))%ownWidth == 0 {
		shown += "\r\n"
	}
	switch l.write(shown); {
	case q.has(History) && !q.has(Wrap) && q.chance(oneInKeys):
		l.redraw()
	case q.has(Noise) && q.chance(oneInKeys):
		l.interrupt()
	}
	return false
}

// again draws an emptied line: on a fresh one, since what was typed may be spread over several.
func (l *input) again() { l.write("\r\n" + l.begin) }

// arrow recalls a line of the past.
func (l *input) arrow(key byte) {
	if !l.Wire.quirks.has(History) || !l.echo {
		return
	}
	switch {
	case key == 'A' && l.recall < len(l.past):
		l.recall++
	case key == 'B' && l.recall > 0:
		l.recall--
	default:
		return
	}
	l.typed = l.typed[:0]
	if l.recall > 0 {
		l.typed = append(l.typed, l.past[len(l.past)-l.recall]...)
	}
	l.redraw()
}

// plainText is text without its colours.
func plainText(text string) string {
	text = strings.ReplaceAll(text, "\x1b[1;36m", "")
	return strings.ReplaceAll(text, "\x1b[0m", "")
}
