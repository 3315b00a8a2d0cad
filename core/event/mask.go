package event

import (
	"bytes"
	"math/bits"
	"slices"
	"strconv"
	"strings"
)

// A masker takes secrets out of a stream that comes in pieces, cut anywhere. It looks at the letters that are drawn,
// one after the other: what only moves, colours, wraps or erases is left where it is and cuts no secret in two.
//
// A secret that stands there whole is masked always. While one is on its way (strict: it is being typed, and the device
// may show it in whatever way it likes) everything is masked that is some letters of it in their order, with one or two
// lost, added or spoilt, and nothing is given out that may become that.
type masker struct {
	secrets []*pattern
	strict  bool
	least   int  // letters of a secret's beginning that are held back; fewer are given out at once
	quoted  bool // the text may have been quoted: backslashes are passed over

	first  [256]bool // bytes that may begin a match
	data   []byte    // what came and was not given out
	hidden []int32   // of each byte of it, the match that it belongs to; 0 for none, inEscape for a part of a control sequence
	given  int       // how many of them were given out, all the same, by a flush
	stack  []drawn   // the letters that stand there and may belong to a secret yet
	gone   int       // how many letters have gone from its beginning
	escape escape
	broken bool  // a line has just ended: blanks that follow are its indent
	match  int32 // the last one
	shown  int32 // the last one whose mark was given out
}

// pattern is one way in which a secret may stand somewhere.
type pattern struct {
	letters []byte
	blanks  bool        // blanks belong to it; of a long one they are passed over, since a wrap may add or take one
	spaced  bool        // it has blanks, or backslashes, that are passed over
	grows   bool        // more letters may follow
	places  [256]uint64 // of each byte, a bit for every place where it stands in it
}

func newPattern(letters []byte, blanks bool) *pattern {
	p := &pattern{blanks: blanks}
	p.set(letters)
	return p
}

// set gives a pattern its letters: one that grows, those so far.
func (p *pattern) set(letters []byte) {
	p.letters, p.places = letters, [256]uint64{}
	for n, b := range letters {
		p.places[b] |= 1 << n
	}
}

const (
	// minLetters is how many letters of a secret are masked while it is on its way, or all of a shorter one.
	minLetters = 5
	// maxFaults is how many letters may be lost, added or spoilt in between, and minBefore how many have to be right
	// first.
	maxFaults = 2
	minBefore = 2
	// maxPiece is the longest piece of a secret that is looked for as one.
	maxPiece = 64
	// maxHeld is how many bytes are held back at most: no secret is drawn in so many.
	maxHeld = 8 << 10
	// inEscape is a byte of a control sequence.
	inEscape = -1
	// forgiving is how many letters that fit nothing may be erased again.
	forgiving = 3
)

// drawn is one letter, and what ends with it.
type drawn struct {
	at     int // its place in data
	letter byte
	begun  []uint64 // of each pattern, a bit for every beginning of it that ends here
	nearly [][]near // of each pattern, by the place in it, what ends here; while strict
	alive  bool
}

// near is a stretch of letters that are nearly some of a secret's, up to a place in it. Run is how many of its last
// ones are so without a fault.
type near struct {
	right, wrong, run uint8
	from, runFrom     int // the letter that it began with, counted with those that have gone from the stack
}

func newMasker(secrets []*pattern, least int) *masker {
	m := &masker{least: least}
	m.know(secrets)
	return m
}

// know sets the secrets that are looked for. Where there are only more of them, what may be one already stays known.
func (m *masker) know(secrets []*pattern) {
	more := len(secrets) >= len(m.secrets) && slices.Equal(secrets[:len(m.secrets)], m.secrets)
	if !more {
		m.stack = nil
	}
	for n := range m.stack {
		one := &m.stack[n]
		one.begun = append(one.begun[:len(one.begun):len(one.begun)], make([]uint64, len(secrets)-len(m.secrets))...)
		one.nearly = append(
			one.nearly[:len(one.nearly):len(one.nearly)],
			make([][]near, len(secrets)-len(m.secrets))...)
	}
	m.secrets = slices.Clone(secrets)
	m.firsts()
}

func (m *masker) firsts() {
	m.first = [256]bool{}
	for _, p := range m.secrets {
		for i, b := range p.letters {
			if i == 0 || m.strict {
				m.first[b] = true
			}
		}
	}
	m.first[0x1b] = true
}

// setStrict says whether a secret is on its way.
func (m *masker) setStrict(on bool) {
	if m.strict != on {
		m.strict, m.stack = on, nil
		m.firsts()
	}
}

