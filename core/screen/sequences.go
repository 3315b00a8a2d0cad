package screen

import "fmt"

func (s *Screen) sequence(final byte) {
	p := &s.parser
	last := p.last
	p.last = 0
	switch {
	case p.between == '!' && final == 'p' && p.private == 0:
		s.SoftReset()
	case p.between != 0:
	case final == 'b' && p.private == 0:
		s.repeat(last, p.param(0, 1))
	case final == 'n' || final == 'c':
		s.asked(final)
	case p.private != 0 && final != 'h' && final != 'l':
	default:
		if act, known := sequences[final]; known {
			act(s, p.param(0, 1))
		}
	}
}

// repeat writes the character before it again (REP).
func (s *Screen) repeat(r rune, n int) {
	if r == 0 {
		return
	}
	for range min(n, s.cols*s.rows) {
		s.put(r)
	}
}

// asked answers what a device may ask of a terminal (DSR 5 and 6, primary and secondary device
// attributes), and nothing else: an answer is typed into the device.
func (s *Screen) asked(final byte) {
	p := &s.parser
	if s.reply == nil {
		return
	}
	switch what := p.param(0, 0); {
	case final == 'n' && p.private == 0 && what == 5:
		s.reply("\x1b[0n")
	case final == 'n' && p.private == 0 && what == 6:
		s.reply(fmt.Sprintf("\x1b[%d;%dR", s.y+1-s.origin(), s.x+1))
	case final == 'c' && p.private == 0 && what == 0:
		s.reply("\x1b[?62;22c") // VT220 with colours
	case final == 'c' && p.private == '>' && what == 0:
		s.reply("\x1b[>1;10;0c")
	}
}

// sequences are the control sequences by their final byte; n is the first parameter, 1 when absent.
var sequences = map[byte]func(s *Screen, n int){
	'A': func(s *Screen, n int) { s.moveRow(s.y - n) },
	'B': func(s *Screen, n int) { s.moveRow(s.y + n) },
	'C': func(s *Screen, n int) { s.moveTo(s.x+n, s.y) },
	'a': func(s *Screen, n int) { s.moveTo(s.x+n, s.y) },
	'e': func(s *Screen, n int) { s.moveRow(s.y + n) },
	'I': func(s *Screen, n int) { s.tab(n) },
	'Z': func(s *Screen, n int) { s.tab(-n) },
	'g': func(s *Screen, _ int) { s.clearTabs() },
	'D': func(s *Screen, n int) { s.moveTo(s.x-n, s.y) },
	'E': func(s *Screen, n int) { s.x = 0; s.moveRow(s.y + n) },
	'F': func(s *Screen, n int) { s.x = 0; s.moveRow(s.y - n) },
	'G': func(s *Screen, n int) { s.moveTo(n-1, s.y) },
	'`': func(s *Screen, n int) { s.moveTo(n-1, s.y) },
	'd': func(s *Screen, n int) { s.place(s.x, n-1) },
	'H': func(s *Screen, n int) { s.place(s.parser.param(1, 1)-1, n-1) },
	'f': func(s *Screen, n int) { s.place(s.parser.param(1, 1)-1, n-1) },
	'J': func(s *Screen, _ int) { s.eraseScreen(s.parser.param(0, 0)) },
	'K': func(s *Screen, _ int) { s.eraseLine(s.parser.param(0, 0)) },
	'X': func(s *Screen, n int) { s.erase(s.grid[s.y], s.next(), s.x+n) },
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

// place moves to a column and a row as the device counts them: in origin mode from the scroll region's top,
// and not out of the region.
func (s *Screen) place(x, y int) {
	s.placed++
	if s.mode.origin {
		y = min(max(s.top+y, s.top), s.bot)
	}
	s.moveTo(x, y)
}

// moveRow stops at the margin of the scroll region that it would cross.
func (s *Screen) moveRow(y int) {
	switch {
	case y < s.y && s.y >= s.top:
		y = max(y, s.top)
	case y > s.y && s.y <= s.bot:
		y = min(y, s.bot)
	}
	s.moveTo(s.x, y)
}

// tab goes that many tab stops on, or back.
func (s *Screen) tab(n int) {
	step := 1
	if n < 0 {
		step, n = -1, -n
	}
	x := s.x
	for range min(n, s.cols) {
		for x += step; x > 0 && x < s.cols-1 && !s.tabs[x]; {
			x += step
		}
	}
	s.x, s.wrapNext = min(max(x, 0), s.cols-1), s.wrapNext && step > 0
}

func (s *Screen) clearTabs() {
	switch s.parser.param(0, 0) {
	case 0:
		s.tabs[s.x] = false
	case 3:
		clear(s.tabs)
	}
}

// usualTabs are a stop at every eighth column.
func usualTabs(cols int) []bool {
	tabs := make([]bool, cols)
	for x := 8; x < cols; x += 8 {
		tabs[x] = true
	}
	return tabs
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

// next is the column that the next character would go to: after the last one when that was written. What
// erases from the cursor on leaves a full row alone, so that a bar of full width keeps its end.
func (s *Screen) next() int {
	if s.wrapNext {
		return s.cols
	}
	return s.x
}

func (s *Screen) eraseLine(what int) {
	r := s.grid[s.y]
	switch what {
	case 0:
		s.erase(r, s.next(), s.cols)
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
		if s.x == 0 && s.y == 0 {
			s.keepRows()
		}
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

// keepRows puts what is about to be cleared into the history. A program that clears again and again to
// paint the same picture does not fill it: only the first time is kept, until something scrolled off or a
// prompt was seen.
func (s *Screen) keepRows() {
	s.placed++
	if s.saved != nil {
		return
	}
	if !s.repaints {
		last := len(s.grid) - 1
		for last >= 0 && s.grid[last].used == 0 {
			last--
		}
		for _, r := range s.grid[:last+1] {
			s.off(r)
			s.pin.y--
		}
		s.repaints = last >= 0
	}
	s.pin.y = min(s.pin.y, -1) // what comes now is below it, wherever it is drawn
}

func (s *Screen) fillWith(b byte) {
	for _, r := range s.grid {
		for x := range r.cells {
			r.cells[x] = cell{r: rune(b), width: 1}
		}
		r.used, r.wrapped = s.cols, false
	}
	s.top, s.bot = 0, s.rows-1
	s.moveTo(0, 0)
}

func (s *Screen) setModes(on bool) {
	p := &s.parser
	for _, n := range p.params[:p.count] {
		switch {
		case p.private == 0 && n == 4:
			s.mode.insert = on
		case p.private == 0 && n == 20:
			s.mode.newLine = on
		case p.private != '?':
		case n == 1:
			s.mode.appKeys = on
		case n == 5:
			s.mode.inverse = on
		case n == 6:
			s.mode.origin = on
			s.place(0, 0)
		case n == 7:
			s.mode.noWrap = !on
		case n == 25:
			s.mode.hidden = !on
		case n == 47 || n == 1047:
			s.alternate(on, false)
		case n == 1048 && on:
			s.keep = s.where()
		case n == 1048:
			s.restore(s.keep)
		case n == 1049:
			s.alternate(on, true)
		}
	}
}
