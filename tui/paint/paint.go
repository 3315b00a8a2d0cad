// Package paint puts styled pieces of text into lines of an exact width.
package paint

import (
	"image/color"
	"strings"

	"pilotrix/core/plain"

	"charm.land/lipgloss/v2"
	"github.com/mattn/go-runewidth"
)

// Look is how a piece looks.
type Look struct {
	FG, BG                                          color.Color
	Bold, Faint, Italic, Underline, Reverse, Struck bool
}

// Piece is text in one look.
type Piece struct {
	Text string
	Look Look
}

// Line is a row of pieces.
type Line []Piece

// In is a piece in one colour.
func In(fg color.Color, text string) Piece { return Piece{plain.Text(text), Look{FG: fg}} }

// Strong is a piece in one colour and bold.
func Strong(fg color.Color, text string) Piece {
	return Piece{plain.Text(text), Look{FG: fg, Bold: true}}
}

// Sign is a sign of a drawing and what it means.
type Sign struct {
	sign  Piece
	means string
}

// Means makes a piece a sign of a legend.
func (p Piece) Means(text string) Sign { return Sign{p, text} }

// Legend explains the signs of a drawing in a row.
func Legend(words color.Color, signs ...Sign) (line Line) {
	before := " "
	for _, s := range signs {
		line = append(line, In(words, before), s.sign, In(words, " "+s.means))
		before = "   "
	}
	return line
}

// Pad fills a text up to a width with blanks, of which there is one at the least.
func Pad(text string, width int) string {
	return text + strings.Repeat(" ", max(1, width-Width(text)))
}

// Width is the columns that text takes.
func Width(text string) int { return runewidth.StringWidth(text) }

// Width is the columns that the line takes.
func (l Line) Width() (width int) {
	for _, p := range l {
		width += Width(p.Text)
	}
	return width
}

// Cut shortens the line to a width; where something was cut an ellipsis stands.
func (l Line) Cut(width int) Line {
	if l.Width() <= width {
		return l
	}
	if width <= 0 {
		return nil
	}
	var out Line
	left := width - 1
	for _, p := range l {
		w := Width(p.Text)
		if w > left {
			p.Text = runewidth.Truncate(p.Text, left, "") + "…"
			return append(out, p)
		}
		left -= w
		out = append(out, p)
	}
	return out
}

// Fit cuts or pads the line to exactly that width.
func (l Line) Fit(width int) Line {
	l = l.Cut(width)
	if gap := width - l.Width(); gap > 0 {
		l = append(l[:len(l):len(l)], Piece{Text: strings.Repeat(" ", gap)})
	}
	return l
}

// Between sets one line at the left and one at the right of a width. The left one is cut when both
// do not fit.
func Between(left, right Line, width int) Line {
	right = right.Cut(width)
	room := width - right.Width()
	if len(right) > 0 && left.Width() >= room { // a blank between the two at least
		left = left.Cut(room - 1)
	}
	return append(left.Fit(room), right...)
}

// On gives every piece without a ground that ground.
func (l Line) On(ground color.Color) Line {
	out := make(Line, len(l))
	for i, p := range l {
		if p.Look.BG == nil {
			p.Look.BG = ground
		}
		out[i] = p
	}
	return out
}

// Rule is a horizontal line with words laid into it.
func Rule(look Look, before, after Line, width int) Line {
	rest := width - before.Width() - after.Width()
	if rest < 1 {
		return before.Fit(width)
	}
	middle := strings.Repeat("─", rest)
	if len(before) > 0 && rest > 2 {
		middle = " " + strings.Repeat("─", rest-2) + " "
		if len(after) == 0 {
			middle = " " + strings.Repeat("─", rest-1)
		}
	}
	line := append(before[:len(before):len(before)], Piece{middle, look})
	return append(line, after...)
}

// String writes the line for the terminal.
func (l Line) String() string {
	var out strings.Builder
	for _, p := range l {
		out.WriteString(p.String())
	}
	return out.String()
}

// String writes the piece for the terminal. What it says may come from a device: nothing in it is a
// control character afterwards.
func (p Piece) String() string {
	p.Text = plain.Text(p.Text)
	if p.Look == (Look{}) {
		return p.Text
	}
	style := lipgloss.NewStyle()
	if p.Look.FG != nil {
		style = style.Foreground(p.Look.FG)
	}
	if p.Look.BG != nil {
		style = style.Background(p.Look.BG)
	}
	return style.Bold(p.Look.Bold).Faint(p.Look.Faint).Italic(p.Look.Italic).Underline(p.Look.Underline).
		Reverse(p.Look.Reverse).Strikethrough(p.Look.Struck).Inline(true).Render(p.Text)
}

// Paragraph is a text behind a lead, on as many rows as it needs; nothing for an empty text.
func Paragraph(lead string, look Look, text string, width int) (lines []Line) {
	if text == "" {
		return nil
	}
	for _, row := range Wrap(text, max(20, width-Width(lead)-1)) {
		lines = append(lines, Line{{Text: lead}, {Text: row, Look: look}})
	}
	return lines
}

// Item is text behind a mark that stands on its first row.
func Item(mark Piece, text string, look Look, width int) (lines []Line) {
	lead := Width(mark.Text)
	for _, row := range Wrap(text, max(20, width-lead-1)) {
		lines = append(lines, Line{mark, {Text: row, Look: look}})
		mark = Piece{Text: strings.Repeat(" ", lead)}
	}
	return lines
}

// Wrap breaks text into rows of at most that width, at spaces.
func Wrap(text string, width int) []string {
	var rows []string
	for _, paragraph := range strings.Split(text, "\n") {
		row := ""
		for _, word := range strings.Fields(paragraph) {
			switch {
			case row == "":
				row = word
			case Width(row)+1+Width(word) <= width:
				row += " " + word
			default:
				rows = append(rows, row)
				row = word
			}
		}
		rows = append(rows, row)
	}
	return rows
}
