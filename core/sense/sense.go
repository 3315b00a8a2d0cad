// Package sense reads the byte stream and says what the device is in: its mode and the text that
// proves it, the prompt it waits at, a question it asks, the echo of what was sent, silence, garble
// (text arriving at another speed) and a receiver that waits for a file.
//
// What the line shows it takes from core/shown. A prompt is a pattern at the end of the stream with
// nothing after it, not a line that looks like one: it counts once the line has been quiet for Settle,
// and after something was sent only below the line that was sent. Nothing here sleeps; time comes in
// with the bytes and by Tick.
package sense

import (
	"bytes"
	"regexp"
	"slices"
	"strings"
	"time"
	"unicode/utf8"

	"pilotrix/core/screen"
	"pilotrix/core/shown"
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
	silentAfter  = 8 * time.Second
	requestAfter = 250 * time.Millisecond // of quiet make a letter alone on a line a request for a file
	pushedAfter  = 300 * time.Millisecond // of quiet behind log lines that pushed the prompt away
	lostAfter    = 2 * time.Second        // the same behind lines that the dialect does not know
	textAfter    = 400 * time.Millisecond // of quiet make a text in a command's output the device's own word
	pagerAgain   = 4 * time.Second        // without a byte after a pager's key: it was lost
	reportEvery  = 100 * time.Millisecond // while bytes come without a pause
	garbleWindow = 96
	garbleLeast  = 8  // bytes needed for a word on garble
	cleanLeast   = 32 // bytes without any, needed to prove a speed
	garbleScore  = 0.25
	nak          = 0x15
)

// Mode is how one mode shows itself: by the prompt it waits at, by a text it writes, or both.
type Mode struct {
	Name   string
	Prompt *regexp.Regexp
	Text   *regexp.Regexp
	Learnt bool // from what the device does, and not from a dialect
}

// Dialog is a question the device may ask at the end of the stream.
type Dialog struct {
	Name string
	Ask  *regexp.Regexp
}

// Config is what a dialect says of modes, questions and lines. Without any, the modes above are reported.
type Config struct {
	Modes   []Mode
	Dialogs []Dialog
	Noise   []*regexp.Regexp
	Pager   *regexp.Regexp
	Charset screen.Charset
	// AsksSecret reports whether a line asks for something that is not to be seen; may be nil.
	AsksSecret func(line string) bool
	// Reply types the answers to what the device asks of its terminal; nil answers nothing.
	Reply func(answer string)
	// Ended is called for each line that the device has ended and that is no noise, while the bytes are taken in; may
	// be nil.
	Ended func(line shown.Ended)
}

// State is what is known now.
type State struct {
	Mode  string
	Proof string    // the text that proves the mode
	Since time.Time // of the mode
	Count int       // of mode proofs so far, so that the same mode proved again is seen

	AtPrompt bool
	Pushed   bool   // lines of the device's stand below the prompt it waits at
	Prompt   string // as the device wrote it
	Dialog   string // name of the question it waits with
	Asks     string // the question's text
	Pager    bool   // a pager waits for its key
	Secret   bool   // a question for a secret was asked, and no Enter was sent since

	Partial  string // the present line
	Asked    string // what may ask something: the present line, or the one that log lines have pushed away
	Free     bool   // nothing follows the cursor there
	Answered bool   // something came since the last Enter
	Ended    bool   // the device has ended the line of the last Enter

	// Passed are the modes proved since the last Enter, in the order they were first. A mode may be left
	// again within the bytes that proved it: a device says that it starts, and goes to another speed.
	Passed []string

	Commands int // that were begun so far, by whomever

	LastByte time.Time // or when the line was set, or came back, since then
	Heard    time.Time // when the device last said anything, at whatever speed; zero for never
	Bytes    int64     // in all
	Garble   float64
	Clean    time.Time // when text was last heard that proves the line's speed, zero for none since it was set or garbled
	Receiver byte      // 'C', 'G' or NAK while a receiver asks for a file again and again, else 0
	Request  byte      // the same where it has asked once

	answer   shown.Answer
	standing shown.Standing
	prompts  shown.Prompts
	prompt   string
	spoiled  string // the prompt that it waits with, and the log line after it; empty for none
}

