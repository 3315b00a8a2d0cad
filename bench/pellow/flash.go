package pellow

import (
	"bytes"
	"fmt"
)

// flash is a NOR flash: erasing sets a whole sector's bits, writing only clears bits, and a protected sector takes
// neither. It is written as it goes, so that a power cut leaves what was done until then.
type flash struct {
	data      []byte
	protected map[int]bool // sectors, until the power goes; those of boot program and board are for good
	stuck     int          // a sector that takes no writing, -1 for none
}

// The map: 127 sectors of 64 KiB, then 8 of 8 KiB.
const (
	flashBase  = 0xbf000000
	largeCount = 127
	largeSize  = 64 << 10
	smallCount = 8
	smallSize  = 8 << 10
	flashSize  = largeCount*largeSize + smallCount*smallSize
)

// area is a part of it.
type area struct {
	name     string
	at, size int
	forGood  bool // it is protected whenever the power comes
}

var (
	loaderArea   = area{"loader", 0, 0x40000, true}
	systemArea   = area{"system", 0x40000, 0x7a0000, false}
	settingsArea = area{"settings", 0x7e0000, 0x10000, false}
	envArea      = area{"env", 0x7f0000, 0x4000, false}
	boardArea    = area{"board", 0x7fc000, 0x4000, true}
	areas        = []area{loaderArea, systemArea, settingsArea, envArea, boardArea}
)

// says is what the bootloader answers, in its own words.
type says string

func (s says) Error() string { return string(s) }

func newFlash() *flash {
	f := &flash{data: bytes.Repeat([]byte{0xff}, flashSize), stuck: -1}
	copy(f.data, "boot program")
	copy(f.data[boardArea.at:], "address and radio data of this very board")
	f.powerUp()
	return f
}

// powerUp protects what is protected by itself: the boot program, the board's data, and the system until it is asked
// not to.
func (f *flash) powerUp() {
	f.protected = map[int]bool{}
	for _, a := range []area{loaderArea, boardArea, systemArea} {
		for s := sectorAt(a.at); s <= sectorAt(a.at+a.size-1); s++ {
			f.protected[s] = true
		}
	}
}

func sectorAt(at int) int {
	if at < largeCount*largeSize {
		return at / largeSize
	}
	return largeCount + (at-largeCount*largeSize)/smallSize
}

// sectorSpan is where a sector begins, and how long it is.
func sectorSpan(sector int) (at, size int) {
	if sector < largeCount {
		return sector * largeSize, largeSize
	}
	return largeCount*largeSize + (sector-largeCount)*smallSize, smallSize
}

// sectors are those that a range of whole ones has, by its first and last address.
func (f *flash) sectors(from, last uint64) (first, behind int, err error) {
	if from < flashBase || last >= flashBase+flashSize || last < from {
		return 0, 0, says("Error: start and/or end address not in FLASH")
	}
	first, behind = sectorAt(int(from-flashBase)), sectorAt(int(last-flashBase))+1
	begin, _ := sectorSpan(first)
	end, size := sectorSpan(behind - 1)
	switch {
	case begin != int(from-flashBase):
		return 0, 0, says("Error: start address not on sector boundary")
	case end+size != int(last-flashBase)+1:
		return 0, 0, says("Error: end address not on sector boundary")
	}
	return first, behind, nil
}

func (f *flash) eraseSector(sector int) {
	at, size := sectorSpan(sector)
	copy(f.data[at:at+size], bytes.Repeat([]byte{0xff}, size))
}

// write clears bits; a sector that takes none stays as it was, and nobody is told.
func (f *flash) write(at int, data []byte) {
	for i, b := range data {
		if f.stuck < 0 || sectorAt(at+i) != f.stuck {
			f.data[at+i] &= b
		}
	}
}

// part is what an area holds.
func (f *flash) part(a area) []byte { return f.data[a.at : a.at+a.size] }

// put writes an area from outside, as the factory does.
func (f *flash) put(a area, data []byte) error {
	if len(data) > a.size {
		return fmt.Errorf("%d B do not fit into %s", len(data), a.name)
	}
	copy(f.part(a), bytes.Repeat([]byte{0xff}, a.size))
	copy(f.part(a), data)
	return nil
}
