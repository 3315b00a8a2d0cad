package strip

import (
	"image/color"

	tea "charm.land/bubbletea/v2"

	"pilotrix/tui/field"
	"pilotrix/tui/keys"
	"pilotrix/tui/paint"
	"pilotrix/tui/theme"
)

// Over is what the strip is used for before anything else: a menu, or a text that is typed. While it is there it has
// every key.
type Over interface {
	Keys() keys.Map
	// Update takes the keys that it has not declared, and pasted text.
	Update(tea.Msg) tea.Cmd
	Lines(t theme.Theme, width int) []paint.Line
}

// Menu offers a few keys.
type Menu struct {
	Bad              bool // what it is about ends something
	Mark, Word, Text string
	Choices          keys.Map
	Other            func(tea.KeyPressMsg) tea.Cmd // what any other key does; nil for nothing
}

// Keys implements Over.
func (m *Menu) Keys() keys.Map { return m.Choices }

// Update implements Over.
func (m *Menu) Update(msg tea.Msg) tea.Cmd {
	if k, ok := msg.(tea.KeyPressMsg); ok && m.Other != nil {
		return m.Other(k)
	}
	return nil
}

// Lines implements Over. A menu without a word is its keys alone.
func (m *Menu) Lines(t theme.Theme, width int) []paint.Line {
	if m.Word == "" {
		lines := rows(t, m.Choices.Enabled(), width)
		for i := range lines {
			lines[i] = lines[i].Fit(width).On(t.Strip)
		}
		return lines
	}
	c := color.Color(t.Here)
	if m.Bad {
		c = t.Bad
	}
	return question(t, width, c, m.Mark, m.Word, m.Text, nil, m.Choices)
}

// Prompt is a text that is typed in the strip.
type Prompt struct {
	Label     string
	Field     *field.Field
	Choices   keys.Map
	Complaint string // what was wrong with what was given
}

// Keys implements Over.
func (p *Prompt) Keys() keys.Map { return p.Choices }

// Update implements Over.
func (p *Prompt) Update(msg tea.Msg) tea.Cmd {
	if p.Field.Update(msg) {
		p.Complaint = ""
	}
	return nil
}

// Lines implements Over: what is typed, and beside it, or where there is no room under it, what the keys do.
func (p *Prompt) Lines(t theme.Theme, width int) []paint.Line {
	label := paint.In(t.Quiet, " "+p.Label+" ")
	line := append(paint.Line{label}, p.Field.Draw(t, max(8, width-paint.Width(label.Text)-1))...)
	var says []paint.Line
	if p.Complaint != "" {
		for _, row := range paint.Wrap(p.Complaint, max(20, width-2)) {
			says = append(says, paint.Line{{Text: " "}, paint.In(t.Here, row)})
		}
	} else {
		says = rows(t, p.Choices.Enabled(), width)
	}
	if len(says) == 1 && line.Width()+2+says[0].Width() <= width {
		return []paint.Line{paint.Between(line, append(says[0], paint.Piece{Text: " "}), width).Fit(width).On(t.Strip)}
	}
	lines := []paint.Line{line.Fit(width).On(t.Strip)}
	for _, row := range says {
		lines = append(lines, row.Fit(width).On(t.Strip))
	}
	return lines
}
