package logbook

import (
	"database/sql"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"pilotrix/core/clock"
	"pilotrix/core/event"
)

func book(t *testing.T) *Logbook {
	t.Helper()
	b, err := Open(filepath.Join(t.TempDir(), "deep", "logbook.db"))
	require.NoError(t, err)
	t.Cleanup(func() { _ = b.Close() })
	return b
}

func TestWhatWasKeptComesBack(t *testing.T) {
	b := book(t)
	hub := event.NewHub(clock.Real())
	hub.Protect("lamp-and-tide")
	k, err := b.Keep(hub.Subscribe())
	require.NoError(t, err)
	kept := []event.Body{
		event.SessionBegin{Target: "bench:x", Device: "hollow-rtr1", Dialect: "brindle-r40"},
		event.RunBegin{Runbook: "rescue-over-serial", Title: "Rescue", Steps: []event.StepPlan{{ID: "1.1", Title: "Find it"}}},
		event.In{Bytes: event.Text("sill: \x1b[1m\xff\x00")},
		event.Out{Who: event.Runbook, Bytes: event.Text("store\r")},
		event.Out{Who: event.Hand, Secret: 13},
		event.RunEnd{Outcome: event.Done, Message: "done", Proved: []string{"it runs"}},
		event.SessionEnd{Why: "the test ends"},
	}
	for _, body := range kept {
		hub.Emit(body)
	}
	hub.Close()
	require.NoError(t, k.Wait())

	var got []event.Body
	require.NoError(t, b.Events(k.ID(), func(e event.Event) error { got = append(got, e.Body); return nil }))
	assert.Equal(t, kept, got)
	entries, err := b.List(0)
	require.NoError(t, err)
	require.Len(t, entries, 1)
	assert.Equal(t, string(event.Done), entries[0].Outcome)
	assert.Equal(t, "hollow-rtr1", entries[0].Device)
	assert.False(t, entries[0].Ended.IsZero())
	_, err = b.Find(99)
	assert.ErrorContains(t, err, "no entry 99")
}

// TestSecretsSplitOverChunks prints a secret back in pieces, as a line delivers it.
func TestSecretsSplitOverChunks(t *testing.T) {
	b := book(t)
	hub := event.NewHub(clock.Real())
	hub.Protect("lamp-and-tide")
	k, err := b.Keep(hub.Subscribe())
	require.NoError(t, err)
	for _, piece := range []string{"user harbour secret lam", "p-and", "-tide kept, lamp", " out"} {
		hub.Emit(event.In{Bytes: event.Text(piece)})
	}
	hub.Close()
	require.NoError(t, k.Wait())
	var text string
	require.NoError(t, b.Events(k.ID(), func(e event.Event) error { text += string(e.Body.(event.In).Bytes); return nil }))
	assert.Equal(t, "user harbour secret [secret] kept, lamp out", text)
}

// TestCutOffIsToldOnce, and stays on the start until its own device is opened again.
func TestCutOffIsToldOnce(t *testing.T) {
	b := book(t)
	hub := event.NewHub(clock.Real())
	k, err := b.Keep(hub.Subscribe())
	require.NoError(t, err)
	for _, body := range []event.Body{
		event.SessionBegin{Target: "bench:x", Device: "hollow-rtr1"},
		event.RunBegin{Runbook: "rescue", Steps: []event.StepPlan{{ID: "4.1", Title: "Send the image"}}},
		event.StepBegin{ID: "4.1", Try: 1},
		event.Speed{From: 9600, To: 115200, Why: "runbook"},
		event.Transfer{Bytes: 1024, Size: 4096},
	} {
		hub.Emit(body)
	}
	hub.Close()
	require.NoError(t, k.Wait())
	entries, err := b.List(1)
	require.NoError(t, err)
	assert.Equal(t, StillOpen, entries[0].Outcome, "this process is alive")

	_, err = b.db.Exec(`UPDATE session SET process = '999999/1@gone'`)
	require.NoError(t, err)
	unsettled := func() int {
		t.Helper()
		all, err := b.Unsettled()
		require.NoError(t, err)
		return len(all)
	}
	for _, c := range []struct {
		device      string
		told, after int
	}{{"mare-gw1", 1, 1}, {"mare-gw1", 0, 1}, {"hollow-rtr1", 1, 0}, {"hollow-rtr1", 0, 0}} {
		cut, err := b.CutOff(c.device, "bench:y")
		require.NoError(t, err)
		require.Len(t, cut, c.told, c)
		if c.told > 0 {
			assert.Contains(t, cut[0].String(), "in step “Send the image”, 1024 of 4096 B sent; the line was at 115200 baud")
		}
		assert.Equal(t, c.after, unsettled(), c)
	}
}

