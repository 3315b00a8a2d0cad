// Package event holds everything that can happen in a session, as one ordered stream.
//
// The screen, the logbook, the replay and the JSON output are views of these events and of nothing
// else; what is not an event did not happen.
package event

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"slices"
	"time"
	"unicode/utf8"
)

// Event is one thing that happened, numbered in the order of the session.
type Event struct {
	Seq  int64
	At   time.Time
	Body Body
}

// Body is what happened; each kind of event has its own struct. Only a kind that is declared can be one, and
// whatever is declared can be read back.
type Body interface{ kind() *declaration }

// Kind is the declaration of one kind of event: all that is to be said of it, in one place.
type Kind[T Body] struct {
	Name   string // in the logbook and in JSON
	Sample T      // with values that are easy to lose, for tests
	// Report puts it into a line; loud ones stand out. A kind without is reported by something else.
	Report func(T) (text string, loud bool)
}

// declaration is a Kind without its type.
type declaration struct {
	name   string
	sample Body
	read   func([]byte) (Body, error)
	report func(Body) (string, bool)
}

var declared = map[string]*declaration{}

// declare makes a kind known. It is called while the program starts, once by each kind.
func declare[T Body](k Kind[T]) *declaration {
	if declared[k.Name] != nil {
		panic("event: the kind " + k.Name + " is declared twice")
	}
	d := &declaration{
		name: k.Name, sample: k.Sample,
		read: func(data []byte) (Body, error) {
			var body T
			err := json.Unmarshal(data, &body)
			return body, err
		},
		report: func(b Body) (string, bool) {
			if body, ok := b.(T); ok && k.Report != nil {
				return k.Report(body)
			}
			return "", false
		},
	}
	declared[k.Name] = d
	return d
}

// KindOf is the name of a body's kind.
func KindOf(b Body) string { return b.kind().name }

// Report puts an event into a line, empty for one that is reported by something else; loud ones stand out.
func Report(b Body) (text string, loud bool) { return b.kind().report(b) }

// DecodeBody reads the JSON of one body of the given kind.
func DecodeBody(kind string, data []byte) (Body, error) {
	d, known := declared[kind]
	if !known {
		return nil, fmt.Errorf("event kind %q is not known to this version", kind)
	}
	return d.read(data)
}

// Kinds lists every kind of event.
func Kinds() []string { return slices.Sorted(maps.Keys(declared)) }

// Who had, took or was given something.
const (
	Hand     = "hand"
	Runbook  = "runbook"
	ByDeed   = "deed"     // something that the operator has done by itself; see Deed
	Answerer = "terminal" // the answer of the terminal itself to a question of the device
)

// Outcome is how a step, a transfer or a run ended.
type Outcome string

// The outcomes.
const (
	Done       Outcome = "done"
	Failed     Outcome = "failed"
	Stopped    Outcome = "stopped"
	Skipped    Outcome = "skipped"
	ByHand     Outcome = "by hand"
	RolledBack Outcome = "rolled back"
	// RolledBackBut runs again what ran before, and something that was changed was not put back.
	RolledBackBut Outcome = "rolled back, but not all"
	DoneBut       Outcome = "done, but" // to the end, over steps that failed
	Already       Outcome = "so already"
)

// Taking is how an end is to be taken.
type Taking int

// The takings. What nobody knows, such as the word of a later version, is bad.
const (
	Bad     Taking = iota
	InPart         // it came to its end, and not all of it was well
	Good           // it is what was wanted
	Nothing        // nothing was done
)

// outcomes has a row an end: how it is to be taken, and its mark in a printed course.
var outcomes = map[Outcome]struct {
	taking Taking
	mark   string
}{
	Done:          {Good, "●"},
	Already:       {Good, "●"},
	ByHand:        {Good, "○"},
	DoneBut:       {InPart, "●"},
	Skipped:       {Nothing, "·"},
	Failed:        {Bad, "✗"},
	Stopped:       {Bad, "◇"},
	RolledBack:    {Bad, "✗"},
	RolledBackBut: {Bad, "✗"},
}

// Taking is how the end is to be taken.
func (o Outcome) Taking() Taking { return outcomes[o].taking }

// Mark is the end's mark in a printed course, empty for an end that is not known.
func (o Outcome) Mark() string { return outcomes[o].mark }

// Good reports whether an end of a run is what was wanted.
func (o Outcome) Good() bool { return o == Done || o == Already }

// OutcomeOf is what an error makes of a step or a transfer, and the words for it.
func OutcomeOf(err error) (Outcome, string) {
	switch {
	case err == nil:
		return Done, ""
	case errors.Is(err, context.Canceled):
		return Stopped, "ended from here before it was done"
	}
	return Failed, err.Error()
}

// Text is a piece of the byte stream. It encodes as JSON text when it is valid UTF-8 and as
// {"base64": …} when it is not.
type Text []byte

// MarshalJSON writes the event as one flat object: seq, at, kind, then the body's own fields.
// Durations are nanoseconds.
func (e Event) MarshalJSON() ([]byte, error) {
	body, err := json.Marshal(e.Body)
	if err != nil {
		return nil, err
	}
	var out bytes.Buffer
	fmt.Fprintf(&out, `{"seq":%d,"at":%q,"kind":%q`, e.Seq, e.At.UTC().Format(time.RFC3339Nano), KindOf(e.Body))
	if inner := bytes.TrimSuffix(bytes.TrimPrefix(body, []byte("{")), []byte("}")); len(inner) > 0 {
		out.WriteByte(',')
		out.Write(inner)
	}
	out.WriteByte('}')
	return escapeC1(out.Bytes()), nil
}

// escapeC1 writes the control characters that JSON lets stand, DEL and C1, as escapes: some terminals
// obey them. In JSON they can stand in strings only.
func escapeC1(text []byte) []byte {
	if !bytes.ContainsFunc(text, isC1) {
		return text
	}
	var out bytes.Buffer
	for _, r := range string(text) {
		if isC1(r) {
			fmt.Fprintf(&out, "\\u%04x", r)
			continue
		}
		out.WriteRune(r)
	}
	return out.Bytes()
}

func isC1(r rune) bool { return r >= 0x7f && r < 0xa0 }

// UnmarshalJSON reads what MarshalJSON wrote.
func (e *Event) UnmarshalJSON(data []byte) error {
	var head struct {
		Seq  int64     `json:"seq"`
		At   time.Time `json:"at"`
		Kind string    `json:"kind"`
	}
	if err := json.Unmarshal(data, &head); err != nil {
		return err
	}
	body, err := DecodeBody(head.Kind, data)
	if err != nil {
		return err
	}
	*e = Event{Seq: head.Seq, At: head.At, Body: body}
	return nil
}

// MarshalJSON writes text as text and anything else as base64.
func (t Text) MarshalJSON() ([]byte, error) {
	if utf8.Valid(t) {
		return json.Marshal(string(t))
	}
	return json.Marshal(map[string][]byte{"base64": t})
}

// UnmarshalJSON reads either form.
func (t *Text) UnmarshalJSON(data []byte) error {
	var text string
	if json.Unmarshal(data, &text) == nil {
		*t = Text(text)
		return nil
	}
	var raw struct {
		Base64 []byte `json:"base64"`
	}
	if err := json.Unmarshal(data, &raw); err != nil {
		return err
	}
	*t = raw.Base64
	return nil
}
