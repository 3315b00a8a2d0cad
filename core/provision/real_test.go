package provision

import (
	"context"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"pilotrix/core/clock"
	"pilotrix/core/network"
	"pilotrix/core/network/apart"
)

// TestARealClient gives busybox's client an address, in network namespaces that the test makes: nothing of it reaches
// another network. It needs root.
func TestARealClient(t *testing.T) {
	apart.Run(t, serveRealClient, apart.With{Tools: []string{"busybox"}})
}

// serveRealClient is the test inside: the server here and the client there.
func serveRealClient(t *testing.T, there apart.Elsewhere) {
	in := there.Says
	in("ip", "link", "set", "wire1", "address", mac(9).String())
	in("ip", "link", "set", "wire1", "up")

	conn, err := network.Host{}.ListenBroadcast(network.Interface{Name: "wire0"}, 67)
	require.NoError(t, err)
	defer conn.Close()
	opt := options()
	opt.Admit = func(c Client) Verdict {
		if strings.HasPrefix(c.Vendor, "Maskel") {
			return Served
		}
		return Ignored
	}
	opt.Looks = mac(78).String()
	s, err := New(opt, nil)
	require.NoError(t, err)
	ctx, cancel := context.WithCancel(t.Context())
	report, served := make(chan Reported, 1000), make(chan error, 1)
	go func() {
		served <- s.Serve(ctx, Wire{Conn: conn, Clock: clock.Real()},
			Report{Reported: func(one Reported) { report <- one }})
	}()

	folder := t.TempDir()
	script := filepath.Join(folder, "script")
	require.NoError(t,
		os.WriteFile(script, []byte("#!/bin/sh\n[ \"$1\" = bound ] && env > \""+folder+"/got\"\nexit 0\n"), 0o755))
	in("busybox", "udhcpc", "-i", "wire1", "-n", "-q", "-f", "-t", "5", "-T", "1", "-s", script, "-V", "Maskel S8",
		"-O", "tftp", "-O", "bootfile", "-O", "hostname")
	got, err := os.ReadFile(filepath.Join(folder, "got"))
	require.NoError(t, err)
	for _, want := range []string{"ip=192.0.2.102", "subnet=255.255.255.0", "router=192.0.2.1", "serverid=192.0.2.10", "siaddr=192.0.2.10", "boot_file=strand-3.2.msl", "tftp=192.0.2.10", "hostname=tangle-sw2", "lease=600"} {
		assert.Contains(t, strings.Split(string(got), "\n"), want)
	}

	refused := there.Command("busybox", "udhcpc", "-i", "wire1", "-n", "-q", "-f", "-t", "2", "-T", "1", "-s", script,
		"-V", "another maker")
	require.Error(t, refused.Run(), "who is not meant gets nothing")

	mine, err := network.Host{}.ListenBroadcast(network.Interface{Name: "wire0"}, 68)
	require.NoError(t, err)
	defer mine.Close()
	others, err := Others(t.Context(), mine, mac(78), clock.Real(), time.Second)
	require.NoError(t, err)
	assert.Empty(t, others, "the one that serves is this very one, and knows that it is looked for")
	others, err = Others(t.Context(), mine, mac(77), clock.Real(), time.Second)
	require.NoError(t, err)
	assert.Contains(t, others, opt.Own.Addr(), "it shows itself to another laptop that looks for servers")
	cancel()
	require.NoError(t, <-served)
	close(report)
	seen := map[string]bool{}
	for one := range report {
		seen[one.Kind] = true
	}
	for _, kind := range []string{Asked, Offered, Leased, Stranger} {
		assert.True(t, seen[kind], kind)
	}
}
