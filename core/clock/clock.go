// Package clock gives every wait and every stamp in the program one source of time.
//
// A clock may run faster than the wall: the demo plays a change of many minutes in one or two, and
// all figures it shows (rates, limits, times left) stay those of the real line. In tests the time
// package itself is replaced (testing/synctest), so there is one concrete type and no fake.
package clock

import (
	"context"
	"time"
)

// Clock says the time and measures waits. The zero value is the wall clock.
type Clock struct {
	base  time.Time
	scale float64
}

// Real is the wall clock.
func Real() Clock { return Clock{} }

// Scaled is a clock that starts now and runs factor times as fast as the wall; factors of 1 and
// below mean the wall clock.
func Scaled(factor float64) Clock {
	if factor <= 1 {
		return Clock{}
	}
	return Clock{base: time.Now(), scale: factor}
}

// Scale is how many times faster than the wall this clock runs, 1 for the wall clock.
func (c Clock) Scale() float64 {
	if c.scale == 0 {
		return 1
	}
	return c.scale
}

// Now is this clock's time.
func (c Clock) Now() time.Time {
	if c.scale == 0 {
		return time.Now()
	}
	return c.base.Add(time.Duration(float64(time.Since(c.base)) * c.scale))
}

// Since is the time gone on this clock since t.
func (c Clock) Since(t time.Time) time.Duration { return c.Now().Sub(t) }

// Wall converts a duration of this clock to one of the wall.
func (c Clock) Wall(d time.Duration) time.Duration {
	if c.scale == 0 {
		return d
	}
	return time.Duration(float64(d) / c.scale)
}

// NewTimer fires once after d of this clock.
func (c Clock) NewTimer(d time.Duration) *time.Timer { return time.NewTimer(c.Wall(d)) }

// NewTicker fires every d of this clock.
func (c Clock) NewTicker(d time.Duration) *time.Ticker {
	return time.NewTicker(max(c.Wall(d), time.Microsecond))
}

// WithTimeout is context.WithTimeout for a duration of this clock.
func (c Clock) WithTimeout(ctx context.Context, d time.Duration) (context.Context, context.CancelFunc) {
	return context.WithTimeout(ctx, c.Wall(d))
}

// Wait returns after d of this clock or when ctx ends, with ctx's error then.
func (c Clock) Wait(ctx context.Context, d time.Duration) error {
	if d <= 0 {
		return ctx.Err()
	}
	timer := c.NewTimer(d)
	defer timer.Stop()
	select {
	case <-timer.C:
		return nil
	case <-ctx.Done():
		return ctx.Err()
	}
}
