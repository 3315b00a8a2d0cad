package test

import (
	"os"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"pilotrix/bench/brindle"
	"pilotrix/core/event"
	"pilotrix/core/runbook/engine"
)

// onceAt calls f once, when a transfer has come that far.
func onceAt(bytes int64, f func(*rig)) func(*rig, event.Event) {
	called := false
	return func(r *rig, e event.Event) {
		if progress, ok := e.Body.(event.Transfer); ok && !called && progress.Bytes >= bytes {
			called = true
			f(r)
		}
	}
}

func TestBitErrorsDuringTheTransfer(t *testing.T) {
	t.Parallel()
	synctest.Test(t, func(t *testing.T) {
		r := newRig(t, "R40-2", 9600, approveAll, func(r *rig, e event.Event) {
			switch e.Body.(type) {
			case event.TransferBegin:
				r.machine.Wire().BitErrors(1e-4, 42)
			case event.TransferEnd:
				r.machine.Wire().BitErrors(0, 0)
			}
		})
		defer r.close()
		result := r.run()
		require.Equal(t, event.Done, result.Outcome, "%s\n%s", result.Message, r.story())
		ends := find[event.TransferEnd](r)
		require.Len(t, ends, 1, "one transfer was enough")
		assert.Positive(t, ends[0].Resent, "the errors were really there")
	})
}

func TestPowerCutInMidTransfer(t *testing.T) {
	t.Parallel()
	synctest.Test(t, func(t *testing.T) {
		r := newRig(t, "R40-2", 9600, approveAll, onceAt(100_000, func(r *rig) { r.machine.PowerCut(3 * time.Second) }))
		defer r.close()
		result := r.run()
		require.Equal(t, event.Done, result.Outcome, "%s\n%s", result.Message, r.story())
		assert.Len(t, find[event.TransferEnd](r), 2)
		var said []string
		for _, note := range find[event.Note](r) {
			said = append(said, note.Text)
		}
		assert.Contains(t, strings.Join(said, "\n"), "starts over from “find it”")
		skipped := false
		for _, end := range find[event.StepEnd](r) {
			skipped = skipped || (end.ID == "2.1" && end.Outcome == event.Skipped)
		}
		assert.True(t, skipped, "the broken image is gone already, so it is not held for again")
	})
}

func TestWrongImageIsRefusedBeforeAnythingIsSent(t *testing.T) {
	t.Parallel()
	synctest.Test(t, func(t *testing.T) {
		r := newRig(t, "R40-9", 9600, stopAll, nil)
		defer r.close()
		result := r.run()
		require.Equal(t, event.Failed, result.Outcome, "%s\n%s", result.Message, r.story())
		assert.Equal(t, engine.ExitFailed, result.Exit)
		assert.Contains(t, result.Message, "This image is for R40-1, R40-2")
		assert.Contains(t, result.Message, "nothing was changed on the device")
		assert.Empty(t, find[event.TransferBegin](r))
		assert.Len(t, r.router.Store.Files(), 2)
	})
}

func stopAll(event.Ask) string { return engine.StopHere }

func TestStopAtTheHoldChangesNothing(t *testing.T) {
	t.Parallel()
	synctest.Test(t, func(t *testing.T) {
		r := newRig(t, "R40-2", 9600, stopAll, nil)
		defer r.close()
		before := r.router.Store.Files()
		result := r.run()
		require.Equal(t, event.Stopped, result.Outcome, "%s\n%s", result.Message, r.story())
		assert.Equal(t, engine.ExitStopped, result.Exit)
		assert.Contains(t, result.Message, "nothing was changed on the device")
		assert.Equal(t, before, r.router.Store.Files())
		assert.Equal(t, 9600, r.machine.Wire().Baud())
	})
}

// TestStopAfterTheSpeedWasRaised stops at the second hold: both ends are at 115200 by then and have
// to be put back.
func TestStopAfterTheSpeedWasRaised(t *testing.T) {
	t.Parallel()
	synctest.Test(t, func(t *testing.T) {
		r := newRig(t, "R40-2", 9600, func(ask event.Ask) string {
			if ask.Step == "2.1" {
				return engine.Approve
			}
			return engine.StopHere
		}, nil)
		defer r.close()
		result := r.run()
		require.Equal(t, event.Stopped, result.Outcome, "%s\n%s", result.Message, r.story())
		baud, _ := r.session.Speed()
		assert.Equal(t, 9600, baud)
		assert.Equal(t, 9600, r.machine.Wire().Baud())
		assert.Contains(t, result.Message, "the device was changed before that")
	})
}

