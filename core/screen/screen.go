// Package screen keeps what the device drew: rows of styled cells, a cursor, and every row that
// scrolled off. No escape sequence survives it; the view paints from cells alone.
//
// It understands what ECMA-48 (5th edition), ISO 8613-6 and the DEC VT220 manual describe and consoles
// use: cursor movement, erasing, inserting and deleting, scroll regions, tab stops, SGR colours, the
// line-drawing set, the alternate screen. Text is UTF-8, or Latin-1 or code page 437 where that is said.
// A Screen is used by one goroutine at a time.
package screen

import (
	"unicode/utf8"

	"pilotrix/core/plain"

	"github.com/mattn/go-runewidth"
)

// cell is one column. A wide rune is followed by a cell of width 0; a negative rune is a cluster, a
// rune with combining marks, kept in Screen.clusters.
type cell struct {
	r     rune
	style uint16
	width uint8
}

type row struct {
	cells   []cell
	used    int  // columns that hold anything
	wrapped bool // the text goes on in the next row
}

// Run is a piece of a row in one style.
type Run struct {
	Text  string
	Style Style
}

// Screen is the live rows and the history above them.
type Screen struct {
	cols, rows int
	grid       []*row
	saved      []*row // the main screen while the alternate one shows
	history    history
	styles     styles
	clusters   []string

	x, y      int
	wrapNext  bool // the last column was written; the next character goes to the next row
	pen       Style
	penID     uint16
	top, bot  int // scroll region, both inclusive
	mode      modes
	keep      cursor // by DECSC
	keepMain  cursor // when the alternate screen was entered
	marks     []string
	promptEnd int // column after the prompt that was marked last

	parser   parser
	charset  Charset
	tabs     []bool // stops by column
	repaints bool   // the rows were cleared, and nothing scrolled off nor was a prompt seen since
	bells    int

	reply    func(answer string)           // types the answer to a question of the device
	ended    func()                        // a line feed is about to leave the cursor's row
	scrolled func(text []byte, wraps bool) // takes the rows that scroll off, instead of the history
	pin      pin
	at       int   // of the byte available in what is written now
	inked    int64 // characters drawn so far
	returns  int64 // carriage returns so far
	placed   int64 // how often something was drawn at a place of its own so far
}

type cursor struct {
	x, y     int
	wrapNext bool
	pen      Style
	origin   bool
	sets     sets
}

type modes struct {
	noWrap, insert, origin, hidden, appKeys, newLine, inverse bool
}

// HistoryLimit is how many rows are held above the screen by default.
const HistoryLimit = 1_000_000

// New makes an empty screen.
func New(cols, rows int) *Screen {
	s := &Screen{cols: max(cols, 1), rows: max(rows, 1), styles: newStyles(), history: history{limit: HistoryLimit}}
	s.grid = make([]*row, s.rows)
	for i := range s.grid {
		s.grid[i] = s.blank()
	}
	s.bot = s.rows - 1
	s.tabs = usualTabs(s.cols)
	return s
}

// SetCharset says how the device encodes what is not ASCII.
func (s *Screen) SetCharset(c Charset) { s.charset = c }

// Charset is how the device encodes what is not ASCII.
func (s *Screen) Charset() Charset { return s.charset }

// Inverse reports whether the device asked for ground and text to change places (DECSCNM).
func (s *Screen) Inverse() bool { return s.mode.inverse }

func (s *Screen) blank() *row { return &row{cells: make([]cell, s.cols)} }

// Size is the columns and rows of the live screen.
func (s *Screen) Size() (cols, rows int) { return s.cols, s.rows }

// Cursor is where the next character goes, and whether the device shows it.
func (s *Screen) Cursor() (x, y int, shown bool) { return s.x, s.y, !s.mode.hidden }

// AppKeys reports whether the device asked for the application form of the arrow keys.
func (s *Screen) AppKeys() bool { return s.mode.appKeys }

// Bells is how often the device has rung.
func (s *Screen) Bells() int { return s.bells }

// History is how many rows are held above the live screen.
func (s *Screen) History() int { return s.history.len() }

// Dropped is how many rows were given up because the history was full.
func (s *Screen) Dropped() int { return s.history.first }

// Line appends the runs of a row: 0 is the oldest of the history, History() the first live row. The
// text of a row ends at its last written column.
func (s *Screen) Line(n int, runs []Run) []Run {
	if n < s.history.len() {
		runs, _ = s.history.unpack(n, runs, s.styles.all)
		return runs
	}
	r := s.grid[n-s.history.len()]
	cells := r.cells[:r.used]
	for start := 0; start < len(cells); {
		end := start + 1
		for end < len(cells) && cells[end].style == cells[start].style {
			end++
		}
		text := appendText(nil, cells[start:end], s.clusters)
		runs = append(runs, Run{Text: string(text), Style: s.styles.all[cells[start].style]})
		start = end
	}
	return runs
}

