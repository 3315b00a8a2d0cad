package event

import (
	"fmt"
	"strings"
	"time"
)

// The events of the session itself: its begin and end, the helm, what is asked and said.

// Level is how much a Note matters.
type Level string

// The levels.
const (
	Info    Level = "info"
	Warning Level = "warning"
	Error   Level = "error"
)

// States of an Interlock.
const (
	InterlockHeld      = "held"
	InterlockSent      = "sent"
	InterlockForgotten = "forgotten"
	InterlockOff       = "off"
	InterlockOn        = "on"
)

// Form is what an Ask waits for.
type Form string

// The forms.
const (
	FormHold      Form = "hold"     // a step waits for an approval
	FormOperator  Form = "operator" // something is to be done by hand
	FormDialog    Form = "dialog"   // the device asks what only the operator can answer
	FormFailure   Form = "failure"  // a step failed
	FormOverrun   Form = "overrun"  // a step takes longer than it may
	FormNewDevice Form = "newcomer" // whether a device that has come is the one that is meant
	FormIdentity  Form = "identity" // whether it is still the same device cannot be read
	FormRecord    Form = "record"   // a change is not on record
	FormLine      Form = "line"     // the other side of the line asks who we are, or shows who it is
)

// SessionBegin opens every stream.
type SessionBegin struct {
	Target  string  `json:"target"`
	Dialect string  `json:"dialect,omitempty"`
	Device  string  `json:"device,omitempty"`
	Scale   float64 `json:"scale,omitempty"`
	// Exchanges says that the record has what is asked and answered as events, which older ones have not.
	Exchanges bool `json:"exchanges,omitempty"`
}

var sessionBeginKind = declare(Kind[SessionBegin]{
	Name: "session.begin",
	Sample: SessionBegin{
		Target:    "bench:x?speed=9600&framing=8N1",
		Dialect:   "d",
		Device:    "hollow-rtr1",
		Scale:     8,
		Exchanges: true,
	},
	Report: func(b SessionBegin) (string, bool) {
		return b.Target, false
	},
})

func (SessionBegin) kind() *declaration { return sessionBeginKind }

// Learned says that it was found out how the device talks.
type Learned struct {
	Dialect string `json:"dialect"`
}

var learnedKind = declare(Kind[Learned]{
	Name:   "learned",
	Sample: Learned{Dialect: "brindle-r40"},
	Report: func(b Learned) (string, bool) { return "the device talks as " + b.Dialect, true },
})

func (Learned) kind() *declaration { return learnedKind }

// SessionEnd closes every stream that was not cut off.
type SessionEnd struct {
	Why string `json:"why"`
}

var sessionEndKind = declare(Kind[SessionEnd]{
	Name:   "session.end",
	Sample: SessionEnd{Why: "“left”"},
	Report: func(b SessionEnd) (string, bool) {
		return b.Why, false
	},
})

func (SessionEnd) kind() *declaration { return sessionEndKind }

// Helm says who types on the line from now on.
type Helm struct {
	Who string `json:"who"`
	Why string `json:"why,omitempty"`
}

var helmKind = declare(Kind[Helm]{
	Name:   "helm",
	Sample: Helm{Who: Runbook, Why: "given back"},
	Report: func(b Helm) (string, bool) {
		return b.Who + "  " + b.Why, true
	},
})

func (Helm) kind() *declaration { return helmKind }

// Ask waits for the operator: a hold, a question or something to do by hand. Its answers are
// what Answer may hold.
type Ask struct {
	ID           string   `json:"id"`
	Form         Form     `json:"form"`
	Step         string   `json:"step,omitempty"`
	Deed         string   `json:"deed,omitempty"`  // that asks, empty for a run and for the session itself
	Title        string   `json:"title,omitempty"` // the step in words
	Text         string   `json:"text"`
	Types        []string `json:"types,omitempty"`
	Rollback     string   `json:"rollback,omitempty"`
	Irreversible bool     `json:"irreversible,omitempty"`
	Changed      bool     `json:"changed,omitempty"`
	Pending      []string `json:"pending,omitempty"` // what the device loses, or does by itself, unless it is dealt with
	Now          []string `json:"now,omitempty"`     // what is under way meanwhile
	Typed        bool     `json:"typed,omitempty"`   // the answer is typed, and anything may be one
	Secret       bool     `json:"secret,omitempty"`  // what is typed is shown and recorded nowhere
	Answers      []string `json:"answers"`
}

var askKind = declare(Kind[Ask]{
	Name: "ask",
	Sample: Ask{
		ID:           "1",
		Form:         "hold",
		Title:        "Remove it",
		Types:        []string{"store drop x"},
		Irreversible: true,
		Answers:      []string{"approve"},
	},
	Report: func(b Ask) (string, bool) {
		return string(b.Form) + ": " + b.Text, true
	},
})

func (Ask) kind() *declaration { return askKind }

// Answer is what the operator said to an Ask, and who said it.
type Answer struct {
	ID     string `json:"id"`
	Answer string `json:"answer"`
	Who    string `json:"who"`
}

var answerKind = declare(Kind[Answer]{
	Name:   "answer",
	Sample: Answer{ID: "1", Answer: "approve", Who: "operator"},
	Report: func(b Answer) (string, bool) {
		return b.Answer + " (" + b.Who + ")", false
	},
})

