package screen

import (
	"strings"
	"unicode/utf8"
)

// parser holds what a sequence has said so far. Its states follow ECMA-48 chapter 5: ground text,
// after ESC, inside a control sequence, inside a control string.
type parser struct {
	state    func(*Screen, byte)
	params   [maxParams]int
	joined   uint32 // bit n: parameter n belongs to the previous one it, by a colon
	count    int
	private  byte
	between  byte
	length   int
	partial  [utf8.UTFMax]byte
	have     int
	sets     sets
	graphics bool // the set in use is the line-drawing one
	last     rune // the character that REP repeats, 0 after anything else
}

const (
	maxParams   = 32
	maxSequence = 256
	maxString   = 4096
)

// Write draws what the device sent. It never fails.
func (s *Screen) Write(p []byte) {
	for i := 0; i < len(p); {
		s.at = i
		if s.parser.state != nil {
			s.parser.state(s, p[i])
			i++
			continue
		}
		j := i
		if s.parser.have == 0 {
			for j < len(p) && p[j] >= 0x20 && p[j] < 0x7f {
				j++
			}
		}
		if j > i {
			s.putASCII(p[i:j])
			i = j
			continue
		}
		s.ground(p[i])
		i++
	}
	s.layMarks()
}

func (s *Screen) ground(b byte) {
	switch {
	case s.parser.have > 0 && b&0xc0 != 0x80: // a character was cut off
		s.parser.have = 0
		s.put(utf8.RuneError)
		s.ground(b)
	case b < 0x20 || b == 0x7f:
		s.control(b)
	case b < utf8.RuneSelf:
		s.putASCII([]byte{b})
	case s.charset != UTF8:
		s.put(s.charset.decode(b))
	default:
		s.multibyte(b)
	}
}

func (s *Screen) multibyte(b byte) {
	p := &s.parser
	p.partial[p.have] = b
	p.have++
	if !utf8.FullRune(p.partial[:p.have]) {
		return
	}
	r, _ := utf8.DecodeRune(p.partial[:p.have])
	p.have = 0
	s.put(r)
}

// control obeys the C0 set.
func (s *Screen) control(b byte) {
	if b != 0x1b {
		s.parser.last = 0
	}
	switch b {
	case '\r':
		s.x, s.wrapNext = 0, false
		s.returns++
	case '\n', '\v', '\f':
		if s.mode.newLine {
			s.x = 0
		}
		s.lineFeed()
	case '\b':
		s.x, s.wrapNext = max(0, s.x-1), false
	case '\t':
		s.tab(1)
	case 0x07:
		s.bells++
	case 0x0e, 0x0f: // shift out, shift in
		s.parser.sets.left = map[byte]int{0x0e: 1, 0x0f: 0}[b]
		s.chooseSet()
	case 0x1b:
		s.parser.begin(afterEscape)
	}
}

func (p *parser) begin(state func(*Screen, byte)) {
	p.state, p.count, p.private, p.between, p.length = state, 0, 0, 0, 0
	p.params, p.joined = [maxParams]int{}, 0
}

func (s *Screen) chooseSet() {
	s.parser.graphics = s.parser.sets.hold[s.parser.sets.left] == '0'
}

func afterEscape(s *Screen, b byte) {
	p := &s.parser
	switch {
	case b == 0x1b:
		p.begin(afterEscape)
	case b == 0x18 || b == 0x1a:
		p.state = nil
	case b < 0x20:
		s.control(b)
	case b == '[':
		p.begin(inSequence)
	case b == ']' || b == 'P' || b == 'X' || b == '^' || b == '_' || b == 'k': // k: a title, as screen managers set it
		p.begin(inString)
	case b < 0x30:
		p.between = b
		p.state = afterIntermediate
	default:
		p.state = nil
		s.escape(b)
	}
}

func afterIntermediate(s *Screen, b byte) {
	p := &s.parser
	if b >= 0x20 && b < 0x30 {
		return
	}
	p.state = nil
	switch at := strings.IndexByte("()*+", p.between); {
	case at >= 0:
		p.sets.hold[at] = b
	case p.between == '#' && b == '8':
		s.fillWith('E')
	}
	s.chooseSet()
}

// inString skips OSC, DCS and their like. Noise on the line can begin one, so a line's end or too
// great a length ends it as well as its terminator.
func inString(s *Screen, b byte) {
	p := &s.parser
	p.length++
	switch {
	case b == 0x1b:
		p.begin(afterEscape)
	case b == '\n' || b == '\r':
		p.state = nil
		s.control(b)
	case b == 0x07 || b == 0x18 || b == 0x1a || p.length > maxString:
		p.state = nil
	}
}

func (s *Screen) escape(b byte) {
	s.parser.last = 0
	switch b {
	case '7':
		s.keep = s.where()
	case '8':
		s.restore(s.keep)
	case 'D':
		s.index()
	case 'E':
		s.x, s.wrapNext = 0, false
		s.index()
	case 'H':
		s.tabs[s.x] = true
	case 'M':
		s.reverseIndex()
	case 'N', 'O': // single shifts
		s.parser.sets.single = map[byte]int{'N': 2, 'O': 3}[b]
	case 'n', 'o': // locking shifts
		s.parser.sets.left = map[byte]int{'n': 2, 'o': 3}[b]
		s.chooseSet()
	case 'c':
		s.reset()
	}
}

func inSequence(s *Screen, b byte) {
	p := &s.parser
	if p.length++; p.length > maxSequence {
		p.state = nil
		return
	}
	switch {
	case b == 0x1b:
		p.begin(afterEscape)
	case b == 0x18 || b == 0x1a:
		p.state = nil
	case b < 0x20:
		s.control(b)
	case b < 0x30:
		p.between = b
	case b < 0x40:
		p.parameter(b)
	case b < 0x7f:
		p.state = nil
		s.sequence(b)
	case b >= 0x80:
		p.state = nil
	}
}

// parameter takes a byte of the parameters of a sequence (ECMA-48 §5.4.1): a digit, what parts two of them, or a
// private mark.
func (p *parser) parameter(b byte) {
	if b >= '<' {
		p.private = b
		return
	}
	p.count = max(p.count, 1)
	switch {
	case b <= '9':
		if v := &p.params[p.count-1]; *v < 100_000 {
			*v = *v*10 + int(b-'0')
		}
	case p.count < maxParams:
		if b == ':' {
			p.joined |= 1 << p.count
		}
		p.count++
	}
}

// param is parameter n, or fallback when it is absent or 0.
func (p *parser) param(n, fallback int) int {
	if n >= p.count || p.params[n] == 0 {
		return fallback
	}
	return p.params[n]
}
