// Package event holds everything that can happen in a session, as one ordered stream.
//
// The screen, the logbook, the replay and the JSON output are views of these events and of nothing
// else; what is not an event did not happen.
package event

import (
	"bytes"
	"encoding/json"
	"fmt"
	"time"
	"unicode/utf8"
)

// Event is one thing that happened, numbered in the order of the session.
type Event struct {
	Seq  int64
	At   time.Time
	Body Body
}

// Body is what happened; each kind of event has its own struct.
type Body interface{ Kind() string }

// Who had, took or was given something.
const (
	Hand     = "hand"
	Runbook  = "runbook"
	Answerer = "terminal" // the answer of the terminal itself to a question of the device
)

// Outcomes of steps, transfers and runs.
const (
	Done     = "done"
	Failed   = "failed"
	Stopped  = "stopped"
	Skipped  = "skipped"
	ByHand   = "by hand"
	WentBack = "went back"
)

// Text is a piece of the byte stream. It encodes as JSON text when it is valid UTF-8 and as
// {"base64": …} when it is not.
type Text []byte

type (
	// SessionBegin opens every stream.
	SessionBegin struct {
		Target  string  `json:"target"`
		Dialect string  `json:"dialect,omitempty"`
		Device  string  `json:"device,omitempty"`
		Scale   float64 `json:"scale,omitempty"`
	}
	// SessionEnd closes every stream that was not cut off.
	SessionEnd struct {
		Why string `json:"why"`
	}
	// In is what the device sent, as it arrived.
	In struct {
		Bytes Text `json:"bytes"`
	}
	// Out is what was typed to the device. A secret is told by its length alone.
	Out struct {
		By     string `json:"by"`
		Bytes  Text   `json:"bytes,omitempty"`
		Secret int    `json:"secret,omitempty"`
	}
	// Line tells that the line opened, was lost, came back or was closed.
	Line struct {
		State string `json:"state"`
		Note  string `json:"note,omitempty"`
		Speed int    `json:"speed,omitempty"`
	}
	// Speed tells that our end of the line changed its speed, in baud.
	Speed struct {
		From int    `json:"from"`
		To   int    `json:"to"`
		Why  string `json:"why"`
	}
	// Mode tells what the device is in now, and the text that proves it.
	Mode struct {
		Name  string  `json:"name"`
		Proof string  `json:"proof,omitempty"`
		Score float64 `json:"score,omitempty"`
	}
	// Prompt is a prompt the device waits at.
	Prompt struct {
		Mode string `json:"mode"`
		Text string `json:"text"`
	}
	// Noise is a line that the device wrote unasked; it ended with the bytes that came last.
	Noise struct {
		Text string `json:"text"`
	}
	// Terminal tells how what the device draws is to be taken from now on: its character set, a size of
	// its own (0 for the window's), and whether it is back to a plain screen.
	Terminal struct {
		Charset string `json:"charset,omitempty"`
		Cols    int    `json:"cols,omitempty"`
		Rows    int    `json:"rows,omitempty"`
		Plain   bool   `json:"plain,omitempty"`
	}
	// Helm tells who types on the line from now on.
	Helm struct {
		Who string `json:"who"`
		Why string `json:"why,omitempty"`
	}
	// StepPlan is a step as the course draws it.
	StepPlan struct {
		ID       string        `json:"id"`
		Leg      string        `json:"leg"`
		Title    string        `json:"title"`
		Verb     string        `json:"verb"`
		Expected time.Duration `json:"expected"`
		Limit    time.Duration `json:"limit"`
		Hold     bool          `json:"hold,omitempty"`
		NoReturn bool          `json:"no_return,omitempty"`
	}
	// RunBegin starts a runbook.
	RunBegin struct {
		Runbook string            `json:"runbook"`
		Title   string            `json:"title"`
		Dialect string            `json:"dialect"`
		Inputs  map[string]string `json:"inputs,omitempty"`
		Steps   []StepPlan        `json:"steps"`
		WayBack string            `json:"way_back,omitempty"`
	}
	// RunEnd ends a runbook, with what was proved.
	RunEnd struct {
		Outcome string   `json:"outcome"`
		Exit    int      `json:"exit"`
		Message string   `json:"message"`
		Proved  []string `json:"proved,omitempty"`
	}
	// StepBegin enters a step; Try counts from 1.
	StepBegin struct {
		ID  string `json:"id"`
		Try int    `json:"try"`
	}
	// StepNow says what the step is doing or awaiting at this moment.
	StepNow struct {
		ID       string        `json:"id"`
		Doing    string        `json:"doing"`
		Awaiting string        `json:"awaiting,omitempty"`
		Limit    time.Duration `json:"limit,omitempty"`
	}
	// StepEnd leaves a step.
	StepEnd struct {
		ID      string        `json:"id"`
		Outcome string        `json:"outcome"`
		Message string        `json:"message,omitempty"`
		Took    time.Duration `json:"took"`
	}
	// Ask waits for the operator: a hold, a question or something to do by hand. Its answers are
	// what Answer may hold.
	Ask struct {
		ID       string   `json:"id"`
		Form     string   `json:"form"`
		Step     string   `json:"step,omitempty"`
		Text     string   `json:"text"`
		Types    []string `json:"types,omitempty"`
		WayBack  string   `json:"way_back,omitempty"`
		NoReturn bool     `json:"no_return,omitempty"`
		Changed  bool     `json:"changed,omitempty"`
		Answers  []string `json:"answers"`
	}
	// Answer is what the operator said to an Ask, and who said it.
	Answer struct {
		ID     string `json:"id"`
		Answer string `json:"answer"`
		By     string `json:"by"`
	}
	// Fact is one value learnt from the device, with the command it came from. A list has its rows.
	Fact struct {
		Name   string              `json:"name"`
		Value  string              `json:"value"`
		Unit   string              `json:"unit,omitempty"`
		Source string              `json:"source"`
		Was    string              `json:"was,omitempty"`
		Rows   []map[string]string `json:"rows,omitempty"`
	}
	// Check is one comparison made, kept or not. Before is what it was before the change, where the
	// comparison is with that.
	Check struct {
		Step   string `json:"step"`
		Text   string `json:"text"`
		Held   bool   `json:"held"`
		Got    string `json:"got,omitempty"`
		Before string `json:"before,omitempty"`
	}
	// Course replaces the steps that are ahead: a loop knows its rounds now.
	Course struct {
		Steps []StepPlan `json:"steps"`
	}
	// Carrier tells that a carrier listens for the device, or does not any more.
	Carrier struct {
		Name    string `json:"name"`
		State   string `json:"state"`
		Address string `json:"address"`
		Note    string `json:"note,omitempty"`
	}
	// Staged tells what a device may fetch (or leave, for a slot), under exactly that name.
	Staged struct {
		Name   string `json:"name"`
		State  string `json:"state"`
		By     string `json:"by,omitempty"`
		Size   int64  `json:"size,omitempty"`
		SHA256 string `json:"sha256,omitempty"`
		Slot   bool   `json:"slot,omitempty"`
	}
	// Message is one rung of the ladder between a device and a carrier: a packet, or a run of packets
	// of a kind that counts. A later Message with the same Transfer and Row replaces it.
	Message struct {
		Transfer   string `json:"transfer,omitempty"`
		Row        int    `json:"row"`
		By         string `json:"by"`
		Peer       string `json:"peer,omitempty"`
		FromDevice bool   `json:"from_device,omitempty"`
		What       string `json:"what"`
		First      int64  `json:"first,omitempty"`
		Last       int64  `json:"last,omitempty"`
		Count      int    `json:"count,omitempty"`
		Again      int    `json:"again,omitempty"`
		Text       string `json:"text,omitempty"`
	}
	// Estimate is what one carrier would take.
	Estimate struct {
		Carrier string        `json:"carrier"`
		Terms   string        `json:"terms"`
		Time    time.Duration `json:"time"`
		Why     string        `json:"why"`
		Warn    string        `json:"warn,omitempty"`
		Chosen  bool          `json:"chosen,omitempty"`
	}
	// Estimates tells what each carrier would take for a file, and which one was chosen.
	Estimates struct {
		File string     `json:"file"`
		Size int64      `json:"size"`
		All  []Estimate `json:"all"`
	}
	// Preflight is one thing looked at before the device is asked to fetch.
	Preflight struct {
		What   string `json:"what"`
		Held   bool   `json:"held"`
		Text   string `json:"text"`
		Remedy string `json:"remedy,omitempty"`
	}
	// Probe is one try whether a target answers.
	Probe struct {
		Target string        `json:"target"`
		Held   bool          `json:"held"`
		Trip   time.Duration `json:"trip,omitempty"`
		Text   string        `json:"text,omitempty"`
	}
	// Reach tells that a target stopped answering, or answers again after that long.
	Reach struct {
		Target string        `json:"target"`
		State  string        `json:"state"`
		Begin  time.Time     `json:"begin"`
		Length time.Duration `json:"length,omitempty"`
		Step   string        `json:"step,omitempty"`
	}
	// Restart tells how far a restart has come: what agrees that the device is back, and what does not.
	Restart struct {
		Step     string        `json:"step"`
		Begun    time.Time     `json:"begun"`
		Expected time.Duration `json:"expected"`
		Longest  time.Duration `json:"longest"`
		Console  string        `json:"console"`
		Reach    string        `json:"reach,omitempty"`
		Prompt   string        `json:"prompt,omitempty"`
		Over     bool          `json:"over,omitempty"`
	}
	// ShelfImage is an image as the shelf shows it, held against the device.
	ShelfImage struct {
		Name      string            `json:"name"`
		Path      string            `json:"path,omitempty"`
		Inside    string            `json:"inside,omitempty"`
		Says      map[string]string `json:"says,omitempty"` // by the image itself, or by its name
		Problem   string            `json:"problem,omitempty"`
		Release   string            `json:"release,omitempty"`
		Companion string            `json:"companion,omitempty"`
		Models    string            `json:"models,omitempty"`
		Size      int64             `json:"size"`
		Digests   map[string]string `json:"digests,omitempty"` // the others, by algorithm
		SHA256    string            `json:"sha256,omitempty"`
		Published string            `json:"published,omitempty"`
		Broken    bool              `json:"broken,omitempty"`
		Fit       string            `json:"fit"`
		Against   []string          `json:"against,omitempty"`
	}
	// Shelf is what the laptop has, held against what was read.
	Shelf struct {
		Folders []string     `json:"folders"`
		Images  []ShelfImage `json:"images"`
	}
	// HopPlan is one step of a chain of releases.
	HopPlan struct {
		From      string   `json:"from"`
		Release   string   `json:"release"`
		Image     string   `json:"image"`
		Size      int64    `json:"size"`
		Before    []string `json:"before,omitempty"`
		After     []string `json:"after,omitempty"`
		Companion string   `json:"companion,omitempty"`
	}
	// Hops is the chain of releases from the running to the wanted one.
	Hops struct {
		From string    `json:"from"`
		To   string    `json:"to"`
		Hops []HopPlan `json:"hops"`
	}
	// Interlock tells what was done about a command that a dialect calls a danger: held at its Enter,
	// sent on after all, forgotten; or that interlocks were switched off or on.
	Interlock struct {
		State   string `json:"state"`
		Command string `json:"command,omitempty"`
		Says    string `json:"says,omitempty"`
	}
	// TransferBegin starts moving a file. Allowed is the most the line and the protocol together
	// can carry, in bytes a second, 0 where nothing limits it. Several may be under way at once; ID
	// tells them apart and is empty for one that owns the line.
	TransferBegin struct {
		ID      string  `json:"id,omitempty"`
		Peer    string  `json:"peer,omitempty"`
		Terms   string  `json:"terms,omitempty"`
		File    string  `json:"file"`
		Size    int64   `json:"size"`
		By      string  `json:"by"`
		SHA256  string  `json:"sha256,omitempty"`
		Allowed float64 `json:"allowed,omitempty"`
		Receive bool    `json:"receive,omitempty"`
	}
	// Transfer is how far it has come. Rate is in bytes a second, Left the time to go at that rate.
	Transfer struct {
		ID      string        `json:"id,omitempty"`
		Bytes   int64         `json:"bytes"`
		Size    int64         `json:"size"`
		Blocks  int           `json:"blocks"`
		Again   int           `json:"again"`
		Rate    float64       `json:"rate"`
		Left    time.Duration `json:"left"`
		Allowed float64       `json:"allowed,omitempty"`
		State   string        `json:"state,omitempty"`
	}
	// TransferEnd tells how it went.
	TransferEnd struct {
		ID      string        `json:"id,omitempty"`
		Outcome string        `json:"outcome"`
		Message string        `json:"message,omitempty"`
		Bytes   int64         `json:"bytes"`
		Padding int           `json:"padding"`
		Blocks  int           `json:"blocks"`
		Again   int           `json:"again"`
		Took    time.Duration `json:"took"`
	}
	// Mark is laid into the console where something happened to the line.
	Mark struct {
		Text string `json:"text"`
	}
	// Secret is one that was made in this session. Whoever keeps events learns it here before it is typed,
	// so that a Redactor takes it out of what the device prints back; its value is never written itself.
	Secret struct {
		What  string `json:"what"`
		Value string `json:"-"`
	}
	// Note is a remark for the operator. Level is "say", "warn" or "bad".
	Note struct {
		Level string `json:"level"`
		Text  string `json:"text"`
	}
)

