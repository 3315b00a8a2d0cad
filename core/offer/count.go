package offer

import (
	"time"

	"pilotrix/core/clock"
	"pilotrix/core/transfer"
)

// Count turns bytes into a transfer's progress, told a few times a second.
type Count struct {
	clock   clock.Clock
	watcher Watcher
	t       Transfer
	meter   *transfer.Meter
	p       transfer.Progress
	last    time.Time
}

const countEvery = 200 * time.Millisecond

// NewCount begins to count a transfer.
func NewCount(c clock.Clock, w Watcher, t Transfer) *Count {
	count := &Count{clock: c, watcher: w, t: t, meter: transfer.NewMeter(c), p: transfer.Progress{File: t.File, Size: max(t.Size, 0)}, last: c.Now()}
	count.meter.Start()
	return count
}

// Add counts bytes.
func (c *Count) Add(n int) {
	c.p.Bytes += int64(n)
	now := c.clock.Now()
	if now.Sub(c.last) < countEvery {
		return
	}
	c.last = now
	c.meter.Fill(&c.p)
	c.watcher.Moved(c.t, c.p)
}

// Of says that only so many bytes are moved, a part of the file.
func (c *Count) Of(size int64) { c.t.Size, c.p.Size = size, size }

// Bytes are those counted so far.
func (c *Count) Bytes() int64 { return c.p.Bytes }

// End tells how the transfer went.
func (c *Count) End(err error) {
	c.meter.Fill(&c.p)
	c.p.Left = 0
	c.watcher.Ended(c.t, c.p, err)
}
