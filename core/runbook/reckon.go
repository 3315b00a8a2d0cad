package runbook

import (
	"fmt"
	"time"

	"pilotrix/core/device"
	"pilotrix/core/event"
	"pilotrix/core/image"
	"pilotrix/core/line"
	"pilotrix/core/reach"
	"pilotrix/core/reckon"
)

// way is what is known of the way to the device: its line, what it takes by itself, and a round trip as
// it was measured.
func (p *Prepared) way(baud int, trip time.Duration) reckon.Way {
	w := reckon.Way{Link: reckon.UsualLink, Trip: max(trip, reckon.UsualTrip), Device: p.Dialect.FetchRate()}
	if framing, err := line.ParseFraming(or(p.Dialect.Line.Framing, line.DefaultFraming)); err == nil {
		w.Baud, w.Framing = baud, framing
	}
	return w
}

// tellEstimates tells what each carrier would take for a file.
func (e *Engine) tellEstimates(img *image.Image, chosen string) {
	baud, _ := e.console.Speed()
	told := event.Estimates{File: img.Name, Size: img.Size}
	for _, one := range reckon.Estimates(img.Size, e.p.way(baud, e.measuredTrip())) {
		told.All = append(told.All, event.Estimate{Carrier: one.Carrier, Terms: one.Terms, Time: one.Time, Why: one.Why, Warn: one.Warn, Chosen: one.Carrier == chosen})
	}
	e.console.Emit(told)
}

// measuredTrip is the last round trip that a watch saw, 0 when none did.
func (e *Engine) measuredTrip() (trip time.Duration) {
	w := e.console.Reach()
	if w == nil {
		return 0
	}
	for _, state := range w.States() {
		if state.Target.Kind == reach.ICMP && state.Last.Held {
			trip = state.Last.Trip
		}
	}
	return trip
}

// reckons are the estimates for a step that stages a file, in words.
func (p *Prepared) reckons(s *Prepped) (words []string) {
	if s.Serve == nil {
		return nil
	}
	img := p.imageOf(s, s.Serve.File)
	if img == nil {
		return nil
	}
	chosen := s.texts["by"].Shown(p.Env(&device.Facts{}))
	for _, one := range reckon.Estimates(img.Size, p.way(p.Dialect.Line.Speed, 0)) {
		mark := ""
		if one.Carrier == chosen {
			mark = " (chosen)"
		}
		words = append(words, fmt.Sprintf("%s, %s: about %s%s: %s%s", one.Carrier, one.Terms, one.Time.Round(time.Second), mark, one.Why, warned(one.Warn)))
	}
	return words
}

func warned(warn string) string {
	if warn == "" {
		return ""
	}
	return "; " + warn
}
