package session

import (
	"context"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"pilotrix/core/clock"
	"pilotrix/core/dialect"
	"pilotrix/core/event"
)

// TestADevicesTimeGoesOnWhileThisMachineSleeps suspends the machine while the device is on trial, for less than the
// trial and for longer.
func TestADevicesTimeGoesOnWhileThisMachineSleeps(t *testing.T) {
	for _, c := range []struct {
		slept  time.Duration
		says   string
		states []string
	}{
		{time.Second, "", []string{event.PendingOpen}},
		{3 * time.Minute, "this machine was suspended for 3 min, and the device was not; 1 min 49 s left: the old release comes back", []string{event.PendingOpen, event.PendingOpen}},
		{9 * time.Minute, "this machine was suspended for 9 min, and the device was not; its time is over: the old release comes back", []string{event.PendingOpen, event.PendingOpen, event.PendingRan}},
	} {
		d, err := dialect.Parse("dangerous.yaml", []byte(dangerous))
		require.NoError(t, err)
		var slept atomic.Int64
		opt := Options{Dialect: d, Slept: func() time.Duration { return time.Duration(slept.Load()) }}
		overFake(t, opt, func(t *testing.T, s *Session, l *fakeLine, feed *event.Feed) {
			l.prompt()
			typeKeys(s, "try\r")
			l.prompt()
			time.Sleep(10 * time.Second)
			doubts := s.run().Doubts().Count
			slept.Store(int64(c.slept)) // and Go's clock stood still
			time.Sleep(1500 * time.Millisecond)
			var states []string
			text := ""
			ctx, cancel := context.WithCancel(t.Context())
			cancel()
			events, _ := feed.Next(ctx)
			for _, e := range events {
				switch b := e.Body.(type) {
				case event.Pending:
					states = append(states, b.State)
				case event.Note:
					text = b.Text
				}
			}
			assert.Equal(t, c.says, text)
			assert.Equal(t, c.states, states)
			assert.Equal(t, c.says != "", s.run().Doubts().Count > doubts,
				"whether it is the same device is asked anew")
		})
	}
}

func TestHowLongTheMachineSleptIsKnown(t *testing.T) {
	first := clock.Slept()
	assert.GreaterOrEqual(t, first, time.Duration(0))
	assert.Less(t, clock.Slept()-first, time.Second, "not by being awake")
}
