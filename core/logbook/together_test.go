package logbook

import (
	"bytes"
	"context"
	"database/sql"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"pilotrix/core/clock"
	"pilotrix/core/event"
)

// Variables of the programs that write into one book together.
const (
	togetherBook = "PILOTRIX_TEST_BOOK"
	togetherRole = "PILOTRIX_TEST_ROLE"
)

// eachWrites is how many events each of them writes.
const eachWrites = 150

// TestFivePrograms is several programs at one book: two that keep a session each, one that writes notes into both, one
// that takes entries in, and one that prunes. Nothing is lost, no number is given twice, and each entry is in its
// order.
func TestFivePrograms(t *testing.T) {
	if role := os.Getenv(togetherRole); role != "" {
		together(t, role, os.Getenv(togetherBook))
		return
	}
	path := filepath.Join(t.TempDir(), "logbook.db")
	b, err := Open(path)
	require.NoError(t, err)
	defer b.Close()
	old := sessionOf(t, b, "old device")
	_ = sessionOf(t, b, "old device")
	var programs []*exec.Cmd
	var said []*bytes.Buffer
	for _, role := range []string{"keeps one", "keeps two", "notes", "imports", "prunes"} {
		one := exec.Command(os.Args[0], "-test.run=^TestFivePrograms$", "-test.v")
		one.Env = append(os.Environ(), togetherBook+"="+path, togetherRole+"="+role)
		out := &bytes.Buffer{}
		one.Stdout, one.Stderr = out, out
		require.NoError(t, one.Start())
		programs, said = append(programs, one), append(said, out)
	}
	for i, one := range programs {
		require.NoError(t, one.Wait(), "%s", said[i])
	}
	_, err = b.Find(old)
	require.Error(t, err, "it was pruned")
	entries, err := b.List(0)
	require.NoError(t, err)
	kept, imported := 0, 0
	for _, e := range entries {
		var last int64
		var own []int
		notes := 0
		require.NoError(t, b.Events(e.ID, func(ev event.Event) error {
			require.Equal(t, last+1, ev.Seq, "entry %d", e.ID)
			last = ev.Seq
			if note, ok := ev.Body.(event.Note); ok && strings.HasPrefix(note.Text, "note: ") {
				notes++
			} else if ok {
				n, err := strconv.Atoi(strings.TrimPrefix(note.Text, "event "))
				require.NoError(t, err, note.Text)
				own = append(own, n)
			}
			return nil
		}))
		switch {
		case strings.HasPrefix(e.Device, "keeps"):
			kept++
			require.Len(t, own, eachWrites, "none of its own is missing")
			for i, n := range own {
				require.Equal(t, i, n, "in their order")
			}
			assert.Positive(t, notes, "others' notes are among them")
		case e.Device == "taken in":
			imported++
		}
	}
	assert.Equal(t, 2, kept)
	assert.Equal(t, 10, imported)
}

// together is one of the programs.
func together(t *testing.T, role, path string) {
	b, err := Open(path)
	require.NoError(t, err)
	defer b.Close()
	switch role {
	case "notes":
		notesTogether(t, b)
	case "imports":
		for range 10 {
			_, err := b.Import(strings.NewReader(`{"entry":{"id":1,"began":"2026-11-01T10:00:00Z","target":"unix:/x","device":"taken in","outcome":"done"},"form":1}` + "\n" + `{"seq":1,"at":"2026-11-01T10:00:00Z","kind":"note","level":"info","text":"event 0"}` + "\n"))
			require.NoError(t, err)
		}
	case "prunes":
		for range 5 {
			gone, err := b.Prunable(time.Now(), 0)
			require.NoError(t, err)
			var old []Weighed
			for _, e := range gone {
				if e.Device == "old device" {
					old = append(old, e)
				}
			}
			require.NoError(t, b.remove(func() (ids []int64) {
				for _, e := range old {
					ids = append(ids, e.ID)
				}
				return ids
			}()))
		}
	default:
		hub := event.NewHub(clock.Real())
		k, err := b.Keep(hub.Subscribe())
		require.NoError(t, err)
		hub.Emit(event.SessionBegin{Target: "unix:/" + role, Device: role})
		for n := range eachWrites {
			hub.Emit(event.Note{Level: event.Info, Text: fmt.Sprintf("event %d", n)})
			if n%10 == 0 {
				limited, cancel := context.WithTimeout(t.Context(), 20*time.Second)
				require.NoError(t, hub.Settle(limited))
				cancel()
			}
		}
		hub.Emit(event.SessionEnd{Why: "the test ends"})
		hub.Close()
		require.NoError(t, k.Wait())
	}
}

