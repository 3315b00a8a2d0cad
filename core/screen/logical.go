package screen

// pin is a place on the main screen that stays with its text when that scrolls; above the screen when it
// has scrolled off.
type pin struct{ y int }

// OnReply says who types the answers to what the device asks of its terminal; without, nothing is answered.
func (s *Screen) OnReply(reply func(answer string)) { s.reply = reply }

// OnLine says who is reported that a line feed is about to leave the cursor's row, which can be read then.
func (s *Screen) OnLine(ended func()) { s.ended = ended }

// OnScroll says who takes the rows that leave the main screen at its top; they go to no history then. Wraps
// says that the text goes on in the next row.
func (s *Screen) OnScroll(take func(text []byte, wraps bool)) { s.scrolled = take }

// At is the offset, in what is written now, of the byte that a function of OnLine is called for.
func (s *Screen) At() int { return s.at }

// Inked is how many characters were drawn so far.
func (s *Screen) Inked() int64 { return s.inked }

// Returns is how many carriage returns came so far.
func (s *Screen) Returns() int64 { return s.returns }

// Placed counts what full-screen programs do: going to a place of the screen, to the second one, and clearing it.
func (s *Screen) Placed() int64 { return s.placed }

// Pin sets the pin to the cursor's row.
func (s *Screen) Pin() { s.pin.y = s.y }

// Pinned is the row of the pin, negative once it has scrolled off.
func (s *Screen) Pinned() int { return s.pin.y }

// LineAt appends the text of the line that a live row belongs to, wrapped rows joined, and says which rows
// it takes. Trailing blanks that were written are part of it.
func (s *Screen) LineAt(y int, out []byte) (text []byte, first, last int) {
	first, last = y, y
	for first > 0 && s.grid[first-1].wrapped {
		first--
	}
	for last < s.rows-1 && s.grid[last].wrapped {
		last++
	}
	for i := first; i <= last; i++ {
		r := s.grid[i]
		out = appendText(out, r.cells[:r.used], s.clusters)
	}
	return out, first, last
}

// BeforeCursor appends the text of the cursor's line up to the cursor, and says whether nothing but
// blanks follows it.
func (s *Screen) BeforeCursor(out []byte) (text []byte, free bool) {
	first := s.y
	for first > 0 && s.grid[first-1].wrapped {
		first--
	}
	for i := first; i < s.y; i++ {
		r := s.grid[i]
		out = appendText(out, r.cells[:r.used], s.clusters)
	}
	r := s.grid[s.y]
	x := s.x
	if s.wrapNext {
		x++
	}
	out = appendText(out, r.cells[:x], s.clusters)
	for _, c := range r.cells[min(x, r.used):r.used] {
		if c.r != ' ' && c.r != 0 {
			return out, false
		}
	}
	return out, !r.wrapped
}

// linesBehindPin counts the lines from the pin's to the cursor's, so that the pin can be found again.
func (s *Screen) linesBehindPin() (lines int) {
	if s.pin.y < 0 {
		return -1
	}
	for y := s.pin.y; y < s.y; y++ {
		if !s.grid[y].wrapped {
			lines++
		}
	}
	return lines
}

func (s *Screen) setPinBack(lines int) {
	if lines < 0 {
		return
	}
	y := s.y
	for y > 0 && (lines > 0 || s.grid[y-1].wrapped) {
		y--
		if !s.grid[y].wrapped {
			lines--
		}
	}
	s.pin.y = y
	if lines > 0 {
		s.pin.y = -1
	}
}
