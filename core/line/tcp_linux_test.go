package line

import (
	"context"
	"net"
	"os"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"

	"pilotrix/core/clock"
	"pilotrix/core/network/apart"
)

// TestEveryConnectionNoticesAPeerThatDies looks at what the system was reported for each kind of line.
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
	assert.Less(t, options[unix.TCP_KEEPIDLE]+options[unix.TCP_KEEPINTVL]*options[unix.TCP_KEEPCNT], 60,
		"seconds, with nothing typed")
}

// TestAPeerThatDiesIsReported takes the network away under a connection, in network namespaces of the test's own:
// behind something that was typed, and while nothing is. It needs root.
func TestAPeerThatDiesIsReported(t *testing.T) {
	apart.Run(t, peerDies, apart.With{Tools: []string{"busybox"}})
}

func peerDies(t *testing.T, there apart.Elsewhere) {
	in := func(command ...string) { there.Says(command...) }
	in("ip", "addr", "add", "192.0.2.41/24", "dev", "wire1")
	for _, typed := range []string{"look\r", ""} {
		in("ip", "link", "set", "wire1", "up")
		far := there.Command("busybox", "nc", "-l", "-p", "4001")
		zero, err := os.Open("/dev/zero")
		require.NoError(t, err)
		far.Stdin = zero
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
		_ = l.Close()
		_ = far.Process.Kill()
		_ = far.Wait()
	}
}
