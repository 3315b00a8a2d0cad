package logbook

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
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
		event.RunBegin{
			Runbook: "rescue-over-serial",
			Title:   "Rescue",
			Steps:   []event.StepPlan{{ID: "1.1", Title: "Find it"}},
		},
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
	require.NoError(t,
		b.Events(k.ID(), func(e event.Event) error { text += string(e.Body.(event.In).Bytes); return nil }))
	assert.Equal(t, "user harbour secret [secret] kept, lamp out", text)
}

// TestCutOffIsReportedOnce, and stays on the start until its own device is opened again.
func TestCutOffIsReportedOnce(t *testing.T) {
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
		device          string
		reported, after int
	}{{"mare-gw1", 1, 1}, {"mare-gw1", 0, 1}, {"hollow-rtr1", 1, 0}, {"hollow-rtr1", 0, 0}} {
		cut, err := b.CutOff(c.device, "bench:y")
		require.NoError(t, err)
		require.Len(t, cut, c.reported, c)
		if c.reported > 0 {
			assert.Contains(t, cut[0].String(),
				"in step “Send the image”, 1024 of 4096 B sent; the line was at 115200 baud")
		}
		assert.Equal(t, c.after, unsettled(), c)
	}
}

// TestACutOffSaysTheStepOfALoopOrARollback, and the last command that changes the device.
func TestACutOffSaysTheStepOfALoopOrARollback(t *testing.T) {
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
	require.NoError(t,
		b.Events(k.ID(), func(e event.Event) error { kept = append(kept, e.Body.(event.Note).Text); return nil }))
	assert.Equal(t, []string{"one", "two"}, kept)
}

// kept counts the events of an entry that are in the file.
func kept(b *Logbook, id int64) (n int) {
	_ = b.Events(id, func(event.Event) error { n++; return nil })
	return n
}

// TestAFullDiskIsToldAtOnceAndRecordingGoesOn lets the file grow no further for a while: what happens meanwhile is
// reported, and kept afterwards.
func TestAFullDiskIsToldAtOnceAndRecordingGoesOn(t *testing.T) {
	b := book(t)
	hub := event.NewHub(clock.Real())
	k, err := b.Keep(hub.Subscribe())
	require.NoError(t, err)
	hub.Emit(event.Note{Text: "kept"})
	require.Eventually(t, func() bool { return kept(b, k.ID()) == 1 }, 10*time.Second, time.Millisecond)
	_, err = b.db.Exec(`PRAGMA max_page_count = 1`)
	require.NoError(t, err)
	hub.Emit(event.In{Bytes: make(event.Text, 1<<20)})
	now := <-k.Changes()
	require.ErrorIs(t, now.Problem, ErrFull)
	assert.ErrorContains(t, now.Problem, b.Path())
	short, cancel := context.WithTimeout(t.Context(), 300*time.Millisecond)
	defer cancel()
	settled := hub.Settle(short)
	require.ErrorIs(t, settled, event.ErrNotRecorded)
	require.ErrorIs(t, settled, ErrFull)
	hub.Emit(event.Note{Text: "while it was full"})
	_, err = b.db.Exec(`PRAGMA max_page_count = 1000000`)
	require.NoError(t, err)
	now = <-k.Changes()
	assert.NoError(t, now.Problem)
	assert.Zero(t, now.Lost)
	hub.Emit(event.Note{Text: "afterwards"})
	hub.Close()
	require.NoError(t, k.Wait())
	assert.Equal(t, 4, kept(b, k.ID()))
}

// TestADiskThatStaysFullIsSaidAtTheEnd loses nothing that was kept before.
func TestADiskThatStaysFullIsSaidAtTheEnd(t *testing.T) {
	b := book(t)
	hub := event.NewHub(clock.Real())
	k, err := b.Keep(hub.Subscribe())
	require.NoError(t, err)
	hub.Emit(event.Note{Text: "kept"})
	require.Eventually(t, func() bool { return kept(b, k.ID()) == 1 }, 10*time.Second, time.Millisecond)
	_, err = b.db.Exec(`PRAGMA max_page_count = 1`)
	require.NoError(t, err)
	hub.Emit(event.In{Bytes: make(event.Text, 1<<20)})
	hub.Close()
	require.ErrorIs(t, k.Wait(), ErrFull)
	assert.Equal(t, 1, kept(b, k.ID()))
}

// TestMemoryIsBoundedWhileNothingCanBeWritten has more come than there is room for: the oldest go, and that is said
// where they were.
func TestMemoryIsBoundedWhileNothingCanBeWritten(t *testing.T) {
	k := &Keeper{}
	for n := range int64(200) {
		k.take([]event.Event{{Seq: n + 1, Body: event.In{Bytes: make(event.Text, 1<<20)}}})
	}
	assert.LessOrEqual(t, k.bytes, maxWaiting)
	assert.Positive(t, k.lost)
	first := k.waiting[0].Body.(event.Note)
	assert.Contains(t, first.Text, fmt.Sprintf("%d events since", k.lost))
	assert.Equal(t, int64(200), k.waiting[len(k.waiting)-1].Seq)
	assert.Equal(t, 200, k.lost+len(k.waiting)-1, "each is kept or counted")
}

