package bench

import (
	"bytes"
	"context"
	"io"
	"net"
	"net/netip"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"pilotrix/core/network"
	"pilotrix/core/network/simulated"
)

var (
	laptopAt = netip.MustParsePrefix("192.0.2.10/24")
	deviceAt = netip.MustParsePrefix("192.0.2.41/24")
)

// lans are the two kinds, which have to behave the same.
func lans(t *testing.T, use func(t *testing.T, lan *LAN, laptop, device LANHost)) {
	for name, inMemory := range map[string]bool{"in memory": true, "on loopback": false} {
		t.Run(name, func(t *testing.T) {
			lan := NewLAN(inMemory, 3)
			use(t, lan, lan.Host("eth0", laptopAt), lan.Host("lan", deviceAt))
		})
	}
}

func receive(t *testing.T, conn network.PacketConn, wait time.Duration) (string, netip.AddrPort) {
	t.Helper()
	require.NoError(t, conn.SetReadDeadline(time.Now().Add(wait)))
	buffer := make([]byte, 100)
	n, from, err := conn.ReadFromUDPAddrPort(buffer)
	if err != nil {
		return "", from
	}
	return string(buffer[:n]), from
}

func TestDatagramsHaveTheNamesOfTheLAN(t *testing.T) {
	lans(t, func(t *testing.T, lan *LAN, laptop, device LANHost) {
		server, err := laptop.ListenPacket(netip.AddrPortFrom(laptopAt.Addr(), 69))
		require.NoError(t, err)
		defer server.Close()
		assert.Equal(t, "192.0.2.10:69", server.LocalAddr().String())
		_, err = laptop.ListenPacket(netip.AddrPortFrom(laptopAt.Addr(), 69))
		assert.ErrorContains(t, err, "address already in use")
		_, err = laptop.ListenPacket(netip.AddrPortFrom(deviceAt.Addr(), 70))
		assert.ErrorContains(t, err, "cannot assign requested address")
		client, err := device.ListenPacket(netip.AddrPortFrom(netip.IPv4Unspecified(), 0))
		require.NoError(t, err)
		_, err = client.WriteToUDPAddrPort([]byte("hello"), netip.MustParseAddrPort("192.0.2.10:69"))
		require.NoError(t, err)
		text, from := receive(t, server, 2*time.Second)
		assert.Equal(t, "hello", text)
		assert.Equal(t, deviceAt.Addr(), from.Addr())
		_, err = server.WriteToUDPAddrPort([]byte("back"), from)
		require.NoError(t, err)
		text, from = receive(t, client, 2*time.Second)
		assert.Equal(t, "back", text)
		assert.Equal(t, "192.0.2.10:69", from.String())

		lan.SetUp(deviceAt.Addr(), false)
		_, _ = server.WriteToUDPAddrPort([]byte("lost"), netip.MustParseAddrPort(client.LocalAddr().String()))
		text, _ = receive(t, client, 50*time.Millisecond)
		assert.Empty(t, text, "a host that is down hears nothing")
		lan.SetUp(deviceAt.Addr(), true)
		lan.Spoil(simulated.Faults{Twice: 1})
		_, _ = server.WriteToUDPAddrPort([]byte("twice"), netip.MustParseAddrPort(client.LocalAddr().String()))
		for range 2 {
			text, _ = receive(t, client, 2*time.Second)
			assert.Equal(t, "twice", text)
		}
		lan.Spoil(simulated.Faults{Loss: 1})
		_, _ = server.WriteToUDPAddrPort([]byte("lost"), netip.MustParseAddrPort(client.LocalAddr().String()))
		text, _ = receive(t, client, 50*time.Millisecond)
		assert.Empty(t, text)
		require.NoError(t, client.Close())
	})
}

func TestStreamsAndPings(t *testing.T) {
	lans(t, func(t *testing.T, lan *LAN, laptop, device LANHost) {
		listener, err := laptop.Listen(netip.AddrPortFrom(laptopAt.Addr(), 80))
		require.NoError(t, err)
		defer listener.Close()
		peers := make(chan net.Addr, 1)
		go func() {
			conn, err := listener.Accept()
			if err != nil {
				return
			}
			peers <- conn.RemoteAddr()
			_, _ = conn.Write([]byte("page"))
			_ = conn.Close()
		}()
		ctx, cancel := context.WithTimeout(t.Context(), 5*time.Second)
		defer cancel()
		conn, err := device.Dial(ctx, netip.MustParseAddrPort("192.0.2.10:80"))
		require.NoError(t, err)
		got, err := io.ReadAll(conn)
		require.NoError(t, err)
		assert.True(t, bytes.Equal([]byte("page"), got))
		peer := netip.MustParseAddrPort((<-peers).String())
		assert.Equal(t, deviceAt.Addr(), peer.Addr())
		for _, port := range []string{"22", "69", "443"} {
			_, err = device.Dial(ctx, netip.MustParseAddrPort("192.0.2.10:"+port))
			assert.ErrorContains(t, err, "connection refused", "a port of the real machine is not the LAN's")
		}
		trip, err := laptop.Ping(ctx, deviceAt.Addr())
		require.NoError(t, err)
		assert.Positive(t, trip)
		lan.SetUp(deviceAt.Addr(), false)
		limited, stop := context.WithTimeout(t.Context(), 50*time.Millisecond)
		defer stop()
		_, err = laptop.Ping(limited, deviceAt.Addr())
		assert.ErrorIs(t, err, context.DeadlineExceeded)
		_, err = laptop.Dial(limited, netip.AddrPortFrom(deviceAt.Addr(), 80))
		assert.ErrorIs(t, err, context.DeadlineExceeded)
		interfaces, err := laptop.Interfaces()
		require.NoError(t, err)
		assert.Equal(t, []network.Interface{{Name: "eth0", Prefix: laptopAt}}, interfaces)
	})
}
