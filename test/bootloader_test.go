//go:build !race

package test

import (
	"errors"
	"fmt"
	"hash/crc32"
	"net"
	"net/netip"
	"os"
	"strings"
	"sync"
	"testing"
	"time"

	"pilotrix/core/clock"
	"pilotrix/core/event"
	"pilotrix/core/line"
	"pilotrix/core/runbook"
	"pilotrix/core/session"
	"pilotrix/core/shipped"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestRealBootloaderTakesEverySize sends files around the block sizes in each variant, on one board.
func TestRealBootloaderTakesEverySize(t *testing.T) {
	t.Parallel()
	socket := startBoard(t)
	d, err := shipped.Dialect("u-boot")
	require.NoError(t, err)
	target, err := line.ParseTarget("unix:" + socket)
	require.NoError(t, err)
	s, err := session.Open(t.Context(),
		session.Options{Target: target, Dialect: d, Opener: line.NewOpener(clock.Real())})
	require.NoError(t, err)
	defer s.Close("the test ends")
	s.Begin()
	for _, by := range []string{"xmodem", "xmodem-1k", "ymodem"} {
		for _, size := range []int{0, 1, 127, 128, 129, 1023, 1024, 1025, 256 << 10} {
			book, err := shipped.Runbook("prove-in-memory")
			require.NoError(t, err)
			prepared, err := book.Prepare(d,
				map[string]string{"image": randomFile(t, size), "address": "40400000", "protocol": by}, runbook.Kit{})
			require.NoError(t, err)
			result, err := s.Run(t.Context(), prepared)
			require.NoError(t, err)
			require.Equal(t, event.Done, result.Outcome, "%s, %d bytes: %s", by, size, result.Message)
			if size > 0 {
				require.Len(t, result.Proved, 1, "%s, %d bytes", by, size)
			}
		}
	}
}

// TestTheRealBootloaderFetchesByTFTP lets the emulated board fetch an image in blocks of 512 and 1468
// bytes and windows of 1 and 8, and prove it by its CRC-32.
func TestTheRealBootloaderFetchesByTFTP(t *testing.T) {
	t.Parallel()
	stage, name, data := staged(t, 3<<20+333)
	port69.Lock()
	defer port69.Unlock()
	needsPort69(t)
	server, err := listenTFTP(stage, netip.MustParseAddrPort("127.0.0.1:69"))
	require.NoError(t, err, "the board asks at port 69, which needs root")
	serveFor(t, server, nil)
	s := openBoard(t)
	defer s.Close("the test ends")
	say := func(command string, limit time.Duration) string { return typed(t, s, command, limit) }
	for _, command := range []string{"setenv ipaddr 192.0.2.15", "setenv gatewayip 192.0.2.2", "setenv netmask 255.255.255.0", "setenv serverip 127.0.0.1", "setenv autoload no"} {
		say(command, 10*time.Second)
	}
	want := fmt.Sprintf("%08x", crc32.ChecksumIEEE(data))
	for _, block := range []int{512, 1468} {
		for _, window := range []int{1, 8} {
			say(fmt.Sprintf("setenv tftpblocksize %d", block), 10*time.Second)
			say(fmt.Sprintf("setenv tftpwindowsize %d", window), 10*time.Second)
			say("mw.b 40400000 0 400000", 10*time.Second)
			out := say("tftpboot 40400000 "+name, 2*time.Minute)
			assert.Contains(t, out, fmt.Sprintf("Bytes transferred = %d", len(data)), "blocks of %d, windows of %d",
				block, window)
			out = say(fmt.Sprintf("crc32 40400000 %x", len(data)), 30*time.Second)
			assert.Contains(t, out, "==> "+want, "blocks of %d, windows of %d", block, window)
		}
	}
	out := say("tftpboot 40400000 /"+strings.ToUpper(name), time.Minute)
	assert.Contains(t, out, fmt.Sprintf("Bytes transferred = %d", len(data)), "as bootloaders write names")
	out = say("tftpboot 40400000 "+name+".old", time.Minute)
	assert.Contains(t, out, "asked for with .old after it", "the board shows why")
}

// port69 is had by one server at a time: real bootloaders ask at no other.
var port69 sync.Mutex

// needsPort69 leaves a test out for who may not listen there.
func needsPort69(t *testing.T) {
	t.Helper()
	conn, err := net.ListenPacket("udp", "127.0.0.1:69")
	if errors.Is(err, os.ErrPermission) {
		t.Skip("needs root: a real bootloader asks at port 69")
	}
	if err == nil {
		_ = conn.Close()
	}
}
