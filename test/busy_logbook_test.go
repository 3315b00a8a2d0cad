package test

import (
	"bufio"
	"context"
	"database/sql"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"pilotrix/core/event"
	"pilotrix/core/logbook"
)

// TestARunGoesOnWhileItsLogbookIsHeld has another program hold the file for longer than it is waited for, in the middle of
// a run: the run does not wait for it, and nothing is missing afterwards.
func TestARunGoesOnWhileItsLogbookIsHeld(t *testing.T) {
	t.Parallel()
	path := filepath.Join(tempDir(t), "logbook.db")
	run := exec.Command(program, rescueArgs(t, path, "--time-scale", "8", "--approve", "all")...)
	run.Env = append(os.Environ(), "DEVICE_PASSWORD="+secretOfTests)
	out, err := run.StdoutPipe()
	require.NoError(t, err)
	require.NoError(t, run.Start())
	lines := bufio.NewReader(out)
	for line := ""; !strings.Contains(line, "ready the store"); {
		line, err = lines.ReadString('\n')
		require.NoError(t, err)
	}
	other, err := sql.Open("sqlite", "file:"+path+"?_pragma=busy_timeout(5000)")
	require.NoError(t, err)
	defer other.Close()
	held, err := other.Conn(context.Background())
	require.NoError(t, err)
	_, err = held.ExecContext(t.Context(), `BEGIN EXCLUSIVE`)
	require.NoError(t, err)
	time.Sleep(7 * time.Second)
	_, err = held.ExecContext(t.Context(), `ROLLBACK`)
	require.NoError(t, err)
	require.NoError(t, held.Close())
	_, _ = io.Copy(io.Discard, lines)
	require.NoError(t, run.Wait())

	book, err := logbook.OpenToRead(path)
	require.NoError(t, err)
	defer book.Close()
	entry, err := book.Find(1)
	require.NoError(t, err)
	assert.Equal(t, "done", entry.Outcome)
	last, told := int64(0), false
	require.NoError(t, book.Events(1, func(e event.Event) error {
		assert.Equal(t, last+1, e.Seq, "none is missing")
		last = e.Seq
		if r, is := e.Body.(event.Recording); is && r.Problem != "" {
			told = true
		}
		return nil
	}))
	assert.True(t, told, "that nothing was recorded for a while is told")
}
