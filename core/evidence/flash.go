package evidence

import (
	"fmt"

	"pilotrix/core/event"
	"pilotrix/core/palette"
	"pilotrix/core/state"
	"pilotrix/core/units"
)

// Flash draws a flash to scale, and the part that is dealt with to its own: what is erased, what is written, what was
// compared, and what is never touched.
func Flash(s *state.State) *Drawing {
	if s.Flash == nil {
		d := head(s, "Flash", 2)
		d.Text(margin, 60, 10, palette.Quiet, "No flash was reckoned.")
		return d
	}
	f := s.Flash
	d := head(s, "Flash", 14)
	const left, right = margin, sheet - margin
	at := func(offset int64) float64 { return left + (right-left)*float64(offset)/float64(max(1, f.Size())) }
	y := 70.0
	d.Box(left, y, right-left, 26, palette.Faint, false)
	for _, part := range f.Parts {
		tone := palette.Faint
		if part.Protected {
			d.Box(at(part.At), y, max(1, at(part.At+part.Size)-at(part.At)), 26, palette.Quiet, true)
		}
		d.Line(at(part.At), y-4, at(part.At), y+30, 0.5, tone)
	}
	flashRange(d, f, at, y, 26)
	d.Text(left, y-8, 8.5, palette.Quiet, fmt.Sprintf("0x%08x", f.Base))
	d.Ending(right, y-8, 8.5, palette.Quiet, fmt.Sprintf("0x%08x   %s", f.Base+f.Size(), units.Bytes(f.Size())))
	y = flashPart(d, f, y+46)
	y = flashTable(d, f, y+18)
	d.Height = y + margin
	return d
}

// flashRange draws what is erased and what is written, to a scale.
func flashRange(d *Drawing, f *event.Flash, at func(int64) float64, y, high float64) {
	tone := map[string]palette.Tone{event.FlashVerified: palette.Good, event.FlashDoubtful: palette.Bad}[f.State]
	if tone == palette.Ink {
		tone = palette.Here
	}
	d.Box(at(f.EraseFrom), y, max(1, at(f.EraseTo)-at(f.EraseFrom)), high, palette.Bad, false)
	d.Box(at(f.WriteFrom), y+3, max(1, at(f.WriteTo)-at(f.WriteFrom)), high-6, tone, true)
}

// flashPart draws the part that is dealt with to its own scale, with its sectors.
func flashPart(d *Drawing, f *event.Flash, y float64) float64 {
	const left, right = margin, sheet - margin
	for _, part := range f.Parts {
		if part.Name != f.Part {
			continue
		}
		at := func(offset int64) float64 {
			return left + (right-left)*float64(offset-part.At)/float64(max(1, part.Size))
		}
		d.Strong(left, y, 10, palette.Ink, "part "+short(part.Name, 24))
		d.Ending(right, y, 8.5, palette.Quiet,
			fmt.Sprintf("0x%08x to 0x%08x, %s", f.Base+part.At, f.Base+part.At+part.Size-1, units.Bytes(part.Size)))
		d.Box(left, y+8, right-left, 26, palette.Faint, false)
		flashRange(d, f, at, y+8, 26)
		flashSectors(d, f, part, at, y+34)
		return y + 42
	}
	return y
}

// maxMarks is how many sectors of a run are marked: of more, marks would be one line.
const maxMarks = 512

// flashSectors marks where the sectors of a part begin.
func flashSectors(d *Drawing, f *event.Flash, part event.FlashPart, at func(int64) float64, y float64) {
	offset := int64(0)
	for _, run := range f.Sectors {
		first, behind := run.Starts(offset, part.At+1, part.At+part.Size)
		if behind-first <= maxMarks {
			for i := first; i < behind; i++ {
				x := at(offset + i*run.Size)
				d.Line(x, y, x, y+4, 0.4, palette.Quiet)
			}
		}
		offset += run.Count * run.Size
	}
}

// flashTable says it in addresses and sizes.
func flashTable(d *Drawing, f *event.Flash, y float64) float64 {
	row := func(name, value string, tone palette.Tone) {
		d.Strong(margin, y, 9, palette.Ink, name)
		d.Text(margin+90, y, 9, tone, value)
		y += 15
	}
	span := func(from, to int64) string {
		return fmt.Sprintf("0x%08x to 0x%08x   %s B   %s", f.Base+from, f.Base+to-1, units.Count(to-from),
			units.Bytes(to-from))
	}
	row("erased", span(f.EraseFrom, f.EraseTo), palette.Ink)
	row("written", span(f.WriteFrom, f.WriteTo)+"   "+short(f.File, 40), palette.Ink)
	switch {
	case f.Checksum != "":
		row("compared", "the loader's checksum "+short(f.Checksum, 20)+" is the file's", palette.Good)
	case f.State == event.FlashDoubtful:
		row("compared", "not, or not the same: what it holds is in doubt", palette.Bad)
	default:
		row("compared", "not yet: "+f.State, palette.Here)
	}
	y += 6
	for _, part := range f.Parts {
		said := "stays as it is"
		switch {
		case part.Protected:
			said = "never touched"
		case part.Name == f.Part:
			said = "for " + short(f.File, 40)
		}
		d.Text(margin, y, 9, palette.Quiet, fmt.Sprintf("0x%08x", f.Base+part.At))
		d.Text(margin+90, y, 9, palette.Ink, short(part.Name, 20))
		d.Ending(margin+260, y, 9, palette.Ink, units.Bytes(part.Size))
		d.Text(margin+280, y, 9, palette.Quiet, said)
		y += 13
	}
	return y
}
