// Package flash draws a flash to its parts: what is erased of it, what is written, what was compared, and what is never
// touched.
package flash

import (
	"fmt"
	"image/color"
	"strings"

	"pilotrix/core/event"
	"pilotrix/core/state"
	"pilotrix/core/units"
	"pilotrix/tui/paint"
	"pilotrix/tui/theme"
)

// Columns of the map.
const (
	addressWidth = 12
	nameWidth    = 11
	sizeWidth    = 12
)

// View draws the whole map with a band for each part, and below it the ranges in addresses and sizes.
func View(t theme.Theme, s *state.State, width int) []paint.Line {
	f := s.Flash
	lines := []paint.Line{
		paint.Rule(paint.Look{FG: t.Faint},
			paint.Line{paint.Strong(t.Quiet, "flash"), paint.In(t.Quiet, "  "+layout(f))}, paint.Line{word(t, f)},
			width),
	}
	long := max(12, min(64, width-addressWidth-nameWidth-sizeWidth-22))
	for _, part := range f.Parts {
		look := t.Text
		if part.Name == f.Part {
			look = t.Bright
		}
		line := paint.Line{
			paint.In(t.Quiet, fmt.Sprintf(" %-*s", addressWidth, hex(f.Base+part.At))),
			paint.Strong(look, fmt.Sprintf("%-*s", nameWidth, part.Name)),
			paint.In(t.Quiet, fmt.Sprintf("%*s  ", sizeWidth-2, units.Bytes(part.Size))),
		}
		lines = append(lines, append(append(line, band(t, f, part, long)...), said(t, f, part)...).Cut(width))
	}
	lines = append(lines, paint.Line{paint.In(t.Faint, fmt.Sprintf(" %-*send", addressWidth, hex(f.Base+f.Size())))},
		nil)
	for _, row := range ranges(t, f) {
		lines = append(lines, row.Cut(width))
	}
	return append(lines, nil, legend(t).Cut(width))
}

// Card draws the part that is dealt with, small, for the side column.
func Card(t theme.Theme, s *state.State, width int) (lines []paint.Line) {
	f := s.Flash
	for _, part := range f.Parts {
		if part.Name != f.Part {
			continue
		}
		lines = append(lines, band(t, f, part, width),
			paint.Between(paint.Line{paint.In(t.Faint, hex(f.Base+part.At))},
				paint.Line{paint.In(t.Faint, hex(f.Base+part.At+part.Size))}, width))
	}
	put := func(name, value string) {
		lines = append(lines,
			paint.Between(paint.Line{paint.In(t.Quiet, name)}, paint.Line{paint.In(t.Text, value)}, width))
	}
	put("erase", hex(f.Base+f.EraseFrom)+" – "+hex(f.Base+f.EraseTo-1))
	put("", fmt.Sprintf("%s, %s", units.Many(f.Erased(), "sector"), units.Bytes(f.EraseTo-f.EraseFrom)))
	put("write", hex(f.Base+f.WriteFrom)+" – "+hex(f.Base+f.WriteTo-1))
	put("", units.Bytes(f.WriteTo-f.WriteFrom)+" of "+f.File)
	if f.Checksum != "" {
		lines = append(lines, paint.Line{paint.In(t.Good, "✓ "), paint.In(t.Text, "checksum "+f.Checksum)})
	}
	return lines
}

// Word says in one how it stands with it.
func Word(t theme.Theme, s *state.State) paint.Piece { return word(t, s.Flash) }

func hex(n int64) string { return fmt.Sprintf("0x%08x", n) }

func layout(f *event.Flash) string {
	var runs []string
	for _, run := range f.Sectors {
		runs = append(runs, fmt.Sprintf("%d × %s", run.Count, units.Bytes(run.Size)))
	}
	return units.Bytes(f.Size()) + " in " + strings.Join(runs, " + ")
}

// stages are how far a flash is, by its states.
var stages = map[string]int{
	event.FlashComputed: 0,
	event.FlashErasing:  1,
	event.FlashErased:   2,
	event.FlashWriting:  3,
	event.FlashWritten:  4,
	event.FlashVerified: 5,
}

