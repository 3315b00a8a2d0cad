// Package shown is the one model of what the device's line shows: the present line as it was drawn (with
// carriage returns, erasing, cursor movement, wraps and backspaces obeyed), and the answer to the command
// that was sent last, as it stood in the end. It is built on core/screen, so that what is sensed, parsed,
// held back and pasted is what the operator sees.
//
// Lines that the device writes unasked (noise) are no part of either.
package shown

import (
	"bytes"
	"regexp"
	"strings"
	"unicode/utf8"

	"pilotrix/core/screen"
)

// Options say what a dialect knows of a device's lines.
type Options struct {
	Noise   []*regexp.Regexp // whole lines that are written unasked
	Pager   *regexp.Regexp   // what a pager asks with, nil when there is none
	Charset screen.Charset
}

// The size of a terminal whose own is not known.
const (
	UsualCols = 80
	UsualRows = 24
)

// maxAnswer bounds what is kept of an answer, in bytes; of a longer one the end is kept.
const maxAnswer = 1 << 20

// Model is what the line shows. It is used by one goroutine.
type Model struct {
	screen *screen.Screen
	opt    Options

	scrolled []byte // lines of the answer that have left the screen; never changed once written
	joining  []byte // text of rows that go on in the next one
	passing  bool   // the rows that leave the screen still belong to the line that was marked
	lost     int64  // bytes of the answer that were given up
	inked    int64  // characters drawn when the mark was set
	returns  int64  // carriage returns by then
	placed   int64  // what full-screen programs did by then
	blank    bool   // the marked line had nothing on it: what is drawn there is new
	echo     []byte // what stood on the marked line when an Enter was sent there: what follows it on its row is new
	leaving  []byte // the marked line, of which some rows have left the screen

	each    func(Ended)
	judged  map[string]judgement
	scratch []byte // of the line that ends
	present []byte // of the present one
}

// Ended is a line that a line feed has ended. Text is good until the next one.
type Ended struct {
	Text  []byte
	Noise bool
	New   bool // it began after the mark
	After int  // bytes of what was written, up to and with the line feed
}

// New makes an empty model of a terminal of that size.
func New(cols, rows int, opt Options) *Model {
	m := &Model{screen: screen.New(cols, rows), opt: opt}
	m.screen.SetCharset(opt.Charset)
	m.screen.OnLine(m.ended)
	m.screen.OnScroll(m.takeRow)
	return m
}

// OnReply says who types the answers to what the device asks of its terminal.
func (m *Model) OnReply(reply func(string)) { m.screen.OnReply(reply) }

// Resize gives the terminal another size.
func (m *Model) Resize(cols, rows int) { m.screen.Resize(cols, rows) }

// Size is the terminal's.
func (m *Model) Size() (cols, rows int) { return m.screen.Size() }

// SetCharset says how the device encodes what is not ASCII.
func (m *Model) SetCharset(c screen.Charset) { m.screen.SetCharset(c) }

// Leave goes back to a plain screen, and reports whether it was another.
func (m *Model) Leave() bool { return m.screen.Leave() }

// Write draws what the device sent; each is reported of every line that ends.
func (m *Model) Write(p []byte, each func(Ended)) {
	m.each = each
	m.screen.Write(p)
	m.each = nil
}

func (m *Model) ended() {
	if m.each == nil {
		return
	}
	_, y, _ := m.screen.Cursor()
	m.scratch, _, _ = m.screen.LineAt(y, m.scratch[:0])
	m.each(Ended{Text: m.scratch, Noise: m.opt.isNoise(m.scratch), New: y >= m.newFrom(), After: m.screen.At() + 1})
}

// takeRow keeps a row of the answer that leaves the screen.
func (m *Model) takeRow(text []byte, wraps bool) {
	switch pinned := m.screen.Pinned(); {
	case pinned > 0:
		return
	case !m.blank && (pinned == 0 || m.passing):
		if m.passing = wraps; len(m.echo) > 0 {
			m.leaving = append(m.leaving, text...)
		}
		if !wraps {
			m.takeBehindEcho()
		}
		return
	}
	m.joining = append(m.joining, text...)
	if wraps {
		return
	}
	m.keep(m.joining)
	m.joining = m.joining[:0]
}

// takeBehindEcho keeps what followed the echo on its row, which has left the screen.
func (m *Model) takeBehindEcho() {
	if rest := m.behindEcho(m.leaving); len(rest) > 0 {
		m.keep(rest)
	}
	m.leaving = m.leaving[:0]
}

// behindEcho is what of the marked line follows the echo that stood there: a device may begin its answer without a line
// end.
func (m *Model) behindEcho(line []byte) []byte {
	rest, behind := bytes.CutPrefix(line, m.echo)
	if len(m.echo) == 0 || !behind {
		return nil
	}
	return bytes.TrimSpace(rest)
}

// keep puts a line to those of the answer that have left the screen.
func (m *Model) keep(text []byte) {
	if line, kept := m.opt.judge(text).kept(); kept {
		if len(m.scrolled) > 2*maxAnswer {
			cut := len(m.scrolled) - maxAnswer
			m.lost += int64(cut)
			m.scrolled = append(make([]byte, 0, 3*maxAnswer), m.scrolled[cut:]...)
		}
		m.scrolled = append(append(m.scrolled, line...), '\n')
	}
}