// notesTogether writes notes into the sessions that others keep, for as long as they do.
func notesTogether(t *testing.T, b *Logbook) {
	written := map[int64]int{}
	for len(written) < 3 || written[0] < 40 { // both of them, and the count of rounds under 0
		entries, err := b.List(0)
		require.NoError(t, err)
		for _, e := range entries {
			if strings.HasPrefix(e.Device, "keeps") {
				require.NoError(t, b.Note(e.ID, "seen"))
				written[e.ID]++
			}
		}
		if written[0]++; written[0] > 4000 {
			t.Fatal("the others do not come")
		}
	}
}

func sessionOf(t *testing.T, b *Logbook, device string) int64 {
	t.Helper()
	hub := event.NewHub(clock.Real())
	k, err := b.Keep(hub.Subscribe())
	require.NoError(t, err)
	hub.Emit(event.SessionBegin{Target: "unix:/x", Device: device})
	hub.Emit(event.SessionEnd{Why: "the test ends"})
	hub.Close()
	require.NoError(t, k.Wait())
	return k.ID()
}

// TestANoteOnAnOpenSessionTakesNothingFromIt is one that another program writes in its middle.
func TestANoteOnAnOpenSessionTakesNothingFromIt(t *testing.T) {
	b := book(t)
	hub := event.NewHub(clock.Real())
	k, err := b.Keep(hub.Subscribe())
	require.NoError(t, err)
	hub.Emit(event.Note{Text: "one"})
	require.NoError(t, hub.Settle(t.Context()))
	other, err := Open(b.Path())
	require.NoError(t, err)
	defer other.Close()
	require.NoError(t, other.Note(k.ID(), "of another program"))
	hub.Emit(event.Note{Text: "two"})
	hub.Close()
	require.NoError(t, k.Wait())
	var texts []string
	require.NoError(t,
		b.Events(k.ID(), func(e event.Event) error { texts = append(texts, e.Body.(event.Note).Text); return nil }))
	assert.Equal(t, []string{"one", "note: of another program", "two"}, texts)
}

// TestWhatIsAwaitedIsSynced waits for what was written before, without anything new.
func TestWhatIsAwaitedIsSynced(t *testing.T) {
	b := book(t)
	hub := event.NewHub(clock.Real())
	k, err := b.Keep(hub.Subscribe())
	require.NoError(t, err)
	hub.Emit(event.Note{Text: "one"})
	require.Eventually(t, func() bool { return kept(b, k.ID()) == 1 }, 10*time.Second, time.Millisecond)
	limited, cancel := context.WithTimeout(t.Context(), 10*time.Second)
	defer cancel()
	require.NoError(t, hub.Settle(limited))
	hub.Close()
	require.NoError(t, k.Wait())
}

// TestABookThatIsHeldIsOpenedLater has another program hold the file from before the session begins.
func TestABookThatIsHeldIsOpenedLater(t *testing.T) {
	path := filepath.Join(t.TempDir(), "logbook.db")
	first, err := Open(path)
	require.NoError(t, err)
	require.NoError(t, first.Close())
	other, err := sql.Open("sqlite", "file:"+path)
	require.NoError(t, err)
	defer other.Close()
	held, err := other.Conn(t.Context())
	require.NoError(t, err)
	_, err = held.ExecContext(t.Context(), "BEGIN EXCLUSIVE")
	require.NoError(t, err)

	_, why := Open(path)
	require.ErrorIs(t, why, ErrBusy)
	hub := event.NewHub(clock.Real())
	k := KeepWhenPossible(hub.Subscribe(), func() (*Logbook, error) { return Open(path) }, why)
	hub.Emit(event.SessionBegin{Target: "unix:/x", Device: "lamp"})
	short, cancel := context.WithTimeout(t.Context(), 100*time.Millisecond)
	defer cancel()
	err = hub.Settle(short)
	require.ErrorIs(t, err, event.ErrNotRecorded)
	require.ErrorIs(t, err, ErrBusy)
	_, err = held.ExecContext(t.Context(), "ROLLBACK")
	require.NoError(t, err)
	require.NoError(t, held.Close())
	limited, cancel := context.WithTimeout(t.Context(), 20*time.Second)
	defer cancel()
	require.NoError(t, hub.Settle(limited), "what happened before is on record, too")
	hub.Close()
	require.NoError(t, k.Wait())
	b, err := Open(path)
	require.NoError(t, err)
	defer b.Close()
	entry, err := b.Find(k.ID())
	require.NoError(t, err)
	assert.Equal(t, "lamp", entry.Device)
}