func (Answer) kind() *declaration { return answerKind }

// Interlock says what was done about a command that a dialect calls a danger: held at its Enter,
// sent on after all, forgotten; or that interlocks were switched off or on.
type Interlock struct {
	State   string   `json:"state"`
	Command string   `json:"command,omitempty"`
	Says    string   `json:"says,omitempty"`
	Now     []string `json:"now,omitempty"` // what is under way meanwhile
}

var interlockKind = declare(Kind[Interlock]{
	Name: "interlock",
	Sample: Interlock{
		State:   InterlockHeld,
		Command: "recommence",
		Says:    "restarts",
		Now:     []string{"a transfer is under way"},
	},
	Report: func(b Interlock) (string, bool) {
		text := strings.TrimSpace("interlock " + b.State + "  " + b.Command + "  " + b.Says)
		return strings.Join(append([]string{text}, b.Now...), "; "), true
	},
})

func (Interlock) kind() *declaration { return interlockKind }

// States of KeysKept.
const (
	KeysWaiting   = "waiting"
	KeysTyped     = "typed"
	KeysForgotten = "forgotten"
)

// KeysKept reports keys that were pressed while a transfer has the line: it is not ended by one that was pressed for
// something else. Count is how many wait.
type KeysKept struct {
	State string `json:"state"`
	Count int    `json:"count,omitempty"`
}

var keysKeptKind = declare(Kind[KeysKept]{
	Name:   "keys.kept",
	Sample: KeysKept{State: KeysWaiting, Count: 2},
	Report: func(b KeysKept) (string, bool) {
		switch b.State {
		case KeysWaiting:
			return fmt.Sprintf("%d keys wait: a transfer has the line", b.Count), false
		case KeysTyped:
			return "the transfer is cancelled for what was typed", true
		}
		return "what was typed during the transfer is forgotten", true
	},
})

func (KeysKept) kind() *declaration { return keysKeptKind }

// Secret is one that was made in this session. Whoever keeps events learns it here before it is typed,
// so that a Redactor takes it out of what the device prints back; its value is never written itself.
type Secret struct {
	What  string `json:"what"`
	Value string `json:"-"`
}

var secretKind = declare(Kind[Secret]{
	Name:   "secret",
	Sample: Secret{What: "password of the FTP server"},
	Report: func(b Secret) (string, bool) {
		return b.What + " made; it is never written", false
	},
})

func (Secret) kind() *declaration { return secretKind }

// Mark is laid into the console where something happened to the line.
type Mark struct {
	Text string `json:"text"`
}

var markKind = declare(Kind[Mark]{
	Name:   "mark",
	Sample: Mark{Text: "speed"},
	Report: func(b Mark) (string, bool) {
		return b.Text, false
	},
})

func (Mark) kind() *declaration { return markKind }

// Note is a remark for the operator. Level is one of those below.
type Note struct {
	Level Level  `json:"level"`
	Text  string `json:"text"`
}

var noteKind = declare(Kind[Note]{
	Name:   "note",
	Sample: Note{Level: Warning, Text: "!"},
	Report: func(b Note) (string, bool) {
		return b.Text, b.Level != Info
	},
})

func (Note) kind() *declaration { return noteKind }

// Pending says that the device will lose something, or do something by itself, unless it is dealt with; or that
// this is over. Until is when it acts by itself, zero where only a restart brings the loss.
type Pending struct {
	Name  string    `json:"name"`
	State string    `json:"state"`
	Says  string    `json:"says"`
	Until time.Time `json:"until,omitzero"`
}

// States of a Pending.
const (
	PendingOpen  = "pending"
	PendingDealt = "dealt with"
	PendingRan   = "ran out"
	PendingLost  = "lost by a restart"
	PendingNever = "refused, so that it did not begin"
)

var pendingKind = declare(Kind[Pending]{
	Name: "pending",
	Sample: Pending{
		Name:  "trial",
		State: PendingOpen,
		Says:  "the old release comes back",
		Until: time.Date(2026, 3, 2, 14, 0, 0, 0, time.UTC),
	},
	Report: func(b Pending) (string, bool) {
		return b.State + ": " + b.Says, b.State != PendingDealt && b.State != PendingNever
	},
})

func (Pending) kind() *declaration { return pendingKind }

// Unread stands for an event of the logbook that cannot be read: a later release wrote it, or it is damaged.
type Unread struct {
	Kind string `json:"kind_of"`
	Why  string `json:"why"`
}

var unreadKind = declare(Kind[Unread]{
	Name:   "unread",
	Sample: Unread{Kind: "x", Why: "not known"},
	Report: func(b Unread) (string, bool) { return "an event that cannot be read: " + b.Why, true },
})

func (Unread) kind() *declaration { return unreadKind }

// Recording says whether what happens is kept in the logbook.
type Recording struct {
	Problem string `json:"problem,omitempty"` // empty while all is kept
	Lost    int    `json:"lost,omitempty"`    // events that are missing in it
}

var recordingKind = declare(Kind[Recording]{
	Name:   "recording",
	Sample: Recording{Problem: "the disk is full", Lost: 3},
	Report: func(b Recording) (string, bool) {
		if b.Problem == "" {
			return "everything is recorded again", true
		}
		return "not recorded for now, kept in memory: " + b.Problem, true
	},
})

func (Recording) kind() *declaration { return recordingKind }
