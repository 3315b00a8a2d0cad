package images

import (
	"fmt"
	"time"

	"pilotrix/core/event"
	"pilotrix/core/image"
	"pilotrix/core/units"
	"pilotrix/tui/paint"
	"pilotrix/tui/theme"
)

// held draws the files that the device has itself, each with the image of the shelf that it is.
func held(t theme.Theme, places []event.HeldFiles, width int) (lines []paint.Line) {
	for _, place := range places {
		lines = append(lines,
			paint.Rule(paint.Look{FG: t.Faint}, paint.Line{paint.Strong(t.Quiet, "on the device: "+place.Title)},
				paint.Line{paint.In(t.Quiet, place.Source+", "+place.At.Format(time.TimeOnly))}, width))
		if len(place.Files) == 0 {
			lines = append(lines, paint.Line{paint.In(t.Quiet, "   no whole file there")})
		}
		for _, file := range place.Files {
			lines = append(lines, heldRow(t, file, width))
		}
		lines = append(lines, nil)
	}
	return lines
}

func heldRow(t theme.Theme, file event.HeldFile, width int) paint.Line {
	left := paint.Line{paint.In(t.Faint, " · "), paint.In(t.Text, file.Name)}
	said := paint.In(t.Faint, "  not on the shelf")
	switch {
	case file.By == string(image.SameByDigest):
		left[0] = paint.Strong(t.Good, " ✓ ")
		said = paint.In(t.Good, "  the same as "+file.Image)
	case file.Image != "":
		left[0] = paint.Strong(t.Here, " ? ")
		said = paint.In(t.Here, "  size and name of "+file.Image+", digest not told")
	}
	right := paint.Line{paint.In(t.Quiet, fmt.Sprintf(" %9s", sizeText(file.Size)))}
	if width >= 110 && file.Digest != "" {
		right = append(right, paint.In(t.Faint, fmt.Sprintf("  %.14s…", file.Digest)))
	}
	return paint.Between(left, append(right, said), width)
}

func sizeText(size int64) string {
	if size == 0 {
		return "?"
	}
	return units.Bytes(size)
}