// Text is the plain text of a row.
func (s *Screen) Text(n int) string {
	var text []byte
	for _, run := range s.Line(n, nil) {
		text = append(text, run.Text...)
	}
	return string(text)
}

func appendText(out []byte, cells []cell, clusters []string) []byte {
	for _, c := range cells {
		switch {
		case c.width == 0 && c.r == 0:
			out = append(out, ' ')
		case c.width == 0: // the second half of a wide rune
		case c.r < 0:
			out = append(out, clusters[-c.r-1]...)
		case c.r < utf8.RuneSelf:
			out = append(out, byte(c.r))
		default:
			out = utf8.AppendRune(out, c.r)
		}
	}
	return out
}

func textLen(cells []cell, clusters []string) (n int) {
	for _, c := range cells {
		switch {
		case c.width == 0 && c.r == 0:
			n++
		case c.width == 0:
		case c.r < 0:
			n += len(clusters[-c.r-1])
		default:
			n += utf8.RuneLen(c.r)
		}
	}
	return n
}

// Mark lays a line of ours between what the device wrote: above a prompt at which nothing was typed
// yet, else when the device is next at the beginning of a line, so that it never breaks one.
func (s *Screen) Mark(text string) {
	s.marks = append(s.marks, text)
	s.layMarks()
}

func (s *Screen) layMarks() {
	atPrompt := s.pen.Role == Typed && s.x == s.promptEnd && (s.y == s.bot || s.grid[s.y+1].used == 0)
	if len(s.marks) == 0 || s.saved != nil || (s.x != 0 && !atPrompt) {
		return
	}
	marks, pen, x, prompt := s.marks, s.pen, s.x, s.grid[s.y]
	s.marks = nil
	if x != 0 {
		s.grid[s.y], s.x = s.blank(), 0
	}
	for _, text := range marks {
		s.setPen(Style{Role: Mark})
		for _, r := range text {
			if s.x < s.cols-1 {
				s.put(r)
			}
		}
		s.x, s.wrapNext = 0, false
		s.lineFeed()
	}
	if x != 0 {
		s.grid[s.y], s.x = prompt, x
	}
	s.setPen(pen)
}

// MarkPrompt says that the last columns before the cursor are a prompt: they are shown as one, and
// what follows on this line as typed.
func (s *Screen) MarkPrompt(columns int) {
	r := s.grid[s.y]
	for x := max(0, s.x-columns); x < s.x; x++ {
		style := s.styles.all[r.cells[x].style]
		style.Role = Prompt
		r.cells[x].style = s.styles.of(style)
	}
	pen := s.pen
	pen.Role = Typed
	s.setPen(pen)
	s.promptEnd = s.x
	s.repaints = false
}

// MarkNoise says that the line that ended last is one that the device wrote unasked.
func (s *Screen) MarkNoise() {
	for y := s.y - 1; y >= 0; y-- {
		r := s.grid[y]
		for x := range r.cells[:r.used] {
			style := s.styles.all[r.cells[x].style]
			style.Role = Noise
			r.cells[x].style = s.styles.of(style)
		}
		if y == 0 || !s.grid[y-1].wrapped {
			return
		}
	}
}

func (s *Screen) setPen(style Style) {
	if style != s.pen {
		s.pen = style
		s.penID = s.styles.of(style)
	}
}

func (s *Screen) endTyped() {
	if s.pen.Role == Typed {
		pen := s.pen
		pen.Role = Output
		s.setPen(pen)
	}
}

// putASCII writes printable bytes.
func (s *Screen) putASCII(text []byte) {
	if s.mode.insert || s.parser.graphics || s.parser.sets.single != 0 {
		for _, b := range text {
			s.put(s.parser.translate(b))
		}
		return
	}
	s.parser.last = rune(text[len(text)-1])
	s.inked += int64(len(text))
	for len(text) > 0 {
		if s.wrapNext {
			s.wrap()
		}
		r := s.grid[s.y]
		n := min(len(text), s.cols-s.x)
		s.splitWide(r, s.x)
		s.splitWide(r, s.x+n)
		cells := r.cells[s.x : s.x+n]
		for i := range cells {
			cells[i] = cell{r: rune(text[i]), style: s.penID, width: 1}
		}
		s.x += n
		r.used = max(r.used, s.x)
		text = text[n:]
		if s.x == s.cols {
			s.x--
			s.wrapNext = !s.mode.noWrap
			if s.mode.noWrap && len(text) > 0 {
				text = text[len(text)-1:]
			}
		}
	}
}