// cleanFor is how long text that was heard stands for the line's speed while nothing more comes.
const cleanFor = time.Minute

// Legible reports whether text has come at the speed that the line has: no other one can be the device's.
func (v State) Legible(now time.Time) bool { return !v.Clean.IsZero() && now.Sub(v.Clean) < cleanFor }

// Output is what was drawn since the last command was sent, up to the present line, as it stood in the
// end. A prompt that log lines pushed away is no part of it.
func (v State) Output() string {
	text := v.answer.String()
	for {
		rest := strings.TrimSuffix(text, "\n")
		last := rest[strings.LastIndexByte(rest, '\n')+1:]
		if last == "" || !v.promptsWith(last) && last != v.spoiled {
			return text
		}
		text = rest[:len(rest)-len(last)]
	}
}

// Lost is how many bytes of the output's beginning were given up, since it is so long.
func (v State) Lost() int64 { return v.answer.Lost() }

// promptsWith reports whether a line is a mode's prompt, its last blank aside.
func (v State) promptsWith(line string) bool {
	return v.prompts.Are(line)
}

// Shows reports whether text stands behind a prompt, or behind base: typed and echoed.
func (v State) Shows(text, base string) bool { return v.standing.Shows(text, base, v.prompts) }

// ShowsBefore reports the same of the line before the present one, which the device has ended.
func (v State) ShowsBefore(text, base string) bool {
	return v.standing.ShowsBefore(text, base)
}

// Typed is what stands behind the prompt; known is false where no prompt was found before it.
func (v State) Typed() (text string, known bool) { return v.standing.Typed(v.prompt, v.prompts) }

// AnyLine returns the first of the lines since the last Enter, the present one first and each less its
// prompt, for which such holds.
func (v State) AnyLine(such func(typed string) bool) (typed string, found bool) {
	return v.standing.Any(v.prompt, v.prompts, such)
}

// NewState makes a view as a test needs it: with an output.
func NewState(v State, output string) State {
	m := shown.New(shown.UsualCols, shown.UsualRows, shown.Options{})
	m.Mark(true, nil)
	m.Write([]byte("\r\n"+strings.ReplaceAll(strings.TrimSuffix(output, "\n"), "\n", "\r\n")+"\r\n"), nil)
	v.answer, v.standing = m.Answer(), m.Standing()
	return v
}

// Noise is a line that the device wrote unasked; After is where it ends in what was fed.
type Noise struct {
	Text  string
	After int
}

// Sense follows one stream. It is used by one goroutine.
type Sense struct {
	config  Config
	prompts shown.Prompts
	view    State
	model   *shown.Model
	fed     Feed

	prompt    string // the last one that was seen
	commanded bool   // a command was sent, and no prompt came since
	pending   []proof
	window    []byte
	request   byte // what asked for a file, alone on its line; 0 when nothing did
	owed      int  // lines whose Enter has gone out and that the device has not ended yet, noise left out
	ends      int  // lines that were ended since it had ended those
	ahead     bool // it has ended a line since the first of those: what it asks now is answered by the next
	settled   bool
	sentAt    time.Time
	ticked    time.Time
	paged     time.Time // when a pager was given its key, zero once something came
	line      []byte    // what was typed on the present line: its echo asks for nothing
}

type proof struct{ mode, text string }

// Feed is what Feed found in a piece of the stream.
type Feed struct {
	Changed bool // something other than the output
	Noise   []Noise
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
	s := &Sense{config: config, view: State{Mode: Unknown, Since: now, LastByte: now, Free: true}, ticked: now}
	for _, mode := range config.Modes {
		s.prompts = append(s.prompts, shown.NewPrompts(mode.Prompt)...)
	}
	s.model = s.newModel(shown.UsualCols, shown.UsualRows)
	return s
}

