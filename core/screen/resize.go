package screen

import (
	"strings"
	"unicode/utf8"

	"github.com/mattn/go-runewidth"
)

// Resize changes the live screen. Text that was wrapped is laid out again, in the history too: what fits on
// one row again goes back to one. Rows that no longer fit go to the history, and come back out of it when
// there is room for them again. Nothing is lost.
func (s *Screen) Resize(cols, rows int) {
	cols, rows = max(cols, 1), max(rows, 1)
	if cols == s.cols && rows == s.rows {
		return
	}
	if s.saved != nil {
		s.resizeAlternate(cols, rows)
		return
	}
	if cols != s.cols {
		s.takeBackWrapped()
		s.history.reflow(cols)
		s.tabs = append(s.tabs, usualTabs(max(cols, s.cols))[len(s.tabs):]...)[:cols]
	}
	lines := s.linesBehindPin()
	s.grid = s.reflow(s.grid, cols, rows)
	s.cols, s.rows = cols, rows
	s.top, s.bot = 0, rows-1
	s.keep.x, s.keep.y = min(s.keep.x, cols-1), min(s.keep.y, rows-1)
	s.setPinBack(lines)
}

// resizeAlternate cuts or extends the alternate screen, which its program redraws, and refits the
// main one after it.
func (s *Screen) resizeAlternate(cols, rows int) {
	there := s.where()
	alternate := s.grid
	s.grid, s.saved = s.saved, nil
	here := s.keepMain
	s.x, s.y, s.wrapNext = min(here.x, s.cols-1), min(here.y, s.rows-1), here.wrapNext
	s.Resize(cols, rows)
	s.keepMain.x, s.keepMain.y, s.keepMain.wrapNext = s.x, s.y, s.wrapNext
	s.saved = s.grid
	s.grid = make([]*row, rows)
	for i := range s.grid {
		s.grid[i] = s.blank()
		if i < len(alternate) {
			s.grid[i].used = min(copy(s.grid[i].cells, alternate[i].cells), alternate[i].used)
		}
	}
	s.restore(there)
}

// takeBackWrapped brings back from the history what belongs to the first row of the screen.
func (s *Screen) takeBackWrapped() {
	for n := s.history.len(); n > 0 && s.history.wraps(n-1); n = s.history.len() {
		s.unscroll()
	}
}

// unscroll takes the newest row of the history and puts it on top of the grid.
func (s *Screen) unscroll() {
	runs, wrapped := s.history.pop(s.styles.all)
	r := s.rowOf(runs)
	r.wrapped = wrapped
	s.grid = append([]*row{r}, s.grid...)
	s.y++
	s.pin.y++
}

// rowOf makes a row of the present width or wider out of runs.
func (s *Screen) rowOf(runs []Run) *row {
	r := &row{}
	for _, run := range runs {
		style := s.styles.of(run.Style)
		for _, c := range run.Text {
			width := runewidth.RuneWidth(c)
			last := len(r.cells) - 1
			for last > 0 && r.cells[last].width == 0 && r.cells[last].r != 0 {
				last--
			}
			if width == 0 && last >= 0 {
				if len(s.clusters) < maxClusters {
					s.clusters = append(s.clusters, s.textOf(r.cells[last])+string(c))
					r.cells[last].r = rune(-len(s.clusters))
				}
				continue
			}
			r.cells = append(r.cells, cell{r: c, style: style, width: uint8(width)})
			if width == 2 {
				r.cells = append(r.cells, cell{r: c, style: style})
			}
		}
	}
	r.used = len(r.cells)
	r.cells = append(r.cells, make([]cell, max(0, s.cols-len(r.cells)))...)
	return r
}

func (s *Screen) textOf(c cell) string {
	if c.r < 0 {
		return s.clusters[-c.r-1]
	}
	return string(c.r)
}

