package evidence

import (
	"fmt"
	"time"

	"pilotrix/core/palette"
	"pilotrix/core/state"
)

// Layers draws the parts of the device that have firmware of their own, one upon the other.
func Layers(s *state.State) *Drawing {
	d := head(s, "Layers", float64(len(s.Layers))+3)
	if len(s.Layers) == 0 {
		d.Text(margin, 60, 10, palette.Quiet, "No layers were read.")
		return d
	}
	y := 50.0
	for _, l := range s.Layers {
		tone := palette.Good
		if l.Release != s.Layers[0].Release {
			tone = palette.Here
		}
		if l.State == "rests" {
			tone = palette.Bad
		}
		d.Box(margin, y, 360, 22, tone, false)
		d.Box(margin, y, 6, 22, tone, true)
		d.Strong(margin+16, y+15, 10, palette.Ink, short(l.Name, 24))
		d.Ending(margin+350, y+15, 10, tone, short(changed(l.ReleaseThen, l.Release), 30))
		if l.State != "" {
			d.Text(margin+372, y+15, 9, palette.Quiet, short(l.State, 16))
		}
		if l.Brings != "" && l.Brings != l.Release {
			d.Text(margin+430, y+15, 9, palette.Here, "waits for "+short(l.Brings, 16))
		}
		y += 25
	}
	text, tone := "All layers agree.", palette.Good
	if !s.LayersAgree() {
		text, tone = "The layers do not agree.", palette.Here
	}
	d.Strong(margin, y+16, 10, tone, text)
	d.Height = y + 16 + margin
	return d
}

// Attached draws what hangs on the device: a row each on one time axis.
func Attached(s *state.State) *Drawing {
	d := head(s, "Attached devices", float64(len(s.Attached))+3)
	if len(s.Attached) == 0 {
		d.Text(margin, 60, 10, palette.Quiet, "No attached devices were read.")
		return d
	}
	const left, right = margin + 150, sheet - margin - 150
	since, until := s.AttachedSince()
	whole := until.Sub(since)
	place := func(at time.Time) float64 {
		if whole <= 0 {
			return left
		}
		return left + (right-left)*at.Sub(since).Seconds()/whole.Seconds()
	}
	y := 56.0
	for _, a := range s.Attached {
		d.Text(margin, y+3, 9, palette.Ink, short(a.Name, 20))
		d.Text(margin+108, y+3, 8, palette.Quiet, short(a.Model, 8))
		for i, span := range a.Spans {
			end := span.To
			if i+1 < len(a.Spans) {
				end = a.Spans[i+1].From
			}
			span.To = end
			attachedSpan(d, a, span, place(span.From), max(1.5, place(end)-place(span.From)), y)
		}
		tone, said := palette.Quiet, a.State
		switch {
		case a.State == state.AttachedHere && a.NewRelease():
			tone, said = palette.Good, "here, "+changed(a.ReleaseThen, a.Release)
		case a.State == state.AttachedHere:
			said = "here, " + a.Release
		case a.State == state.AttachedLoading:
			tone, said = palette.Here, fmt.Sprintf("loads, %d %%", a.Percent)
		default:
			tone = palette.Bad
		}
		d.Text(right+10, y+3, 9, tone, short(said, 28))
		if a.Reason != "" && a.State != state.AttachedHere {
			y += 11
			d.Text(right+10, y+3, 7.5, palette.Bad, short(a.Reason, 34))
		}
		y += row
	}
	d.Line(left, y, right, y, 0.5, palette.Faint)
	d.Text(left, y+12, 8, palette.Quiet, since.Format("15:04:05"))
	d.Ending(right, y+12, 8, palette.Quiet, until.Format("15:04:05"))
	y += 28
	for i, one := range []struct {
		tone palette.Tone
		text string
	}{{palette.Quiet, "here as before"}, {palette.Here, "loads"}, {palette.Faint, "away"}, {palette.Good, "here, renewed"}, {palette.Bad, "refused, failed or missing"}} {
		x := left + 100*float64(i)
		d.Box(x, y-7, 14, 7, one.tone, true)
		d.Text(x+18, y, 8, palette.Quiet, one.text)
	}
	d.Height = y + margin
	return d
}

func attachedSpan(d *Drawing, a state.Attached, span state.Span, x, wide, y float64) {
	switch {
	case span.State == state.AttachedHere && span.Release != a.ReleaseThen:
		d.Box(x, y-4, wide, 8, palette.Good, true)
	case span.State == state.AttachedHere:
		d.Box(x, y-1, wide, 2, palette.Quiet, true)
	case span.State == state.AttachedLoading:
		d.Box(x, y-4, wide, 8, palette.Here, true)
	case span.State == state.AttachedAway:
		d.Line(x, y, x+wide, y, 0.8, palette.Faint)
	default:
		d.Box(x, y-4, wide, 8, palette.Bad, false)
	}
}
