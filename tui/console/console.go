// Package console is the view of the live line: what the device drew, with its prompts and what was
// typed told apart, marks where something happened, and everything that scrolled off.
package console

import (
	"image/color"
	"strings"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/x/ansi"

	"pilotrix/core/event"
	"pilotrix/core/screen"
	"pilotrix/tui/keys"
	"pilotrix/tui/paint"
	"pilotrix/tui/theme"
	"pilotrix/tui/view"
)

// Console is the view's model.
type Console struct {
	screen *screen.Screen
	back   int // rows scrolled back from the live screen
	found  int // row of the last search hit, -1 when there is none
	sought string
	moved  bool // something arrived while scrolled back
	runs   []screen.Run

	cols, rows int  // of the view
	own        bool // the device's terminal has a size of its own

	// Press sends what a key is to the device, Paste a text; nil where nothing can be typed.
	Press func(bytes []byte)
	Paste func(text string)
}

// New makes a console of a size.
func New(cols, rows int) *Console {
	return &Console{screen: screen.New(cols, rows), found: -1, cols: cols, rows: rows}
}

// Keys implements view.View. All other keys go to the device.
func (c *Console) Keys() keys.Map {
	half := func() int { return max(1, c.rows/2) }
	return keys.Map{
		keys.New("Shift+PgUp", "scroll back", keys.Just(func() { c.Scroll(half()) }), "shift+pgup").
			Explain("scrolls back, the wheel too; any key for the device returns to the live line"),
		keys.New("Shift+PgDn", "forth", keys.Just(func() { c.Scroll(-half()) }), "shift+pgdown"),
	}
}

// Update implements view.View: what nobody else has taken is the device's.
func (c *Console) Update(msg tea.Msg) tea.Cmd {
	switch msg := msg.(type) {
	case tea.KeyPressMsg:
		if bytes := Bytes(tea.Key(msg), c.AppKeys()); len(bytes) > 0 && c.Press != nil {
			c.Live()
			c.Press(bytes)
		}
	case tea.PasteMsg:
		if c.Paste != nil {
			c.Live()
			c.Paste(msg.Content)
		}
	}
	return nil
}

// Wheel scrolls by the mouse.
func (c *Console) Wheel(rows int) { c.Scroll(rows) }

// Draw implements view.View: the newest rows where there is less room than it has, the cursor's among them.
func (c *Console) Draw(r view.Room) []paint.Line {
	lines := c.Lines(r.Theme)
	return lines[c.cut(len(lines), r.Rows):]
}

// CursorIn is where the cursor is drawn in a room of so many rows.
func (c *Console) CursorIn(rows int) (x, y int, shown bool) {
	x, y, shown = c.Cursor()
	_, all := c.screen.Size()
	return x, y - c.cut(min(c.rows, c.screen.History()+all-c.first()), rows), shown
}

// cut is how many rows go at the top where there is no room for all: no more than leave the cursor's row in sight.
func (c *Console) cut(rows, room int) int {
	_, y, _ := c.Cursor()
	return max(0, min(rows-room, y-room+1))
}

// Apply takes one event in.
func (c *Console) Apply(e event.Event) {
	switch b := e.Body.(type) {
	case event.In:
		before := c.screen.History()
		c.screen.Write(b.Bytes)
		if c.back > 0 { // what is looked at stays where it is
			c.back = min(c.back+c.screen.History()-before, c.screen.History())
			c.moved = true
		}
	case event.Prompt:
		c.screen.MarkPrompt(paint.Width(b.Text))
	case event.Mark:
		c.screen.Mark(b.Text)
	case event.Noise:
		c.screen.MarkNoise()
	case event.Terminal:
		c.terminal(b)
	}
}

// terminal takes what is known of the device's terminal.
func (c *Console) terminal(b event.Terminal) {
	if set, err := screen.ParseCharset(b.Charset); err == nil {
		c.screen.SetCharset(set)
	}
	if c.own = b.Cols > 0 && b.Rows > 0; c.own {
		c.screen.Resize(b.Cols, b.Rows)
	}
	if b.Plain {
		c.screen.Leave()
	}
}

// Resize fits the console to the view, unless the device's terminal has a size of its own.
func (c *Console) Resize(cols, rows int) {
	c.cols, c.rows = cols, rows
	if !c.own {
		c.screen.Resize(cols, rows)
	}
}

// Size is the view's columns and rows.
func (c *Console) Size() (cols, rows int) { return c.cols, c.rows }

// AppKeys reports whether the device asked for the application form of the arrow keys.
func (c *Console) AppKeys() bool { return c.screen.AppKeys() }

// Scroll moves the view back (positive) or forward.
func (c *Console) Scroll(rows int) {
	c.back = min(max(0, c.back+rows), c.screen.History())
	if c.back == 0 {
		c.moved = false
	}
}

