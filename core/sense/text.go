package sense

import (
	"strings"
	"unicode"
	"unicode/utf8"

	"pilotrix/core/plain"
)

// GarbleScore is the share of bytes that no console writes: control characters without a meaning on
// a screen, and bytes that are not part of a character. It is 0 for clean text and well above a
// half for text read at another speed.
func GarbleScore(p []byte) float64 {
	if len(p) == 0 {
		return 0
	}
	bad := 0
	for i := 0; i < len(p); {
		b := p[i]
		if b < utf8.RuneSelf {
			if b < 0x20 && !strings.ContainsRune("\r\n\t\b\x07\x1b\x0c\x0e\x0f", rune(b)) || b == 0x7f {
				bad++
			}
			i++
			continue
		}
		r, size := utf8.DecodeRune(p[i:])
		switch {
		case r == utf8.RuneError && !utf8.FullRune(p[i:]) && i > 0: // cut off at the window's end
		case r == utf8.RuneError, r < 0xa0, !unicode.IsPrint(r):
			bad++
		}
		i += size
	}
	return float64(bad) / float64(len(p))
}

// Sample shows the last bytes of a stream, at most that many, in a way that is safe on any screen.
func Sample(p []byte, most int) string {
	if len(p) > most {
		p = p[len(p)-most:]
	}
	return plain.Text(string(p))
}
