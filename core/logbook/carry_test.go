package logbook

import (
	"bytes"
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"pilotrix/core/clock"
	"pilotrix/core/event"
)

// session keeps one, with what is reported in it.
func session(t *testing.T, b *Logbook, device, runbook string, outcome event.Outcome, text string) int64 {
	t.Helper()
	hub := event.NewHub(clock.Real())
	k, err := b.Keep(hub.Subscribe())
	require.NoError(t, err)
	hub.Emit(event.SessionBegin{Target: "bench:" + device, Device: device})
	if runbook != "" {
		hub.Emit(event.RunBegin{Runbook: runbook, Title: runbook})
		hub.Emit(event.In{Bytes: event.Text(text)})
		hub.Emit(event.Fact{Name: keptFacts[0], Value: "of " + runbook})
		hub.Emit(event.RunEnd{Outcome: outcome})
	}
	hub.Emit(event.SessionEnd{Why: "the test ends"})
	hub.Close()
	require.NoError(t, k.Wait())
	return k.ID()
}

func TestEntriesAreFound(t *testing.T) {
	b := book(t)
	session(t, b, "mare-gw1", "standby-bank-upgrade", event.Failed, "no such word: \"frob_nicate\"\r\n100%")
	session(t, b, "hollow-rtr1", "rescue-over-serial", event.Done, "tern 4.2.1")
	session(t, b, "mare-gw1", "", "", "")
	for name, c := range map[string]struct {
		filter Filter
		want   []int64
	}{
		"all":                 {Filter{}, []int64{3, 2, 1}},
		"the newest":          {Filter{Most: 1}, []int64{3}},
		"a device":            {Filter{Device: "mare"}, []int64{3, 1}},
		"a target":            {Filter{Device: "bench:hollow"}, []int64{2}},
		"a runbook":           {Filter{Runbook: "rescue"}, []int64{2}},
		"an end":              {Filter{Ends: []string{"failed", "done"}, Device: "gw1"}, []int64{1}},
		"a text":              {Filter{Text: `word: "frob_`}, []int64{1}},
		"no pattern":          {Filter{Text: "frobXnicate"}, nil},
		"a sign of a pattern": {Filter{Text: "100%"}, []int64{1}},
		"since":               {Filter{Since: time.Now().Add(time.Hour)}, nil},
		"until":               {Filter{Until: time.Now().Add(time.Hour)}, []int64{3, 2, 1}},
	} {
		entries, err := b.Select(c.filter)
		require.NoError(t, err, name)
		var got []int64
		for _, e := range entries {
			got = append(got, e.ID)
		}
		assert.Equal(t, c.want, got, name)
	}
}

func TestATextIsFoundInAnEvent(t *testing.T) {
	e := event.Event{Body: event.In{Bytes: event.Text("no such word: \"frob\"\r\n")}}
	assert.True(t, Holds(e, `WORD: "frob"`))
	assert.False(t, Holds(e, "words"))
}

// TestAnEntryIsCarriedWhole exports one and takes it in elsewhere, where it is as it was.
func TestAnEntryIsCarriedWhole(t *testing.T) {
	here, there := book(t), book(t)
	id := session(t, here, "mare-gw1", "standby-bank-upgrade", event.Failed, "lark\x1b[1m ø\x00\xff")
	require.NoError(t, here.Note(id, "the power supply was replaced"))
	session(t, there, "tangle-sw1", "", "", "")
	var out bytes.Buffer
	require.NoError(t, here.Export(id, &out))
	ids, err := there.Import(bytes.NewReader(out.Bytes()))
	require.NoError(t, err)
	require.Equal(t, []int64{2}, ids)
	lines := func(b *Logbook, id int64) (all []string) {
		require.NoError(t, b.Events(id, func(e event.Event) error {
			text, err := e.MarshalJSON()
			all = append(all, string(text))
			return err
		}))
		return all
	}
	assert.Equal(t, lines(here, id), lines(there, ids[0]))
	assert.Contains(t, strings.Join(lines(there, ids[0]), ""), "note: the power supply was replaced")
	was, err := here.Find(id)
	require.NoError(t, err)
	ok, err := there.Find(ids[0])
	require.NoError(t, err)
	ok.ID, ok.process, was.process = was.ID, "", ""
	assert.Equal(t, was, ok)
	cut, err := there.Unsettled()
	require.NoError(t, err)
	assert.Empty(t, cut, "nothing was cut off here")
}

func TestABrokenExportIsTakenInNotAtAll(t *testing.T) {
	here := book(t)
	var out bytes.Buffer
	require.NoError(t, here.Export(session(t, here, "mare-gw1", "x", event.Done, "y"), &out))
	for name, text := range map[string]string{
		"no entry":     `{"seq":1,"at":"2026-03-02T14:00:00Z","kind":"note"}`,
		"no JSON":      out.String() + "oops",
		"an unknown":   out.String() + `{"seq":99,"at":"2026-03-02T14:00:00Z","kind":"hologram"}`,
		"not for this": "tide tables\n",
	} {
		there := book(t)
		_, err := there.Import(strings.NewReader(text))
		require.ErrorContains(t, err, "line ", name)
		entries, err := there.List(0)
		require.NoError(t, err)
		assert.Empty(t, entries, name)
	}
}

