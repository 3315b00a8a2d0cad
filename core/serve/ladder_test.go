package serve

import (
	"net/netip"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"

	"pilotrix/core/clock"
	"pilotrix/core/event"
	"pilotrix/core/offer"
)

// TestAFloodOfRefusalsTellsSoMuchAndNoMore asks for the wrong name again and again, from one address and from any.
func TestAFloodOfRefusalsTellsSoMuchAndNoMore(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		told := map[string]int{}
		l := newLadder(clock.Real(), func(b event.Body) { told[b.(event.Rung).Peer]++ })
		refuse := func(peer netip.Addr) {
			l.say(offer.Rung{Protocol: "TFTP", Peer: netip.AddrPortFrom(peer, 1024), FromPeer: true, Kind: "refused", Text: "no x here"})
		}
		peer := netip.MustParseAddr("192.0.2.1")
		for range 1000 {
			for range 50 {
				refuse(peer)
			}
			peer = peer.Next()
		}
		assert.Len(t, told, mostRefused+1, "and one of the others")
		assert.Equal(t, mostRefusals, told["192.0.2.1:1024"])
		device := netip.AddrPortFrom(peer, 1024).String()
		l.say(offer.Rung{Transfer: "1", Protocol: "TFTP", Peer: netip.AddrPortFrom(peer, 1024), FromPeer: true, Kind: "RRQ"})
		assert.Equal(t, 1, told[device], "a transfer is told all the same")
		refuse(peer)
		assert.Equal(t, 1, told[device])
		time.Sleep(otherEvery)
		refuse(peer)
		assert.Equal(t, 2, told[device], "the one that is waited for comes to word once the flood has ended")
	})
}
