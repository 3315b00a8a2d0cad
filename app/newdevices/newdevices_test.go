package newdevices

import (
	"context"
	"net/netip"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"pilotrix/core/clock"
	"pilotrix/core/event"
	"pilotrix/core/image"
	"pilotrix/core/provision"
	"pilotrix/core/runbook/engine"
)

func shelfOf(t *testing.T, names ...string) *image.Shelf {
	folder := t.TempDir()
	for _, name := range names {
		require.NoError(t, os.WriteFile(filepath.Join(folder, name), []byte(name), 0o600))
	}
	shelf := image.NewShelf(image.ShelfOptions{Folders: []string{folder}})
	require.NoError(t, shelf.Scan(t.Context(), nil))
	return shelf
}

func devicesOf(t *testing.T, text string) *provision.Devices {
	devices, err := provision.ParseDevices("new.yaml", []byte(text))
	require.NoError(t, err)
	return devices
}

func TestWhatDevicesAreToldToFetch(t *testing.T) {
	all := devicesOf(t, "devices:\n  - {mac: '02:00:5e:10:00:01', boot-file: a.msl}\n  - {mac: '02:00:5e:10:00:02', boot-file: b.msl, configuration: b.setup}\n")
	one := devicesOf(t, "devices:\n  - {mac: '02:00:5e:10:00:01', boot-file: a.msl}\n  - {mac: '02:00:5e:10:00:02'}\n")
	for _, row := range []struct {
		names   []string
		devices *provision.Devices
		said    string
		file    string
		err     string
	}{
		{names: []string{"a.msl"}, file: "a.msl"},
		{names: []string{"a.msl", "b.msl"}, said: "b.msl", file: "b.msl"},
		{names: []string{"a.msl", "b.msl"}, err: "2 files: say which"},
		{names: nil, err: "0 files"},
		{names: []string{"a.msl"}, said: "c.msl", err: "no such file; it has a.msl"},
		{names: nil, said: "c.msl", err: "no such file; it has none"},
		{names: []string{"a.msl", "b.msl", "b.setup"}, devices: all},
		{names: []string{"a.msl", "b.msl"}, devices: all, err: "configuration of 02:00:5e:10:00:02: the folder has no file b.setup"},
		{names: []string{"a.msl", "b.msl", "b.setup"}, devices: one, err: "3 files: say which"},
		{names: []string{"a.msl"}, devices: one, file: "a.msl"},
	} {
		file, err := Check(shelfOf(t, row.names...), row.devices, row.said, "new.yaml")
		if row.err != "" {
			assert.ErrorContains(t, err, row.err)
			continue
		}
		assert.NoError(t, err)
		assert.Equal(t, row.file, file)
	}
}

func TestWhoIsMissingAtTheEnd(t *testing.T) {
	course := func(mac string, done bool) provision.Course {
		return provision.Course{Client: provision.Client{MAC: mac}, Done: done, Addr: netip.MustParseAddr("192.0.2.100")}
	}
	const first, second, third = "02:00:5e:10:00:01", "02:00:5e:10:00:02", "02:00:5e:10:00:03"
	both := devicesOf(t, "devices:\n  - {mac: '"+first+"', name: mare-sw1}\n  - {mac: '"+second+"'}\n")
	for name, row := range map[string]struct {
		opt     Options
		all     []provision.Course
		says    string
		missing bool
	}{
		"nobody is expected and none came":       {says: ""},
		"nobody is expected":                     {all: []provision.Course{course(first, true), course(second, false)}, says: "1 done, 1 not\n"},
		"as many as expected":                    {opt: Options{Expect: 1}, all: []provision.Course{course(first, true)}, says: "1 done, 0 not\n"},
		"fewer than expected":                    {opt: Options{Expect: 3}, all: []provision.Course{course(first, true)}, says: "1 done, 2 not\n", missing: true},
		"one of the file never asked":            {opt: Options{Devices: both}, all: []provision.Course{course(first, true)}, says: "1 done, 1 not\n", missing: true},
		"another one in its place is not it":     {opt: Options{Devices: both}, all: []provision.Course{course(first, true), course(third, true)}, says: "2 done, 1 not\n", missing: true},
		"all of the file":                        {opt: Options{Devices: both}, all: []provision.Course{course(first, true), course(second, true)}, says: "2 done, 0 not\n"},
		"one that is not told what it waits for": {opt: Options{Devices: both}, all: []provision.Course{{Client: provision.Client{MAC: third}, Waits: true}}, says: "0 done, 2 not\n", missing: true},
	} {
		var out strings.Builder
		missing, err := row.opt.report(&out, row.all)
		require.NoError(t, err)
		assert.Equal(t, row.missing, missing, name)
		assert.True(t, strings.HasSuffix(out.String(), row.says), "%s: %s", name, out.String())
		if row.opt.Devices != nil && len(row.all) < 2 {
			assert.Contains(t, out.String(), "never asked", name)
		}
	}
}

// TestAnAnswerIsForTheOneThatWasAskedAbout lets two devices wait, answers a question that is over, and then both.
func TestAnAnswerIsForTheOneThatWasAskedAbout(t *testing.T) {
	wanted := &provision.Wanted{Ask: true}
	first, second := provision.Client{MAC: "02:00:5e:10:00:01"}, provision.Client{MAC: "02:00:5e:10:00:02"}
	wanted.Admit(first)
	wanted.Admit(second)
	v := &Service{opt: Options{Wanted: wanted}, hub: event.NewHub(clock.Real()), waits: make(chan struct{}, 1)}
	v.Feed = v.hub.Subscribe()
	ctx, cancel := context.WithCancel(t.Context())
	defer cancel()
	answers, ended := make(chan event.Answer), make(chan struct{})
	go func() { defer close(ended); v.AskInView(ctx, answers) }()

	ask := nextAsk(t, v.Feed)
	assert.Contains(t, ask.Text, first.MAC)
	answers <- event.Answer{ID: "new 99", Answer: engine.LeaveIt}
	assert.Equal(t, provision.Undecided, wanted.Admit(first), "the answer was to another question")
	answers <- event.Answer{ID: ask.ID, Answer: engine.Approve}
	again := nextAsk(t, v.Feed)
	assert.Contains(t, again.Text, second.MAC)
	answers <- event.Answer{ID: ask.ID, Answer: engine.Approve} // said once more for the first
	answers <- event.Answer{ID: again.ID, Answer: engine.LeaveIt}
	cancel()
	<-ended
	assert.Equal(t, provision.Served, wanted.Admit(first))
	assert.Equal(t, provision.Ignored, wanted.Admit(second))
}

func nextAsk(t *testing.T, feed *event.Feed) event.Ask {
	for {
		batch, err := feed.Next(t.Context())
		require.NoError(t, err)
		for _, e := range batch {
			if ask, ok := e.Body.(event.Ask); ok {
				return ask
			}
		}
	}
}

func TestLinesThatAreNoAnswer(t *testing.T) {
	wanted := &provision.Wanted{Ask: true}
	client := provision.Client{MAC: "02:00:5e:10:00:01"}
	wanted.Admit(client)
	v := &Service{opt: Options{Wanted: wanted}, hub: event.NewHub(clock.Real()), waits: make(chan struct{}, 1)}
	lines := make(chan string, 9)
	for _, line := range []string{"", "what?", "yes", "n", "y"} { // the last two when nothing is asked any more
		lines <- line
	}
	close(lines)
	v.AskLines(t.Context(), lines)
	assert.Equal(t, provision.Served, wanted.Admit(client))
}
