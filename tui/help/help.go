// Package help is the view of which keys do what, and what the marks mean. What it says of keys comes from their
// declarations.
package help

import (
	"fmt"

	"pilotrix/tui/keys"
	"pilotrix/tui/paint"
	"pilotrix/tui/theme"
	"pilotrix/tui/view"
)

// Section is a part of the help: keys or marks, each with what it does or means.
type Section struct {
	Name string
	Rows [][2]string
}

// Of makes a section of declared keys, with what is pressed before each; of those that do nothing now there is no row.
func Of(name, before string, declared keys.Map) (s Section) {
	s.Name = name
	for _, key := range declared.Enabled() {
		s.Rows = append(s.Rows, [2]string{before + key.Shown(), key.HelpText()})
	}
	return s
}

// New makes the view. The sections are asked for whenever it is drawn.
func New(sections func() []Section) view.View {
	return view.NewPage(func(r view.Room) []paint.Line { return lines(r.Theme, sections(), r.Width) })
}

func lines(t theme.Theme, sections []Section, width int) (lines []paint.Line) {
	for _, s := range sections {
		if len(s.Rows) == 0 {
			continue
		}
		if len(lines) > 0 {
			lines = append(lines, nil)
		}
		lines = append(lines, paint.Line{paint.Strong(t.Text, s.Name)})
		for _, row := range s.Rows {
			label := row[0]
			for _, part := range paint.Wrap(row[1], max(20, width-22)) {
				lines = append(lines,
					paint.Line{paint.Strong(t.Key, fmt.Sprintf("  %-20s", label)), paint.In(t.Text, part)})
				label = ""
			}
		}
	}
	return lines
}
