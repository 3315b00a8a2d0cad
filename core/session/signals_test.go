package session

import (
	"context"
	"sync/atomic"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"pilotrix/core/clock"
	"pilotrix/core/event"
	"pilotrix/core/line"
)

// wired is a line that says what its wires show.
type wired struct {
	*fakeLine
	on       atomic.Pointer[line.Signals]
	troubles atomic.Pointer[[]string]
}

func (w *wired) Signals() (line.Signals, bool) { return *w.on.Load(), true }
func (w *wired) Troubles() []string            { return *w.troubles.Load() }

// TestWhatTheWiresShowIsReportedWhenItChanges changes the wires, and has errors on the line that go on.
func TestWhatTheWiresShowIsReportedWhenItChanges(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		wire := &wired{fakeLine: newFakeLine()}
		show := func(on line.Signals, troubles ...string) {
			wire.on.Store(&on)
			wire.troubles.Store(&troubles)
			time.Sleep(5300 * time.Millisecond) // so that no look falls between the two
		}
		wire.on.Store(&line.Signals{CTS: true})
		wire.troubles.Store(new([]string))
		opener := line.NewOpener(clock.Real())
		opener.Register(line.ComPort, func(context.Context, line.Target) (line.Line, error) { return wire, nil })
		s, err := Open(t.Context(),
			Options{Target: line.Target{Kind: line.ComPort, Address: "192.0.2.9:4001"}, Opener: opener})
		require.NoError(t, err)
		feed := s.Subscribe()
		s.Begin()
		show(line.Signals{CTS: true})
		show(line.Signals{CTS: true, DSR: true}, "framing errors")
		show(line.Signals{}, "framing errors")
		show(line.Signals{}, "a break")
		s.Close("the test ends")
		var report []string
		for {
			batch, err := feed.Next(t.Context())
			if err != nil {
				break
			}
			for _, e := range batch {
				switch b := e.Body.(type) {
				case event.Signals:
					report = append(report, b.Text())
				case event.Note:
					report = append(report, b.Text)
				}
			}
		}
		assert.Equal(t, []string{
			"CTS", "CTS DSR", "the console server tells of framing errors on the line", "none on",
			"the console server tells of a break on the line",
		}, report)
	})
}
