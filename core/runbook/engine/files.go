package engine

import (
	"context"
	"fmt"
	"reflect"
	"time"

	"pilotrix/core/carrier"
	"pilotrix/core/event"
	"pilotrix/core/image"
	"pilotrix/core/reach"
	"pilotrix/core/runbook"
)

// unpackers is what unpacks images, and removes what it has unpacked with the run.
var unpackers = new(Kept[image.Unpacker])

// Ready makes a plain file of an image and holds that it is still the one that was checked.
func (run *Run) Ready(ctx context.Context, s *runbook.PreparedStep, img *image.Image) (*image.Image, error) {
	if img.Packed() {
		unpacker := unpackers.Of(run)
		if unpacker.In == "" {
			unpacker.In = run.Prepared.Kit.Folder
			run.AtEnd(func() {
				if err := unpacker.Close(); err != nil {
					run.Console.Emit(
						event.Note{Level: event.Warning, Text: "what was unpacked is left behind: " + err.Error()})
				}
			})
		}
		return unpacker.Plain(ctx, img,
			func() { run.Now(s, "Unpacks "+img.Name+" from "+img.Path, "the disk", s.Timeout) })
	}
	run.Now(s, "Hashes "+img.Name, "the disk", s.Timeout)
	now, err := image.Open(img.Path, nil)
	if err != nil {
		return nil, err
	}
	if now.SHA256 != img.SHA256 {
		return nil, fmt.Errorf("%s changed since it was checked (sha256 %.12s…, was %.12s…)", img.Path, now.SHA256,
			img.SHA256)
	}
	same := *img
	same.Modified = now.Modified // it may have been touched
	return &same, nil
}

// shelfSaid is the shelf as it was shown last.
var shelfSaid = new(Kept[event.Shelf])

// ShowShelf says the shelf when something about it, or its fit, is new.
func (run *Run) ShowShelf() {
	if run.Prepared.Kit.Shelf == nil {
		return
	}
	report := runbook.ShelfEvent(run.Prepared.Kit.Shelf, run.Prepared.Dialect, run.Console.Facts())
	if last := shelfSaid.Of(run); !reflect.DeepEqual(report, *last) {
		*last = report
		run.Console.Emit(report)
	}
}

// ShowEstimates says what each protocol would take for a file.
func (run *Run) ShowEstimates(img *image.Image, chosen string) {
	baud, _ := run.Console.Speed()
	report := event.Estimates{File: img.Name, Size: img.Size}
	for _, one := range carrier.Estimates(img.Size, run.Prepared.WayToDevice(baud, run.measuredTrip())) {
		report.All = append(report.All, event.Estimate{
			Protocol: one.Protocol,
			Terms:    one.Terms,
			Time:     one.Time,
			Why:      one.Why,
			Warn:     one.Warn,
			Chosen:   one.Protocol == chosen,
		})
	}
	run.Console.Emit(report)
}

// measuredTrip is the last round trip that a watch saw, 0 when none did.
func (run *Run) measuredTrip() (trip time.Duration) {
	w := run.Console.Reach()
	if w == nil {
		return 0
	}
	for _, state := range w.States() {
		if state.Watched.Kind == reach.ICMP && state.Last.Held {
			trip = state.Last.Trip
		}
	}
	return trip
}
