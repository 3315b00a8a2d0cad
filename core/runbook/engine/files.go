package engine

import (
	"context"
	"fmt"
	"reflect"
	"time"

	"pilotrix/core/event"
	"pilotrix/core/image"
	"pilotrix/core/reach"
	"pilotrix/core/reckon"
	"pilotrix/core/runbook"
)

// unpackers is what unpacks images, and removes what it has unpacked with the run.
var unpackers = new(Kept[image.Unpacker])

// Ready makes a plain file of an image and holds that it is still the one that was checked.
func (e *Run) Ready(ctx context.Context, s *runbook.PreparedStep, img *image.Image) (*image.Image, error) {
	if img.Packed() {
		unpacker := unpackers.Of(e)
		if unpacker.In == "" {
			unpacker.In = e.Prepared.Kit.Folder
			e.AtEnd(func() {
				if err := unpacker.Close(); err != nil {
					e.Console.Emit(event.Note{Level: event.Warning, Text: "what was unpacked is left behind: " + err.Error()})
				}
			})
		}
		return unpacker.Plain(ctx, img, func() { e.Now(s, "Unpacks "+img.Name+" from "+img.Path, "the disk", s.Timeout) })
	}
	e.Now(s, "Hashes "+img.Name, "the disk", s.Timeout)
	now, err := image.Open(img.Path, nil)
	if err != nil {
		return nil, err
	}
	if now.SHA256 != img.SHA256 {
		return nil, fmt.Errorf("%s changed since it was checked (sha256 %.12s…, was %.12s…)", img.Path, now.SHA256, img.SHA256)
	}
	same := *img
	same.Modified = now.Modified // it may have been touched
	return &same, nil
}

// shelfSaid is the shelf as it was shown last.
var shelfSaid = new(Kept[event.Shelf])

// ShowShelf tells the shelf when something about it, or its fit, is new.
func (e *Run) ShowShelf() {
	if e.Prepared.Kit.Shelf == nil {
		return
	}
	told := runbook.ShelfEvent(e.Prepared.Kit.Shelf, e.Prepared.Dialect, e.Console.Facts())
	if last := shelfSaid.Of(e); !reflect.DeepEqual(told, *last) {
		*last = told
		e.Console.Emit(told)
	}
}

// ShowEstimates tells what each protocol would take for a file.
func (e *Run) ShowEstimates(img *image.Image, chosen string) {
	baud, _ := e.Console.Speed()
	told := event.Estimates{File: img.Name, Size: img.Size}
	for _, one := range reckon.Estimates(img.Size, e.Prepared.WayToDevice(baud, e.measuredTrip())) {
		told.All = append(told.All, event.Estimate{Protocol: one.Protocol, Terms: one.Terms, Time: one.Time, Why: one.Why, Warn: one.Warn, Chosen: one.Protocol == chosen})
	}
	e.Console.Emit(told)
}

// measuredTrip is the last round trip that a watch saw, 0 when none did.
func (e *Run) measuredTrip() (trip time.Duration) {
	w := e.Console.Reach()
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
