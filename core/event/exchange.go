package event

import (
	"fmt"
	"strings"
	"time"

	"pilotrix/core/units"
)

// What was asked of the device and what it answered. The answer itself is what came between the two events.

// Seen is how the text of a command is known.
type Seen string

// The ways.
const (
	SeenDrawn  Seen = "drawn"  // as the device shows it
	SeenTyped  Seen = "typed"  // by its keys alone: the device does not show it
	SeenSecret Seen = "secret" // not at all: the device has not shown it, so that it may be one
)

// End is how an exchange ended.
type End string

// The ends.
const (
	EndPrompt End = "prompt"              // at a prompt of the mode that it began in
	EndLed    End = "led elsewhere"       // in another mode
	EndBroken End = "broken off"          // by the key that does so
	EndCut    End = "cut by the next one" // without a prompt
	EndScreen End = "full-screen program" // which has no answer
	EndLost   End = "line lost"           //
	EndSpeed  End = "speed changed"       //
	EndLeft   End = "session left"        //
	EndNone   End = "not known"           // of an old record
)

// Paste is who types a text line by line.
const Paste = "paste"

// Asked says that the device takes a command, or the answer to a question that stood for itself.
type Asked struct {
	Number int    `json:"number"`
	Who    string `json:"who"`
	Mode   string `json:"mode,omitempty"`
	Prompt string `json:"prompt,omitempty"`
	Text   string `json:"text"`
	Seen   Seen   `json:"seen"`
	Ahead  bool   `json:"ahead,omitempty"` // its Enter had come before the device was done with the previous one
	Step   string `json:"step,omitempty"`
	Means  string `json:"means,omitempty"` // such as "reading banks"
}

var askedKind = declare(Kind[Asked]{
	Name: "asked",
	Sample: Asked{
		Number: 3,
		Who:    Hand,
		Mode:   "admin",
		Prompt: "gw // ",
		Text:   "look banks",
		Seen:   SeenDrawn,
		Ahead:  true,
		Step:   "1.1",
		Means:  "reading banks",
	},
	Report: func(b Asked) (string, bool) {
		text := b.Text
		if b.Seen == SeenSecret {
			text = "something that the device did not show"
		}
		return fmt.Sprintf("%s: %s%s", b.Who, strings.TrimLeft(b.Prompt, " "), text), false
	},
})

func (Asked) kind() *declaration { return askedKind }

// Question is one that the device put within an exchange, and what was answered.
type Question struct {
	Text   string `json:"text"`
	Answer string `json:"answer"`
	Secret bool   `json:"secret,omitempty"`
}

// Answered says how an exchange ended.
type Answered struct {
	Number    int           `json:"number"`
	End       End           `json:"end"`
	Mode      string        `json:"mode,omitempty"` // at its end
	Took      time.Duration `json:"took"`
	Rows      int           `json:"rows"`
	Lost      int64         `json:"lost,omitempty"` // bytes of the answer's beginning that were given up
	Pages     int           `json:"pages,omitempty"`
	Questions []Question    `json:"questions,omitempty"`
	Doubt     bool          `json:"doubt,omitempty"`   // where the answer begins, or ends, is not certain
	Refused   string        `json:"refused,omitempty"` // the words by which the device did not take it
}

var answeredKind = declare(Kind[Answered]{
	Name: "answered",
	Sample: Answered{
		Number:    3,
		End:       EndPrompt,
		Mode:      "admin",
		Took:      time.Second,
		Rows:      4,
		Lost:      9,
		Pages:     2,
		Questions: []Question{{Text: "sure?", Answer: "y", Secret: true}},
		Doubt:     true,
		Refused:   "no such word",
	},
	Report: func(b Answered) (string, bool) {
		text := fmt.Sprintf("%s in %s", units.Many(b.Rows, "row"), units.Text(b.Took.Round(time.Millisecond)))
		if end := b.EndText(); end != "" {
			text += "; " + end
		}
		if b.Refused != "" {
			text += "; refused: " + b.Refused
		}
		return text, b.Refused != ""
	},
})

// EndText says how it ended, empty where that was at its prompt.
func (b Answered) EndText() string {
	switch {
	case b.End == EndPrompt:
		return ""
	case b.End == EndLed && b.Mode != "":
		return "to " + b.Mode
	}
	return string(b.End)
}

func (Answered) kind() *declaration { return answeredKind }