// Learn has the stream read by another configuration from here on: how the device talks was found out. What stands on
// the present line is looked at by it at once.
func (s *Sense) Learn(config Config, now time.Time) {
	cols, rows := s.model.Size()
	line, _ := s.model.Line()
	fresh := New(config, now)
	fresh.view.Bytes, fresh.view.LastByte, fresh.view.Count, fresh.view.Commands = s.view.Bytes, s.view.LastByte, s.view.Count, s.view.Commands
	heard := s.view.Heard
	*s = *fresh
	s.model.Resize(cols, rows)
	s.Feed(now, []byte(line))
	s.view.Bytes -= int64(len(line))
	s.view.Heard = heard
}

// AddMode has one more mode known, whose prompt was learnt. What stands on the present line is looked at by it at once.
func (s *Sense) AddMode(mode Mode, now time.Time) {
	s.config.Modes = append(slices.Clip(s.config.Modes), mode)
	s.prompts = append(slices.Clip(s.prompts), shown.NewPrompts(mode.Prompt)...)
	s.matchPrompt(now)
}

func (s *Sense) newModel(cols, rows int) *shown.Model {
	m := shown.New(cols, rows, shown.Options{Noise: s.config.Noise, Pager: s.config.Pager, Charset: s.config.Charset})
	m.OnReply(s.config.Reply)
	m.Mark(false, nil)
	return m
}

// SetCharset says how the device encodes what is not ASCII.
func (s *Sense) SetCharset(c screen.Charset) {
	s.config.Charset = c
	s.model.SetCharset(c)
}

// BehindPrompt cuts the prompt off a line; rest is what stands after it, and found is false where none stands there.
func (s *Sense) BehindPrompt(line string) (prompt, rest string, found bool) {
	rest, found = s.prompts.Behind(line, s.prompt)
	return line[:len(line)-len(rest)], rest, found
}

// KnowsPrompts reports whether any prompt is known.
func (s *Sense) KnowsPrompts() bool { return len(s.prompts) > 0 }

// KnowsDialect reports whether the prompts that are known are from a dialect.
func (s *Sense) KnowsDialect() bool {
	return slices.ContainsFunc(s.config.Modes, func(m Mode) bool { return m.Prompt != nil && !m.Learnt })
}

// View is State without what the line shows.
func (s *Sense) View() State { return s.view }

// Model is what the line shows.
func (s *Sense) Model() *shown.Model { return s.model }

// State is what is known now.
func (s *Sense) State() State {
	v := s.view
	v.Partial, v.Free = s.model.Line()
	v.Ended = s.owed == 0
	v.answer, v.standing, v.prompts, v.prompt = s.model.Answer(), s.model.Standing(), s.prompts, s.prompt
	if v.Asked = withoutBurst(v.Partial); v.Partial == "" {
		before, noisy := v.standing.Before()
		if prompt := s.promptInFrontOfNoise(before); prompt != "" {
			v.Asked, v.spoiled = prompt, strings.TrimRight(before, " ")
		} else if noisy {
			v.Asked = before
		}
		v.Secret = v.Secret || s.secretAbove(v.standing)
	}
	v.Secret = v.Secret && (s.owed == 0 || !s.ahead)
	return v
}

// Typed notes keys that went to the device, without an Enter, and what was typed on the present line with them.
func (s *Sense) Typed(now time.Time, keys, line []byte) {
	s.sentAt = now
	if line, _ := s.model.Line(); line == "" {
		s.view.Secret = s.view.Secret || s.secretAbove(s.model.Standing())
	}
	if s.view.Pager && len(keys) > 0 {
		s.paged = now
	}
	s.leavePrompt()
	s.forgetRequests()
	s.line = append(s.line[:0], line...)
	s.settled = true // until something arrives
}