// TestARunThatEndedIsNotCutOff ends the program behind the run's end.
func TestARunThatEndedIsNotCutOff(t *testing.T) {
	b := book(t)
	hub := event.NewHub(clock.Real())
	k, err := b.Keep(hub.Subscribe())
	require.NoError(t, err)
	hub.Emit(event.SessionBegin{Target: "bench:x"})
	hub.Emit(event.RunBegin{Runbook: "rescue"})
	hub.Emit(event.RunEnd{Outcome: event.Done})
	hub.Close()
	require.NoError(t, k.Wait())
	_, err = b.db.Exec(`UPDATE session SET process = '999999/1@gone'`)
	require.NoError(t, err)
	entries, err := b.List(0)
	require.NoError(t, err)
	assert.Equal(t, "done", entries[0].Outcome)
	cut, err := b.CutOff("", "bench:x")
	require.NoError(t, err)
	assert.Empty(t, cut)
}

// TestAnEventThatCannotBeReadHidesNothing has one of a later release, and one that is damaged.
func TestAnEventThatCannotBeReadHidesNothing(t *testing.T) {
	b := book(t)
	hub := event.NewHub(clock.Real())
	k, err := b.Keep(hub.Subscribe())
	require.NoError(t, err)
	for range 4 {
		hub.Emit(event.Note{Text: "x"})
	}
	hub.Close()
	require.NoError(t, k.Wait())
	_, err = b.db.Exec(
		`UPDATE event SET kind = 'hologram' WHERE seq = 2; UPDATE event SET body = '{"level":' WHERE seq = 3`)
	require.NoError(t, err)
	var all []string
	require.NoError(t, b.Events(k.ID(), func(e event.Event) error {
		text, _ := event.Report(e.Body)
		all = append(all, text)
		return nil
	}))
	require.Len(t, all, 4)
	assert.Contains(t, all[1], `an event that cannot be read: event kind "hologram" is not known`)
	assert.Contains(t, all[2], "an event that cannot be read")
	assert.Equal(t, "x", all[3])
}

// TestAnyPathWorks makes and reads logbooks under names that mean something elsewhere.
func TestAnyPathWorks(t *testing.T) {
	for _, name := range []string{"a b.db", "a#b.db", "a?mode=ro.db", "100%.db", "%41.db", "ü'\".db", "memory:"} {
		path := filepath.Join(t.TempDir(), name)
		b, err := Open(path)
		require.NoError(t, err, name)
		require.NoError(t, b.Close())
		require.FileExists(t, path, name)
		b, err = OpenToRead(path)
		require.NoError(t, err, name)
		require.NoError(t, b.Close())
	}
	for _, open := range []func(string) (*Logbook, error){Open, OpenToRead} {
		_, err := open("")
		assert.ErrorContains(t, err, "its path is empty")
	}
}

func TestLookingChangesNothing(t *testing.T) {
	folder := t.TempDir()
	path := filepath.Join(folder, "none", "logbook.db")
	_, err := OpenToRead(path)
	require.ErrorIs(t, err, ErrNone)
	assert.NoDirExists(t, filepath.Dir(path), "not even its folder is made")

	foreign := filepath.Join(folder, "other.db")
	db, err := sql.Open("sqlite", "file:"+foreign)
	require.NoError(t, err)
	_, err = db.Exec(`CREATE TABLE diary (day TEXT)`)
	require.NoError(t, errors.Join(err, db.Close()))
	_, err = OpenToRead(foreign)
	assert.ErrorContains(t, err, "a file of another program")

	later := filepath.Join(folder, "later.db")
	b, err := Open(later)
	require.NoError(t, err)
	_, err = b.db.Exec(`PRAGMA user_version = 7`)
	require.NoError(t, errors.Join(err, b.Close()))
	_, err = Open(later)
	assert.ErrorContains(t, err, "a later release has written it (form 7, this one knows 1)")
	b, err = OpenToRead(later)
	require.NoError(t, err, "it can be read")
	_, err = b.List(0)
	require.NoError(t, errors.Join(err, b.Close()))
}

func TestAFileThatIsNoLogbook(t *testing.T) {
	path := filepath.Join(t.TempDir(), "logbook.db")
	require.NoError(t, os.WriteFile(path, []byte("this is a diary, and a long one at that, not a database"), 0o600))
	_, err := Open(path)
	require.Error(t, err)
	assert.ErrorContains(t, err, path)
	assert.ErrorContains(t, err, "move the file away")
}