// TestTheSpeedFallsBack has a device that says it moves to the new speed and does not: both ends are
// found at the old one, and the rescue goes on there.
func TestTheSpeedFallsBack(t *testing.T) {
	t.Parallel()
	synctest.Test(t, func(t *testing.T) {
		r := newRig(t, "R40-2", 9600, approveAll, func(r *rig, e event.Event) {
			if moved, ok := e.Body.(event.Speed); ok && moved.To == 115200 {
				r.machine.Wire().Retune(9600)
			}
		})
		defer r.close()
		result := r.run()
		require.Equal(t, event.DoneBut, result.Outcome, "%s\n%s", result.Message, r.story())
		var said []string
		for _, note := range find[event.Note](r) {
			said = append(said, note.Text)
		}
		assert.Contains(t, strings.Join(said, "\n"), "no clean prompt at 115200 baud; the device still speaks 9600")
		begins := find[event.TransferBegin](r)
		require.Len(t, begins, 1)
		assert.InDelta(t, 960*1024.0/1030, begins[0].Allowed, 1, "what the line allows is reckoned at the speed it has")
	})
}

func TestLineUnpluggedAndBack(t *testing.T) {
	t.Parallel()
	synctest.Test(t, func(t *testing.T) {
		r := newRig(t, "R40-2", 9600, approveAll, onceAt(100_000, func(r *rig) {
			go func() {
				r.machine.Unplug()
				time.Sleep(4 * time.Second)
				assert.NoError(t, r.machine.Plug())
			}()
		}))
		defer r.close()
		result := r.run()
		require.Equal(t, event.Done, result.Outcome, "%s\n%s", result.Message, r.story())
		states := map[string]int{}
		for _, l := range find[event.Line](r) {
			states[l.State]++
		}
		assert.Equal(t, 1, states[event.LineLost])
		assert.Equal(t, 1, states[event.LineBack])
	})
}

// TestTheHandTakesTheHelm takes over in mid-transfer, types, and gives back: the transfer is
// cancelled cleanly, what was typed reaches the prompt, and the rescue still ends well.
func TestTheHandTakesTheHelm(t *testing.T) {
	t.Parallel()
	synctest.Test(t, func(t *testing.T) {
		r := newRig(t, "R40-2", 9600, approveAll, onceAt(100_000, func(r *rig) {
			go func() {
				r.session.Press([]byte("\r")) // which waits for what becomes of it
				time.Sleep(2 * time.Second)
				r.session.CancelForKept()
				time.Sleep(2 * time.Second)
				r.session.Press([]byte("about\r"))
				time.Sleep(3 * time.Second)
				r.session.GiveHelm(engine.Repeat)
			}()
		}))
		defer r.close()
		result := r.run()
		require.Equal(t, event.Done, result.Outcome, "%s\n%s", result.Message, r.story())
		ends := find[event.TransferEnd](r)
		require.Len(t, ends, 2)
		assert.Equal(t, event.Stopped, ends[0].Outcome)
		var screen string
		for _, in := range find[event.In](r) {
			screen += string(in.Bytes)
		}
		assert.Contains(t, screen, "sill: about\r\n  model         R40-2", "the line was usable at once")
	})
}

func TestTheHandMayStopTheRunbook(t *testing.T) {
	t.Parallel()
	synctest.Test(t, func(t *testing.T) {
		r := newRig(t, "R40-2", 9600, approveAll, onceAt(100_000, func(r *rig) {
			go func() {
				r.session.TakeHelm()
				r.session.GiveHelm(engine.Stop)
			}()
		}))
		defer r.close()
		result := r.run()
		require.Equal(t, event.Stopped, result.Outcome, "%s\n%s", result.Message, r.story())
		baud, _ := r.session.Speed()
		assert.Equal(t, 9600, baud, "the speed is put back")
		assert.Equal(t, 9600, r.machine.Wire().Baud(), "at the device too")
	})
}

func TestSecretsStayOutOfTheEvents(t *testing.T) {
	t.Parallel()
	synctest.Test(t, func(t *testing.T) {
		r := newRig(t, "R40-2", 9600, approveAll, nil)
		defer r.close()
		require.Equal(t, event.Done, r.run().Outcome)
		assert.NotContains(t, r.story(), "lamp-and-tide")
		assert.Len(t, find[event.RunBegin](r), 1)
		assert.NotContains(t, find[event.RunBegin](r)[0].Inputs, "password")
	})
}

func TestAnImageThatChangedOnDiskIsNotSent(t *testing.T) {
	t.Parallel()
	synctest.Test(t, func(t *testing.T) {
		r := newRig(t, "R40-2", 9600, func(ask event.Ask) string {
			if ask.Form == "hold" {
				return engine.Approve
			}
			return engine.StopHere
		}, nil)
		defer r.close()
		other := brindle.MakeImage("6.6.6", []string{"R40-2"}, 1000)
		require.NoError(t, os.WriteFile(r.inputs["image"], other, 0o600))
		result := r.run()
		require.Equal(t, event.Failed, result.Outcome, "%s\n%s", result.Message, r.story())
		assert.Contains(t, result.Message, "changed since it was checked")
		assert.Empty(t, find[event.TransferBegin](r))
		assert.Equal(t, 9600, r.machine.Wire().Baud(), "the speed is put back after a failure too")
	})
}
