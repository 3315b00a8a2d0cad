package network

import (
	"net/netip"
	"os"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestTheHolderOfAPortIsNamed(t *testing.T) {
	conn, err := Host{}.ListenPacket(netip.MustParseAddrPort("127.0.0.1:0"))
	require.NoError(t, err)
	defer conn.Close()
	at := netip.MustParseAddrPort(conn.LocalAddr().String())
	name, err := os.ReadFile("/proc/self/comm")
	require.NoError(t, err)
	assert.Contains(t, Holder("udp", at.Port()), string(name[:len(name)-1]))
	listener, err := Host{}.Listen(netip.MustParseAddrPort("127.0.0.1:0"))
	require.NoError(t, err)
	defer listener.Close()
	assert.NotEmpty(t, Holder("tcp", netip.MustParseAddrPort(listener.Addr().String()).Port()))
	assert.Empty(t, Holder("tcp", 1))
}

func TestInterfacesReachTheirOwnNetwork(t *testing.T) {
	all, err := Host{}.Interfaces()
	require.NoError(t, err)
	found := false
	for _, i := range all {
		found = found || i.Reaches(netip.MustParseAddr("127.0.0.9"))
	}
	assert.True(t, found, "the loopback interface")
	assert.False(t, Interface{Prefix: netip.MustParsePrefix("192.0.2.10/24")}.Reaches(netip.MustParseAddr("192.0.3.1")))
}