// TestACutOffTellsTheStepOfALoopOrARollback, and the last command that changes the device.
func TestACutOffTellsTheStepOfALoopOrARollback(t *testing.T) {
	b := book(t)
	hub := event.NewHub(clock.Real())
	k, err := b.Keep(hub.Subscribe())
	require.NoError(t, err)
	for _, body := range []event.Body{
		event.RunBegin{Runbook: "r", Steps: []event.StepPlan{{ID: "3.1", Title: "Stage ${upgrade.name}"}}},
		event.Course{Steps: []event.StepPlan{{ID: "3a.1", Title: "Restart into 7.6"}}},
		event.StepBegin{ID: "3a.1"},
		event.Change{Step: "3a.1", Command: "recommence"},
	} {
		hub.Emit(body)
	}
	require.NoError(t, hub.Settle(t.Context()), "it is on disk before the command is sent")
	entry, err := b.Find(k.ID())
	require.NoError(t, err)
	last, err := b.last(entry)
	require.NoError(t, err)
	assert.Contains(t, last.String(), "in step “Restart into 7.6”, after “recommence” was sent or about to be")
	hub.Emit(event.Course{Steps: []event.StepPlan{{ID: "back.1", Title: "Go back"}}})
	hub.Emit(event.StepBegin{ID: "back.1"})
	hub.Close()
	require.NoError(t, k.Wait())
	last, err = b.last(entry)
	require.NoError(t, err)
	assert.Contains(t, last.String(), "in step “Go back”")
}

// TestABusyFileIsWaitedFor has another program hold the file for longer than one try.
func TestABusyFileIsWaitedFor(t *testing.T) {
	b := book(t)
	_, err := b.db.Exec(`PRAGMA busy_timeout = 50`)
	require.NoError(t, err)
	hub := event.NewHub(clock.Real())
	k, err := b.Keep(hub.Subscribe())
	require.NoError(t, err)
	other, err := sql.Open("sqlite", "file:"+b.path)
	require.NoError(t, err)
	defer other.Close()
	other.SetMaxOpenConns(1)
	_, err = other.Exec(`BEGIN IMMEDIATE`)
	require.NoError(t, err)
	hub.Emit(event.Note{Text: "one"})
	settled := make(chan error, 1)
	go func() { settled <- hub.Settle(t.Context()) }()
	time.Sleep(150 * time.Millisecond) // three tries
	_, err = other.Exec(`ROLLBACK`)
	require.NoError(t, err)
	require.NoError(t, <-settled)
	hub.Emit(event.Note{Text: "two"})
	hub.Close()
	require.NoError(t, k.Wait())
	var kept []string
	require.NoError(t, b.Events(k.ID(), func(e event.Event) error { kept = append(kept, e.Body.(event.Note).Text); return nil }))
	assert.Equal(t, []string{"one", "two"}, kept)
}

// TestAFullDiskIsToldAtOnceAndLosesNothingKept lets the file grow no further.
func TestAFullDiskIsToldAtOnceAndLosesNothingKept(t *testing.T) {
	b := book(t)
	hub := event.NewHub(clock.Real())
	k, err := b.Keep(hub.Subscribe())
	require.NoError(t, err)
	hub.Emit(event.Note{Text: "kept"})
	require.Eventually(t, func() bool {
		kept := 0
		_ = b.Events(k.ID(), func(event.Event) error { kept++; return nil })
		return kept == 1
	}, 10*time.Second, time.Millisecond)
	_, err = b.db.Exec(`PRAGMA max_page_count = 1`)
	require.NoError(t, err)
	hub.Emit(event.In{Bytes: make(event.Text, 1<<20)})
	err = <-k.Failed()
	require.ErrorIs(t, err, ErrFull)
	assert.ErrorContains(t, err, b.Path())
	hub.Close()
	require.ErrorIs(t, k.Wait(), ErrFull)
	kept := 0
	require.NoError(t, b.Events(k.ID(), func(event.Event) error { kept++; return nil }))
	assert.Equal(t, 1, kept)
}

func TestAFileThatIsNoLogbook(t *testing.T) {
	path := filepath.Join(t.TempDir(), "logbook.db")
	require.NoError(t, os.WriteFile(path, []byte("this is a diary, and a long one at that, not a database"), 0o600))
	_, err := Open(path)
	require.Error(t, err)
	assert.ErrorContains(t, err, path)
	assert.ErrorContains(t, err, "move the file away")
}