// Live returns to the live screen.
func (c *Console) Live() { c.back, c.moved, c.found = 0, false, -1 }

// Back is how many rows the view is scrolled back, and whether something arrived meanwhile.
func (c *Console) Back() (rows int, moved bool) { return c.back, c.moved }

// Search looks backwards for text, from the last hit on, and shows it. It reports whether it was
// found.
func (c *Console) Search(text string) bool {
	_, rows := c.screen.Size()
	from := c.screen.History() + rows - 1
	if c.found >= 0 && text == c.sought {
		from = c.found - 1
	}
	c.sought = text
	c.found = c.screen.Find(text, from, true)
	if c.found < 0 {
		return false
	}
	c.back = min(max(0, c.screen.History()-c.found+rows/2), c.screen.History())
	return true
}

// Cursor is where the device's cursor is in the view; shown is false when it is hidden or scrolled
// away.
func (c *Console) Cursor() (x, y int, shown bool) {
	x, y, shown = c.screen.Cursor()
	y += c.screen.History() - c.first()
	return x, y, shown && y < c.rows && x < c.cols
}

// first is the row that the view begins with: where the device's screen is smaller than the view, the
// history fills it up; where it is larger, its last rows show.
func (c *Console) first() int {
	_, rows := c.screen.Size()
	return max(0, c.screen.History()+rows-c.rows-c.back)
}

// Lines paints the view.
func (c *Console) Lines(t theme.Theme) []paint.Line {
	_, rows := c.screen.Size()
	first := c.first()
	lines := make([]paint.Line, min(c.rows, c.screen.History()+rows-first))
	for i := range lines {
		c.runs = c.screen.Line(first+i, c.runs[:0])
		lines[i] = c.line(t, c.runs, c.cols, first+i == c.found)
	}
	return lines
}

// Text is what is in sight, row by row.
func (c *Console) Text() (rows []string) {
	for _, line := range c.Lines(theme.Dark()) {
		var text strings.Builder
		for _, piece := range line {
			text.WriteString(piece.Text)
		}
		rows = append(rows, text.String())
	}
	return rows
}

func (c *Console) line(t theme.Theme, runs []screen.Run, cols int, hit bool) paint.Line {
	if len(runs) > 0 && runs[0].Style.Role == screen.Mark {
		return mark(t, runs, cols)
	}
	line := make(paint.Line, 0, len(runs))
	for _, run := range runs {
		look := lookOf(t, run.Style)
		look.Reverse = look.Reverse != c.screen.Inverse()
		if strings.Trim(run.Text, "\ufffd ") == "" { // nothing in it can be read
			look = paint.Look{FG: t.Quiet}
		}
		if hit {
			look.BG = t.Hold
		}
		line = append(line, paint.Piece{Text: run.Text, Look: look})
	}
	return line
}

// mark draws a line of ours: quiet, dashed, from edge to edge.
func mark(t theme.Theme, runs []screen.Run, cols int) paint.Line {
	var text strings.Builder
	for _, run := range runs {
		text.WriteString(run.Text)
	}
	words := "╌╌╌ " + text.String() + " "
	return paint.Line{paint.In(t.Quiet, words), paint.In(t.Faint, strings.Repeat("╌", max(0, cols-paint.Width(words))))}
}

var roleColors = map[screen.Role]func(theme.Theme) color.Color{
	screen.Output: func(t theme.Theme) color.Color { return t.Text },
	screen.Prompt: func(t theme.Theme) color.Color { return t.Good },
	screen.Typed:  func(t theme.Theme) color.Color { return t.Bright },
	screen.Noise:  func(t theme.Theme) color.Color { return t.Quiet },
}

func lookOf(t theme.Theme, s screen.Style) paint.Look {
	look := paint.Look{
		FG:        roleColors[s.Role](t),
		Bold:      s.Attr&screen.Bold != 0 || s.Role == screen.Typed,
		Faint:     s.Attr&screen.Faint != 0,
		Italic:    s.Attr&screen.Italic != 0,
		Underline: s.Attr&screen.Underline != 0,
		Reverse:   s.Attr&screen.Reverse != 0,
		Struck:    s.Attr&screen.Struck != 0,
	}
	if c := colorOf(s.FG); c != nil {
		look.FG = c
	}
	look.BG = colorOf(s.BG)
	if s.Attr&screen.Hidden != 0 {
		look.FG = t.Ground
	}
	return look
}

func colorOf(c screen.Color) color.Color {
	if n, ok := c.Index(); ok {
		if n < 16 {
			return ansi.BasicColor(n)
		}
		return ansi.IndexedColor(n)
	}
	if r, g, b, ok := c.Parts(); ok {
		return color.RGBA{r, g, b, 0xff}
	}
	return nil
}