// Enter is what there is to know of a line whose end goes out.
type Enter struct {
	Command bool   // it begins a command; else it answers a question in the middle of one
	Ahead   bool   // the device is not done with the command before, and takes this one later
	Leads   bool   // the command leads to another mode: what the device writes then is its own word at once
	Typed   []byte // what it echoes of the line, nil where that is not known
}

// Entered notes that a line's end went out. The answer to a command is what comes from here on, unless it is typed
// ahead: then what comes from where the device Takes it.
func (s *Sense) Entered(now time.Time, e Enter) {
	s.sentAt, s.paged = now, time.Time{}
	s.leavePrompt()
	s.forgetRequests()
	s.owed, s.ends, s.ahead = s.owed+1, 0, s.ahead && s.owed > 0
	s.line, s.view.Secret, s.view.Answered = s.line[:0], false, false
	if e.Command {
		s.view.Commands++
		if !e.Ahead {
			s.model.Mark(true, e.Typed)
			s.commands(e.Leads)
		}
	}
	s.settled = true
}

// commands begins a command's answer. A State that was given out keeps what it has.
func (s *Sense) commands(leads bool) {
	s.view.Passed, s.pending, s.commanded = nil, nil, !leads
}

// Takes notes that the device takes the line that it ends now, in a function that Config.Ended calls: the answer begins
// behind its echo. Ahead is what Entered said of it.
func (s *Sense) Takes(echo string, ahead, leads bool) {
	s.model.MarkBehind(echo)
	if ahead {
		s.commands(leads)
	}
}

// Skip leaves a time out in which nobody listened: the device may have spoken meanwhile.
func (s *Sense) Skip(gone time.Duration, now time.Time) {
	later := func(at time.Time) time.Time {
		if at.IsZero() {
			return at
		}
		if at = at.Add(gone); at.After(now) {
			return now
		}
		return at
	}
	s.view.LastByte, s.sentAt, s.ticked, s.paged = later(s.view.LastByte), later(s.sentAt), later(s.ticked), later(s.paged)
	s.view.Heard = later(s.view.Heard)
}

// Forget drops what is known of the stream: the line changed its speed or came back.
func (s *Sense) Forget(now time.Time) {
	cols, rows := s.model.Size()
	s.model = s.newModel(cols, rows)
	s.window, s.pending, s.commanded, s.line = s.window[:0], nil, false, s.line[:0]
	s.forgetRequests()
	s.view.Garble, s.view.Clean, s.settled, s.view.Secret, s.owed, s.ends = 0, time.Time{}, true, false, 0, 0
	s.view.LastByte = now
	s.leavePrompt()
	s.become(Unknown, "", now)
}

func (s *Sense) leavePrompt() {
	s.view.AtPrompt, s.view.Pushed, s.view.Prompt, s.view.Dialog, s.view.Asks, s.view.Pager = false, false, "", "", "", false
}

func (s *Sense) forgetRequests() { s.view.Receiver, s.view.Request, s.request = 0, 0, 0 }

func (s *Sense) become(mode, text string, at time.Time) {
	if mode != s.view.Mode {
		s.view.Since = at
	}
	s.view.Mode, s.view.Proof = mode, text
	s.view.Count++
	if !slices.Contains(s.view.Passed, mode) {
		s.view.Passed = append(slices.Clip(s.view.Passed), mode)
	}
}

// Feed takes bytes that arrived.
func (s *Sense) Feed(at time.Time, p []byte) Feed {
	if len(p) == 0 {
		return Feed{}
	}
	before := s.view
	pause := at.Sub(s.view.LastByte)
	s.view.LastByte, s.view.Heard = at, at
	s.view.Bytes += int64(len(p))
	s.view.Answered = true
	s.settled, s.paged = false, time.Time{}
	s.leavePrompt()
	s.watchGarble(p)
	s.fed = Feed{}
	s.model.Write(p, func(line shown.Ended) { s.ended(at, line) })
	text, _ := s.model.Line()
	if text != "" {
		s.matchTexts([]byte(text), at)
		s.askedSecret(text)
	}
	s.watchReceiver(at, p, text, pause)
	s.judgeGarble(at)
	s.fed.Changed = s.differs(before)
	return s.fed
}

