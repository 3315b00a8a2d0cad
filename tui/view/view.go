// Package view says what a view of the interface is: a model of its own, which has its keys, its scroll and its choice,
// and draws itself as rows to a size. The frame gives it room when it is drawn; it knows nothing of the frame.
package view

import (
	"math"

	tea "charm.land/bubbletea/v2"

	"pilotrix/tui/keys"
	"pilotrix/tui/paint"
	"pilotrix/tui/theme"
)

// Room is what a view draws in.
type Room struct {
	Theme       theme.Theme
	Width, Rows int
}

// View is one of the views.
type View interface {
	// Keys are what its keys do now.
	Keys() keys.Map
	// Update takes what is no key of it: keys that nobody has declared, pasted text, and what its own commands gave.
	Update(tea.Msg) tea.Cmd
	// Draw gives the rows that fit the room.
	Draw(Room) []paint.Line
}

// Scroll is which rows of something longer are seen.
type Scroll struct{ offset, rows int }

// Moves is what the keys of a scroll do.
const Moves = "move"

// Keys move.
func (s *Scroll) Keys() keys.Map {
	by := func(rows func() int) func() tea.Cmd {
		return keys.Just(func() { s.offset = max(0, s.offset+rows()) })
	}
	page := func() int { return max(1, s.rows-2) }
	return keys.Map{
		keys.New("↑ ↓", Moves, by(func() int { return -1 }), "up").Explain("move, PgUp, PgDn, Home and End too"),
		keys.New("", "", by(func() int { return 1 }), "down"),
		keys.New("", "", by(func() int { return -page() }), "pgup"),
		keys.New("", "", by(page), "pgdown"),
		keys.New("", "", by(func() int { return -s.offset }), "home"),
		keys.New("", "", by(func() int { return math.MaxInt / 2 }), "end"),
	}
}

// Wheel moves by the mouse: positive goes back.
func (s *Scroll) Wheel(rows int) { s.offset = max(0, s.offset-rows) }

// Keep brings rows of what is drawn into sight; of one that is too long its beginning.
func (s *Scroll) Keep(from, to, rows int) { s.offset = max(0, min(max(s.offset, to-rows), from)) }

// Window cuts out what is seen.
func (s *Scroll) Window(lines []paint.Line, rows int) []paint.Line {
	s.rows = rows
	s.offset = max(0, min(s.offset, len(lines)-rows))
	return lines[s.offset:min(len(lines), s.offset+rows)]
}

// Page is a view that is only read: drawn whole and scrolled.
type Page struct {
	Scroll
	whole func(Room) []paint.Line
}

// NewPage makes one of what draws it whole.
func NewPage(whole func(Room) []paint.Line) *Page { return &Page{whole: whole} }

// Update implements View.
func (p *Page) Update(tea.Msg) tea.Cmd { return nil }

// Draw implements View.
func (p *Page) Draw(r Room) []paint.Line { return p.Window(p.whole(r), r.Rows) }
