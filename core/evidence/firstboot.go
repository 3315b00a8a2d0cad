package evidence

import (
	"fmt"

	"pilotrix/core/palette"
	"pilotrix/core/state"
	"pilotrix/core/units"
)

// FirstBoot draws what new devices and this laptop said to each other, by all protocols together, and how far each
// device came.
func FirstBoot(s *state.State) *Drawing {
	d := head(s, "First boot: messages of all protocols together", float64(len(s.Ladder)+len(s.NewDevice))+4)
	y := 60.0
	if len(s.NewDevice) == 0 {
		d.Text(margin, y, 10, palette.Quiet, "No new device was answered.")
		return d
	}
	for _, n := range s.NewDevice {
		d.Strong(margin, y, 9, palette.Ink, short(n.MAC+" "+n.Vendor, 48))
		d.Text(margin+260, y, 9, palette.Quiet, short(n.Addr, 20))
		color := palette.Good
		if n.Alone {
			color = palette.Quiet
		}
		d.Text(margin+350, y, 9, color,
			short(fmt.Sprintf("%s; %s, %s", n.Stage, files(n.Files), restarts(n.Rounds)), 50))
		y += row
		if n.Wrong != "" {
			d.Text(margin+12, y, 8.5, palette.Bad, short(n.Wrong, 130))
			y += row
		}
	}
	const left, right = margin + 80, sheet - margin - 80
	d.Strong(left-40, y+6, 8.5, palette.Ink, "this laptop")
	d.Ending(right+40, y+6, 8.5, palette.Ink, "new device")
	y += row + 6
	top := y - 10
	for _, r := range s.Ladder {
		if r.Transfer == "" {
			r.What, r.Count = "ERROR", 1
		}
		saying(d, r, r.Protocol+"  "+r.Line(), left, right, y)
		y += row
	}
	d.Line(left, top, left, y-8, 0.8, palette.Quiet)
	d.Line(right, top, right, y-8, 0.8, palette.Quiet)
	d.Height = y + margin
	return d
}

func files(n int) string {
	if n == 1 {
		return "1 file"
	}
	return units.Count(int64(n)) + " files"
}

func restarts(n int) string {
	if n == 1 {
		return "1 restart"
	}
	return units.Count(int64(n)) + " restarts"
}
