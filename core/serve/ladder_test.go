package serve

import (
	"fmt"
	"net/netip"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"

	"pilotrix/core/clock"
	"pilotrix/core/event"
	"pilotrix/core/offer"
)

// TestNothingIsKeptOfWhatIsOver asks in many names, some of which go on.
func TestNothingIsKeptOfWhatIsOver(t *testing.T) {
	l := newLadder(clock.Real(), func(event.Body) {})
	peer := netip.MustParseAddr("192.0.2.1")
	for n := range 10_000 {
		id := fmt.Sprint(n)
		at := netip.AddrPortFrom(peer, 1024)
		for _, kind := range []string{"RRQ", "OACK", "DATA", "DATA"} {
			l.say(offer.Rung{Transfer: id, Protocol: "TFTP", Peer: at, Kind: kind})
		}
		if n%3 == 0 {
			l.begin(offer.Transfer{ID: id, Peer: at})
			l.end(id)
			l.say(offer.Rung{Transfer: id, Protocol: "TFTP", Peer: at, Kind: "ACK"}) // it lingers
		}
		l.say(offer.Rung{Transfer: id, Peer: at, Kind: offer.Over})
		peer = peer.Next()
	}
	assert.Empty(t, l.rows)
	assert.Empty(t, l.runs)
	assert.Empty(t, l.muted)
	assert.Empty(t, l.begun)
	assert.LessOrEqual(t, len(l.quiet.reported)+len(l.asked.reported), 2*maxRefused)
}

// TestAFloodOfRefusalsSaysSoMuchAndNoMore asks for the wrong name again and again, from one address and from any.
func TestAFloodOfRefusalsSaysSoMuchAndNoMore(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		report := map[string]int{}
		l := newLadder(clock.Real(), func(b event.Body) { report[b.(event.Rung).Peer]++ })
		refuse := func(peer netip.Addr) {
			l.say(offer.Rung{
				Protocol: "TFTP",
				Peer:     netip.AddrPortFrom(peer, 1024),
				FromPeer: true,
				Kind:     "refused",
				Text:     "no x here",
			})
		}
		peer := netip.MustParseAddr("192.0.2.1")
		for range 1000 {
			for range 50 {
				refuse(peer)
			}
			peer = peer.Next()
		}
		assert.Len(t, report, maxRefused+1, "and one of the others")
		assert.Equal(t, maxRefusals, report["192.0.2.1:1024"])
		device := netip.AddrPortFrom(peer, 1024).String()
		l.say(offer.Rung{
			Transfer: "1",
			Protocol: "TFTP",
			Peer:     netip.AddrPortFrom(peer, 1024),
			FromPeer: true,
			Kind:     "RRQ",
		})
		l.begin(offer.Transfer{ID: "1", Peer: netip.AddrPortFrom(peer, 1024)})
		assert.Equal(t, 1, report[device], "a transfer is told all the same")
		refuse(peer)
		assert.Equal(t, 1, report[device])
		time.Sleep(otherEvery)
		refuse(peer)
		assert.Equal(t, 2, report[device], "the one that is waited for comes to word once the flood has ended")
	})
}
