// Package sense reads the byte stream and says what the device is in: its mode and the text that
// proves it, the prompt it waits at, a question it asks, the echo of what was sent, silence, garble
// (text arriving at another speed) and a receiver that waits for a file.
//
// A prompt is a pattern at the end of the stream with nothing after it, not a line that looks like
// one: it counts once the line has been quiet for Settle, and after something was sent only once
// that was answered. Nothing here sleeps; time comes in with the bytes and by Tick.
package sense

import (
	"bytes"
	"regexp"
	"slices"
	"strings"
	"time"
)

// Modes that need no dialect.
const (
	Unknown   = "unknown"
	Silent    = "silent"
	Garbled   = "garbled"
	Receiving = "receiving"
)

// Settle is how long the line is quiet after a prompt. It is longer than the pauses that USB
// adapters make inside a line (16 ms) and shorter than what an operator notices.
const Settle = 20 * time.Millisecond

const (
	silentAfter   = 8 * time.Second
	receiverAfter = 250 * time.Millisecond // one request alone, followed by this much quiet
	maxOutput     = 256 << 10
	maxPartial    = 4096
	garbleWindow  = 96
	garbleLeast   = 8 // bytes needed for a word on garble
	garbleScore   = 0.25
)

// Mode is how one mode shows itself: by the prompt it waits at, by a text it writes, or both.
type Mode struct {
	Name   string
	Prompt *regexp.Regexp
	Text   *regexp.Regexp
}

// Dialog is a question the device may ask at the end of the stream.
type Dialog struct {
	Name string
	Ask  *regexp.Regexp
}

// Config is what a dialect says of modes and questions. Without any, the modes above are told.
type Config struct {
	Modes   []Mode
	Dialogs []Dialog
}

// View is what is known now.
type View struct {
	Mode  string
	Proof string    // the text that proves the mode
	Since time.Time // of the mode
	Count int       // of mode proofs so far, so that the same mode proved anew is seen

	AtPrompt bool
	Prompt   string // as the device wrote it
	Dialog   string // name of the question it waits with
	Asks     string // the question's text

	Output   string // since the last Sent, its echo left out
	Partial  string // the unfinished last line
	Echoed   bool   // what was sent came back
	Answered bool   // something came since the last Sent

	// Passed are the modes proved since the last Sent, in the order they were first. A mode may be left
	// again within the bytes that proved it: a device says that it starts, and goes to another speed.
	Passed []string

	LastByte time.Time
	Bytes    int64 // in all
	Garble   float64
	Receiver byte // 'C', 'G' or NAK while a receiver asks for a file, else 0
}

// Sense follows one stream. It is used by one goroutine.
type Sense struct {
	config Config
	view   View

	text     stripper
	output   []byte
	partial  []byte
	sent     []byte // what was sent last, until its line ended
	awaiting bool   // the line of what was sent has not ended yet
	runs     int    // requests of a receiver in a row
	window   []byte
	settled  bool
	sentAt   time.Time
}

// quietSince is the last time that something went either way.
func (s *Sense) quietSince() time.Time {
	if s.sentAt.After(s.view.LastByte) {
		return s.sentAt
	}
	return s.view.LastByte
}

// New starts with nothing known at that time.
func New(config Config, now time.Time) *Sense {
	return &Sense{config: config, view: View{Mode: Unknown, Since: now, LastByte: now}}
}

// View is what is known now.
func (s *Sense) View() View {
	v := s.view
	v.Output, v.Partial = string(s.output), string(s.partial)
	return v
}

// Sent tells what was typed to the device, and when.
func (s *Sense) Sent(now time.Time, p []byte) {
	s.sentAt = now
	s.output = s.output[:0]
	s.leavePrompt()
	s.view.Echoed, s.view.Answered, s.view.Receiver, s.runs = false, false, 0, 0
	s.view.Passed = nil // a View that was given out keeps its own
	if end := bytes.IndexAny(p, "\r\n"); end >= 0 {
		s.awaiting = true
		s.sent = append(s.sent[:0], p[:end]...)
	} else {
		s.sent = append(s.sent[:0], p...)
	}
	s.settled = true // until something arrives
}

// Forget drops what is known of the stream: the line changed its speed or came back.
func (s *Sense) Forget(now time.Time) {
	s.partial, s.output, s.window = s.partial[:0], s.output[:0], s.window[:0]
	s.text, s.awaiting, s.runs = stripper{}, false, 0
	s.view.Receiver, s.view.Garble, s.settled = 0, 0, true
	s.view.LastByte = now
	s.leavePrompt()
	s.become(Unknown, "", now)
}

func (s *Sense) leavePrompt() {
	s.view.AtPrompt, s.view.Prompt, s.view.Dialog, s.view.Asks = false, "", "", ""
}

func (s *Sense) become(mode, proof string, at time.Time) {
	if mode != s.view.Mode {
		s.view.Since = at
	}
	s.view.Mode, s.view.Proof = mode, proof
	s.view.Count++
	if !slices.Contains(s.view.Passed, mode) {
		s.view.Passed = append(slices.Clip(s.view.Passed), mode)
	}
}

// Feed takes bytes that arrived and reports whether something other than the output changed.
func (s *Sense) Feed(at time.Time, p []byte) (changed bool) {
	if len(p) == 0 {
		return false
	}
	before := s.view
	s.view.LastByte = at
	s.view.Bytes += int64(len(p))
	s.view.Answered = true
	s.settled = false
	s.leavePrompt()
	s.watchGarble(p)
	for _, b := range p {
		s.watchReceiver(b)
		switch out, kind := s.text.next(b); kind {
		case plain:
			if len(s.partial) < maxPartial {
				s.partial = append(s.partial, out)
			}
		case lineEnd:
			s.endLine(at)
		case lineStart:
			s.partial = append(s.partial[:0], out)
			s.awaiting = false
		case back:
			s.partial = s.partial[:max(0, len(s.partial)-1)]
		}
	}
	s.matchTexts(s.partial, at)
	s.judgeGarble(at)
	return s.differs(before)
}

