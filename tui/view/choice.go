package view

import (
	tea "charm.land/bubbletea/v2"

	"pilotrix/tui/keys"
)

// Choice is one of several that are listed, by its place from the top.
type Choice struct {
	Scroll
	At    int
	moved bool // since it was drawn
}

// Keys choose; of has how many there are.
func (c *Choice) Keys(of func() int) keys.Map {
	by := func(n func() int) func() tea.Cmd {
		return keys.Just(func() { c.To(c.At+n(), of()) })
	}
	one := func(n int) func() int { return func() int { return n } }
	page := func() int { return max(1, c.rows/2) }
	return keys.Map{
		keys.New("↑ ↓", "choose", by(one(-1)), "up"),
		keys.New("", "", by(one(1)), "down"),
		keys.New("", "", by(func() int { return -page() }), "pgup"),
		keys.New("", "", by(page), "pgdown"),
	}
}

// To chooses one by its place.
func (c *Choice) To(at, of int) { c.At, c.moved = max(0, min(at, of-1)), true }

// InSight brings the rows of the chosen one into sight when another was chosen.
func (c *Choice) InSight(from, to, rows int) {
	if c.moved {
		c.Keep(from, to, rows)
		c.moved = false
	}
}
