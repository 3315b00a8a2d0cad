package sense

import (
	"strings"
	"unicode"
	"unicode/utf8"
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
	var out strings.Builder
	for _, r := range string(p) {
		if r == utf8.RuneError || !unicode.IsPrint(r) {
			r = '·'
		}
		out.WriteRune(r)
	}
	return out.String()
}

// kind is what a byte means for the text of a line.
type kind int

const (
	nothing kind = iota
	plain
	lineEnd
	lineStart
	back
)

// stripper takes escape sequences out of a stream and tells line ends from overwriting.
type stripper struct {
	state int // inside: 0 text, 1 after ESC, 2 a control sequence, 3 a string, 4 a character set
	cr    bool
}

func (t *stripper) next(b byte) (byte, kind) {
	if t.state != 0 {
		t.escape(b)
		return 0, nothing
	}
	cr := t.cr
	t.cr = b == '\r'
	switch {
	case b == '\r':
		return 0, nothing // what follows decides
	case b == '\n':
		return 0, lineEnd
	case b == 0x1b:
		t.state = 1
		t.cr = cr
		return 0, nothing
	case b == '\b':
		return 0, back
	case b < 0x20 && b != '\t' || b == 0x7f:
		t.cr = cr
		return 0, nothing
	case cr:
		return b, lineStart
	}
	return b, plain
}

func (t *stripper) escape(b byte) {
	switch t.state {
	case 1:
		switch {
		case b == '[':
			t.state = 2
		case b == ']' || b == 'P' || b == '^' || b == '_' || b == 'X':
			t.state = 3
		case b == '(' || b == ')' || b == '#':
			t.state = 4
		default:
			t.state = 0
		}
	case 2:
		if b >= 0x40 || b == '\r' || b == '\n' {
			t.state = 0
		}
	case 3:
		if b == 0x07 || b == '\n' || b == 0x1b {
			t.state = 0
			if b == 0x1b {
				t.state = 1
			}
		}
	case 4:
		t.state = 0
	}
}
