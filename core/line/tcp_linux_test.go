package line

import (
	"context"
	"fmt"
	"net"
	"os"
	"os/exec"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"

	"pilotrix/core/clock"
)

const insideNetwork = "PILOTRIX_NETWORK_OF_ITS_OWN"

// TestEveryConnectionNoticesAPeerThatDies looks at what the system was told for each kind of line.
func TestEveryConnectionNoticesAPeerThatDies(t *testing.T) {
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer listener.Close()
	conn, err := dialTCP(t.Context(), listener.Addr().String())
	require.NoError(t, err)
	defer conn.Close()
	raw, err := conn.(*net.TCPConn).SyscallConn()
	require.NoError(t, err)
	options := map[int]int{}
	require.NoError(t, raw.Control(func(fd uintptr) {
		for _, option := range []int{unix.TCP_USER_TIMEOUT, unix.TCP_KEEPIDLE, unix.TCP_KEEPINTVL, unix.TCP_KEEPCNT} {
			options[option], _ = unix.GetsockoptInt(int(fd), unix.IPPROTO_TCP, option)
		}
	}))
	assert.EqualValues(t, muteFor.Milliseconds(), options[unix.TCP_USER_TIMEOUT])
	assert.Less(t, options[unix.TCP_KEEPIDLE]+options[unix.TCP_KEEPINTVL]*options[unix.TCP_KEEPCNT], 60, "seconds, with nothing typed")
}

// TestAPeerThatDiesIsTold takes the network away under a connection, in network namespaces of the test's own: behind something that was
// typed, and while nothing is. It needs root.
func TestAPeerThatDiesIsTold(t *testing.T) {
	if os.Getenv(insideNetwork) != "" {
		peerDies(t)
		return
	}
	if os.Geteuid() != 0 {
		t.Skip("needs root: network namespaces are made")
	}
	again := exec.Command("unshare", "-n", os.Args[0], "-test.run=^TestAPeerThatDiesIsTold$", "-test.v")
	again.Env = append(os.Environ(), insideNetwork+"=yes")
	out, err := again.CombinedOutput()
	require.NoError(t, err, "%s", out)
	assert.Contains(t, string(out), "--- PASS: TestAPeerThatDiesIsTold")
}

func peerDies(t *testing.T) {
	run := func(name string, args ...string) {
		t.Helper()
		out, err := exec.Command(name, args...).CombinedOutput()
		require.NoError(t, err, "%s %s: %s", name, strings.Join(args, " "), out)
	}
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
	run("ip", "link", "add", "wire0", "type", "veth", "peer", "name", "wire1")
	run("ip", "link", "set", "wire1", "netns", pid)
	run("ip", "addr", "add", "192.0.2.10/24", "dev", "wire0")
	run("ip", "link", "set", "wire0", "up")
	in := func(command ...string) { run("nsenter", append([]string{"-t", pid, "-n"}, command...)...) }
	in("ip", "addr", "add", "192.0.2.41/24", "dev", "wire1")
	for _, typed := range []string{"look\r", ""} {
		in("ip", "link", "set", "wire1", "up")
		far := exec.Command("nsenter", "-t", pid, "-n", "busybox", "nc", "-l", "-p", "4001")
		far.Stdin, err = os.Open("/dev/zero")
		require.NoError(t, err)
		require.NoError(t, far.Start())
		const most = 4 * time.Second
		var conn net.Conn
		require.Eventually(t, func() bool {
			limited, cancel := context.WithTimeout(t.Context(), time.Second)
			defer cancel()
			conn, err = dialWithin(limited, "192.0.2.41:4001", most)
			return err == nil
		}, 20*time.Second, 50*time.Millisecond)
		l := NewStream(Target{Kind: TCP, Address: "192.0.2.41:4001"}, conn, clock.Real())
		<-l.Chunks()
		in("ip", "link", "set", "wire1", "down")
		if typed != "" {
			require.NoError(t, l.Write(t.Context(), []byte(typed)))
		}
		for range l.Chunks() { // until the line has ended
		}
		require.ErrorIs(t, l.Err(), ErrUnplugged)
		require.ErrorContains(t, l.Err(), "nothing came back from it any more")
		require.ErrorIs(t, l.Err(), syscall.ETIMEDOUT)
		_ = l.Close()
		_ = far.Process.Kill()
		_ = far.Wait()
	}
}