// patternsOf are the ways in which a secret may stand somewhere.
func patternsOf(secret string) (all []*pattern) {
	letters := []byte(strings.Map(drawnRune, secret))
	blanks, spaced := true, false
	if short := bytes.ReplaceAll(letters, []byte(" "), nil); len(short) >= minLetters {
		letters, blanks, spaced = short, false, len(short) < len(letters)
	}
	for len(letters) >= minSecret { // each piece of a long one is masked by itself
		n := min(len(letters), maxPiece)
		one := newPattern(letters[:n], blanks)
		one.spaced = spaced
		all = append(all, one)
		letters = letters[n:]
	}
	return all
}

// quotedPatternsOf are those of a text that may have been quoted, once or twice, less their backslashes.
func quotedPatternsOf(secret string) (all []*pattern) {
	seen := map[string]bool{}
	for range 3 {
		ascii := strconv.QuoteToASCII(secret)
		for _, text := range []string{secret, ascii[1 : len(ascii)-1]} {
			if plain := strings.ReplaceAll(text, `\`, ""); !seen[plain] {
				seen[plain] = true
				for _, p := range patternsOf(plain) {
					p.spaced = p.spaced || plain != text
					all = append(all, p)
				}
			}
		}
		quoted := strconv.Quote(secret)
		secret = quoted[1 : len(quoted)-1]
	}
	return all
}

func drawnRune(r rune) rune {
	switch {
	case r == '\t':
		return ' '
	case r < 0x20 || r == 0x7f:
		return -1
	}
	return r
}

// reset begins another text.
func (m *masker) reset() {
	m.data, m.hidden, m.stack, m.given, m.escape, m.broken, m.shown = m.data[:0], m.hidden[:0], m.stack[:0], 0, ground, false, 0
}

// take takes a piece in and returns what can be given out.
func (m *masker) take(piece []byte) (out []byte) {
	for i := 0; i < len(piece); {
		if len(m.stack) == 0 && m.escape == ground && !m.broken {
			n := m.idle(piece[i:])
			m.data, m.hidden = append(m.data, piece[i:i+n]...), append(m.hidden, make([]int32, n)...)
			if i += n; i == len(piece) {
				break
			}
		}
		m.data, m.hidden = append(m.data, piece[i]), append(m.hidden, 0)
		m.step(piece[i])
		i++
	}
	return m.give(m.held())
}

// idle is how many bytes concern no secret.
func (m *masker) idle(piece []byte) int {
	for i, b := range piece {
		if m.first[b] || b == '\n' || b == '\r' {
			return i
		}
	}
	return len(piece)
}

// step takes the last byte of data for what it is.
func (m *masker) step(b byte) {
	if m.escape != ground || b == 0x1b {
		m.hidden[len(m.hidden)-1] = inEscape
		m.escape = m.escape.next(b)
		return
	}
	switch {
	case b == '\r' || b == '\n':
		for len(m.stack) > 0 && m.stack[len(m.stack)-1].letter == ' ' {
			m.pop()
		}
		m.broken = true
	case b == '\b' || b == 0x7f:
		m.pop()
	case b == '\\' && m.quoted:
	case b == ' ' || b == '\t':
		if !m.broken {
			m.push(' ')
		}
	case b >= 0x20:
		m.broken = false
		m.push(b)
	}
}

func (m *masker) pop() { m.stack = m.stack[:max(0, len(m.stack)-1)] }

// push draws one more letter.
func (m *masker) push(letter byte) {
	n := len(m.stack)
	if n < cap(m.stack) {
		m.stack = m.stack[:n+1] // what it holds is used again
	} else {
		m.stack = append(m.stack, drawn{})
	}
	top := &m.stack[n]
	top.at, top.letter, top.alive = len(m.data)-1, letter, false
	var before *drawn
	if n > 0 {
		before = &m.stack[n-1]
	}
	if m.strict {
		m.pushNear(before, top)
	} else {
		m.pushExact(before, top)
	}
	for n := len(m.stack) - 1; n >= max(0, len(m.stack)-forgiving); n-- {
		if m.stack[n].alive {
			return
		}
	}
	m.stack = m.stack[:0]
}

func (m *masker) pushExact(before, top *drawn) {
	if len(top.begun) != len(m.secrets) {
		top.begun = make([]uint64, len(m.secrets))
	}
	for i, p := range m.secrets {
		var now uint64
		if before != nil {
			now = before.begun[i]
		}
		if top.letter != ' ' || p.blanks {
			now = (now<<1 | 1) & p.places[top.letter]
			if len(p.letters) > 0 && !p.grows && now&(1<<(len(p.letters)-1)) != 0 {
				m.hide(m.back(len(p.letters), p.blanks), len(m.stack)-1)
			}
		}
		top.begun[i] = now
		top.alive = top.alive || now != 0
	}
}

// back is where on the stack so many letters begin that end at its top.
func (m *masker) back(letters int, blanks bool) int {
	at := len(m.stack)
	for letters > 0 && at > 0 {
		at--
		if blanks || m.stack[at].letter != ' ' {
			letters--
		}
	}
	return at
}

func (m *masker) pushNear(before, top *drawn) {
	top.nearly = make([][]near, len(m.secrets))
	here := m.gone + len(m.stack) - 1
	for i, p := range m.secrets {
		var was []near
		if before != nil {
			was = before.nearly[i]
		}
		if top.letter == ' ' && !p.blanks {
			top.nearly[i] = was
			top.alive = top.alive || was != nil
			continue
		}
		doubled := before != nil && before.letter == top.letter
		now, some := make([]near, len(p.letters)), false
		for n, b := range p.letters {
			best := p.near(was, n, b == top.letter, doubled, here)
			if now[n] = best; best.right == 0 {
				continue
			}
			some = true
			if b != top.letter {
				continue
			}
			if run := (near{right: best.run, from: best.runFrom}); p.enough(run, m.span(run.from, here)) {
				m.hide(run.from-m.gone, here-m.gone)
			}
			if p.enough(best, m.span(best.from, here)) {
				m.hide(best.from-m.gone, here-m.gone)
			}
		}
		if some {
			top.nearly[i], top.alive = now, true
		}
	}
}

// whole is the bit of its last letter.
func (p *pattern) whole() uint64 {
	if len(p.letters) == 0 || p.grows {
		return 0
	}
	return 1 << (len(p.letters) - 1)
}

// enough reports whether a stretch is so much of the pattern that it is masked. What is passed over counts where the
// secret has some of that, too.
func (p *pattern) enough(one near, span int) bool {
	right, all := int(one.right), len(p.letters)
	switch {
	case p.grows && right < minSecret:
		return false
	case right >= min(minLetters, all) && one.wrong == 0:
		return true
	case right >= minLetters+2*int(one.wrong): // what other words have by chance is shorter
		return true
	case all <= minLetters+1 && right >= max(minSecret, all-1): // one of a short one is lost
		return true
	}
	return p.spaced && one.wrong == 0 && (right >= minSecret || right >= minBefore && span >= minLetters)
}

// span is how long a stretch is, with what is passed over in it.
func (m *masker) span(from, here int) int {
	if m.quoted {
		return m.stack[here-m.gone].at - m.stack[max(0, from-m.gone)].at + 1
	}
	return here - from + 1
}

// near is what ends at one place of a pattern with the next letter, which is that one there, or not.
func (p *pattern) near(was []near, n int, fits, doubled bool, here int) (best near) {
	before := uint8(minBefore)
	if len(p.letters) < 2*minLetters {
		before = 1
	}
	better := func(one near, wrong uint8) {
		if one.right == 0 || wrong > 0 && (one.right < before || one.wrong+wrong > maxFaults) {
			return
		}
		one.wrong += wrong
		if best.right == 0 || int(one.right)-int(one.wrong) > int(best.right)-int(best.wrong) {
			best = one
		}
	}
	at := func(n int) near {
		if n < 0 || n >= len(was) {
			return near{}
		}
		return was[n]
	}
	run, runFrom := uint8(0), here
	switch last, same := at(n-1), at(n); {
	case fits && last.run > 0:
		run, runFrom = last.run+1, last.runFrom
	case fits:
		run = 1
	case doubled && same.run > 0:
		run, runFrom = same.run, same.runFrom
	}
	if fits {
		best = near{right: 1, from: here}
		for lost := range uint8(maxFaults + 1) { // of the letters before it
			one := at(n - 1 - int(lost))
			if one.right > 0 {
				one.right++
			}
			if lost == 0 || one.right > before {
				better(one, lost)
			}
		}
	} else {
		better(at(n-1), 1) // spoilt
	}
	if doubled {
		better(at(n), 0)
	} else if !fits {
		better(at(n), 1) // added
	}
	best.run, best.runFrom = run, runFrom
	return best
}

// hide marks letters of the stack as one secret. Its first ones may be gone: they were whole already.
func (m *masker) hide(from, to int) {
	from = max(0, from)
	id := int32(0)
	for n := from; n <= to; n++ {
		if id = m.hidden[m.stack[n].at]; id != 0 {
			break
		}
	}
	if id == 0 {
		m.match++
		id = m.match
	}
	for n := from; n <= to; n++ {
		if at := m.stack[n].at; m.hidden[at] == 0 {
			m.hidden[at] = id
		}
	}
}

// held is from where on data has to wait for what follows.
func (m *masker) held() int {
	if len(m.stack) == 0 || len(m.data) > maxHeld {
		m.stack = m.stack[:0]
		return len(m.data)
	}
	from := len(m.data)
	for n := len(m.stack) - 1; n >= max(0, len(m.stack)-forgiving); n-- {
		if begin, letters := m.begins(n); letters >= m.least || m.strict && letters > 0 {
			from = min(from, m.stack[max(0, begin)].at)
		}
		if m.hidden[m.stack[n].at] != 0 { // what ended with it is masked
			break
		}
	}
	return from
}

// begins is where on the stack the longest beginning of a secret stands that ends with a letter, and how long that is.
func (m *masker) begins(n int) (begin, letters int) {
	begin = n
	for i, p := range m.secrets {
		if m.strict {
			for place, one := range m.stack[n].nearly[i] {
				if (place < len(p.letters)-1 || p.grows) && one.right > 0 {
					begin, letters = min(begin, one.from-m.gone), max(letters, int(one.right))
				}
			}
			continue
		}
		longest := bits.Len64(m.stack[n].begun[i] &^ p.whole()) // for what is whole nothing is waited
		if longest <= letters {
			continue
		}
		letters, begin = longest, n+1
		for left := longest; left > 0 && begin > 0; {
			begin--
			if p.blanks || m.stack[begin].letter != ' ' {
				left--
			}
		}
	}
	return begin, letters
}

// give gives out what stands before a place, masked. Letters that may still be erased stay known, though they are given
// out.
func (m *masker) give(to int) (out []byte) {
	out = m.render(m.given, to)
	m.given = max(m.given, to)
	keep := m.given
	for n := range m.stack {
		if at := m.stack[n].at; at >= to || len(m.stack)-n <= forgiving { // what stands before is needed no more
			for i := n; i < len(m.stack); i++ { // exchanged and not copied: each has room of its own that is used again
				m.stack[i-n], m.stack[i] = m.stack[i], m.stack[i-n]
			}
			m.stack, m.gone = m.stack[:len(m.stack)-n], m.gone+n
			keep = min(keep, at)
			break
		}
	}
	m.data, m.hidden = append(m.data[:0], m.data[keep:]...), append(m.hidden[:0], m.hidden[keep:]...)
	for n := range m.stack {
		m.stack[n].at -= keep
	}
	m.given -= keep
	return out
}

// render is data from one place to another, a mark in the place of each secret.
func (m *masker) render(from, to int) (out []byte) {
	if from >= to {
		return nil
	}
	out = make([]byte, 0, to-from)
	for n := from; n < to; n++ {
		switch id := m.hidden[n]; {
		case id == inEscape || id == 0 && m.data[n] < ' ':
			out = append(out, m.data[n])
		case id == 0: // what comes after it has a mark of its own
			out, m.shown = append(out, m.data[n]), 0
		case id != m.shown:
			m.shown = id
			out = append(out, Redacted...)
		}
	}
	return out
}

// holds reports whether something is held back.
func (m *masker) holds() bool { return len(m.data) > m.given && m.held() < len(m.data) }

// longest is how many letters of a secret's have come of which what is held back may be the beginning.
func (m *masker) longest() (letters int) {
	for n := max(0, len(m.stack)-forgiving); n < len(m.stack); n++ {
		_, here := m.begins(n)
		letters = max(letters, here)
	}
	return letters
}

// flush gives out what was held back: nothing followed. It stays known, since what follows may make a secret of it yet.
func (m *masker) flush() (out []byte) {
	out = m.render(m.given, len(m.data))
	m.given = len(m.data)
	return out
}

// escape is where in a control sequence a stream is (ECMA-48 §5.3, §5.4, §5.6).
type escape uint8

const (
	ground escape = iota
	begun
	sequence  // of CSI
	text      // of OSC and its like
	textBegun // its end may have begun
)

func (e escape) next(b byte) escape {
	switch {
	case b == 0x1b:
		if e == text {
			return textBegun
		}
		return begun
	case b == 0x18 || b == 0x1a, b < 0x20 && e != text: // they cancel it, or it was none
		return ground
	case e == begun && b == '[':
		return sequence
	case e == begun && bytes.IndexByte([]byte("]P^_X"), b) >= 0:
		return text
	case e == begun && b >= 0x20 && b <= 0x2f: // an intermediate byte
		return begun
	case e == sequence && b < 0x40:
		return sequence
	case e == text && b != 0x07:
		return text
	}
	return ground
}