func (s *Sense) differs(before State) bool {
	now := s.view
	return now.Count != before.Count || now.AtPrompt != before.AtPrompt || now.Dialog != before.Dialog || now.Receiver != before.Receiver ||
		now.Request != before.Request || now.Pager != before.Pager ||
		now.Pushed != before.Pushed
}

// ended takes a line that a line feed has ended.
func (s *Sense) ended(at time.Time, line shown.Ended) {
	if line.Noise {
		s.fed.Noise = append(s.fed.Noise, Noise{string(line.Text), line.After})
		return
	}
	if s.config.Ended != nil {
		s.config.Ended(line)
	}
	s.matchTexts(line.Text, at)
	if s.owed > 0 {
		s.owed, s.ahead, s.view.Secret = s.owed-1, true, false
		return
	}
	s.ends++
	if line.New && endsAsking(line.Text) {
		s.askedSecret(string(line.Text))
	}
}

// endsAsking leaves out the lines that were ended and do not look like a question, of which a flood has many:
// those that are long, or end like a sentence or a value.
func endsAsking(line []byte) bool {
	const longest = 120
	line = bytes.TrimRight(line, " ")
	if len(line) == 0 || len(line) > longest {
		return false
	}
	last := line[len(line)-1]
	return last != '.' && (last < '0' || last > '9') && (last|0x20 < 'a' || last|0x20 > 'z')
}

func (s *Sense) askedSecret(line string) {
	s.view.Secret = s.view.Secret || s.asksSecret(line)
}

// secretAbove reports whether the line above an empty one asks for a secret: a question that was ended like a
// sentence, and behind which nothing has come.
func (s *Sense) secretAbove(standing shown.Standing) bool {
	before, _ := standing.Before()
	return s.ends > 0 && s.asksSecret(before)
}

func (s *Sense) asksSecret(line string) bool {
	if s.config.AsksSecret == nil || strings.TrimSpace(line) == "" || !s.config.AsksSecret(line) {
		return false
	}
	typed, behindPrompt := s.prompts.Behind(line, s.prompt)
	return !behindPrompt || strings.TrimSpace(typed) == "" // what is typed behind a prompt asks for nothing
}

// matchTexts looks for a text that proves a mode in a line, finished or not. The unfinished line is
// looked at each time it grows, but proves a mode once. In the output of a command it proves nothing
// until the device falls quiet after it: it may be a log that is printed.
func (s *Sense) matchTexts(line []byte, at time.Time) {
	if len(line) == 0 {
		return
	}
	for _, mode := range s.config.Modes {
		if mode.Text == nil || !mode.Text.Match(line) {
			continue
		}
		if s.commanded {
			found := proof{mode.Name, string(line)}
			if last := len(s.pending) - 1; last >= 0 && s.pending[last].mode == found.mode {
				s.pending[last] = found
				return
			}
			s.pending = append(s.pending, found)
			return
		}
		s.proved(mode.Name, string(line), at)
		return
	}
}

func (s *Sense) proved(mode, line string, at time.Time) {
	if s.view.Mode != mode || !strings.HasPrefix(line, s.view.Proof) {
		s.become(mode, line, at)
	}
}

// ownWord takes the texts of a command's output for the device's own: it did not come back to a prompt.
func (s *Sense) ownWord(at time.Time) {
	pending := s.pending
	s.pending, s.commanded = nil, false
	for _, found := range pending {
		s.proved(found.mode, found.text, at)
	}
}

