// Package test drives the program end to end: the core in virtual time against the bench, the real
// interface through tmux, a real bootloader in an emulator.
package test

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"testing/synctest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"pilotrix/bench"
	"pilotrix/bench/brindle"
	"pilotrix/core/clock"
	"pilotrix/core/dialect"
	"pilotrix/core/event"
	"pilotrix/core/line"
	"pilotrix/core/runbook"
	"pilotrix/core/runbook/engine"
	"pilotrix/core/session"
	"pilotrix/core/shipped"
)

// rig is the rescue on a device in memory, in virtual time.
type rig struct {
	t       *testing.T
	machine *bench.Machine
	router  *brindle.Router
	session *session.Session
	book    *runbook.Prepared
	inputs  map[string]string

	mu     sync.Mutex
	events []event.Event
	done   chan struct{}
}

// awkwardness is what a device is made with.
type awkwardness struct {
	on   bench.Awkward
	seed uint64
}

// newRig builds the router as the scenario has it. Approve answers holds; on is reported every event.
func newRig(t *testing.T, model string, speed int, approve func(event.Ask) string, on func(*rig, event.Event)) *rig {
	t.Helper()
	return newAwkwardRig(t, model, speed, awkwardness{}, approve, on)
}

// newAwkwardRig builds it in an awkward way.
func newAwkwardRig(
	t *testing.T, model string, speed int, a awkwardness, approve func(event.Ask) string, on func(*rig, event.Event),
) *rig {
	t.Helper()
	image := brindle.MakeImage("4.2.1", []string{"R40-1", "R40-2"}, 300_000)
	path := filepath.Join(tempDir(t), "tern-4.2.1.brm")
	require.NoError(t, os.WriteFile(path, image, 0o600))
	r := &rig{
		t:      t,
		done:   make(chan struct{}),
		inputs: map[string]string{"image": path, "user": "harbour", "password": "lamp-and-tide"},
	}
	r.router = brindle.New(model, "hollow-rtr1", "harbour", "lamp-and-tide")
	r.router.SaveConfiguration("2026-03-02")
	r.router.Install("tern-4.0.7.brm", brindle.MakeImage("4.0.7", []string{"R40-2"}, 200_000), true)
	r.machine = bench.New("hollow-rtr1", r.router, clock.Real(), true)
	r.machine.Be(a.on, a.seed)
	require.NoError(t, r.machine.Start())

	d, err := shipped.Dialect("brindle-r40")
	require.NoError(t, err)
	if a.on[bench.Mute] {
		d.Line.Echo = "none"
	}
	b, err := shipped.Runbook("rescue-over-serial")
	require.NoError(t, err)
	r.book, err = b.Prepare(d, r.inputs, runbook.Kit{})
	require.NoError(t, err)

	opener := line.NewOpener(clock.Real())
	opener.Register(line.Bench, func(ctx context.Context, target line.Target) (line.Line, error) {
		return r.machine.Open(ctx, opener, target)
	})
	target, err := line.ParseTarget("bench:hollow-rtr1")
	require.NoError(t, err)
	target.Speed = speed
	r.session, err = session.Open(t.Context(),
		session.Options{Target: target, Dialect: d, Opener: opener, Approve: approve})
	require.NoError(t, err)
	r.listen(on)
	return r
}

// prepared is a shipped runbook, ready to run.
func prepared(
	t *testing.T, dialectName, bookName string, inputs map[string]string,
) (*dialect.Dialect, *runbook.Prepared) {
	t.Helper()
	d, err := shipped.Dialect(dialectName)
	require.NoError(t, err)
	book, err := shipped.Runbook(bookName)
	require.NoError(t, err)
	p, err := book.Prepare(d, inputs, runbook.Kit{})
	require.NoError(t, err)
	return d, p
}

// listen begins the session, of which every event is kept.
func (r *rig) listen(on func(*rig, event.Event)) {
	feed := r.session.Subscribe()
	r.session.Begin()
	go r.collect(feed, on)
}

// collect keeps every event, and says on of it.
func (r *rig) collect(feed *event.Feed, on func(*rig, event.Event)) {
	defer close(r.done)
	for {
		batch, err := feed.Next(context.Background())
		if errors.Is(err, io.EOF) {
			return
		}
		for _, e := range batch {
			r.mu.Lock()
			r.events = append(r.events, e)
			r.mu.Unlock()
			if on != nil {
				on(r, e)
			}
		}
	}
}

func (r *rig) run() engine.Result {
	result, err := r.session.Run(r.t.Context(), r.book)
	require.NoError(r.t, err)
	return result
}

// kept are the events so far.
func (r *rig) kept() []event.Event {
	r.mu.Lock()
	defer r.mu.Unlock()
	return slices.Clone(r.events)
}

func (r *rig) close() {
	r.session.Close("the test ends")
	<-r.done
	r.machine.Stop()
	synctest.Wait()
}

// story is what happened, a line each, for failures.
func (r *rig) story() string {
	r.mu.Lock()
	defer r.mu.Unlock()
	var out strings.Builder
	const last = 60
	for _, e := range r.events[max(0, len(r.events)-last):] {
		switch body := e.Body.(type) {
		case event.Transfer, event.Probe, event.Shelf:
			continue
		case event.In:
			fmt.Fprintf(&out, "%s in %q\n", e.At.Format("15:04:05.000"), []byte(body.Bytes))
			continue
		}
		text, _ := e.MarshalJSON()
		out.WriteString(e.At.Format("15:04:05.000 ") + string(text[min(len(text), 45):]) + "\n")
	}
	return out.String()
}

// find is every event of one kind.
func find[T event.Body](r *rig) (all []T) {
	r.mu.Lock()
	defer r.mu.Unlock()
	for _, e := range r.events {
		if body, ok := e.Body.(T); ok {
			all = append(all, body)
		}
	}
	return all
}

func approveAll(ask event.Ask) string {
	if ask.Form == event.FormHold || ask.Form == event.FormNewDevice {
		return engine.Approve
	}
	return engine.StopHere
}

func TestRescueFromGarbleToProof(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		r := newRig(t, "R40-2", 38400, approveAll, nil)
		defer r.close()
		result := r.run()
		require.Equal(t, event.Done, result.Outcome, "%s\n%s", result.Message, r.story())
		assert.Len(t, result.Proved, 5)
		assert.Equal(t, "4.2.1", r.router.Started())
		baud, _ := r.session.Speed()
		assert.Equal(t, 9600, baud, "the speed is back")
		assert.Equal(t, 9600, r.machine.Wire().Baud())
	})
}
