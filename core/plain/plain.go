// Package plain makes text from outside safe to show: what a device, a peer or a file name wrote may hold
// anything. There is one such function, so that what it knows to be harmful is harmless everywhere.
package plain

import "strings"

// Text makes every character that acts on a terminal, a document or the direction of writing instead of being shown,
// and every byte that is no UTF-8, a dot.
func Text(text string) string {
	return strings.Map(func(r rune) rune {
		if Acts(r) {
			return '·'
		}
		return r
	}, strings.ToValidUTF8(text, "·"))
}

// Clip is Text of at most so many bytes of the beginning.
func Clip(text string, most int) string {
	if len(text) > most {
		return Text(text[:most]) + "…"
	}
	return Text(text)
}

// Acts reports the control characters, those of C1 too, and those of Unicode that turn the direction of what follows,
// end a line, or cannot be seen.
func Acts(r rune) bool {
	switch {
	case r < 0x20, r >= 0x7f && r < 0xa0:
		return true
	case r < 0x61c:
		return false
	case r == 0x61c, r >= 0x200b && r <= 0x200c, r >= 0x200e && r <= 0x200f:
		return true
	case r >= 0x2028 && r <= 0x202e, r >= 0x2060 && r <= 0x206f, r == 0xfeff, r == 0xfffe, r == 0xffff:
		return true
	}
	return false
}
