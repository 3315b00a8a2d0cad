//go:build !race

package test

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"io"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
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

// The emulated board with the real bootloader, a real kernel and a real shell: nothing of it shares code with the
// bench.

const bootloader64 = "/usr/lib/u-boot/qemu_arm64/u-boot.bin"

// boardTool runs dev/board, which fetches and makes what the board needs.
func boardTool(t *testing.T, args ...string) {
	t.Helper()
	out, err := exec.Command("../dev/board", args...).CombinedOutput()
	require.NoError(t, err, "dev/board %s: %s (./dev/test installs what it needs)", strings.Join(args, " "), out)
}

// freeTCPPort is a TCP port of loopback that nobody has now.
func freeTCPPort(t *testing.T) string {
	t.Helper()
	return strconv.Itoa(int(freePort(t)))
}

// linuxBoard is the board, with a shelf of systems for it.
type linuxBoard struct {
	t                  *testing.T
	socket, shelf, web string
	events             []event.Event
	prepared           *runbook.Prepared
}

func startLinuxBoard(t *testing.T, releases ...string) *linuxBoard {
	t.Helper()
	require.FileExists(t, bootloader64,
		"needs the Debian packages qemu-system-arm and u-boot-qemu; ./dev/test installs them")
	folder := tempDir(t)
	b := &linuxBoard{t: t, socket: filepath.Join(folder, "console"), shelf: filepath.Join(folder, "shelf")}
	require.NoError(t, os.MkdirAll(b.shelf, 0o755))
	for _, release := range releases {
		boardTool(t, "system", release, b.shelf)
	}
	boardTool(t, "disk", filepath.Join(folder, "disk"))
	page := freeTCPPort(t)
	b.web = "http://127.0.0.1:" + page + "/"
	ctx, cancel := context.WithTimeout(context.Background(), 15*time.Minute)
	board := exec.CommandContext(ctx, "../dev/board", "start", folder, page)
	var said bytes.Buffer
	board.Stdout, board.Stderr = &said, &said
	require.NoError(t, board.Start())
	t.Cleanup(func() {
		cancel()
		_ = board.Wait()
	})
	require.Eventually(t, func() bool { _, err := os.Stat(b.socket); return err == nil }, 20*time.Second,
		10*time.Millisecond, "the board did not start: %s", &said)
	return b
}

// run carries a shipped runbook out with the program, and returns how it ended and what was typed.
func (b *linuxBoard) run(book, release string, set ...string) event.RunEnd {
	b.t.Helper()
	image := filepath.Join(b.shelf, "system-"+release+".itb")
	args := []string{
		"run",
		book,
		"--on",
		"unix:" + b.socket,
		"--dialect",
		"linux-board",
		"--shelf",
		b.shelf,
		"--approve",
		"all",
		"--json",
		"--logbook",
		"none",
	}
	values := map[string]string{"image": image, "address": "192.0.2.15", "server": "127.0.0.1", "page": b.web}
	for _, one := range set {
		name, value, _ := strings.Cut(one, "=")
		values[name] = value
	}
	for name, value := range values {
		args = append(args, "--set", name+"="+value)
	}
	run := exec.Command(program, append(args, "--secret", "password=env:NO_WORD")...)
	run.Env = append(os.Environ(), "NO_WORD=-")
	var said bytes.Buffer
	run.Stderr = &said
	out, _ := run.Output()
	var end event.RunEnd
	b.events = nil
	lines := bufio.NewScanner(bytes.NewReader(out))
	lines.Buffer(nil, 1<<20)
	for lines.Scan() {
		var e event.Event
		require.NoError(b.t, json.Unmarshal(lines.Bytes(), &e), "%s", lines.Text())
		b.events = append(b.events, e)
		if ended, ok := e.Body.(event.RunEnd); ok {
			end = ended
		}
	}
	d, err := shipped.Dialect("linux-board")
	require.NoError(b.t, err)
	document, err := shipped.Runbook(book)
	require.NoError(b.t, err)
	values["password"] = "-"
	b.prepared, err = document.Prepare(d, values, runbook.Kit{})
	require.NoError(b.t, err)
	require.Equal(b.t, event.Done, end.Outcome, "%s\n%s\n%s", end.Message, &said, lastText(b.events))
	return end
}

// lastText is what the board said last.
func lastText(events []event.Event) string {
	var text []byte
	for _, e := range events {
		if in, ok := e.Body.(event.In); ok {
			text = append(text, in.Bytes...)
		}
	}
	return string(text[max(0, len(text)-3000):])
}

// took is how long it was from one step's beginning to the run's end.
func (b *linuxBoard) took() time.Duration {
	var begun time.Time
	for _, e := range b.events {
		switch e.Body.(type) {
		case event.StepBegin:
			if begun.IsZero() {
				begun = e.At
			}
		case event.RunEnd:
			return e.At.Sub(begun)
		}
	}
	return 0
}

func (b *linuxBoard) page() string {
	response, err := http.Get(b.web)
	require.NoError(b.t, err)
	defer response.Body.Close()
	text, err := io.ReadAll(response.Body)
	require.NoError(b.t, err)
	return string(text)
}

// TestARealBoardIsTriedBurnedAndRenewed goes the whole way on it: a system is fetched by TFTP and tried from memory,
// written to its disk, started by itself; then a later one over the shell by HTTP, and back to the first.
func TestARealBoardIsTriedBurnedAndRenewed(t *testing.T) {
	t.Parallel()
	func() {
		port69.Lock()
		defer port69.Unlock() // a test that is left out ends there
		needsPort69(t)
	}()
	b := startLinuxBoard(t, "2.6", "2.8")
	port69.Lock()
	end := b.run("try-then-burn", "2.6", "into=file", "gateway=192.0.2.2")
	port69.Unlock()
	t.Logf("from the catch to the proof of what starts by itself: %s", b.took().Round(100*time.Millisecond))
	require.Len(t, end.Proved, 4, "%v", end.Proved)
	assert.Contains(t, end.Proved[1], "virtio 0:1 holds the")
	assert.Equal(t, "2.6 started by itself, without a key", end.Proved[3])
	holdToPlan(t, b.prepared.Plan(&device.Facts{}), reallyTyped(b.events))
	assert.Contains(t, b.page(), "release 2.6")

	for _, release := range []string{"2.8", "2.6"} {
		end := b.run("write-over-the-shell", release, "server_seen=192.0.2.2", "port="+freeTCPPort(t))
		t.Logf("over the shell to %s: %s", release, b.took().Round(100*time.Millisecond))
		assert.Contains(t, end.Proved, release+" runs, as published")
		holdToPlan(t, b.prepared.Plan(&device.Facts{}), reallyTyped(b.events))
		assert.Contains(t, b.page(), "release "+release)
	}
}
