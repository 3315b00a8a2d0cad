//go:build !race

package test

import (
	"bufio"
	"context"
	"database/sql"
	"encoding/json"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"pilotrix/core/event"
	"pilotrix/core/logbook"
	"pilotrix/core/runbook/engine"
)

// heldRescue is the rescue, with the logbook held by another program for a time from when the device is about to be
// changed.
func heldRescue(t *testing.T, length time.Duration, more ...string) (path, out string, code int) {
	t.Helper()
	path = filepath.Join(tempDir(t), "logbook.db")
	run := exec.Command(program, rescueArgs(t, path, append([]string{"--time-scale", "4"}, more...)...)...)
	run.Env = append(os.Environ(), "DEVICE_PASSWORD="+secretOfTests)
	stdout, err := run.StdoutPipe()
	require.NoError(t, err)
	require.NoError(t, run.Start())
	lines := bufio.NewReader(stdout)
	for line := ""; !strings.Contains(line, "ready the store"); {
		line, err = lines.ReadString('\n')
		require.NoError(t, err)
		out += line
	}
	held := holdLogbook(t, path, run.Process)
	let := time.AfterFunc(length, func() {
		_, _ = held.ExecContext(context.Background(), `ROLLBACK`)
		_ = held.Close()
	})
	rest, _ := io.ReadAll(lines)
	_ = run.Wait()
	if let.Stop() {
		_, _ = held.ExecContext(context.Background(), `ROLLBACK`)
		_ = held.Close()
	}
	return path, out + string(rest), run.ProcessState.ExitCode()
}

// holdLogbook takes the logbook for another program, while the one that writes it stands still: it changes nothing
// before.
func holdLogbook(t *testing.T, path string, writer *os.Process) *sql.Conn {
	t.Helper()
	other, err := sql.Open("sqlite", "file:"+path+"?_pragma=busy_timeout(20)")
	require.NoError(t, err)
	t.Cleanup(func() { _ = other.Close() })
	held, err := other.Conn(context.Background())
	require.NoError(t, err)
	for range 200 {
		require.NoError(t, writer.Signal(syscall.SIGSTOP))
		_, err = held.ExecContext(t.Context(), `BEGIN EXCLUSIVE`)
		require.NoError(t, writer.Signal(syscall.SIGCONT))
		if err == nil {
			return held
		}
		time.Sleep(5 * time.Millisecond) // it was stopped in the middle of writing
	}
	require.NoError(t, err)
	return nil
}

// eventsOf are an entry's events; none of them is missing.
func eventsOf(t *testing.T, path string) (entry logbook.Entry, events []event.Event) {
	t.Helper()
	book, err := logbook.OpenToRead(path)
	require.NoError(t, err)
	defer book.Close()
	entry, err = book.Find(1)
	require.NoError(t, err)
	require.NoError(t, book.Events(1, func(e event.Event) error {
		assert.Equal(t, int64(len(events))+1, e.Seq, "none is missing")
		events = append(events, e)
		return nil
	}))
	return entry, events
}

// TestARunWaitsForItsRecord has another program hold the logbook for less than a change waits for it.
func TestARunWaitsForItsRecord(t *testing.T) {
	t.Parallel()
	path, out, code := heldRescue(t, 3500*time.Millisecond)
	require.Zero(t, code, "%s", out)
	entry, events := eventsOf(t, path)
	assert.Equal(t, "done", entry.Outcome)
	assert.True(t, slices.ContainsFunc(events, func(e event.Event) bool {
		r, ok := e.Body.(event.Recording)
		return ok && strings.Contains(r.Problem, "another program holds it")
	}), "that nothing was recorded for a while is reported")
}

// TestNothingIsChangedUnrecorded has it held for longer: nothing is typed then that changes anything, and the run ends
// with a code of its own, unless it was said to go on unrecorded, which its end reports.
func TestNothingIsChangedUnrecorded(t *testing.T) {
	t.Parallel()
	for _, goesOn := range []bool{false, true} {
		var more []string
		if goesOn {
			more = []string{"--approve", "unrecorded"}
		}
		_, out, code := heldRescue(t, time.Minute, more...)
		assert.Equal(t, engine.ExitUnrecorded, code, "%s", out)
		var typed []string
		var end event.RunEnd
		for line := range strings.Lines(out) {
			var e event.Event
			require.NoError(t, json.Unmarshal([]byte(line), &e), line)
			switch b := e.Body.(type) {
			case event.Out:
				typed = append(typed, string(b.Bytes))
			case event.RunEnd:
				end = b
			}
		}
		if goesOn {
			assert.Equal(t, event.Done, end.Outcome, end.Message)
			assert.Contains(t, end.Message, "UNRECORDED from “store drop ")
			assert.Contains(t, end.Unrecorded, "another program holds it")
			continue
		}
		assert.NotContains(t, strings.Join(typed, ""), "store drop")
		assert.Equal(t, event.Stopped, end.Outcome)
		assert.Contains(t, end.Message, "another program holds it; nothing was changed on the device")
	}
}
