package event

import (
	"fmt"
	"strings"
	"time"
)

// The events of files on their way, and what they are served by.

// States of a Server and of what is Staged.
const (
	Listening = "listening"
	Ended     = "ended"
	Offered   = "staged"
	Withdrawn = "withdrawn"
)

// TransferBegin starts moving a file. Allowed is the most the line and the protocol together
// can carry, in bytes a second, 0 where nothing limits it. Several may be under way at once; ID
// tells them apart and is empty for one that owns the line.
type TransferBegin struct {
	ID       string  `json:"id,omitempty"`
	Deed     string  `json:"deed,omitempty"` // of which it is one, empty for a run's
	Peer     string  `json:"peer,omitempty"`
	Terms    string  `json:"terms,omitempty"`
	File     string  `json:"file"`
	Size     int64   `json:"size"`
	Protocol string  `json:"protocol"`
	SHA256   string  `json:"sha256,omitempty"`
	Allowed  float64 `json:"allowed,omitempty"`
	Receive  bool    `json:"receive,omitempty"`
}

var transferBeginKind = declare(Kind[TransferBegin]{
	Name:   "transfer.begin",
	Sample: TransferBegin{File: "x", Size: 1 << 40, Protocol: "XMODEM", Allowed: 11452.9, Receive: true},
	Report: func(b TransferBegin) (string, bool) {
		return fmt.Sprintf("%s, %d B by %s", b.File, b.Size, b.Protocol), false
	},
})

func (TransferBegin) kind() *declaration { return transferBeginKind }

// Transfer is the progress. Rate is in bytes a second, Left the time to go at that rate.
type Transfer struct {
	ID      string        `json:"id,omitempty"`
	Bytes   int64         `json:"bytes"`
	Size    int64         `json:"size"`
	Blocks  int           `json:"blocks"`
	Resent  int           `json:"resent"`
	Rate    float64       `json:"rate"`
	Left    time.Duration `json:"left"`
	Allowed float64       `json:"allowed,omitempty"`
	State   string        `json:"state,omitempty"`
}

var transferKind = declare(Kind[Transfer]{
	Name:   "transfer",
	Sample: Transfer{Bytes: 5, Left: time.Hour, Rate: 1.5},
})

func (Transfer) kind() *declaration { return transferKind }

// TransferEnd says how it went.
type TransferEnd struct {
	ID      string        `json:"id,omitempty"`
	Outcome Outcome       `json:"outcome"`
	Message string        `json:"message,omitempty"`
	From    int64         `json:"from,omitempty"` // where in the file a part begins, -1 for several at once
	Bytes   int64         `json:"bytes"`
	Padding int           `json:"padding"`
	Blocks  int           `json:"blocks"`
	Resent  int           `json:"resent"`
	Took    time.Duration `json:"took"`
}

var transferEndKind = declare(Kind[TransferEnd]{
	Name:   "transfer.end",
	Sample: TransferEnd{Outcome: Failed, Padding: 127},
	Report: func(b TransferEnd) (string, bool) {
		return fmt.Sprintf("%s, %d B%s, %d blocks, %d resent, padding %d B %s", b.Outcome, b.Bytes, b.Part(), b.Blocks,
			b.Resent, b.Padding, b.Message), b.Outcome == Failed
	},
})

// Part says, behind the bytes, where in the file they begin; empty for its beginning.
func (b TransferEnd) Part() string {
	switch {
	case b.From > 0:
		return fmt.Sprintf(" from byte %d on", b.From)
	case b.From < 0:
		return " in parts"
	}
	return ""
}

func (TransferEnd) kind() *declaration { return transferEndKind }

// Server says that a server listens for the device, or does not any more.
type Server struct {
	Name    string `json:"name"`
	State   string `json:"state"`
	Address string `json:"address"`
	Note    string `json:"note,omitempty"`
}

var serverKind = declare(Kind[Server]{
	Name:   "server",
	Sample: Server{Name: "TFTP", State: Listening, Address: "192.0.2.10:69"},
	Report: func(b Server) (string, bool) {
		return strings.TrimSpace(b.Name + " " + b.State + " at " + b.Address + " " + b.Note), false
	},
})

func (Server) kind() *declaration { return serverKind }

// Staged says what a device may fetch (or leave, for a slot), under exactly that name.
type Staged struct {
	Name     string `json:"name"`
	State    string `json:"state"`
	Protocol string `json:"protocol,omitempty"`
	Size     int64  `json:"size,omitempty"`
	SHA256   string `json:"sha256,omitempty"`
	Slot     bool   `json:"slot,omitempty"`
}

var stagedKind = declare(Kind[Staged]{
	Name:   "staged",
	Sample: Staged{Name: "lark.cgo", State: Offered, Protocol: "TFTP", Size: 5, Slot: true},
	Report: func(b Staged) (string, bool) {
		return b.Name + " " + b.State, false
	},
})

func (Staged) kind() *declaration { return stagedKind }

// Rung is one rung of the ladder between a device and a protocol: a packet, or a run of packets
// of a kind that counts. A later Rung with the same Transfer and Row replaces it.
type Rung struct {
	Transfer   string `json:"transfer,omitempty"`
	Row        int    `json:"row"`
	Protocol   string `json:"protocol"`
	Peer       string `json:"peer,omitempty"`
	FromDevice bool   `json:"from_device,omitempty"`
	What       string `json:"what"`
	First      int64  `json:"first,omitempty"`
	Last       int64  `json:"last,omitempty"`
	Count      int    `json:"count,omitempty"`
	Resent     int    `json:"resent,omitempty"`
	Text       string `json:"text,omitempty"`
}

var rungKind = declare(Kind[Rung]{
	Name: "rung",
	Sample: Rung{
		Transfer:   "tftp x",
		Row:        3,
		Protocol:   "TFTP",
		FromDevice: true,
		What:       "DATA",
		First:      1,
		Last:       65536,
		Count:      65536,
		Resent:     2,
	},
})

func (Rung) kind() *declaration { return rungKind }

// Estimate is what one protocol would take.
type Estimate struct {
	Protocol string        `json:"protocol"`
	Terms    string        `json:"terms"`
	Time     time.Duration `json:"time"`
	Why      string        `json:"why"`
	Warn     string        `json:"warn,omitempty"`
	Chosen   bool          `json:"chosen,omitempty"`
}

// Estimates says what each protocol would take for a file, and which one was chosen.
type Estimates struct {
	File string     `json:"file"`
	Size int64      `json:"size"`
	All  []Estimate `json:"all"`
}

var estimatesKind = declare(Kind[Estimates]{
	Name: "estimates",
	Sample: Estimates{
		File: "lark.cgo",
		Size: 5,
		All:  []Estimate{{Protocol: "t", Time: time.Minute, Why: "blocks", Chosen: true}},
	},
})

func (Estimates) kind() *declaration { return estimatesKind }

// Preflight is one thing looked at before the device is asked to fetch.
type Preflight struct {
	What   string `json:"what"`
	Held   bool   `json:"held"`
	Text   string `json:"text"`
	Remedy string `json:"remedy,omitempty"`
}

var preflightKind = declare(Kind[Preflight]{
	Name:   "preflight",
	Sample: Preflight{What: "port", Text: "held", Remedy: "end it"},
	Report: func(b Preflight) (string, bool) {
		return b.What + ": " + b.Text + " " + b.Remedy, !b.Held
	},
})

func (Preflight) kind() *declaration { return preflightKind }