// splitWide blanks the wide rune that column x would cut in two.
func (s *Screen) splitWide(r *row, x int) {
	if x > 0 && x < len(r.cells) && r.cells[x].width == 0 && r.cells[x].r != 0 {
		r.cells[x-1], r.cells[x] = cell{
			r:     ' ',
			style: r.cells[x-1].style,
			width: 1,
		}, cell{
			r:     ' ',
			style: r.cells[x].style,
			width: 1,
		}
	}
}

// put writes one rune of any width.
func (s *Screen) put(r rune) {
	if plain.Acts(r) {
		r = utf8.RuneError
	}
	width := runewidth.RuneWidth(r)
	if width == 0 {
		s.combine(r)
		return
	}
	s.parser.last = r
	s.inked++
	width = min(width, s.cols)
	if s.wrapNext || s.x+width > s.cols {
		if s.mode.noWrap {
			s.x = s.cols - width
		} else {
			s.wrap()
		}
	}
	line := s.grid[s.y]
	if s.mode.insert {
		s.insertBlank(width)
	}
	s.splitWide(line, s.x)
	s.splitWide(line, s.x+width)
	line.cells[s.x] = cell{r: r, style: s.penID, width: uint8(width)}
	if width == 2 {
		line.cells[s.x+1] = cell{r: r, style: s.penID}
	}
	s.x += width
	line.used = max(line.used, s.x)
	if s.x >= s.cols {
		s.x = s.cols - 1
		s.wrapNext = !s.mode.noWrap
	}
}

const (
	maxClusters    = 1 << 20
	maxClusterSize = 32
)

// combine adds a combining mark to the character before the cursor.
func (s *Screen) combine(r rune) {
	x := s.x - 1
	if s.wrapNext {
		x = s.x
	}
	line := s.grid[s.y]
	if x > 0 && line.cells[x].width == 0 && line.cells[x].r != 0 {
		x--
	}
	if x < 0 || line.cells[x].width == 0 || len(s.clusters) >= maxClusters {
		return
	}
	base := string(line.cells[x].r)
	if line.cells[x].r < 0 {
		base = s.clusters[-line.cells[x].r-1]
	}
	if len(base) >= maxClusterSize {
		return
	}
	s.clusters = append(s.clusters, base+string(r))
	line.cells[x].r = rune(-len(s.clusters))
}

func (s *Screen) wrap() {
	s.grid[s.y].wrapped = true
	s.x, s.wrapNext = 0, false
	s.index()
}

// lineFeed ends what was typed and goes one row down.
func (s *Screen) lineFeed() {
	if s.ended != nil {
		s.ended()
	}
	s.endTyped()
	s.wrapNext = false
	s.index()
}

func (s *Screen) index() {
	switch {
	case s.y == s.bot:
		s.scrollUp(1)
	case s.y < s.rows-1:
		s.y++
	}
}

func (s *Screen) reverseIndex() {
	switch {
	case s.y == s.top:
		s.scrollDown(1)
	case s.y > 0:
		s.y--
	}
}

// scrollUp moves the region up; rows that leave the top of the whole screen go to the history.
func (s *Screen) scrollUp(n int) {
	for range min(n, s.bot-s.top+1) {
		gone := s.grid[s.top]
		if s.top == 0 && s.saved == nil {
			s.off(gone)
			s.repaints = false
			s.pin.y--
		}
		copy(s.grid[s.top:s.bot], s.grid[s.top+1:s.bot+1])
		s.grid[s.bot] = s.clear(gone)
	}
}

// off takes a row that leaves the screen at its top.
func (s *Screen) off(r *row) {
	if s.scrolled == nil {
		s.history.push(r, s.clusters)
		return
	}
	s.scrolled(appendText(nil, r.cells[:r.used], s.clusters), r.wrapped)
}

func (s *Screen) scrollDown(n int) {
	for range min(n, s.bot-s.top+1) {
		gone := s.grid[s.bot]
		copy(s.grid[s.top+1:s.bot+1], s.grid[s.top:s.bot])
		s.grid[s.top] = s.clear(gone)
	}
}

// clear empties a row, keeping the background of the pen as terminals do.
func (s *Screen) clear(r *row) *row {
	clear(r.cells[:r.used])
	r.used, r.wrapped = 0, false
	if s.pen.BG != 0 {
		s.erase(r, 0, s.cols)
	}
	return r
}

