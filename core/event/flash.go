package event

import (
	"fmt"

	"pilotrix/core/units"
)

// FlashSectors are so many sectors of one size, in bytes, one behind the other.
type FlashSectors struct {
	Count int64 `json:"count"`
	Size  int64 `json:"size"`
}

// FlashPart is a part of a flash: where it begins, from the flash's beginning, and its size, in bytes.
type FlashPart struct {
	Name      string `json:"name"`
	At        int64  `json:"at"`
	Size      int64  `json:"size"`
	Protected bool   `json:"protected,omitempty"`
}

// States of what is done to a flash.
const (
	FlashComputed = "reckoned" // it is to be done
	FlashErasing  = "erasing"
	FlashErased   = "erased"
	FlashWriting  = "writing"
	FlashWritten  = "written"
	FlashVerified = "verified" // what it holds was compared with the file
	FlashDoubtful = "doubtful" // erasing or writing did not end well
)

// Flash is a flash with what is done to it: the sectors that are erased for a file, and where its bytes land. Offsets
// count from its beginning; each range ends before its To.
type Flash struct {
	Base      int64          `json:"base"` // its first address among the device's
	Sectors   []FlashSectors `json:"sectors"`
	Parts     []FlashPart    `json:"parts"`
	Part      string         `json:"part"` // that the file goes to
	File      string         `json:"file"`
	State     string         `json:"state"`
	EraseFrom int64          `json:"erase_from"`
	EraseTo   int64          `json:"erase_to"`
	WriteFrom int64          `json:"write_from"`
	WriteTo   int64          `json:"write_to"`
	Checksum  string         `json:"checksum,omitempty"` // of what it was found to hold, once it is verified
}

// Size is how many bytes the flash has.
func (f Flash) Size() (size int64) {
	for _, run := range f.Sectors {
		size += run.Count * run.Size
	}
	return size
}

// Erased is how many sectors are erased.
func (f Flash) Erased() (count int64) {
	at := int64(0)
	for _, run := range f.Sectors {
		first, behind := run.Starts(at, f.EraseFrom, f.EraseTo)
		count += behind - first
		at += run.Count * run.Size
	}
	return count
}

// Starts are the first of them that begins in a range, and the one after the last, where they begin at an offset.
func (s FlashSectors) Starts(at, from, to int64) (first, behind int64) {
	index := func(offset int64) int64 {
		return min(s.Count, max(0, (offset-at+s.Size-1)/max(1, s.Size)))
	}
	first = index(from)
	return first, max(first, index(to))
}

var flashKind = declare(Kind[Flash]{
	Name: "flash",
	Sample: Flash{
		Base:      0x9f000000,
		Sectors:   []FlashSectors{{8, 8192}},
		Parts:     []FlashPart{{"system", 8192, 16384, true}},
		Part:      "system",
		File:      "x",
		State:     FlashVerified,
		EraseFrom: 8192,
		EraseTo:   16384,
		WriteFrom: 8192,
		WriteTo:   9000,
		Checksum:  "9bd366ae",
	},
	Report: func(b Flash) (string, bool) {
		return fmt.Sprintf("%s: part %s, 0x%x to 0x%x erased for %s, %s", b.State, b.Part, b.Base+b.EraseFrom,
			b.Base+b.EraseTo-1, b.File, units.Bytes(b.WriteTo-b.WriteFrom)), b.State == FlashDoubtful
	},
})

func (Flash) kind() *declaration { return flashKind }

// Window is a loader's window, in which it takes a file: it is tried until it opens, and has to be met before it
// closes.
type Window struct {
	ID    string `json:"id"` // of the transfer
	To    string `json:"to"`
	State string `json:"state"`
	Tries int    `json:"tries"`
	Reach string `json:"reach,omitempty"` // whether it answers a ping
	Hand  string `json:"hand,omitempty"`  // what the operator does meanwhile
}

// States of a window.
const (
	WindowAwaited = "awaited"
	WindowOpen    = "open"
	WindowCut     = "cut" // a put broke off; it is begun again
	WindowTaken   = "taken"
	WindowMissed  = "missed"
)

var windowKind = declare(Kind[Window]{
	Name: "window",
	Sample: Window{
		ID:    "send 192.0.2.45:69",
		To:    "192.0.2.45:69",
		State: WindowCut,
		Tries: 12,
		Reach: "answers",
		Hand:  "hold the button",
	},
	Report: func(b Window) (string, bool) {
		return fmt.Sprintf("the window at %s is %s, try %d", b.To, b.State, b.Tries), b.State == WindowCut ||
			b.State == WindowMissed
	},
})

func (Window) kind() *declaration { return windowKind }