// TestAnEntryThatWasRemovedIsSaidNotToBeKept has it taken away while its session goes on.
func TestAnEntryThatWasRemovedIsSaidNotToBeKept(t *testing.T) {
	b := book(t)
	hub := event.NewHub(clock.Real())
	k, err := b.Keep(hub.Subscribe())
	require.NoError(t, err)
	require.NoError(t, b.remove([]int64{k.ID()}))
	hub.Emit(event.Note{Text: "one"})
	short, cancel := context.WithTimeout(t.Context(), time.Second)
	defer cancel()
	err = hub.Settle(short)
	require.ErrorIs(t, err, event.ErrNotRecorded)
	assert.ErrorContains(t, err, "was removed from it")
	hub.Close()
	assert.Error(t, k.Wait())
	assert.False(t, errors.Is(err, ErrFull))
}

// BenchmarkOnRecord is what a change costs more for being synced, beside one that is only written.
func BenchmarkOnRecord(b *testing.B) {
	book, err := Open(filepath.Join(b.TempDir(), "logbook.db"))
	require.NoError(b, err)
	defer book.Close()
	k := newKeeper(book)
	require.NoError(b, k.begin())
	one := []event.Event{{At: time.Now(), Body: event.Change{Step: "1.1", Command: "favour B"}}}
	var took [2]time.Duration
	for b.Loop() {
		for i, synced := range []bool{false, true} {
			k.waiting = append(k.waiting[:0:0], one...)
			begun := time.Now()
			require.NoError(b, k.flush(synced))
			took[i] += time.Since(begun)
		}
	}
	b.ReportMetric(float64((took[1]-took[0]).Microseconds())/1000/float64(b.N), "ms-more/change")
	b.ReportMetric(float64(took[1])/float64(took[0]), "times")
}

// TestAFileThatIsNotTheOneOfThatNameKeepsNothing removes the file, or puts another one there, at any time: what is
// awaited then is not said to be kept; once the file is back it is.
func TestAFileThatIsNotTheOneOfThatNameKeepsNothing(t *testing.T) {
	for name, lose := range map[string]func(path string) error{
		"moved away": func(path string) error { return os.Rename(path, path+".away") },
		"another one": func(path string) error {
			return errors.Join(os.Rename(path, path+".away"), os.WriteFile(path, nil, 0o600))
		},
		"a folder": func(path string) error {
			return errors.Join(os.Rename(path, path+".away"),
				os.Mkdir(path, 0o700))
		},
	} {
		path := filepath.Join(t.TempDir(), "logbook.db")
		b, err := Open(path)
		require.NoError(t, err)
		hub := event.NewHub(clock.Real())
		k, err := b.Keep(hub.Subscribe())
		require.NoError(t, err)
		settles := func(within time.Duration) error {
			limited, cancel := context.WithTimeout(t.Context(), within)
			defer cancel()
			return hub.Settle(limited)
		}
		hub.Emit(event.Note{Text: "one"})
		require.NoError(t, settles(time.Minute), name)
		require.NoError(t, lose(path), name)
		hub.Emit(event.Note{Text: "two"})
		require.ErrorIs(t, settles(300*time.Millisecond), ErrGone, name)
		require.NoError(t, os.RemoveAll(path))
		require.NoError(t, os.Rename(path+".away", path))
		require.NoError(t, settles(time.Minute), name)
		hub.Close()
		require.NoError(t, k.Wait())
		assert.Equal(t, 2, kept(b, k.ID()), name)
		require.NoError(t, b.Close())
	}
}

func TestWhatIsNoFileIsNoLogbook(t *testing.T) {
	pipe := filepath.Join(t.TempDir(), "pipe")
	require.NoError(t, syscall.Mkfifo(pipe, 0o600))
	for _, path := range []string{pipe, t.TempDir(), "/dev/null"} {
		_, err := Open(path)
		require.ErrorContains(t, err, "it is no file")
		_, err = OpenToRead(path)
		require.ErrorContains(t, err, "it is no file")
	}
}
