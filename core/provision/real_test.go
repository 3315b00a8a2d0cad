package provision

import (
	"context"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"pilotrix/core/clock"
	"pilotrix/core/network"
)

// inside tells the test's own process that it is in a network of its own.
const inside = "PILOTRIX_NETWORK_OF_ITS_OWN"

// TestARealClient gives busybox's client an address, in network namespaces that the test makes: nothing of it reaches another
// network. It needs root.
func TestARealClient(t *testing.T) {
	if os.Getenv(inside) != "" {
		serveRealClient(t)
		return
	}
	if os.Geteuid() != 0 {
		t.Skip("needs root: network namespaces are made")
	}
	for _, tool := range []string{"unshare", "nsenter", "ip", "busybox"} {
		_, err := exec.LookPath(tool)
		require.NoError(t, err, "./dev/test installs what is needed")
	}
	again := exec.Command("unshare", "-n", os.Args[0], "-test.run=^TestARealClient$", "-test.v")
	again.Env = append(os.Environ(), inside+"=yes")
	out, err := again.CombinedOutput()
	require.NoError(t, err, "%s", out)
	assert.Contains(t, string(out), "--- PASS: TestARealClient")
}

// says runs a command and returns what it says.
func says(t *testing.T, name string, args ...string) string {
	t.Helper()
	ctx, cancel := context.WithTimeout(t.Context(), 30*time.Second)
	defer cancel()
	out, err := exec.CommandContext(ctx, name, args...).CombinedOutput()
	require.NoError(t, err, "%s %s: %s", name, strings.Join(args, " "), out)
	return string(out)
}

// serveRealClient is the test inside: a wire between this network and another one, the server here and the client there.
func serveRealClient(t *testing.T) {
	there := exec.Command("unshare", "-n", "sleep", "120")
	require.NoError(t, there.Start())
	defer func() { _ = there.Process.Kill(); _ = there.Wait() }()
	pid := fmt.Sprint(there.Process.Pid)
	own, err := os.Readlink("/proc/self/ns/net")
	require.NoError(t, err)
	require.Eventually(t, func() bool {
		link, err := os.Readlink("/proc/" + pid + "/ns/net")
		return err == nil && link != own
	}, 10*time.Second, 10*time.Millisecond)
	says(t, "ip", "link", "add", "wire0", "type", "veth", "peer", "name", "wire1")
	says(t, "ip", "link", "set", "wire1", "netns", pid)
	says(t, "ip", "addr", "add", "192.0.2.10/24", "dev", "wire0")
	says(t, "ip", "link", "set", "wire0", "up")
	in := func(command ...string) string {
		return says(t, "nsenter", append([]string{"-t", pid, "-n"}, command...)...)
	}
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
	told, served := make(chan Told, 1000), make(chan error, 1)
	go func() {
		served <- s.Serve(ctx, Wire{Conn: conn, Clock: clock.Real()}, Tell{Told: func(one Told) { told <- one }})
	}()

	folder := t.TempDir()
	script := filepath.Join(folder, "script")
	require.NoError(t, os.WriteFile(script, []byte("#!/bin/sh\n[ \"$1\" = bound ] && env > \""+folder+"/got\"\nexit 0\n"), 0o755))
	in("busybox", "udhcpc", "-i", "wire1", "-n", "-q", "-f", "-t", "5", "-T", "1", "-s", script, "-V", "Maskel S8", "-O", "tftp", "-O", "bootfile", "-O", "hostname")
	got, err := os.ReadFile(filepath.Join(folder, "got"))
	require.NoError(t, err)
	for _, want := range []string{"ip=192.0.2.102", "subnet=255.255.255.0", "router=192.0.2.1", "serverid=192.0.2.10", "siaddr=192.0.2.10", "boot_file=strand-3.2.msl", "tftp=192.0.2.10", "hostname=tangle-sw2", "lease=600"} {
		assert.Contains(t, strings.Split(string(got), "\n"), want)
	}

	refused := exec.Command("nsenter", "-t", pid, "-n", "busybox", "udhcpc", "-i", "wire1", "-n", "-q", "-f", "-t", "2", "-T", "1", "-s", script, "-V", "another maker")
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
	close(told)
	seen := map[string]bool{}
	for one := range told {
		seen[one.Kind] = true
	}
	for _, kind := range []string{Asked, Offered, Leased, Stranger} {
		assert.True(t, seen[kind], kind)
	}
}