// Next is when Tick is wanted, the zero time when nothing waits for time to pass.
func (s *Sense) Next() time.Time {
	quiet := s.view.LastByte
	switch {
	case !s.settled && s.ticked.Add(reportEvery).Before(quiet.Add(Settle)):
		return s.ticked.Add(reportEvery)
	case !s.settled:
		return quiet.Add(Settle)
	case !s.paged.IsZero():
		return s.paged.Add(pagerAgain)
	case s.request != 0 && s.view.Request == 0:
		return quiet.Add(requestAfter)
	case s.resting():
		return time.Time{}
	case s.pushable() != nobody && !s.view.Pushed:
		return quiet.Add(s.pushable())
	case len(s.pending) > 0:
		return quiet.Add(textAfter)
	}
	return s.quietSince().Add(silentAfter)
}

// resting reports that the device is known to wait for us.
func (s *Sense) resting() bool {
	return s.view.AtPrompt || s.view.Dialog != "" || s.view.Pager || s.view.Receiver != 0 || s.view.Mode == Silent
}

// Tick lets time pass and reports whether something changed.
func (s *Sense) Tick(now time.Time) (changed bool) {
	before := s.view
	s.ticked = now
	quiet := now.Sub(s.view.LastByte)
	if !s.settled && quiet >= Settle {
		s.settled = true
		s.matchPrompt(now)
	}
	if !s.paged.IsZero() && now.Sub(s.paged) >= pagerAgain {
		s.paged = time.Time{}
		s.matchPrompt(now)
	}
	if s.request != 0 && quiet >= requestAfter {
		s.view.Request = s.request
	}
	if after := s.pushable(); after != nobody && !s.resting() && quiet >= after {
		s.view.Pushed = true
		if after == pushedAfter {
			s.promptBehindNoise(now)
		}
	}
	if len(s.pending) > 0 && !s.resting() && quiet >= textAfter {
		s.ownWord(now)
	}
	if !s.resting() && now.Sub(s.quietSince()) >= silentAfter {
		s.become(Silent, "nothing arrived for "+silentAfter.String(), now)
	}
	return s.differs(before)
}

// matchPrompt looks whether the quiet line ends with a prompt, a question, or a pager's.
func (s *Sense) matchPrompt(now time.Time) {
	line, free := s.model.Line()
	if line == "" || !free || !s.model.Below() {
		return
	}
	s.matchLine(line, now)
	if s.view.AtPrompt || s.view.Dialog != "" || s.view.Pager {
		return
	}
	clean := withoutBurst(line)
	if s.model.Hangs() {
		clean = strings.TrimLeft(clean, " ")
	}
	if clean != line {
		s.matchLine(clean, now)
		s.view.Pushed = s.view.AtPrompt
	}
}

// withoutBurst takes away what a burst of noise on the line left before and behind a text. Before it only what holds
// bytes that are no letters: questions may begin with a letter or a sign of any alphabet.
func withoutBurst(line string) string {
	foreign := func(r rune) bool { return r >= utf8.RuneSelf }
	line = strings.TrimRightFunc(line, foreign)
	rest := strings.TrimLeftFunc(line, foreign)
	if strings.ContainsRune(line[:len(line)-len(rest)], utf8.RuneError) {
		return rest
	}
	return line
}

func (s *Sense) matchLine(line string, now time.Time) {
	if s.config.Pager != nil && s.config.Pager.MatchString(line) {
		s.view.Pager = true
		return
	}
	if !s.asksDialog(line) {
		s.atPrompt(line, now)
	}
}

func (s *Sense) asksDialog(line string) bool {
	for _, dialog := range s.config.Dialogs {
		if dialog.Ask.MatchString(line) {
			s.view.Dialog, s.view.Asks = dialog.Name, line
			return true
		}
	}
	return false
}

// ModeOf is the mode that a prompt belongs to.
func (s *Sense) ModeOf(prompt string) (mode string, known bool) {
	for _, mode := range s.config.Modes {
		if mode.Prompt != nil && mode.Prompt.MatchString(prompt) && !(mode.Learnt && s.config.AsksSecret(prompt)) {
			return mode.Name, true
		}
	}
	return "", false
}

