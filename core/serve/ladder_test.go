package serve

import (
	"net/netip"
	"testing"

	"github.com/stretchr/testify/assert"

	"pilotrix/core/clock"
	"pilotrix/core/event"
	"pilotrix/core/offer"
)

// TestAFloodOfRefusalsTellsSoMuchAndNoMore asks for the wrong name again and again, from one address and from any.
func TestAFloodOfRefusalsTellsSoMuchAndNoMore(t *testing.T) {
	told := map[string]int{}
	l := newLadder(clock.Real(), func(b event.Body) { told[b.(event.Rung).Peer]++ })
	peer := netip.MustParseAddr("192.0.2.1")
	for range 1000 {
		for range 50 {
			l.say(offer.Rung{Protocol: "TFTP", Peer: netip.AddrPortFrom(peer, 1024), FromPeer: true, Kind: "refused", Text: "no x here"})
		}
		peer = peer.Next()
	}
	assert.Len(t, told, mostRefused)
	assert.Equal(t, mostRefusals, told["192.0.2.1:1024"])
	l.say(offer.Rung{Transfer: "1", Protocol: "TFTP", Peer: netip.AddrPortFrom(peer, 1024), FromPeer: true, Kind: "RRQ"})
	assert.Equal(t, 1, told[netip.AddrPortFrom(peer, 1024).String()], "a transfer is told all the same")
}