// TestPruningKeepsTheNewestOfEachDevice counts what would go by age and by size.
func TestPruningKeepsTheNewestOfEachDevice(t *testing.T) {
	b := book(t)
	for n := range 4 {
		session(t, b, "mare-gw1", "x", event.Done, strings.Repeat("y", 10_000*(n+1)))
	}
	only := session(t, b, "hollow-rtr1", "x", event.Done, "z")
	ids := func(before time.Time, most int64) (all []int64) {
		gone, err := b.Prunable(before, most)
		require.NoError(t, err)
		for _, e := range gone {
			assert.Positive(t, e.Bytes)
			all = append(all, e.ID)
		}
		return all
	}
	assert.Equal(t, []int64{1, 2, 3}, ids(time.Now().Add(time.Hour), 0), "never the only record of a device")
	assert.Empty(t, ids(time.Now().Add(-time.Hour), 0))
	assert.Equal(t, []int64{1, 2}, ids(time.Time{}, 90_000))
	gone, err := b.Prunable(time.Time{}, 90_000)
	require.NoError(t, err)
	require.NoError(t, b.Prune(gone))
	entries, err := b.List(0)
	require.NoError(t, err)
	assert.Len(t, entries, 3)
	assert.Zero(t, kept(b, 1))
	assert.Equal(t, only, entries[0].ID)
	_, err = b.Find(1)
	assert.ErrorContains(t, err, fmt.Sprint("there is no entry ", 1))
}

// TestAnImportIsWholeOrNothing breaks an export in every line, in each of several ways: what stands in the book then is
// what stood there before, and what is known of the device stays.
func TestAnImportIsWholeOrNothing(t *testing.T) {
	here := book(t)
	var out bytes.Buffer
	for range 2 {
		require.NoError(t, here.Export(session(t, here, "mare-gw1", "x", event.Done, "y"), &out))
	}
	lines := strings.Split(strings.TrimSpace(out.String()), "\n")
	there := book(t)
	before := session(t, there, "mare-gw1", "of-here", event.Failed, "")
	known, err := there.Known()
	require.NoError(t, err)
	tried := 0
	for at, line := range lines {
		for name, other := range map[string]string{
			"cut":           line[:len(line)/2],
			"another word":  strings.Replace(line, `"kind":"`, `"kind":"un`, 1),
			"no number":     strings.Replace(line, `"seq":`, `"seq":-`, 1),
			"nought":        regexp.MustCompile(`"seq":\d+`).ReplaceAllString(line, `"seq":0`),
			"a later form":  strings.Replace(line, `"form":1`, `"form":2`, 1),
			"no form":       strings.Replace(line, `"form":1`, `"form":0`, 1),
			"no entry":      regexp.MustCompile(`"id":\d+`).ReplaceAllString(line, `"id":-3`),
			"once more":     line + "\n" + strings.Replace(line, `"form":1`, `"form":9`, 1),
			"no beginning":  strings.Replace(line, `"began":"2`, `"begun":"2`, 1),
			"of no time":    regexp.MustCompile(`"at":"[^"]*"`).ReplaceAllString(line, `"at":"soon"`),
			"another thing": "tide tables",
		} {
			if other == line {
				continue
			}
			tried++
			text := strings.Join(append(append(slices.Clone(lines[:at]), other), lines[at+1:]...), "\n")
			ids, err := there.Import(strings.NewReader(text))
			require.Error(t, err, "line %d: %s", at, name)
			require.Empty(t, ids)
			entries, err := there.List(0)
			require.NoError(t, err)
			require.Len(t, entries, 1, "line %d: %s", at, name)
			require.Equal(t, before, entries[0].ID)
			now, err := there.Known()
			require.NoError(t, err)
			require.Equal(t, known, now, "line %d: %s", at, name)
		}
	}
	assert.Greater(t, tried, 50)
	_, err = there.Import(strings.NewReader(""))
	require.ErrorContains(t, err, "no entry")
}

// TestAnImportThatIsKilledIsCutOff ends one in the middle: the entry does not say what its run came to.
func TestAnImportThatIsKilledIsCutOff(t *testing.T) {
	here, there := book(t), book(t)
	var out bytes.Buffer
	require.NoError(t, here.Export(session(t, here, "mare-gw1", "x", event.Done, "y"), &out))
	in := &importing{book: there}
	for line := range strings.Lines(out.String()) {
		require.NoError(t, in.line([]byte(strings.TrimSpace(line))))
	}
	require.NoError(t, in.write())
	entries, err := there.List(0)
	require.NoError(t, err)
	require.Len(t, entries, 1)
	assert.Equal(t, Broken, entries[0].Outcome)
	_, found, err := there.LastRun("x")
	require.NoError(t, err)
	assert.False(t, found)
	require.NoError(t, errors.Join(in.end(), in.finish()))
	entries, err = there.List(0)
	require.NoError(t, err)
	assert.Equal(t, string(event.Done), entries[0].Outcome)
	_, found, err = there.LastRun("x")
	require.NoError(t, err)
	assert.True(t, found)
}
