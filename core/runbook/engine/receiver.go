package engine

import (
	"context"

	"pilotrix/core/sense"
	"pilotrix/core/transfer/xmodem"
)

// receiving is that the device was made to receive and did not come back from that yet.
var receiving = new(Kept[bool])

// Receives notes that the device is made to receive, or that it came back from that.
func (run *Run) Receives(begun bool) { *receiving.Of(run) = begun }

// EndReceiver tells a receiver that an earlier transfer left behind to give up: it would take everything typed for a
// broken block, for minutes.
func (run *Run) EndReceiver(ctx context.Context) error {
	if !*receiving.Of(run) && run.Console.Device().Mode != sense.Receiving {
		return nil
	}
	run.Receives(false)
	return run.Console.Carry(ctx, xmodem.Cancel)
}
