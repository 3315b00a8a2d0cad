package logbook

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"pilotrix/core/clock"
	"pilotrix/core/event"
)

// TestWhatIsKnownOfDevices keeps two devices' sessions, one with two runs, the last of which was cut off.
func TestWhatIsKnownOfDevices(t *testing.T) {
	l := book(t)
	keep := func(bodies ...event.Body) {
		hub := event.NewHub(clock.Real())
		k, err := l.Keep(hub.Subscribe())
		require.NoError(t, err)
		for _, b := range bodies {
			hub.Emit(b)
		}
		hub.Close()
		require.NoError(t, k.Wait())
	}
	keep(event.SessionBegin{Target: "ssh://gw", Device: "mare-gw1"},
		event.Fact{Name: "running.release", Value: "7.4.2"}, event.Fact{Name: "free", Value: "1"},
		event.RunBegin{Runbook: "upgrade", Title: "Upgrade"}, event.RunEnd{Outcome: event.Done, Message: "it runs"},
		event.Fact{Name: "running.release", Value: "7.6.1"}, event.RunBegin{Runbook: "keep", Title: "Keep the setup"})
	keep(event.SessionBegin{Target: "unix:/x"}, event.Fact{Name: "device.model", Value: "R40-2"})

	known, err := l.Known()
	require.NoError(t, err)
	require.Len(t, known, 2)
	gateway := known["mare-gw1"]
	assert.Equal(t, map[string]string{"running.release": "7.6.1"}, gateway.Facts)
	assert.WithinDuration(t, time.Now(), gateway.At, time.Minute)
	require.NotNil(t, gateway.Last)
	assert.Equal(t, "Keep the setup", gateway.Last.Title)
	assert.Zero(t, gateway.Last.Took(), "it has no end")
	assert.Equal(t, "R40-2", known["unix:/x"].Facts["device.model"])
	assert.Nil(t, known["unix:/x"].Last)

	last, found, err := l.LastRun("upgrade")
	require.NoError(t, err)
	require.True(t, found)
	assert.Equal(t, "it runs", last.Message)
	_, found, err = l.LastRun("keep")
	require.NoError(t, err)
	assert.False(t, found, "it did not end well")
}
