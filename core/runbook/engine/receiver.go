package engine

import (
	"context"

	"pilotrix/core/sense"
	"pilotrix/core/transfer/xmodem"
)

// receiving is that the device was made to receive and did not come back from that yet.
var receiving = new(Kept[bool])

// Receives notes that the device is made to receive, or that it came back from that.
func (e *Run) Receives(begun bool) { *receiving.Of(e) = begun }

// EndReceiver tells a receiver that an earlier transfer left behind to give up: it would take everything typed for a broken block, for
// minutes.
func (e *Run) EndReceiver(ctx context.Context) error {
	if !*receiving.Of(e) && e.Console.Device().Mode != sense.Receiving {
		return nil
	}
	e.Receives(false)
	return e.Console.Carry(ctx, xmodem.Cancel)
}