// erase blanks columns from up to but not including to.
func (s *Screen) erase(r *row, from, to int) {
	from, to = max(0, from), min(to, s.cols)
	if from >= to {
		return
	}
	s.splitWide(r, from)
	s.splitWide(r, to)
	if s.pen.BG == 0 {
		clear(r.cells[from:to])
		if to >= r.used {
			r.used = min(r.used, from)
		}
		return
	}
	style := s.styles.of(Style{BG: s.pen.BG})
	for x := from; x < to; x++ {
		r.cells[x] = cell{r: ' ', style: style, width: 1}
	}
	r.used = max(r.used, to)
}

func (s *Screen) insertBlank(n int) {
	if s.wrapNext {
		return
	}
	r := s.grid[s.y]
	n = min(n, s.cols-s.x)
	s.splitWide(r, s.x)
	copy(r.cells[s.x+n:], r.cells[s.x:s.cols-n])
	r.used = min(s.cols, max(r.used, s.x)+n)
	s.erase(r, s.x, s.x+n)
	s.splitWide(r, s.cols-1)
}

func (s *Screen) deleteChars(n int) {
	if s.wrapNext {
		return
	}
	r := s.grid[s.y]
	n = min(n, s.cols-s.x)
	s.splitWide(r, s.x)
	s.splitWide(r, s.x+n)
	copy(r.cells[s.x:], r.cells[s.x+n:])
	used := r.used
	if used > s.x {
		used = max(s.x, used-n)
	}
	s.erase(r, s.cols-n, s.cols)
	if s.pen.BG == 0 {
		r.used = used
	}
}

// alternate switches to the second screen and back; whole also keeps the cursor for the way back.
func (s *Screen) alternate(on, whole bool) {
	switch {
	case on && s.saved == nil:
		s.placed++
		s.keepMain = s.where()
		s.saved = s.grid
		s.grid = make([]*row, s.rows)
		for i := range s.grid {
			s.grid[i] = s.blank()
		}
	case !on && s.saved != nil:
		s.grid, s.saved = s.saved, nil
		if whole {
			s.restore(s.keepMain)
		}
	}
}

func (s *Screen) where() cursor {
	return cursor{s.x, s.y, s.wrapNext, s.pen, s.mode.origin, s.parser.sets}
}

func (s *Screen) restore(c cursor) {
	s.x, s.y = min(c.x, s.cols-1), min(c.y, s.rows-1)
	s.wrapNext = c.wrapNext && c.x == s.cols-1
	s.mode.origin = c.origin
	s.parser.sets = c.sets
	s.chooseSet()
	role := s.pen.Role
	c.pen.Role = role
	s.setPen(c.pen)
}

// reset is what ESC c asks for; the history stays.
func (s *Screen) reset() {
	s.alternate(false, true)
	s.SoftReset()
	s.keepRows()
	for _, r := range s.grid {
		s.clear(r)
	}
	s.x, s.y, s.mode = 0, 0, modes{}
	s.tabs = usualTabs(s.cols)
}

// SoftReset is what DECSTR asks for: every mode as it is at the start, the text as it is.
func (s *Screen) SoftReset() {
	s.setPen(Style{Role: s.pen.Role})
	s.mode = modes{newLine: s.mode.newLine, inverse: s.mode.inverse}
	s.parser.sets, s.parser.graphics = sets{}, false
	s.keep, s.wrapNext = cursor{}, false
	s.top, s.bot = 0, s.rows-1
}

// Leave goes back to a plain screen, as a device does that was restarted inside a full-screen program:
// what was asked of a terminal before is not true any more. The text stays, and new text goes below it. It
// reports whether there was anything to leave.
func (s *Screen) Leave() bool {
	if s.saved == nil && s.mode == (modes{}) && s.top == 0 && s.bot == s.rows-1 && s.pen == (Style{Role: s.pen.Role}) &&
		!s.parser.graphics {
		return false
	}
	if s.saved != nil {
		drawn := s.grid
		s.alternate(false, true)
		s.SoftReset()
		s.moveBelow()
		for _, r := range drawn { // the program's last picture may say why it ended
			if r.used > 0 {
				r.wrapped = false
				s.scrollUp(1)
				s.grid[s.bot] = r
			}
		}
	} else {
		s.SoftReset()
	}
	s.mode = modes{}
	s.moveBelow()
	return true
}

// moveBelow goes to the beginning of the first row below all text.
func (s *Screen) moveBelow() {
	last := s.rows - 1
	for last >= 0 && s.grid[last].used == 0 {
		last--
	}
	if last == s.rows-1 {
		s.scrollUp(1)
		last--
	}
	s.moveTo(0, last+1)
}