// Levels of a Note.
const (
	Say  = "say"
	Warn = "warn"
	Bad  = "bad"
)

// States of a Carrier and of what is Staged.
const (
	Listening = "listening"
	Ended     = "ended"
	Offered   = "staged"
	Withdrawn = "withdrawn"
)

// States of a Reach.
const (
	Gone = "gone"
	Back = "back"
)

// States of an Interlock.
const (
	InterlockHeld      = "held"
	InterlockSent      = "sent"
	InterlockForgotten = "forgotten"
	InterlockOff       = "off"
	InterlockOn        = "on"
)

// States of a Line.
const (
	LineOpen   = "open"
	LineLost   = "lost"
	LineBack   = "back"
	LineClosed = "closed"
)

func (SessionBegin) Kind() string  { return "session.begin" }
func (SessionEnd) Kind() string    { return "session.end" }
func (In) Kind() string            { return "line.in" }
func (Out) Kind() string           { return "line.out" }
func (Line) Kind() string          { return "line.state" }
func (Speed) Kind() string         { return "line.speed" }
func (Mode) Kind() string          { return "mode" }
func (Prompt) Kind() string        { return "prompt" }
func (Noise) Kind() string         { return "noise" }
func (Terminal) Kind() string      { return "terminal" }
func (Helm) Kind() string          { return "helm" }
func (RunBegin) Kind() string      { return "run.begin" }
func (RunEnd) Kind() string        { return "run.end" }
func (StepBegin) Kind() string     { return "step.begin" }
func (StepNow) Kind() string       { return "step.now" }
func (StepEnd) Kind() string       { return "step.end" }
func (Ask) Kind() string           { return "ask" }
func (Answer) Kind() string        { return "answer" }
func (Fact) Kind() string          { return "fact" }
func (Check) Kind() string         { return "check" }
func (TransferBegin) Kind() string { return "transfer.begin" }
func (Transfer) Kind() string      { return "transfer" }
func (TransferEnd) Kind() string   { return "transfer.end" }
func (Mark) Kind() string          { return "mark" }
func (Secret) Kind() string        { return "secret" }
func (Note) Kind() string          { return "note" }
func (Course) Kind() string        { return "run.course" }
func (Carrier) Kind() string       { return "carrier" }
func (Staged) Kind() string        { return "staged" }
func (Message) Kind() string       { return "carrier.message" }
func (Estimates) Kind() string     { return "estimates" }
func (Preflight) Kind() string     { return "preflight" }
func (Probe) Kind() string         { return "reach.probe" }
func (Reach) Kind() string         { return "reach" }
func (Restart) Kind() string       { return "restart" }
func (Shelf) Kind() string         { return "shelf" }
func (Hops) Kind() string          { return "hops" }
func (Interlock) Kind() string     { return "interlock" }

