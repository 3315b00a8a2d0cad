package runbook

import (
	"cmp"
	"fmt"
	"time"

	"pilotrix/core/arithmetic"
	"pilotrix/core/carrier"
	"pilotrix/core/image"
	"pilotrix/core/line"
)

// WayToDevice is what is known of the way to the device: its line, what it takes by itself, and a round trip as
// it was measured.
func (p *Prepared) WayToDevice(baud int, trip time.Duration) arithmetic.Way {
	w := arithmetic.Way{
		Link:   arithmetic.UsualLink,
		Trip:   max(trip, arithmetic.UsualTrip),
		Device: p.Dialect.FetchRate(),
	}
	if framing, err := line.ParseFraming(cmp.Or(string(p.Dialect.Line.Framing), line.DefaultFraming)); err == nil {
		w.Baud, w.Framing = baud, framing
	}
	return w
}

// EstimatesText are the estimates for a file that is staged, in words.
func (p *Prepared) EstimatesText(img *image.Image, chosen string) (words []string) {
	if img == nil {
		return nil
	}
	for _, one := range carrier.Estimates(img.Size, p.WayToDevice(p.Dialect.Line.Speed, 0)) {
		mark := ""
		if one.Protocol == chosen {
			mark = " (chosen)"
		}
		words = append(words,
			fmt.Sprintf("%s, %s: about %s%s: %s%s", one.Protocol, one.Terms, one.Time.Round(time.Second), mark, one.Why,
				warned(one.Warn)))
	}
	return words
}

func warned(warn string) string {
	if warn == "" {
		return ""
	}
	return "; " + warn
}