// reflow lays the rows out for the new size. Rows that the text goes on from are joined first.
func (s *Screen) reflow(old []*row, cols, rows int) []*row {
	last := s.y
	for i := len(old) - 1; i > last; i-- {
		if old[i].used > 0 {
			last = i
			break
		}
	}
	cursorX := s.x
	if s.wrapNext {
		cursorX++
	}
	var laid []*row
	x, y := 0, 0
	for i := 0; i <= last; {
		var text []cell
		at := -1
		for {
			if i == s.y {
				at = len(text) + cursorX
			}
			used := min(old[i].used, len(old[i].cells))
			switch {
			case old[i].wrapped && cutWide(old, i): // the last column may have stayed free for want of a second one
				used = max(used, min(s.cols-1, len(old[i].cells)))
			case old[i].wrapped:
				used = len(old[i].cells)
			}
			text = append(text, old[i].cells[:used]...)
			i++
			if !old[i-1].wrapped || i > last {
				break
			}
		}
		pieces := split(text, cols)
		if at >= 0 {
			x, y = locate(pieces, at, cols)
			y += len(laid)
			for y >= len(laid)+len(pieces) {
				pieces = append(pieces, &row{cells: make([]cell, cols)})
			}
		}
		laid = append(laid, pieces...)
	}
	for len(laid) > rows && y > 0 {
		s.off(laid[0])
		laid = laid[1:]
		y--
	}
	laid = laid[:min(len(laid), rows)]
	s.cols = cols
	for len(laid) < rows && s.history.len() > 0 {
		runs, wrapped := s.history.pop(s.styles.all)
		r := s.rowOf(runs)
		r.wrapped = wrapped
		laid = append([]*row{r}, laid...)
		y++
	}
	for len(laid) < rows {
		laid = append(laid, &row{cells: make([]cell, cols)})
	}
	s.x, s.y, s.wrapNext = min(x, cols-1), min(y, rows-1), x >= cols
	return laid
}

// cutWide reports whether a row that wraps ends one column early, since a wide character followed.
func cutWide(old []*row, i int) bool {
	return i+1 < len(old) && len(old[i+1].cells) > 0 && old[i+1].cells[0].width == 2
}

// split cuts cells into rows of the width, never through a wide rune.
func split(text []cell, cols int) []*row {
	var rows []*row
	for {
		n := min(len(text), cols)
		if n == cols && n < len(text) && text[n].width == 0 && text[n].r != 0 && n > 1 {
			n--
		}
		r := &row{cells: make([]cell, cols), used: n, wrapped: n < len(text)}
		copy(r.cells, text[:n])
		rows = append(rows, r)
		if text = text[n:]; len(text) == 0 {
			return rows
		}
	}
}

// locate finds where an offset into the joined text has gone; x may be one past the last column.
func locate(rows []*row, at, cols int) (x, y int) {
	for i, r := range rows {
		if at < r.used || (i == len(rows)-1 && at <= cols) {
			return at, i
		}
		if i < len(rows)-1 {
			at -= r.used
		}
	}
	return 0, len(rows) - 1 + at/cols
}

// reflow lays the kept rows out for another width. A row that stands alone and fits is copied as it is.
func (h *history) reflow(cols int) {
	old := *h
	h.pages, h.index = nil, make([]place, 0, len(old.index))
	for n := 0; n < len(old.index); {
		end := n
		for end < len(old.index)-1 && old.wraps(end) {
			end++
		}
		if packed := old.packed(n); end == n && !old.wraps(n) && len(packed) <= cols { // more bytes than columns
			h.keep(packed)
		} else {
			h.lay(old, n, end, cols)
		}
		n = end + 1
	}
}

// lay joins rows and cuts them to the width.
func (h *history) lay(old history, from, to, cols int) {
	var pieces []packedRun
	for n := from; n <= to; n++ {
		pieces = append(pieces, old.runs(n)...)
	}
	wraps := old.wraps(to)
	var line []packedRun
	width := 0
	for _, piece := range pieces {
		begin := 0
		for i := 0; i < len(piece.text); {
			r, size := utf8.DecodeRune(piece.text[i:])
			w := runewidth.RuneWidth(r)
			if width+w > cols && width > 0 && w > 0 {
				line = append(line, packedRun{piece.style, piece.text[begin:i]})
				h.keep(packRuns(line, true))
				line, width, begin = line[:0], 0, i
			}
			width += w
			i += size
		}
		line = append(line, packedRun{piece.style, piece.text[begin:]})
	}
	h.keep(packRuns(line, wraps))
}

// Find is the nearest row at or after from (or before it, going back) that holds the text, letter
// case ignored; -1 when none does.
func (s *Screen) Find(text string, from int, back bool) int {
	step, wanted := 1, strings.ToLower(text)
	if back {
		step = -1
	}
	for n := from; n >= 0 && n < s.history.len()+s.rows; n += step {
		if strings.Contains(strings.ToLower(s.Text(n)), wanted) {
			return n
		}
	}
	return -1
}
