package screen

import "unicode/utf8"

// parser holds what a sequence has said so far. Its states follow ECMA-48 chapter 5: ground text,
// after ESC, inside a control sequence, inside a control string.
type parser struct {
	state    func(*Screen, byte)
	params   [maxParams]int
	count    int
	private  byte
	between  byte
	length   int
	partial  [utf8.UTFMax]byte
	have     int
	sets     [2]byte // what G0 and G1 hold
	shifted  bool
	graphics bool // the set in use is the line-drawing one
}

const (
	maxParams   = 32
	maxSequence = 256
	maxString   = 4096
)

// Write draws what the device sent. It never fails.
func (s *Screen) Write(p []byte) {
	for i := 0; i < len(p); {
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
	if r >= 0x80 && r < 0xa0 { // C1 controls in UTF-8: not obeyed
		r = utf8.RuneError
	}
	s.put(r)
}

// control obeys the C0 set.
func (s *Screen) control(b byte) {
	switch b {
	case '\r':
		s.x, s.wrapNext = 0, false
	case '\n', '\v', '\f':
		s.lineFeed()
	case '\b':
		s.x, s.wrapNext = max(0, s.x-1), false
	case '\t':
		s.x, s.wrapNext = min(s.cols-1, s.x/8*8+8), false
	case 0x07:
		s.bells++
	case 0x0e, 0x0f: // shift out, shift in
		s.parser.shifted = b == 0x0e
		s.chooseSet()
	case 0x1b:
		s.parser.begin(afterEscape)
	}
}

func (p *parser) begin(state func(*Screen, byte)) {
	p.state, p.count, p.private, p.between, p.length = state, 0, 0, 0, 0
	p.params = [maxParams]int{}
}

func (s *Screen) chooseSet() {
	set := s.parser.sets[0]
	if s.parser.shifted {
		set = s.parser.sets[1]
	}
	s.parser.graphics = set == '0'
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
	case b == ']' || b == 'P' || b == 'X' || b == '^' || b == '_':
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
	switch p.between {
	case '(':
		p.sets[0] = b
	case ')':
		p.sets[1] = b
	case '#':
		if b == '8' {
			s.fillWith('E')
		}
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
	case 'M':
		s.reverseIndex()
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
	case b >= '0' && b <= '9':
		if p.count == 0 {
			p.count = 1
		}
		if v := &p.params[p.count-1]; *v < 100_000 {
			*v = *v*10 + int(b-'0')
		}
	case b == ';' || b == ':':
		if p.count == 0 {
			p.count = 1
		}
		if p.count < maxParams {
			p.count++
		}
	case b >= '<' && b <= '?':
		p.private = b
	case b < 0x30:
		p.between = b
	case b >= 0x40 && b < 0x7f:
		p.state = nil
		s.sequence(b)
	case b >= 0x80:
		p.state = nil
	}
}

// param is parameter n, or fallback when it is absent or 0.
func (p *parser) param(n, fallback int) int {
	if n >= p.count || p.params[n] == 0 {
		return fallback
	}
	return p.params[n]
}

func (s *Screen) sequence(final byte) {
	p := &s.parser
	if p.between != 0 || (p.private != 0 && final != 'h' && final != 'l') {
		return
	}
	if act, known := sequences[final]; known {
		act(s, p.param(0, 1))
	}
}

// sequences are the control sequences by their final byte; n is the first parameter, 1 when absent.
var sequences = map[byte]func(s *Screen, n int){
	'A': func(s *Screen, n int) { s.moveRow(s.y - n) },
	'B': func(s *Screen, n int) { s.moveRow(s.y + n) },
	'C': func(s *Screen, n int) { s.moveTo(s.x+n, s.y) },
	'D': func(s *Screen, n int) { s.moveTo(s.x-n, s.y) },
	'E': func(s *Screen, n int) { s.x = 0; s.moveRow(s.y + n) },
	'F': func(s *Screen, n int) { s.x = 0; s.moveRow(s.y - n) },
	'G': func(s *Screen, n int) { s.moveTo(n-1, s.y) },
	'`': func(s *Screen, n int) { s.moveTo(n-1, s.y) },
	'd': func(s *Screen, n int) { s.moveTo(s.x, s.origin()+n-1) },
	'H': func(s *Screen, n int) { s.moveTo(s.parser.param(1, 1)-1, s.origin()+n-1) },
	'f': func(s *Screen, n int) { s.moveTo(s.parser.param(1, 1)-1, s.origin()+n-1) },
	'J': func(s *Screen, _ int) { s.eraseScreen(s.parser.param(0, 0)) },
	'K': func(s *Screen, _ int) { s.eraseLine(s.parser.param(0, 0)) },
	'X': func(s *Screen, n int) { s.erase(s.grid[s.y], s.x, s.x+n) },
	'@': func(s *Screen, n int) { s.insertBlank(n) },
	'P': func(s *Screen, n int) { s.deleteChars(n) },
	'L': func(s *Screen, n int) { s.shiftRows(n, s.scrollDown) },
	'M': func(s *Screen, n int) { s.shiftRows(n, s.scrollUp) },
	'S': func(s *Screen, n int) { s.scrollUp(n) },
	'T': func(s *Screen, n int) { s.scrollDown(n) },
	'm': func(s *Screen, _ int) { s.selectGraphics() },
	'h': func(s *Screen, _ int) { s.setModes(true) },
	'l': func(s *Screen, _ int) { s.setModes(false) },
	's': func(s *Screen, _ int) { s.keep = s.where() },
	'u': func(s *Screen, _ int) { s.restore(s.keep) },
	'r': func(s *Screen, _ int) { s.setRegion() },
}

func (s *Screen) origin() int {
	if s.mode.origin {
		return s.top
	}
	return 0
}

func (s *Screen) moveTo(x, y int) {
	s.x, s.y, s.wrapNext = min(max(x, 0), s.cols-1), min(max(y, 0), s.rows-1), false
}

// moveRow stays inside the scroll region when it begins there.
func (s *Screen) moveRow(y int) {
	if s.y >= s.top && s.y <= s.bot {
		y = min(max(y, s.top), s.bot)
	}
	s.moveTo(s.x, y)
}

func (s *Screen) setRegion() {
	top, bottom := s.parser.param(0, 1)-1, s.parser.param(1, s.rows)-1
	if bottom = min(bottom, s.rows-1); top < bottom {
		s.top, s.bot = top, bottom
		s.moveTo(0, s.origin())
	}
}

func (s *Screen) shiftRows(n int, scroll func(int)) {
	if s.y < s.top || s.y > s.bot {
		return
	}
	top := s.top
	s.top = s.y
	kept := s.saved
	if s.saved == nil && s.y == 0 { // deleting the first row is no scrolling off
		s.saved = s.grid
	}
	scroll(n)
	s.saved = kept
	s.top = top
	s.x, s.wrapNext = 0, false
}

func (s *Screen) eraseLine(what int) {
	r := s.grid[s.y]
	switch what {
	case 0:
		s.erase(r, s.x, s.cols)
		r.wrapped = false
	case 1:
		s.erase(r, 0, s.x+1)
	case 2:
		s.erase(r, 0, s.cols)
		r.wrapped = false
	}
}

// eraseScreen erases below, above or all. All goes to the history first: it was on the console.
func (s *Screen) eraseScreen(what int) {
	from, to := 0, s.rows
	switch what {
	case 0:
		s.eraseLine(0)
		from = s.y + 1
	case 1:
		s.eraseLine(1)
		to = s.y
	case 2:
		s.keepRows()
	default:
		return
	}
	for _, r := range s.grid[from:to] {
		s.erase(r, 0, s.cols)
		r.wrapped = false
	}
}

func (s *Screen) keepRows() {
	last := len(s.grid) - 1
	for last >= 0 && s.grid[last].used == 0 {
		last--
	}
	if s.saved == nil {
		for _, r := range s.grid[:last+1] {
			s.history.push(r, s.clusters)
		}
	}
}

func (s *Screen) fillWith(b byte) {
	for _, r := range s.grid {
		for x := range r.cells {
			r.cells[x] = cell{r: rune(b), width: 1}
		}
		r.used, r.wrapped = s.cols, false
	}
	s.moveTo(0, 0)
}

func (s *Screen) setModes(on bool) {
	p := &s.parser
	for _, n := range p.params[:p.count] {
		switch {
		case p.private == 0 && n == 4:
			s.mode.insert = on
		case p.private != '?':
		case n == 1:
			s.mode.appKeys = on
		case n == 6:
			s.mode.origin = on
			s.moveTo(0, s.origin())
		case n == 7:
			s.mode.noWrap = !on
		case n == 25:
			s.mode.hidden = !on
		case n == 47 || n == 1047 || n == 1049:
			s.alternate(on)
		}
	}
}

var attrs = map[int]Attr{1: Bold, 2: Faint, 3: Italic, 4: Underline, 5: Blink, 7: Reverse, 8: Hidden, 9: Struck}

var noAttrs = map[int]Attr{22: Bold | Faint, 23: Italic, 24: Underline, 25: Blink, 27: Reverse, 28: Hidden, 29: Struck}

// selectGraphics obeys SGR.
func (s *Screen) selectGraphics() {
	p := &s.parser
	pen := s.pen
	values := p.params[:max(p.count, 1)]
	for i := 0; i < len(values); i++ {
		switch n := values[i]; {
		case n == 0:
			pen = Style{Role: pen.Role}
		case attrs[n] != 0:
			pen.Attr |= attrs[n]
		case noAttrs[n] != 0:
			pen.Attr &^= noAttrs[n]
		case n >= 30 && n <= 37:
			pen.FG = Palette(uint8(n - 30))
		case n >= 90 && n <= 97:
			pen.FG = Palette(uint8(n - 90 + 8))
		case n >= 40 && n <= 47:
			pen.BG = Palette(uint8(n - 40))
		case n >= 100 && n <= 107:
			pen.BG = Palette(uint8(n - 100 + 8))
		case n == 39:
			pen.FG = 0
		case n == 49:
			pen.BG = 0
		case n == 38 || n == 48:
			color, used := extended(values[i+1:])
			i += used
			if n == 38 {
				pen.FG = color
			} else {
				pen.BG = color
			}
		}
	}
	s.setPen(pen)
}

// extended reads 5;n or 2;r;g;b.
func extended(values []int) (color Color, used int) {
	switch {
	case len(values) >= 2 && values[0] == 5:
		return Palette(uint8(values[1])), 2
	case len(values) >= 4 && values[0] == 2:
		return RGB(uint8(values[1]), uint8(values[2]), uint8(values[3])), 4
	}
	return 0, len(values)
}

// drawing is the DEC special graphics set, from 0x60 on.
var drawing = []rune("◆▒␉␌␍␊°±␤␋┘┐┌└┼⎺⎻─⎼⎽├┤┴┬│≤≥π≠£·")

func (p *parser) translate(b byte) rune {
	if p.graphics && b >= 0x60 && int(b-0x60) < len(drawing) {
		return drawing[b-0x60]
	}
	return rune(b)
}