// Mark begins an answer: it is what is drawn below the cursor's line from now on. Ended says that an Enter was sent
// there; else what is drawn on a blank line itself is part of it. Typed is what the device echoes on that line, by then
// or later, nil where that is not known.
func (m *Model) Mark(ended bool, typed []byte) {
	line, free := m.Line()
	m.mark(!ended && line == "" && free)
	if ended && free && typed != nil {
		m.echo = echoOf(m.echo, line, typed)
	}
}

// MarkBehind begins an answer behind the echo that stands on the cursor's line, which ends now.
func (m *Model) MarkBehind(echo string) {
	m.mark(false)
	m.echo = append(m.echo, echo...)
}

func (m *Model) mark(blank bool) {
	m.scrolled, m.joining, m.passing, m.lost = nil, m.joining[:0], false, 0
	m.inked, m.returns, m.placed = m.screen.Inked(), m.screen.Returns(), m.screen.Placed()
	m.blank, m.echo, m.leaving = blank, m.echo[:0], m.leaving[:0]
	m.screen.Pin()
}

// echoOf is what a line shows once all that was typed on it is echoed.
func echoOf(out []byte, line string, typed []byte) []byte {
	out = append(out, line...)
	for come := len(typed); come >= 0; come-- {
		if strings.HasSuffix(line, string(typed[:come])) {
			return append(out, typed[come:]...)
		}
	}
	return out
}

// newFrom is the first row that was drawn since the mark, negative when all were.
func (m *Model) newFrom() int {
	pinned := m.screen.Pinned()
	if pinned >= 0 && !m.blank {
		pinned++
	}
	return pinned
}

// Below reports whether the present line began after the mark, or was at least drawn again since, from its
// beginning.
func (m *Model) Below() bool {
	_, y, _ := m.screen.Cursor()
	return y >= m.newFrom() || m.screen.Inked() > m.inked && m.screen.Returns() > m.returns
}

// Painted reports whether a full-screen program drew since the mark: what was drawn is no answer then.
func (m *Model) Painted() bool { return m.screen.Placed() > m.placed }

// Line is the present line up to the cursor; free reports that nothing follows it there. Where something
// does, the line is given whole.
func (m *Model) Line() (text string, free bool) {
	var out []byte
	if out, free = m.screen.BeforeCursor(m.present[:0]); free {
		m.present = out
		return string(out), true
	}
	_, y, _ := m.screen.Cursor()
	out, _, _ = m.screen.LineAt(y, out[:0])
	m.present = out
	return strings.TrimRight(string(out), " "), false
}

// Hangs reports whether the present line begins below the end of a burst of noise in the row above it: the burst
// took the place of a carriage return.
func (m *Model) Hangs() bool {
	_, y, _ := m.screen.Cursor()
	line, first, _ := m.screen.LineAt(y, nil)
	indent := len(line) - len(bytes.TrimLeft(line, " "))
	if indent == 0 || first == 0 {
		return false
	}
	above, _, _ := m.screen.LineAt(first-1, nil)
	letters := utf8.RuneCount(above) // each takes one column, or two
	return bytes.ContainsRune(above, utf8.RuneError) && letters <= indent && indent <= 2*letters
}

// maxStanding is over how many lines something typed may be spread by lines of the device's.
const maxStanding = 12

// Standing are the lines since the mark that end with the present one, noise left out, at most a few.
func (m *Model) Standing() Standing {
	last, _ := m.Line()
	s := Standing{lines: []string{last}, noisy: []bool{false}}
	_, y, _ := m.screen.Cursor()
	_, first, _ := m.screen.LineAt(y, nil)
	noisy := false
	for n := 0; first > 0 && first-1 >= m.newFrom() && n < 2*maxStanding && len(s.lines) < maxStanding; n++ {
		var text []byte
		text, first, _ = m.screen.LineAt(first-1, nil)
		if m.judge(text).noise {
			noisy = true
			continue
		}
		s.lines, s.noisy = append(s.lines, string(text)), append(s.noisy, noisy)
		noisy = false
	}
	return s
}

// Answer is what was drawn between the mark's line and the present one, in the end.
func (m *Model) Answer() Answer {
	a := Answer{scrolled: m.scrolled[:len(m.scrolled):len(m.scrolled)], lost: m.lost}
	_, y, _ := m.screen.Cursor()
	_, end, _ := m.screen.LineAt(y, nil)
	from := m.newFrom()
	joining := append([]byte(nil), m.joining...)
	leaving := append([]byte(nil), m.leaving...)
	for row := 0; row < end; {
		text, _, last := m.screen.LineAt(row, nil)
		marked := row < from || row == 0 && m.passing
		holdsEcho := marked && (row < from && from <= last+1 || row == 0 && m.passing)
		row = last + 1
		if holdsEcho {
			if line, kept := m.judge(m.behindEcho(append(leaving, text...))).kept(); kept && len(line) > 0 {
				a.live = append(a.live, line)
			}
			leaving = nil
		}
		if marked {
			continue
		}
		if len(joining) > 0 {
			text, joining = append(joining, text...), nil
		}
		if line, kept := m.judge(text).kept(); kept {
			a.live = append(a.live, line)
		}
	}
	return a
}

// Answer is a piece of text that is put together when it is wanted.
type Answer struct {
	scrolled []byte
	live     []string
	lost     int64
}

// String is the answer, each line with its end.
func (a Answer) String() string {
	var out strings.Builder
	out.Write(a.scrolled)
	for _, line := range a.live {
		out.WriteString(line)
		out.WriteByte('\n')
	}
	return out.String()
}

// Lost is how many bytes of the answer's beginning were given up, since it is so long.
func (a Answer) Lost() int64 { return a.lost }
