package carrier

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"pilotrix/core/arithmetic"
	"pilotrix/core/line"
)

func framing(t *testing.T) line.Framing {
	t.Helper()
	f, err := line.ParseFraming("8N1")
	require.NoError(t, err)
	return f
}

func TestEstimatesOrderAsTheyDoInLife(t *testing.T) {
	all := Estimates(9<<20,
		arithmetic.Way{Baud: 115200, Framing: framing(t), Link: arithmetic.UsualLink, Trip: 2 * time.Millisecond})
	times := map[string]time.Duration{}
	for _, e := range all {
		times[e.Protocol+" "+e.Terms] = e.Time
		assert.NotEmpty(t, e.Why)
	}
	require.Len(t, times, 8)
	assert.InDelta(t, 9*(1<<20)/(11520*1024.0/1030), times["xmodem-1k blocks of 1024 B at 115200 baud"].Seconds(), 1)
	assert.InDelta(t, 9*(1<<20)/512.0*0.002, times["tftp blocks of 512 B"].Seconds(), 3, "the waits dominate")
	assert.Less(t, times["tftp blocks of 1428 B, windows of 16"], times["tftp blocks of 1428 B"])
	assert.Less(t, times["tftp blocks of 1428 B"], times["tftp blocks of 512 B"])
	assert.Less(t, times["http one stream"], times["tftp blocks of 1428 B"])
	assert.Empty(t, Estimates(1, arithmetic.Way{}))
}

func TestASlowDeviceLimitsEveryProtocolOfTheNetwork(t *testing.T) {
	for _, e := range Estimates(9_000_000,
		arithmetic.Way{Baud: 9600, Framing: framing(t), Link: arithmetic.UsualLink, Trip: arithmetic.UsualTrip, Device: 90_000}) {
		if e.Protocol == "http" || e.Protocol == "tftp" {
			assert.Equal(t, 100*time.Second, e.Time, e.Protocol)
			assert.Contains(t, e.Why, "the device takes at most 90 kB/s")
		} else if e.Protocol == "xmodem" {
			assert.Greater(t, e.Time, 2*time.Hour)
		}
	}
}

func TestCarriersAreListedInTheirOrder(t *testing.T) {
	assert.Equal(t, "tftp, http, ftp, sftp and scp", Names(" and "))
	assert.Equal(t, "tftp or http", BootNames())
	assert.Same(t, SFTP, SCP.Server(), "one server is both")
	_, err := Named("pigeon")
	require.ErrorContains(t, err, "there are tftp, http, ftp, sftp and scp")
	assert.True(t, InRuns("TFTP", "DATA"))
	assert.False(t, InRuns("HTTP", "DATA"))
	assert.Panics(t, func() { Register(Carrier{Name: "tftp"}) })
}