func (s *Sense) atPrompt(line string, now time.Time) {
	if mode, ok := s.ModeOf(line); ok {
		s.view.AtPrompt, s.view.Prompt, s.prompt = true, line, line
		s.commanded, s.pending, s.view.Secret, s.owed = false, nil, false, 0
		s.become(mode, line, now)
	}
}

const nobody = time.Duration(-1)

// pushable is after how much quiet lines that stand below a prompt are taken to have pushed it away,
// nobody when there is no such prompt. A prompt from before an Enter that was not answered yet is none.
func (s *Sense) pushable() time.Duration {
	if line, _ := s.model.Line(); line != "" || !s.view.Answered {
		return nobody
	}
	standing := s.model.Standing()
	before, behindNoise := standing.Before()
	if behindNoise && s.waitsWith(before) || s.promptInFrontOfNoise(before) != "" {
		return pushedAfter
	}
	if standing.Above(func(line string) bool { _, ok := s.ModeOf(line); return ok }) {
		return lostAfter
	}
	return nobody
}

// waitsWith reports whether a line is a prompt or a question.
func (s *Sense) waitsWith(line string) bool {
	_, ok := s.ModeOf(line)
	return ok || slices.ContainsFunc(s.config.Dialogs, func(d Dialog) bool { return d.Ask.MatchString(line) })
}

// promptInFrontOfNoise is the prompt, as it was seen last, that a line begins with whose rest is a log line, empty for
// none: the device wrote that one without ending the line before.
func (s *Sense) promptInFrontOfNoise(line string) string {
	rest, found := strings.CutPrefix(line, s.prompt)
	if s.prompt == "" || !found || rest == "" ||
		!slices.ContainsFunc(s.config.Noise, func(p *regexp.Regexp) bool { return p.MatchString(rest) }) {
		return ""
	}
	return strings.TrimSuffix(line, rest)
}

// promptBehindNoise takes a prompt or a question for the device's last word, since only log lines came behind
// it.
func (s *Sense) promptBehindNoise(now time.Time) {
	line, _ := s.model.Standing().Before()
	if prompt := s.promptInFrontOfNoise(line); prompt != "" {
		line = prompt
	}
	if !s.asksDialog(line) {
		s.atPrompt(line, now)
	}
}

// watchReceiver counts requests for a file: the same letter alone on its line, or NAKs, with time between
// them. Letters of a text come without.
func (s *Sense) watchReceiver(at time.Time, p []byte, line string, pause time.Duration) {
	tail := p[bytes.LastIndexByte(p, '\n')+1:]
	if len(tail) == 0 && s.request == 0 {
		return
	}
	var request byte
	switch {
	case len(tail) > 0 && len(bytes.Trim(tail, "\x15")) == 0:
		request = nak
	case line != "" && len(line) <= garbleWindow && (line[0] == 'C' || line[0] == 'G') && strings.Trim(line,
		line[:1]) == "" && bytes.IndexByte(s.line, line[0]) < 0:
		request = line[0]
	}
	switch again := s.request == request; {
	case request == 0:
		s.forgetRequests()
	case again && pause >= requestAfter && s.view.Receiver == 0:
		s.view.Receiver, s.view.Request = request, request
		s.become(Receiving, "a receiver asks for a file", at)
	case !again:
		s.forgetRequests()
		s.request = request
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
	if len(s.window) >= cleanLeast && s.view.Garble == 0 && various(s.window) {
		s.view.Clean = at
	}
	switch {
	case s.request != 0:
	case len(s.window) >= garbleLeast && s.view.Garble >= garbleScore:
		s.view.Clean = time.Time{}
		if s.view.Mode != Garbled {
			s.ownWord(at)
			s.become(Garbled, string(s.window), at)
		}
	case s.view.Mode == Garbled && s.view.Garble < garbleScore/2:
		s.become(Unknown, "", at)
	}
}
