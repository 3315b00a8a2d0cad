// Package exchange makes what was asked of a device, and what it answered, out of what is typed and what the device
// draws: whoever typed it, and however it came to the line. One Maker follows one line, between the sensing and the
// events; everybody else gets copies.
//
// An exchange begins where the device ends a line that shows a prompt and the text of a command whose Enter has gone
// out, and it ends at the prompt behind its answer, or at the next such line. What is typed ahead waits in a queue
// until then. Only where a device does not echo does the Enter itself begin it.
package exchange

import (
	"strings"
	"time"

	"pilotrix/core/event"
	"pilotrix/core/shown"
)

// State is how far an exchange has come.
type State string

// The states.
const (
	Answering State = "answering"
	Paged     State = "paged"
	Asking    State = "asking"
	Moving    State = "moving" // a file has the line
	Ended     State = "ended"
)

// Exchange is a command and its answer.
type Exchange struct {
	event.Asked
	Ref       int // of the line that was sent
	State     State
	Begun     time.Time // when the device took it, or its Enter where the device does not show that
	Questions []event.Question
	Pages     int
	Over      event.Answered // once it has ended

	paging bool
	broken bool
	doubt  bool
	unseen string // the answer to its last question, while the device has not shown it
	bytes  int64  // that had come when it began at a prompt: that one is none of its end
	proofs int    // the device's mode proofs by then
	before string
	like   shown.Prompts // prompts like its own, where no dialect knows any
	answer string
}

// Answer is what the device drew, as it stood in the end, without pages and noise. It is empty while the exchange goes
// on, and for a full-screen program.
func (x Exchange) Answer() string { return x.answer }

// Whole reports whether the answer is all of what the device had to say, so that it can be read for facts.
func (x Exchange) Whole() bool {
	return x.State == Ended && !x.Over.Doubt && x.Over.Lost == 0 && x.Over.End == event.EndPrompt &&
		x.Over.Refused == ""
}

// CameBack reports whether the device has said all of its answer: it has come to a prompt.
func (x Exchange) CameBack() bool {
	return x.State == Ended &&
		(x.Over.End == event.EndPrompt || x.Over.End == event.EndLed || x.Over.End == event.EndBroken)
}

// Sent is a line whose Enter goes out.
type Sent struct {
	Ref     int // whoever sends it knows its exchange again by that
	Who     string
	Text    string // what it is meant to be, by its keys
	Certain bool   // the keys alone say that
	Secret  bool   // it was asked for as one
	Mode    string
	Base    string // what stood on the device's line before it
	Step    string
	Means   func(command, mode string) string // what the command is, in words; may be nil
	Leads   func(command string) bool         // whether it leads to another mode; may be nil

	at        time.Time
	ahead     bool
	tentative bool   // whether it is a command, or a secret that answers a question, is seen once the device ends it
	shown     string // the line that showed its text with no prompt in front, empty for none
	joined    string // what its line has shown so far, where the device breaks it into several
}

// verdict is what a drawn line says of a line that was sent.
type verdict int

const (
	other  verdict = iota // nothing
	part                  // it shows the beginning, and breaks it
	whole                 // it shows it
	unlike                // it shows something else, where that one was sent
)

// drawn is a line that the device has ended.
type drawn struct {
	text         string
	prompt, rest string
	behind       bool // rest stands behind prompt
	present      bool // it is the line that the Enter was sent on
}

// of says what a drawn line says of a line that was sent, and what the device takes it for.
func (d drawn) of(one *Sent) (v verdict, prompt, text string) {
	want, rest := shown.Squeeze(one.Text), shown.Squeeze(d.rest)
	switch {
	case one.joined != "":
		joined := shown.Squeeze(one.joined + d.text)
		if joined == want || strings.HasPrefix(want, joined) && len(d.text) < shown.MinWidth {
			return whole, "", one.Text
		}
		if strings.HasPrefix(want, joined) {
			return part, "", one.joined + d.text
		}
		return whole, "", one.Text // it cannot become what was typed any more: the rest of it is not shown
	case d.behind && rest == "":
		return other, "", ""
	case d.behind && !one.Certain:
		return whole, d.prompt, strings.TrimSpace(d.rest)
	case d.behind && rest == want:
		return whole, d.prompt, strings.TrimSpace(d.rest)
	case d.behind && len(d.text) >= shown.MinWidth && rest != want && strings.HasPrefix(want, rest):
		return part, d.prompt, d.rest
	case d.behind && alike(rest, want):
		return whole, d.prompt, strings.TrimSpace(d.rest)
	case d.behind && d.present:
		return unlike, d.prompt, strings.TrimSpace(d.rest)
	case d.behind || !d.present:
		return other, "", ""
	}
	return d.withoutPrompt(one, want)
}

// alike reports whether a line is another one with a letter or two of its echo spoilt.
func alike(line, text string) bool {
	const spoilt = 2
	return len(line) <= len(text)+spoilt && shown.Resembles(line, text)
}

// withoutPrompt is the same of the line that the Enter was sent on, where no prompt is known on it.
func (d drawn) withoutPrompt(one *Sent, want string) (v verdict, prompt, text string) {
	base := strings.TrimRight(one.Base, " ")
	rest, behindBase := strings.CutPrefix(d.text, base)
	shows := alike(shown.Squeeze(rest), want)
	if !one.Certain {
		shows = strings.TrimSpace(rest) != "" && likePrompt(one.Base) != nil
	}
	switch {
	case base != "" && behindBase && shows:
		return whole, one.Base, strings.TrimSpace(rest)
	case want != "" && strings.HasSuffix(shown.Squeeze(d.text), want):
		at := strings.LastIndex(d.text, one.Text)
		return whole, d.text[:max(0, at)], one.Text
	}
	return other, "", ""
}
