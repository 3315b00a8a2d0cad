package bench

import (
	"context"
	"fmt"
	"strings"
	"sync"
	"time"

	"pilotrix/core/clock"
)

// Download is a file that a device fetches beside its shell, one at a time.
type Download struct {
	mu  sync.Mutex
	now Job
	// Done waits for what is under way, when the device goes down.
	group sync.WaitGroup
}

// Job is how far a download is. Its states are idle, preparing, fetching, checking, ready and failed.
type Job struct {
	Number        int
	File          string
	State, Reason string
	Got, Size     int
	cancel        context.CancelFunc
}

// Busy reports whether it is under way.
func (j Job) Busy() bool { return j.cancel != nil }

// Wanted is a download that is to be begun. Prepare and Check take their time; Accept says what is against what came,
// and takes it. A stuck one never gets beyond preparing.
type Wanted struct {
	File           string
	From           Fetch
	To             *FlashMemory
	Prepare, Check time.Duration
	Accept         func(data []byte) error
	Stuck          bool
}

// Begin starts one, which ends with ctx.
func (d *Download) Begin(ctx context.Context, c clock.Clock, w Wanted) (number int, err error) {
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.now.Busy() {
		return 0, fmt.Errorf("download %d is under way", d.now.Number)
	}
	ctx, cancel := context.WithCancel(ctx)
	d.now = Job{Number: d.now.Number + 1, File: w.File, State: "preparing", cancel: cancel}
	w.To.Clock = c
	w.To.Progress = func(written int) { d.change(func(j *Job) { j.Got = written }) }
	d.group.Go(func() {
		defer cancel()
		err := d.carryOut(ctx, c, w)
		if ctx.Err() != nil {
			return // ended by hand, or the power is gone
		}
		d.change(func(j *Job) {
			j.cancel, j.State = nil, "ready"
			if err != nil {
				j.State, j.Reason = "failed", strings.ReplaceAll(err.Error(), "\n", " ")
			}
		})
	})
	return d.now.Number, nil
}

func (d *Download) carryOut(ctx context.Context, c clock.Clock, w Wanted) error {
	if w.Stuck {
		<-ctx.Done()
		return ctx.Err()
	}
	if err := c.Wait(ctx, w.Prepare); err != nil {
		return err
	}
	d.change(func(j *Job) { j.State = "fetching" })
	if err := w.To.Fill(ctx, w.From, func(size int) { d.change(func(j *Job) { j.Size = size }) }); err != nil {
		return err
	}
	d.change(func(j *Job) { j.State = "checking" })
	if err := c.Wait(ctx, w.Check); err != nil {
		return err
	}
	return w.Accept(w.To.Data.Bytes())
}

func (d *Download) change(how func(*Job)) {
	d.mu.Lock()
	defer d.mu.Unlock()
	how(&d.now)
}

// End ends it by hand and reports whether one was under way.
func (d *Download) End() (number int, was bool) {
	d.mu.Lock()
	defer d.mu.Unlock()
	if !d.now.Busy() {
		return 0, false
	}
	d.now.cancel()
	d.now.cancel, d.now.State, d.now.Reason = nil, "failed", "ended by hand"
	return d.now.Number, true
}

// Forget is what a restart does; what is under way has ended with the power.
func (d *Download) Forget() {
	d.group.Wait()
	d.change(func(j *Job) { *j = Job{State: "idle"} })
}

// Now is the progress.
func (d *Download) Now() Job {
	d.mu.Lock()
	defer d.mu.Unlock()
	return d.now
}

// Remember returns what undoes a download that was begun meanwhile.
func (d *Download) Remember() (restore func()) {
	before := d.Now()
	return func() {
		d.mu.Lock()
		defer d.mu.Unlock()
		if d.now.Number != before.Number && d.now.Busy() {
			d.now.cancel()
			d.now.cancel = nil
		}
		d.now.State, d.now.Reason = before.State, before.Reason
	}
}

// Group is for what else a device does beside its shell; Forget waits for it.
func (d *Download) Group() *sync.WaitGroup { return &d.group }
