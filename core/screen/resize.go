package screen

import "strings"

// Resize changes the live screen. Text that was wrapped is wrapped anew, rows that no longer fit go
// to the history, and nothing is lost.
func (s *Screen) Resize(cols, rows int) {
	cols, rows = max(cols, 1), max(rows, 1)
	if cols == s.cols && rows == s.rows {
		return
	}
	if s.saved != nil {
		s.resizeAlternate(cols, rows)
		return
	}
	s.grid = s.reflow(s.grid, cols, rows)
	s.cols, s.rows = cols, rows
	s.top, s.bot = 0, rows-1
	s.keep.x, s.keep.y = min(s.keep.x, cols-1), min(s.keep.y, rows-1)
}

// resizeAlternate cuts or extends the alternate screen, which its program redraws, and refits the
// main one behind it.
func (s *Screen) resizeAlternate(cols, rows int) {
	there := s.where()
	alternate := s.grid
	s.grid, s.saved = s.saved, nil
	s.restore(s.keepMain)
	s.Resize(cols, rows)
	s.keepMain = s.where()
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

// reflow lays the rows out for the new width. Rows that the text goes on from are joined first.
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
			used := old[i].used
			if old[i].wrapped {
				used = max(used, len(old[i].cells))
			}
			text = append(text, old[i].cells[:min(used, len(old[i].cells))]...)
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
		s.history.push(laid[0], s.clusters)
		laid = laid[1:]
		y--
	}
	laid = laid[:min(len(laid), rows)]
	for len(laid) < rows {
		laid = append(laid, &row{cells: make([]cell, cols)})
	}
	s.x, s.y, s.wrapNext = min(x, cols-1), min(y, rows-1), false
	return laid
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

// locate finds where an offset into the joined text has gone.
func locate(rows []*row, at, cols int) (x, y int) {
	for i, r := range rows {
		if at < r.used || (i == len(rows)-1 && at < cols) {
			return at, i
		}
		if i < len(rows)-1 {
			at -= r.used
		}
	}
	return 0, len(rows) - 1 + at/cols
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
