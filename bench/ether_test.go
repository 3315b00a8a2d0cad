package bench

import (
	"net/netip"
	"os"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestAnEtherSocketIsLikeARealOne where a time is over, where too much comes, and where it is closed.
func TestAnEtherSocketIsLikeARealOne(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		var e ether
		a, b := e.listen(68), e.listen(67)
		everybody := netip.MustParseAddrPort("255.255.255.255:67")
		for range 2 * maxHeard {
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
		synctest.Wait()
		require.Len(t, e.socks, 1)
	})
}