func word(t theme.Theme, f *event.Flash) paint.Piece {
	switch f.State {
	case event.FlashComputed:
		return paint.In(t.Quiet, "nothing touched yet")
	case event.FlashVerified:
		return paint.Strong(t.Good, "written and compared")
	case event.FlashDoubtful:
		return paint.Strong(t.Bad, "in doubt: not compared")
	}
	return paint.Strong(t.Here, f.State)
}

// cell is one place of a band.
type cell struct {
	mark string
	look color.Color
}

// cells are what a place of the part to be written looks like, by what lies there.
func cells(t theme.Theme, f *event.Flash) (written, erased cell) {
	switch stage := stages[f.State]; {
	case f.State == event.FlashDoubtful:
		return cell{"╳", t.Bad}, cell{"░", t.Bad}
	case stage == 0:
		return cell{"▓", t.Here}, cell{"░", t.Here}
	case stage < 3:
		return cell{"░", t.Bad}, cell{"░", t.Bad}
	case stage < 5:
		return cell{"▓", t.Here}, cell{"░", t.Quiet}
	}
	return cell{"█", t.Good}, cell{"░", t.Quiet}
}

// band is a part to its own scale. What is smaller than a place of it is shown as one.
func band(t theme.Theme, f *event.Flash, part event.FlashPart, long int) (line paint.Line) {
	if part.Protected {
		return paint.Line{paint.In(t.Faint, strings.Repeat("━", long))}
	}
	written, erased := cells(t, f)
	for i := range long {
		from := part.At + part.Size*int64(i)/int64(long)
		to := max(from+1, part.At+part.Size*int64(i+1)/int64(long))
		one := cell{"·", t.Faint}
		switch {
		case part.Name != f.Part:
		case from < f.WriteTo && f.WriteFrom < to:
			one = written
		case from < f.EraseTo && f.EraseFrom < to:
			one = erased
		}
		line = append(line, paint.In(one.look, one.mark))
	}
	return line
}

func said(t theme.Theme, f *event.Flash, part event.FlashPart) paint.Line {
	switch {
	case part.Protected:
		return paint.Line{paint.In(t.Quiet, "  never touched")}
	case part.Name != f.Part:
		return paint.Line{paint.In(t.Quiet, "  stays as it is")}
	}
	share := float64(f.WriteTo-f.WriteFrom) / float64(max(1, part.Size)) * 100
	return paint.Line{paint.In(t.Text, fmt.Sprintf("  %.0f %% of it", share))}
}

// ranges are what is erased and written, in addresses and sizes, and what came of it.
func ranges(t theme.Theme, f *event.Flash) (lines []paint.Line) {
	stage := stages[f.State]
	row := func(name string, done bool, from, to int64, more string) {
		mark, look := "○", t.Quiet
		if done {
			mark, look = "●", t.Good
		}
		lines = append(lines, paint.Line{
			paint.In(look, " "+mark+" "),
			paint.Strong(t.Text, fmt.Sprintf("%-10s", name)),
			paint.In(t.Bright, hex(f.Base+from)+" to "+hex(f.Base+to-1)),
			paint.In(t.Text, fmt.Sprintf("   %s B   %s", units.Count(to-from), units.Bytes(to-from))),
			paint.In(t.Quiet, more),
		})
	}
	row("erased", stage >= stages[event.FlashErased], f.EraseFrom, f.EraseTo,
		fmt.Sprintf("   %s", units.Many(f.Erased(), "sector")))
	row("written", stage >= stages[event.FlashWritten], f.WriteFrom, f.WriteTo, "   "+f.File)
	mark, text := paint.In(t.Quiet, " ○ "), paint.In(t.Quiet, "by the loader's own checksum")
	if f.Checksum != "" {
		mark, text = paint.In(t.Good, " ● "), paint.In(t.Text, "checksum "+f.Checksum+", the file's")
	}
	return append(lines, paint.Line{mark, paint.Strong(t.Text, "compared  "), text})
}

func legend(t theme.Theme) paint.Line {
	return paint.Legend(t.Quiet,
		paint.In(t.Here, "▓").Means("to write"),
		paint.In(t.Here, "░").Means("erased with it"),
		paint.In(t.Good, "█").Means("written, compared"),
		paint.In(t.Faint, "·").Means("stays"),
		paint.In(t.Faint, "━").Means("never touched"))
}
