package pellow

import (
	"fmt"
	"strconv"
	"strings"
	"time"
)

// What the bootloader does to the flash, and how it computes checksums.

func (l *loader) flashInfo([]string) error {
	var out strings.Builder
	fmt.Fprintf(&out,
		"\r\nBank # 1: CFI conformant flash (16 x 16)  Size: %d MB in %d Sectors\r\n  Erase timeout: 4096 ms, write timeout: 3 ms\r\n\r\n  Sector Start Addresses:",
		flashSize>>20, largeCount+smallCount)
	l.lock(func() {
		for s := range largeCount + smallCount {
			if s%5 == 0 {
				out.WriteString("\r\n  ")
			}
			at, _ := sectorSpan(s)
			fmt.Fprintf(&out, "%08X   %s   ", flashBase+at,
				map[bool]string{true: "RO", false: "  "}[l.flash.protected[s]])
		}
	})
	l.Say(out.String() + "\r\n")
	return nil
}

// parts are the flash's, as its maker laid them out; 1 says read-only.
func (l *loader) parts([]string) error {
	l.Sayf("\r\ndevice nor0 <flash>, # parts = %d\r\n #: name\t\tsize\t\toffset\t\tmask_flags\r\n", len(areas))
	for i, a := range areas {
		l.Sayf(" %d: %-20s0x%08x\t0x%08x\t%d\r\n", i, a.name, a.size, a.at, map[bool]int{true: 1}[a.forGood])
	}
	l.Say("\r\nactive partition: nor0,0 - (loader) 0x00040000 @ 0x00000000\r\n")
	return nil
}

func parseHex(texts ...string) (numbers []uint64, err error) {
	for _, text := range texts {
		n, err := strconv.ParseUint(strings.TrimPrefix(text, "0x"), 16, 40)
		if err != nil {
			return nil, fmt.Errorf("%s is no number", text)
		}
		numbers = append(numbers, n)
	}
	return numbers, nil
}

func (l *loader) sectorsOf(args []string) (first, behind int, err error) {
	n, err := parseHex(args...)
	if err != nil {
		return 0, 0, err
	}
	l.Mu.Lock()
	defer l.Mu.Unlock()
	return l.flash.sectors(n[0], n[1])
}

func (l *loader) protect(args []string, on bool) error {
	first, behind, err := l.sectorsOf(args)
	if err != nil {
		return err
	}
	l.lock(func() {
		for s := first; s < behind; s++ {
			l.flash.protected[s] = on
		}
	})
	l.Sayf("%s %d sectors\r\n", map[bool]string{true: "Protected", false: "Un-Protected"}[on], behind-first)
	return nil
}

// erase goes sector by sector. Protected ones stay, and are counted all the same.
func (l *loader) erase(args []string) error {
	first, behind, err := l.sectorsOf(args)
	if err != nil {
		return err
	}
	kept := 0
	l.lock(func() {
		for s := first; s < behind; s++ {
			if l.flash.protected[s] {
				kept++
			}
		}
	})
	if kept > 0 {
		l.Sayf("- Warning: %d protected sectors will not be erased!", kept)
	}
	l.Say("\r\n")
	for s := first; s < behind; s++ {
		l.lock(func() {
			if !l.flash.protected[s] {
				l.flash.eraseSector(s)
			}
		})
		_, size := sectorSpan(s)
		l.Dots("", 1, eraseTakes*time.Duration(size)/largeSize, "")
		if l.fault().EraseStops && s == first+(behind-first)/2 {
			l.Hang()
		}
	}
	if l.Stall() {
		l.Sayf(" done\r\nErased %d sectors\r\n", behind-first)
	}
	return nil
}

// copyBytes copies within memory, or from there into the flash.
func (l *loader) copyBytes(args []string) error {
	n, err := parseHex(args...)
	if err != nil {
		return err
	}
	data, err := l.bytesAt(n[0], n[2])
	if err != nil {
		return err
	}
	if n[1] < flashBase {
		return l.store(n[1], data)
	}
	l.Say("Copy to Flash... ")
	at := int(n[1] - flashBase)
	if at < 0 || at+len(data) > flashSize {
		return says("Outside available Flash")
	}
	refused := false
	l.lock(func() {
		for s := sectorAt(at); s <= sectorAt(at+len(data)-1); s++ {
			refused = refused || l.flash.protected[s]
		}
	})
	if refused {
		return says("Can't write to protected Flash sectors")
	}
	if l.burn(l.Shell, at, data, func(int) {}) {
		l.Say("done\r\n")
	}
	return nil
}

func (l *loader) crc(args []string) error {
	n, err := parseHex(args...)
	if err != nil {
		return err
	}
	data, err := l.bytesAt(n[0], n[1])
	if err != nil {
		return err
	}
	l.Sayf("crc32 for %08x ... %08x ", n[0], n[0]+n[1]-1)
	l.Wait(time.Duration(len(data)) * time.Second / 20_000_000)
	l.Sayf("==> %s\r\n", checksum(data))
	return nil
}
