package bench

import (
	"bytes"
	"context"
	"time"

	"pilotrix/core/clock"
)

// stallAt is how far into a flash memory a slow one comes before it takes its time, in bytes.
const stallAt = 100_000

// FlashMemory is memory that is being written at its pace, up to its room, and seen by whoever asks.
type FlashMemory struct {
	Data     bytes.Buffer
	Room     int
	Rate     float64 // bytes a second
	Clock    clock.Clock
	Progress func(written int)
	Stall    func(context.Context) error // once, in the middle

	ctx  context.Context
	owed time.Duration
}

// Fill writes what is fetched.
func (f *FlashMemory) Fill(ctx context.Context, from Fetch, size func(int)) error {
	f.ctx = ctx
	return from(ctx, f, size)
}

// Write implements io.Writer.
func (f *FlashMemory) Write(p []byte) (int, error) {
	if f.Data.Len()+len(p) > f.Room {
		return 0, ErrFull
	}
	f.Data.Write(p)
	f.Progress(f.Data.Len())
	if f.Stall != nil && f.Data.Len() > stallAt {
		stall := f.Stall
		f.Stall = nil
		if err := stall(f.ctx); err != nil {
			return 0, err
		}
	}
	f.owed += time.Duration(float64(len(p)) / f.Rate * float64(time.Second))
	const step = 50 * time.Millisecond
	if f.owed < step {
		return len(p), nil
	}
	wait := f.owed
	f.owed = 0
	return len(p), f.Clock.Wait(f.ctx, wait)
}
