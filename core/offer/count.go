package offer

import (
	"pilotrix/core/clock"
	"pilotrix/core/transfer"
)

// Count turns bytes into a transfer's progress, reported a few times a second.
type Count struct {
	watcher Watcher
	t       Transfer
	meter   *transfer.Meter
	p       transfer.Progress
	thin    *transfer.Thin
}

// NewCount begins to count a transfer.
func NewCount(c clock.Clock, w Watcher, t Transfer) *Count {
	count := &Count{
		watcher: w,
		t:       t,
		meter:   transfer.NewMeter(c),
		p:       transfer.Progress{File: t.File, Size: max(t.Size, 0)},
		thin:    transfer.NewThin(c),
	}
	count.meter.Start()
	return count
}

// Add counts bytes.
func (c *Count) Add(n int) {
	c.p.Bytes += int64(n)
	if !c.thin.Due() {
		return
	}
	c.meter.Fill(&c.p)
	c.watcher.Moved(c.t, c.p)
}

// Part says that only a part of the file is moved: so many bytes from there on.
func (c *Count) Part(from, size int64) { c.t.From, c.t.Size, c.p.Size = from, size, size }

// Bytes are those counted so far.
func (c *Count) Bytes() int64 { return c.p.Bytes }

// End says how the transfer went.
func (c *Count) End(err error) {
	c.meter.Fill(&c.p)
	c.p.Left = 0
	c.watcher.Ended(c.t, c.p, err)
}
