package test

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"pilotrix/core/device"
	"pilotrix/core/event"
	"pilotrix/core/runbook"
	"pilotrix/core/shipped"
)

const bootloader = "/usr/lib/u-boot/qemu_arm/u-boot.bin"

// startBoard starts the emulated board with the real bootloader and returns the socket of its
// console. It ends with the test.
func startBoard(t *testing.T) string {
	t.Helper()
	require.FileExists(t, bootloader,
		"needs the Debian packages qemu-system-arm and u-boot-qemu; ./dev/test installs them")
	folder := tempDir(t)
	disk, socket := filepath.Join(folder, "disk"), filepath.Join(folder, "console")
	require.NoError(t, os.WriteFile(disk, nil, 0o600))
	require.NoError(t, os.Truncate(disk, 64<<20))
	ctx, cancel := context.WithTimeout(context.Background(), 15*time.Minute)
	board := exec.CommandContext(ctx, "qemu-system-arm", "-M", "virt", "-m", "256", "-nographic", "-monitor", "none",
		"-bios", bootloader, "-serial", "unix:"+socket+",server,nowait", "-drive",
		"if=none,file="+disk+",format=raw,id=d0", "-device", "virtio-blk-device,drive=d0", "-netdev",
		"user,id=n0,net=192.0.2.0/24,host=192.0.2.2", "-device", "virtio-net-device,netdev=n0")
	var said bytes.Buffer
	board.Stdout, board.Stderr = &said, &said
	require.NoError(t, board.Start())
	t.Cleanup(func() {
		cancel()
		_ = board.Wait()
	})
	require.Eventually(t, func() bool { return listensAt(socket) }, 20*time.Second, 10*time.Millisecond,
		"the board did not start: %s", &said)
	return socket
}

// listensAt reports whether somebody listens at a socket: it is there a moment sooner. To connect would be to take the
// only place.
func listensAt(socket string) bool {
	const accepting = " 00010000 " // of the flags in unix(7)'s list
	all, err := os.ReadFile("/proc/net/unix")
	if err != nil {
		return false
	}
	for _, row := range strings.Split(string(all), "\n") {
		if strings.HasSuffix(row, socket) && strings.Contains(row, accepting) {
			return true
		}
	}
	return false
}

func randomFile(t *testing.T, size int) string {
	t.Helper()
	random := rand.NewChaCha8([32]byte{byte(size), byte(size >> 8), 7})
	data := make([]byte, size)
	_, _ = random.Read(data)
	path := filepath.Join(tempDir(t), fmt.Sprintf("image-%d.bin", size))
	require.NoError(t, os.WriteFile(path, data, 0o600))
	return path
}

// TestRealBootloader does with the program what a script would: one command, JSON Lines, exit code 0.
func TestRealBootloader(t *testing.T) {
	t.Parallel()
	socket := startBoard(t)
	run := exec.Command(program, "run", "prove-in-memory", "--on", "unix:"+socket, "--dialect", "u-boot", "--set",
		"image="+randomFile(t, 256<<10), "--set", "address=40400000", "--approve", "all", "--json", "--logbook", "none")
	var said bytes.Buffer
	run.Stderr = &said
	out, err := run.Output()
	require.NoError(t, err, "%s", &said)
	var last event.RunEnd
	var events []event.Event
	lines := bufio.NewScanner(bytes.NewReader(out))
	lines.Buffer(nil, 1<<20)
	for lines.Scan() {
		var e event.Event
		require.NoError(t, json.Unmarshal(lines.Bytes(), &e), "%s", lines.Text())
		events = append(events, e)
		if end, ok := e.Body.(event.RunEnd); ok {
			last = end
		}
	}
	d, err := shipped.Dialect("u-boot")
	require.NoError(t, err)
	book, err := shipped.Runbook("prove-in-memory")
	require.NoError(t, err)
	prepared, err := book.Prepare(d, map[string]string{"image": randomFile(t, 256<<10), "address": "40400000"},
		runbook.Kit{})
	require.NoError(t, err)
	holdToPlan(t, prepared.Plan(&device.Facts{}), reallyTyped(events))
	assert.Equal(t, event.Done, last.Outcome)
	require.Len(t, last.Proved, 1)
	assert.Contains(t, last.Proved[0], "memory at 40400000 holds 262144 B")
}
