package test

import (
	"bytes"
	"context"
	"database/sql"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/creack/pty"
	"github.com/stretchr/testify/require"

	"pilotrix/bench"
	"pilotrix/bench/brindle"
	"pilotrix/core/clock"
	"pilotrix/core/event"
	"pilotrix/core/line"
	"pilotrix/core/logbook"
	"pilotrix/core/runbook"
	"pilotrix/core/session"
	"pilotrix/core/shipped"
)

// BenchmarkFirstFrame starts the program on a pseudo-terminal and prints the time until its first
// frame stands there, and the share of the 100 ms allowed.
func BenchmarkFirstFrame(b *testing.B) {
	book := filepath.Join(b.TempDir(), "book.db")
	firstFrame(b, nil, "F1", "open", "exec:cat", "--theme", "dark", "--logbook", book)
}

// BenchmarkFirstFrameOfTheStart does the same for the start, with 500 devices that are kept and a logbook of 1,000,000
// events: until it stands there, until the devices do, and until what the logbook knows of them does.
func BenchmarkFirstFrameOfTheStart(b *testing.B) {
	home := b.TempDir()
	fillHome(b, home, 500, 1000, 1000)
	for what, text := range map[string]string{"frame": "filter", "devices": "dev-003", "logbook": "7.4.2"} {
		b.Run(what, func(b *testing.B) { firstFrame(b, homeAt(home), text, "--theme", "dark") })
	}
}

func firstFrame(b *testing.B, env []string, until string, args ...string) {
	var spent time.Duration
	for b.Loop() {
		run := exec.Command(program, args...)
		run.Env = append(append(os.Environ(), "TERM=xterm-256color", "COLORTERM=truecolor"), env...)
		began := time.Now()
		terminal, err := pty.StartWithSize(run, &pty.Winsize{Cols: 160, Rows: 40})
		require.NoError(b, err)
		var shown bytes.Buffer
		piece := make([]byte, 32<<10)
		for !bytes.Contains(shown.Bytes(), []byte(until)) {
			n, err := terminal.Read(piece)
			require.NoError(b, err)
			shown.Write(piece[:n])
		}
		spent += time.Since(began)
		_ = run.Process.Kill()
		_ = run.Wait()
		_ = terminal.Close()
	}
	each := spent / time.Duration(b.N)
	b.ReportMetric(float64(each.Microseconds())/1000, "ms")
	b.ReportMetric(float64(each)/float64(100*time.Millisecond), "×allowed")
}

// fillHome makes a user's files with so many devices, sessions, and events in each of them.
func fillHome(b *testing.B, home string, devices, sessions, events int) {
	var kept strings.Builder
	kept.WriteString("devices:\n")
	for i := range devices {
		fmt.Fprintf(&kept,
			"  - {device: dev-%03d, place: Orsholm quay, target: 'ssh://harbour@192.0.2.%d', dialect: cormel-g2}\n", i,
			i%250+1)
	}
	require.NoError(b, os.MkdirAll(filepath.Join(home, "config", "pilotrix"), 0o700))
	require.NoError(b,
		os.WriteFile(filepath.Join(home, "config", "pilotrix", "devices.yaml"), []byte(kept.String()), 0o600))
	path := filepath.Join(home, "data", "pilotrix", "logbook.db")
	book, err := logbook.Open(path)
	require.NoError(b, err)
	require.NoError(b, book.Close())
	db, err := sql.Open("sqlite", path)
	require.NoError(b, err)
	defer db.Close()
	all, err := db.Begin()
	require.NoError(b, err)
	do := func(text string, args ...any) {
		_, err := all.Exec(text, args...)
		require.NoError(b, err)
	}
	for s := 1; s <= sessions; s++ {
		at, device := time.Now().Add(-time.Duration(s)*time.Hour).
			UTC().
			Format(time.RFC3339Nano),
			fmt.Sprintf("dev-%03d", s%devices)
		do(`INSERT INTO session (id, began, target, dialect, device, process, ended) VALUES (?, ?, 'ssh://x', 'cormel-g2', ?, '1 1', ?)`,
			s, at, device, at)
		do(`INSERT INTO run (session, seq, place, runbook, title, began, ended, outcome) VALUES (?, 5, ?, 'standby-bank-upgrade', 'Upgrade the standby bank', ?, ?, 'done')`,
			s, device, at, at)
		do(`INSERT INTO known (place, name, value, at) VALUES (?, 'running.release', '7.4.2', ?) ON CONFLICT DO NOTHING`,
			device, at)
		do(
			`WITH RECURSIVE n(seq) AS (SELECT 1 UNION ALL SELECT seq + 1 FROM n WHERE seq < ?) INSERT INTO event (session, seq, at, kind, body)
			SELECT ?, seq, ?, 'line.in', '{"bytes":"a line of the usual length that a device writes"}' FROM n`,
			events,
			s,
			at,
		)
	}
	require.NoError(b, all.Commit())
}