func (s *Sense) differs(before View) bool {
	now := s.view
	return now.Count != before.Count || now.AtPrompt != before.AtPrompt || now.Dialog != before.Dialog || now.Receiver != before.Receiver
}

// endLine completes a line: the echo of what was sent, or output.
func (s *Sense) endLine(at time.Time) {
	line := s.partial
	if s.awaiting {
		s.awaiting = false
		if len(s.sent) == 0 || bytes.HasSuffix(line, bytes.TrimRight(s.sent, " ")) || bytes.HasSuffix(bytes.TrimRight(line, " "), bytes.TrimSpace(s.sent)) {
			s.view.Echoed = true
			s.partial = s.partial[:0]
			return
		}
	}
	if over := len(s.output) + len(line) + 1 - maxOutput; over > 0 && over <= len(s.output) {
		s.output = s.output[:copy(s.output, s.output[over:])]
	}
	s.output = append(append(s.output, line...), '\n')
	s.matchTexts(line, at)
	s.partial = s.partial[:0]
}

// matchTexts looks for a text that proves a mode in a line, finished or not. The unfinished line is
// looked at each time it grows, but proves a mode once.
func (s *Sense) matchTexts(line []byte, at time.Time) {
	if len(line) == 0 {
		return
	}
	for _, mode := range s.config.Modes {
		if mode.Text != nil && mode.Text.Match(line) {
			if s.view.Mode != mode.Name || !strings.HasPrefix(string(line), s.view.Proof) {
				s.become(mode.Name, string(line), at)
			}
			return
		}
	}
}

// Next is when Tick is wanted, the zero time when nothing waits for time to pass.
func (s *Sense) Next() time.Time {
	switch {
	case !s.settled:
		return s.view.LastByte.Add(Settle)
	case s.runs == 1 && s.view.Receiver == 0:
		return s.view.LastByte.Add(receiverAfter)
	case !s.resting():
		return s.quietSince().Add(silentAfter)
	}
	return time.Time{}
}

// resting reports that the device is known to wait for us.
func (s *Sense) resting() bool {
	return s.view.AtPrompt || s.view.Dialog != "" || s.view.Receiver != 0 || s.view.Mode == Silent
}

// Tick lets time pass and reports whether something changed.
func (s *Sense) Tick(now time.Time) (changed bool) {
	before := s.view
	quiet := now.Sub(s.view.LastByte)
	if !s.settled && quiet >= Settle {
		s.settled = true
		s.matchPrompt(now)
	}
	if s.runs == 1 && s.view.Receiver == 0 && quiet >= receiverAfter {
		s.receiverAsks()
	}
	if !s.resting() && now.Sub(s.quietSince()) >= silentAfter {
		s.become(Silent, "nothing arrived for "+silentAfter.String(), now)
	}
	return s.differs(before)
}

// matchPrompt looks whether the quiet line ends with a prompt or a question.
func (s *Sense) matchPrompt(now time.Time) {
	if s.awaiting || len(s.partial) == 0 {
		return
	}
	for _, dialog := range s.config.Dialogs {
		if dialog.Ask.Match(s.partial) {
			s.view.Dialog, s.view.Asks = dialog.Name, string(s.partial)
			return
		}
	}
	for _, mode := range s.config.Modes {
		if mode.Prompt != nil && mode.Prompt.Match(s.partial) {
			s.view.AtPrompt, s.view.Prompt = true, string(s.partial)
			s.become(mode.Name, s.view.Prompt, now)
			return
		}
	}
}

// watchReceiver counts requests for a file: the same character again and again at the beginning of a
// line.
func (s *Sense) watchReceiver(b byte) {
	const nak = 0x15
	switch {
	case b == nak || ((b == 'C' || b == 'G') && s.onlyRequests(b)):
		if s.runs++; s.runs >= 2 {
			s.receiverAsks()
		}
	default:
		s.runs, s.view.Receiver = 0, 0
	}
}

func (s *Sense) onlyRequests(b byte) bool {
	return len(bytes.Trim(s.partial, string(rune(b)))) == 0 && (s.runs > 0 || len(s.partial) == 0)
}

func (s *Sense) receiverAsks() {
	const nak = 0x15
	if s.view.Receiver == 0 {
		s.view.Receiver = nak
		if len(s.partial) > 0 {
			s.view.Receiver = s.partial[len(s.partial)-1]
		}
		s.become(Receiving, "a receiver asks for a file", s.view.LastByte)
	}
}

func (s *Sense) watchGarble(p []byte) {
	if len(p) > garbleWindow {
		p = p[len(p)-garbleWindow:]
	}
	s.window = append(s.window, p...)
	if over := len(s.window) - garbleWindow; over > 0 {
		s.window = s.window[:copy(s.window, s.window[over:])]
	}
	s.view.Garble = GarbleScore(s.window)
}

func (s *Sense) judgeGarble(at time.Time) {
	switch {
	case s.runs > 0:
	case len(s.window) >= garbleLeast && s.view.Garble >= garbleScore:
		if s.view.Mode != Garbled {
			s.become(Garbled, string(s.window), at)
		}
	case s.view.Mode == Garbled && s.view.Garble < garbleScore/2:
		s.become(Unknown, "", at)
	}
}
