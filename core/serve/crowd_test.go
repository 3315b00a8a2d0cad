package serve

import (
	"bufio"
	"context"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/netip"
	"os"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"pilotrix/core/carrier"
	"pilotrix/core/clock"
	"pilotrix/core/event"
	"pilotrix/core/network"
	"pilotrix/core/offer/offertest"
)

// handles are those that this process has open.
func handles(t *testing.T) int {
	entries, err := os.ReadDir("/proc/self/fd")
	if err != nil {
		t.Skip("handles cannot be counted here")
	}
	return len(entries)
}

// TestSilentConnectionsShutNobodyOut opens thousands of connections from one sender and from many, on which nothing, or
// the beginning of something, is said: somebody else is served at once, and handles stay few.
func TestSilentConnectionsShutNobodyOut(t *testing.T) {
	for _, protocol := range []string{"http", "ftp", "sftp"} {
		for name, senders := range map[string]int{"one sender": 1, "many senders": 250} {
			t.Run(protocol+" "+name, func(t *testing.T) {
				var mu sync.Mutex
				refused := 0
				d := NewDock(
					t.Context(),
					Options{Network: network.Host{}, Clock: clock.Real(), Emit: func(b event.Body) {
						mu.Lock()
						defer mu.Unlock()
						if rung, ok := b.(event.Rung); ok && rung.What == "refused" {
							refused++
						}
					}},
				)
				defer d.Close()
				_, err := d.Offer(offertest.File("a.bin", []byte("whole")), protocol)
				require.NoError(t, err)
				by, err := carrier.Named(protocol)
				require.NoError(t, err)
				place, err := d.Listen(by, netip.MustParseAddrPort("127.0.0.1:0"))
				require.NoError(t, err)
				before := handles(t)
				for n := range 3000 {
					from := net.TCPAddr{IP: net.IPv4(127, 0, 1, byte(1+n%senders))}
					dialer := net.Dialer{LocalAddr: &from, Timeout: 5 * time.Second}
					conn, err := dialer.DialContext(t.Context(), "tcp", place.At.String())
					if err != nil {
						continue
					}
					_, _ = io.WriteString(conn, []string{"", "GET", "USER x\r\n", "SSH-2.0-x\r\n"}[n%4])
					if n%8 == 0 { // what the peer has closed is closed here, too, so that the server's are what is counted
						defer conn.Close()
						continue
					}
					_ = conn.(*net.TCPConn).CloseWrite()
					go func() { _, _ = io.Copy(io.Discard, conn); _ = conn.Close() }()
				}
				ctx, cancel := context.WithTimeout(t.Context(), 20*time.Second)
				defer cancel()
				served(ctx, t, place)
				assert.Less(t, handles(t)-before, 3000/8+600, "the connections of the test, and what the server holds")
				mu.Lock()
				defer mu.Unlock()
				assert.NotZero(t, refused)
				assert.LessOrEqual(t, refused, (maxRefused+20)*maxRefusals, "it is told, and not without an end")
			})
		}
	}
}

// served is a device that comes afterwards, from an address of its own.
func served(ctx context.Context, t *testing.T, place carrier.Endpoint) {
	dial := func(ctx context.Context, _, _ string) (net.Conn, error) {
		return (&net.Dialer{LocalAddr: &net.TCPAddr{IP: net.IPv4(127, 0, 2, 1)}}).DialContext(ctx, "tcp",
			place.At.String())
	}
	if place.Protocol == "http" {
		client := http.Client{Transport: &http.Transport{DialContext: dial, DisableKeepAlives: true}}
		request, err := http.NewRequestWithContext(ctx, http.MethodGet,
			fmt.Sprintf("http://%s%s", place.At, place.Path("a.bin")), nil)
		require.NoError(t, err)
		response, err := client.Do(request)
		require.NoError(t, err)
		defer response.Body.Close()
		got, err := io.ReadAll(response.Body)
		require.NoError(t, err)
		assert.Equal(t, "whole", string(got))
		return
	}
	conn, err := dial(ctx, "", "")
	require.NoError(t, err)
	defer conn.Close()
	_ = conn.SetDeadline(time.Now().Add(20 * time.Second))
	in := bufio.NewReader(conn)
	greeting, err := in.ReadString('\n')
	require.NoError(t, err)
	if place.Protocol == "sftp" {
		assert.True(t, strings.HasPrefix(greeting, "SSH-2.0-"), greeting)
		return
	}
	fmt.Fprintf(conn, "USER %s\r\nPASS %s\r\nSIZE a.bin\r\n", place.User, place.Password)
	for _, want := range []string{"331", "230", "213 5"} {
		line, err := in.ReadString('\n')
		require.NoError(t, err)
		assert.Contains(t, line, want)
	}
}
