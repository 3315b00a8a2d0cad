package bench

import (
	"context"
	"net/netip"
	"os"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"pilotrix/core/clock"
	"pilotrix/core/provision"
)

// TestANewcomerIsGivenAnAddress by the program's own server, over a LAN in memory, with real packets; one that likes no offer asks on.
func TestANewcomerIsGivenAnAddress(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		lan := NewLAN(true, 1)
		own := netip.MustParsePrefix("192.0.2.10/24")
		server, err := provision.New(provision.Options{
			Own: own, First: netip.MustParseAddr("192.0.2.61"), Last: netip.MustParseAddr("192.0.2.61"), Lease: time.Hour,
			Admit: func(c provision.Client) provision.Verdict {
				return map[bool]provision.Verdict{true: provision.Served}[strings.HasPrefix(c.Vendor, "Maskel")]
			},
			Give: func(provision.Client) provision.Given {
				return provision.Given{BootFile: "a.msl", Server: own.Addr(), HostName: "tangle-sw2"}
			},
		}, nil)
		require.NoError(t, err)
		ctx, cancel := context.WithCancel(t.Context())
		conn, served := lan.Everybody(67), make(chan error)
		go func() { served <- server.Serve(ctx, conn, clock.Real(), provision.Tell{}) }()
		n := Newcomer{LAN: lan, Clock: clock.Real(), MAC: [6]byte{2, 0, 0x5e, 0x10, 0, 1}, Vendor: "Maskel S8"}
		offer, err := n.Ask(t.Context(), 1)
		require.NoError(t, err)
		assert.Equal(t, Offer{Address: netip.MustParsePrefix("192.0.2.61/24"), By: own.Addr(), Server: own.Addr(), BootFile: "a.msl", HostName: "tangle-sw2", Lease: time.Hour}, offer)
		n.Takes = func(Offer) bool { return false }
		_, err = n.Ask(t.Context(), 3)
		require.ErrorIs(t, err, ErrNoOffer)
		n.Vendor = "another"
		_, err = n.Ask(t.Context(), 2)
		require.ErrorIs(t, err, ErrNoOffer, "who is not meant gets nothing")
		cancel()
		require.NoError(t, <-served)
	})
}

// TestAnEtherSocketIsLikeARealOne where a time is over, where too much comes, and where it is closed.
func TestAnEtherSocketIsLikeARealOne(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		var e ether
		a, b := e.listen(68), e.listen(67)
		everybody := netip.MustParseAddrPort("255.255.255.255:67")
		for range 2 * mostHeard {
			_, err := a.WriteToUDPAddrPort([]byte("x"), everybody)
			require.NoError(t, err)
		}
		buffer := make([]byte, 9)
		n, from, err := b.ReadFromUDPAddrPort(buffer)
		require.NoError(t, err)
		assert.Equal(t, 1, n)
		assert.EqualValues(t, 68, from.Port())
		require.NoError(t, a.SetReadDeadline(time.Unix(1, 0)))
		_, _, err = a.ReadFromUDPAddrPort(buffer)
		require.ErrorIs(t, err, os.ErrDeadlineExceeded)
		require.NoError(t, a.SetReadDeadline(time.Time{}))
		go func() {
			time.Sleep(time.Second)
			_ = a.Close()
		}()
		_, _, err = a.ReadFromUDPAddrPort(buffer)
		require.Error(t, err)
		require.Len(t, e.socks, 1)
	})
}