// decoders has one reader for each kind, so that a stored stream comes back as the same structs.
var decoders = map[string]func([]byte) (Body, error){
	"session.begin":   decode[SessionBegin],
	"session.end":     decode[SessionEnd],
	"line.in":         decode[In],
	"line.out":        decode[Out],
	"line.state":      decode[Line],
	"line.speed":      decode[Speed],
	"mode":            decode[Mode],
	"prompt":          decode[Prompt],
	"noise":           decode[Noise],
	"terminal":        decode[Terminal],
	"helm":            decode[Helm],
	"run.begin":       decode[RunBegin],
	"run.end":         decode[RunEnd],
	"step.begin":      decode[StepBegin],
	"step.now":        decode[StepNow],
	"step.end":        decode[StepEnd],
	"ask":             decode[Ask],
	"answer":          decode[Answer],
	"fact":            decode[Fact],
	"check":           decode[Check],
	"transfer.begin":  decode[TransferBegin],
	"transfer":        decode[Transfer],
	"transfer.end":    decode[TransferEnd],
	"mark":            decode[Mark],
	"secret":          decode[Secret],
	"note":            decode[Note],
	"run.course":      decode[Course],
	"carrier":         decode[Carrier],
	"staged":          decode[Staged],
	"carrier.message": decode[Message],
	"estimates":       decode[Estimates],
	"preflight":       decode[Preflight],
	"reach.probe":     decode[Probe],
	"reach":           decode[Reach],
	"restart":         decode[Restart],
	"shelf":           decode[Shelf],
	"hops":            decode[Hops],
	"interlock":       decode[Interlock],
}

func decode[T Body](data []byte) (Body, error) {
	var body T
	err := json.Unmarshal(data, &body)
	return body, err
}

// DecodeBody reads the JSON of one body of the given kind.
func DecodeBody(kind string, data []byte) (Body, error) {
	read, known := decoders[kind]
	if !known {
		return nil, fmt.Errorf("event kind %q is not known to this version", kind)
	}
	return read(data)
}

// Kinds lists every kind of event.
func Kinds() []string {
	kinds := make([]string, 0, len(decoders))
	for kind := range decoders {
		kinds = append(kinds, kind)
	}
	return kinds
}

// MarshalJSON writes the event as one flat object: seq, at, kind, then the body's own fields.
// Durations are nanoseconds.
func (e Event) MarshalJSON() ([]byte, error) {
	body, err := json.Marshal(e.Body)
	if err != nil {
		return nil, err
	}
	var out bytes.Buffer
	fmt.Fprintf(&out, `{"seq":%d,"at":%q,"kind":%q`, e.Seq, e.At.UTC().Format(time.RFC3339Nano), e.Body.Kind())
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
