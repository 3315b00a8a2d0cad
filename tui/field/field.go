// Package field is where a text is typed: bubbles' textinput has the typing, with its cursor, word keys and pasting;
// what is drawn goes through our own cleaner.
package field

import (
	"strings"

	"charm.land/bubbles/v2/textinput"
	tea "charm.land/bubbletea/v2"

	"pilotrix/tui/paint"
	"pilotrix/tui/theme"
)

// Field is one text that is typed.
type Field struct {
	input  textinput.Model
	Secret bool // typed unseen
}

// New makes a field with a text in it.
func New(text string) *Field {
	input := textinput.New()
	input.KeyMap.Paste.SetEnabled(false) // the terminal pastes, and says so
	input.ShowSuggestions = false
	input.Focus()
	input.SetValue(text)
	return &Field{input: input}
}

// Text is what stands in it.
func (f *Field) Text() string { return f.input.Value() }

// Set puts a text in it, the cursor behind.
func (f *Field) Set(text string) {
	f.input.SetValue(text)
	f.input.CursorEnd()
}

// Update takes a key, or pasted text. It reports whether the text is another than before.
func (f *Field) Update(msg tea.Msg) (changed bool) {
	before := f.input.Value()
	f.input, _ = f.input.Update(msg)
	return f.input.Value() != before
}

// Draw draws it, the cursor in sight.
func (f *Field) Draw(t theme.Theme, width int) paint.Line {
	text := []rune(f.input.Value())
	if f.Secret {
		text = []rune(strings.Repeat("•", len(text)))
	}
	at := min(f.input.Position(), len(text))
	before, under, after := text[:at], " ", text[at:]
	if len(after) > 0 {
		under, after = string(after[0]), after[1:]
	}
	for paint.Width(string(before))+paint.Width(under) > max(1, width) && len(before) > 0 {
		before = before[1:]
	}
	look := paint.Look{FG: t.Ground, BG: t.Here}
	return paint.Line{
		paint.Strong(t.Bright, string(before)),
		{Text: under, Look: look},
		paint.Strong(t.Bright, string(after)),
	}.Cut(width)
}
