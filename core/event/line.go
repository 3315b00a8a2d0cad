package event

import (
	"cmp"
	"fmt"
	"strings"
)

// The events of the line and what is read from it.

// States of a Line.
const (
	LineOpen   = "open"
	LineLost   = "lost"
	LineBack   = "back"
	LineClosed = "closed"
)

// In is what the device sent, as it arrived.
type In struct {
	Bytes Text `json:"bytes"`
}

var inKind = declare(Kind[In]{
	Name:   "line.in",
	Sample: In{Bytes: Text("plain ø 港\r\n\x1b[1m\u009b2J\x7f")},
})

func (In) kind() *declaration { return inKind }

// Out is what was typed to the device. A secret is reported by its length alone.
type Out struct {
	Who    string `json:"who"`
	Bytes  Text   `json:"bytes,omitempty"`
	Secret int    `json:"secret,omitempty"`
}

var outKind = declare(Kind[Out]{
	Name:   "line.out",
	Sample: Out{Who: Hand, Bytes: Text{0xff, 0x00, 0x80}},
	Report: func(b Out) (string, bool) {
		switch {
		case b.Who == Answerer:
			return "", false
		case b.Secret > 0:
			return fmt.Sprintf("%s typed %d characters that are not recorded", b.Who, b.Secret), false
		}
		return fmt.Sprintf("%s typed %q", b.Who, string(b.Bytes)), false
	},
})

func (Out) kind() *declaration { return outKind }

// Line says that the line opened, was lost, came back or was closed.
type Line struct {
	State string `json:"state"`
	Note  string `json:"note,omitempty"`
	Speed int    `json:"speed,omitempty"`
}

var lineKind = declare(Kind[Line]{
	Name:   "line.state",
	Sample: Line{State: LineLost, Note: "pulled", Speed: 9600},
	Report: func(b Line) (string, bool) {
		return strings.TrimSpace("line " + b.State + " " + b.Note), b.State != LineOpen
	},
})

func (Line) kind() *declaration { return lineKind }

// Signals are what the other end of a serial line shows on its wires, each true while it is on.
type Signals struct {
	Known bool `json:"known"`
	CTS   bool `json:"cts,omitempty"`
	DSR   bool `json:"dsr,omitempty"`
	DCD   bool `json:"dcd,omitempty"`
	RI    bool `json:"ri,omitempty"`
}

// Text are those that are on.
func (b Signals) Text() string {
	if !b.Known {
		return "not known"
	}
	var on []string
	for _, one := range []struct {
		name string
		on   bool
	}{{"CTS", b.CTS}, {"DSR", b.DSR}, {"DCD", b.DCD}, {"RI", b.RI}} {
		if one.on {
			on = append(on, one.name)
		}
	}
	return cmp.Or(strings.Join(on, " "), "none on")
}

var signalsKind = declare(Kind[Signals]{
	Name:   "line.signals",
	Sample: Signals{Known: true, CTS: true, DSR: true},
	Report: func(b Signals) (string, bool) { return "signals of the line: " + b.Text(), false },
})

func (Signals) kind() *declaration { return signalsKind }

// Speed says that our end of the line changed its speed, in baud.
type Speed struct {
	From int    `json:"from"`
	To   int    `json:"to"`
	Why  string `json:"why"`
}

var speedKind = declare(Kind[Speed]{
	Name:   "line.speed",
	Sample: Speed{From: 9600, To: 115200, Why: "both ends"},
	Report: func(b Speed) (string, bool) {
		return fmt.Sprintf("speed %d → %d  %s", b.From, b.To, b.Why), false
	},
})

func (Speed) kind() *declaration { return speedKind }

// Mode says what the device is in now, and the text that proves it.
type Mode struct {
	Name  string  `json:"name"`
	Proof string  `json:"proof,omitempty"`
	Score float64 `json:"score,omitempty"`
	Asks  string  `json:"asks,omitempty"` // of a receiver, what it asks for the file with: C, G or NAK
	Says  string  `json:"says,omitempty"` // and what the device said before
}

var modeKind = declare(Kind[Mode]{
	Name:   "mode",
	Sample: Mode{Name: "monitor", Proof: "sill: ", Score: 0.5, Asks: "C", Says: "send it now"},
	Report: func(b Mode) (string, bool) {
		return b.Name, false
	},
})

func (Mode) kind() *declaration { return modeKind }

// Prompt is a prompt the device waits at.
type Prompt struct {
	Mode string `json:"mode"`
	Text string `json:"text"`
}

var promptKind = declare(Kind[Prompt]{
	Name:   "prompt",
	Sample: Prompt{Mode: "monitor", Text: "sill: "},
})

func (Prompt) kind() *declaration { return promptKind }

// Noise is a line that the device wrote unasked; it ended with the bytes that came last.
type Noise struct {
	Text string `json:"text"`
}

var noiseKind = declare(Kind[Noise]{
	Name:   "noise",
	Sample: Noise{Text: "log: link up"},
})

func (Noise) kind() *declaration { return noiseKind }

// Terminal says how what the device draws is to be taken from now on: its character set, a size of
// its own (0 for the window's), and whether it is back to a plain screen.
type Terminal struct {
	Charset string `json:"charset,omitempty"`
	Cols    int    `json:"cols,omitempty"`
	Rows    int    `json:"rows,omitempty"`
	Plain   bool   `json:"plain,omitempty"`
}

var terminalKind = declare(Kind[Terminal]{
	Name:   "terminal",
	Sample: Terminal{Charset: "cp437", Cols: 80, Rows: 24, Plain: true},
})

func (Terminal) kind() *declaration { return terminalKind }