// BenchmarkRunbookOverhead carries the rescue out on a device that lives four times as fast as real
// ones and prints which share of the run is the runbook's own: the time from the last byte that the
// device sent to the next that the runbook types, whatever it was spent on. At real speed the share
// is smaller.
func BenchmarkRunbookOverhead(b *testing.B) {
	var own, total time.Duration
	for b.Loop() {
		o, t := overhead(b)
		own, total = own+o, total+t
	}
	b.ReportMetric(100*own.Seconds()/total.Seconds(), "%of-run")
	b.ReportMetric(total.Seconds()/float64(b.N), "s-run")
}

func overhead(b *testing.B) (own, total time.Duration) {
	path := filepath.Join(b.TempDir(), "tern-4.2.1.brm")
	require.NoError(b, os.WriteFile(path, brindle.MakeImage("4.2.1", []string{"R40-2"}, 600_000), 0o600))
	c := clock.Scaled(4)
	router := brindle.New("R40-2", "hollow-rtr1", "harbour", "lamp-and-tide")
	router.SaveConfiguration("2026-03-02")
	machine := bench.New("figures", router, c, true)
	require.NoError(b, machine.Start())
	defer machine.Stop()
	d, err := shipped.Dialect("brindle-r40")
	require.NoError(b, err)
	book, err := shipped.Runbook("rescue-over-serial")
	require.NoError(b, err)
	prepared, err := book.Prepare(d, map[string]string{"image": path, "user": "harbour", "password": "lamp-and-tide"},
		runbook.Kit{})
	require.NoError(b, err)
	opener := line.NewOpener(c)
	opener.Register(line.Bench,
		func(ctx context.Context, t line.Target) (line.Line, error) { return machine.Open(ctx, opener, t) })
	s, err := session.Open(b.Context(), session.Options{
		Target: line.Target{
			Kind:    line.Bench,
			Address: "figures",
		},
		Dialect: d,
		Clock:   c,
		Opener:  opener,
		Approve: approveAll,
	})
	require.NoError(b, err)
	feed := s.Subscribe()
	s.Begin()
	result, err := s.Run(b.Context(), prepared)
	require.NoError(b, err)
	require.Equal(b, event.Done, result.Outcome, result.Message)
	s.Close("measured")
	return shares(feed)
}

func shares(feed *event.Feed) (own, total time.Duration) {
	events, err := feed.Next(context.Background())
	if err != nil {
		return 0, 0
	}
	var began, heard time.Time
	for _, e := range events {
		switch e.Body.(type) {
		case event.RunBegin:
			began, heard = e.At, e.At
		case event.In, event.TransferEnd:
			heard = e.At
		case event.Out:
			if !heard.IsZero() {
				own += e.At.Sub(heard)
			}
			heard = time.Time{}
		case event.RunEnd:
			total = e.At.Sub(began)
		}
	}
	return own, total
}
