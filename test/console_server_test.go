package test

import (
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"pilotrix/bench"
	"pilotrix/bench/brindle"
	"pilotrix/core/clock"
	"pilotrix/core/event"
	"pilotrix/core/line"
	"pilotrix/core/session"
)

// consoleServer starts Debian's serial server with com-port control on a serial line, and returns its address.
func consoleServer(t *testing.T, path string) string {
	t.Helper()
	port := freePort(t)
	config := filepath.Join(tempDir(t), "ser2net.yaml")
	require.NoError(t, os.WriteFile(config, fmt.Appendf(nil,
		"connection: &one\n  accepter: telnet(rfc2217),tcp,127.0.0.1,%d\n  connector: serialdev,%s,9600n81,local\n",
		port, path), 0o600))
	server := exec.Command("/usr/sbin/ser2net", "-n", "-d", "-c", config)
	require.NoError(t, server.Start(), "needs the Debian package ser2net; ./dev/test installs it")
	t.Cleanup(func() {
		_ = server.Process.Kill()
		_ = server.Wait()
	})
	address := fmt.Sprintf("127.0.0.1:%d", port)
	require.Eventually(t, func() bool {
		conn, err := net.Dial("tcp", address)
		if err == nil {
			_ = conn.Close()
		}
		return err == nil
	}, 20*time.Second, 50*time.Millisecond)
	return address
}

// TestTheRescueThroughAConsoleServer is the rescue of the demo, unchanged, through a real console server with com-port
// control: found at another speed, sent at a raised one, both ends put back.
func TestTheRescueThroughAConsoleServer(t *testing.T) {
	t.Parallel()
	const fast = 4
	router := brindle.New("R40-2", "hollow-rtr1", "harbour", "lamp-and-tide")
	router.SaveConfiguration("2026-03-02")
	router.Install("tern-4.0.7.brm", brindle.MakeImage("4.0.7", []string{"R40-2"}, 200_000), true)
	machine := bench.New("console-server", router, clock.Scaled(fast), false)
	require.NoError(t, machine.Start())
	t.Cleanup(machine.Stop)
	image := filepath.Join(tempDir(t), "tern-4.2.1.brm")
	require.NoError(t, os.WriteFile(image, brindle.MakeImage("4.2.1", []string{"R40-2"}, 150_000), 0o600))

	target, err := line.ParseTarget("rfc2217://" + consoleServer(t, machine.Path()) + "?speed=38400")
	require.NoError(t, err)
	d, p := prepared(t, "brindle-r40", "rescue-over-serial",
		map[string]string{"image": image, "user": "harbour", "password": "lamp-and-tide"})
	c := clock.Scaled(fast)
	s, err := session.Open(t.Context(),
		session.Options{Target: target, Dialect: d, Clock: c, Opener: line.NewOpener(c), Approve: approveAll})
	require.NoError(t, err)
	defer s.Close("the test ends")
	r := &rig{t: t, session: s, book: p, done: make(chan struct{})}
	r.listen(nil)
	result := r.run()
	require.Equal(t, event.Done, result.Outcome, "%s\n%s", result.Message, r.story())
	assert.Equal(t, "4.2.1", router.Started())
	var speeds []int
	for _, speed := range find[event.Speed](r) {
		if speed.Why != "" && (len(speeds) == 0 || speeds[len(speeds)-1] != speed.To) {
			speeds = append(speeds, speed.To)
		}
	}
	assert.Contains(t, speeds, 115200, "raised at both ends")
	baud, _ := s.Speed()
	assert.Equal(t, 9600, baud)
	assert.Len(t, result.Proved, 5)
}
