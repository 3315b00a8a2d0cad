package test

import (
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"pilotrix/bench"
	"pilotrix/bench/brindle"
	"pilotrix/core/event"
	"pilotrix/core/network/simulated"
	"pilotrix/demo"
)

// store is the scenario's router whose images share one store.
type store struct{ onDevice[*brindle.Router] }

// storeOptions are what a test wants different.
type storeOptions = deviceOptions[*store, *brindle.Router]

func newStore(t *testing.T, opt storeOptions) *store {
	t.Helper()
	x := &store{}
	return start(t, x, &x.onDevice, family{
		name:    "mare-rtr1",
		dialect: "brindle-r40",
		book:    "one-store-upgrade",
		inputs:  map[string]string{"image": "tern-4.2.1.brm"},
		shelf:   func(folder string) error { return demo.RouterShelf(folder, smallImage) },
	}, opt, func(lan *bench.LAN) *brindle.Router { return demo.Router(lan, smallImage) })
}

func inStore(t *testing.T, opt storeOptions, use func(*testing.T, *store)) {
	inTime(t, func(t *testing.T) *store { return newStore(t, opt) }, use)
}

func roomFor(images float64) func(*brindle.Router) {
	return func(r *brindle.Router) { r.Store.Capacity = int(images * smallImage) }
}

// holdsOnly leaves the running image as the only one, in a store that has no room for a second one.
func holdsOnly(r *brindle.Router) {
	r.Store.Drop("tern-3.9.4.brm")
	roomFor(1.5)(r)
}

// small has a store that is not large enough for the wanted image alone.
func small(r *brindle.Router) {
	r.Store.Drop("tern-3.9.4.brm")
	r.Install("tern-4.0.7.brm", demo.RouterImage("4.0.7", smallImage/2), false)
	roomFor(0.9)(r)
}

// begins says why the router does not run that release, or would not start it again.
func (x *store) begins(release string) error {
	name := "tern-" + release + ".brm"
	file, there := x.device.Store.Get(name)
	switch {
	case x.device.Started() != release:
		return fmt.Errorf("it runs %q", x.device.Started())
	case x.device.Entry() != name || !there || file.Broken:
		return fmt.Errorf("it begins with %q next, and the store has that whole: %v", x.device.Entry(),
			there && !file.Broken)
	}
	return nil
}

func (x *store) files() (names []string) {
	for _, f := range x.device.Store.Files() {
		if f.Name != "saved.conf" {
			names = append(names, f.Name)
		}
	}
	return names
}

func TestTheOldImageStaysWhereThereIsRoom(t *testing.T) {
	t.Parallel()
	inStore(
		t,
		storeOptions{lanOptions: lanOptions{inputs: map[string]string{"into": "."}}, device: roomFor(4)},
		func(t *testing.T, x *store) {
			result := x.run()
			require.Equal(t, event.Done, result.Outcome, "%s\n%s", result.Message, x.story())
			require.NoError(t, x.begins("4.2.1"))
			assert.Equal(t, []string{"tern-3.9.4.brm", "tern-4.0.7.brm", "tern-4.2.1.brm"}, x.files(),
				"nothing was removed")
			assert.NotContains(t, x.story(), "drop tern")
			kept, err := os.ReadFile(filepath.Join(x.folder, "mare-rtr1-4.0.7-2000-01-01.txt"))
			require.NoError(t, err)
			assert.Contains(t, string(kept), "begin with tern-4.0.7.brm")
		},
	)
}

// TestAStoreWithoutRoomGivesTheRunningImageUp holds that it is asked first, as what has no way back, and what the way
// back is.
func TestAStoreWithoutRoomGivesTheRunningImageUp(t *testing.T) {
	t.Parallel()
	var asked event.Ask
	var holds []string
	opt := storeOptions{device: holdsOnly, lanOptions: lanOptions{approve: func(ask event.Ask) string {
		if strings.Contains(ask.Text, "which runs now") {
			asked = ask
		}
		holds = append(holds, ask.Text)
		return approveAll(ask)
	}}}
	inStore(t, opt, func(t *testing.T, x *store) {
		result := x.run()
		require.Equal(t, event.Done, result.Outcome, "%s\n%s", result.Message, x.story())
		require.NoError(t, x.begins("4.2.1"))
		assert.Equal(t, []string{"tern-4.2.1.brm"}, x.files())
		require.NotEmpty(t, asked.Text)
		assert.True(t, asked.Irreversible)
		assert.Contains(t, asked.Rollback, "rescue-over-serial, with tern-4.2.1.brm from this laptop")
		assert.Contains(t, strings.Join(holds, "\n"), "do not restart before this one is proved")
	})
}

func TestBackToTheImageThatIsStillThere(t *testing.T) {
	t.Parallel()
	opt := storeOptions{
		lanOptions: lanOptions{inputs: map[string]string{"image": "tern-4.0.7.brm"}},
		device: func(r *brindle.Router) {
			roomFor(4)(r)
			r.Install("tern-4.2.1.brm", demo.RouterImage("4.2.1", smallImage), false)
			r.Begin("2026-11-20", "tern-4.2.1.brm")
			r.Ran("4.2.1")
		},
	}
	inStore(t, opt, func(t *testing.T, x *store) {
		result := x.run()
		require.Equal(t, event.Done, result.Outcome, "%s\n%s", result.Message, x.story())
		require.NoError(t, x.begins("4.0.7"))
		assert.Empty(t, find[event.TransferBegin](x.rig), "the store holds it, by its digest")
	})
}

// TestAnotherImageOfTheSameNameIsNotWrittenOver has the running image called as the wanted one is: it stays until that
// is proved.
func TestAnotherImageOfTheSameNameIsNotWrittenOver(t *testing.T) {
	t.Parallel()
	const name = "tern-4.2.1.brm"
	for kind, c := range map[string]struct {
		device func(*brindle.Router)
		files  []string
		drops  string
	}{
		"the running one": {func(r *brindle.Router) {
			r.Store.Empty()
			roomFor(4)(r)
			r.Install(name, demo.RouterImage("4.0.7", smallImage), false)
			r.Begin("2026-11-20", name)
		}, []string{"new-" + name, name}, ""},
		"another one": {func(r *brindle.Router) {
			roomFor(4)(r)
			r.Install(name, demo.RouterImage("3.9.1", smallImage), false)
		}, []string{"tern-3.9.4.brm", "tern-4.0.7.brm", name}, "drop " + name},
		"a broken one, and another": {func(r *brindle.Router) {
			r.Store.Drop("tern-3.9.4.brm")
			roomFor(2.2)(r)
			r.Install(name, demo.RouterImage("4.2.1", smallImage), true)
			r.Install("x.brm", demo.RouterImage("4.1.1", smallImage), true)
		}, []string{"tern-4.0.7.brm", name}, "drop x.brm"},
	} {
		t.Run(kind, func(t *testing.T) {
			inStore(t, storeOptions{device: c.device}, func(t *testing.T, x *store) {
				result := x.run()
				require.Equal(t, event.Done, result.Outcome, "%s\n%s", result.Message, x.story())
				assert.Equal(t, "4.2.1", x.device.Started())
				assert.Equal(t, c.files, x.files())
				assert.Contains(t, c.files, x.device.Entry())
				typed := reallyTyped(x.kept())
				if c.drops != "" {
					assert.Contains(t, typed, c.drops)
				}
			})
		})
	}
}

// storeFaults are what goes wrong, how the run ends, and whether the router still starts what it ran.
var storeFaults = map[string]struct {
	opt  storeOptions
	says []string
	safe bool
}{
	"no room, whatever goes": {
		storeOptions{device: small},
		[]string{
			"tern-4.2.1.brm has 300177 B, and the store has no more than",
			"for images, the one that runs counted in. Nothing was changed.",
		},
		true,
	},
	"it is made for another model": {
		storeOptions{lanOptions: lanOptions{inputs: map[string]string{"image": "tern-4.2.1-r40-16.brm"}}},
		[]string{"This image is for R40-16 (wren32); the device is R40-1 (wren32). Nothing was changed."},
		true,
	},
	"it keeps the name only in part": {
		storeOptions{device: func(r *brindle.Router) { roomFor(4)(r); r.Fail(brindle.Faults{CutsNames: 12}) }},
		[]string{"“Have it weighed”", "no file tern-4.2.1.brm"},
		true,
	},
	"the removal of the running image is not approved": {
		storeOptions{device: holdsOnly, lanOptions: lanOptions{approve: func(ask event.Ask) string {
			if strings.Contains(ask.Text, "which runs now") {
				return "stop"
			}
			return approveAll(ask)
		}}},
		[]string{"stopped"},
		true,
	},
	"it says that another image runs": {
		storeOptions{device: func(r *brindle.Router) { r.Fail(brindle.Faults{Misnames: "tern-3.9.4.brm"}) }},
		[]string{"“drop tern-4.0.7.brm” was answered: ", "nothing done"},
		true,
	},
	"the network dies while the image comes": {
		storeOptions{on: func(x *store, e event.Event) {
			if p, ok := e.Body.(event.Transfer); ok && p.Bytes > 100_000 {
				x.lan.Spoil(simulated.Faults{Loss: 1})
			}
		}},
		[]string{
			"starts over from “read it”: “Have it brought by tftp”",
			"not whole: broken off: gave up after too many tries", "“Stage tern-4.2.1.brm”",
			"TFTP at 192.0.2.10:69 does not hand the file out", "the device was changed before that",
		},
		true,
	},
}

func TestFaultsOfAOneStoreUpgrade(t *testing.T) {
	t.Parallel()
	for name, f := range some(storeFaults) {
		t.Run(name, func(t *testing.T) {
			inStore(t, f.opt, func(t *testing.T, x *store) {
				result := x.run()
				require.False(t, result.Outcome.Good(), "%s\n%s", result.Message, x.story())
				report := result.Message
				for _, note := range find[event.Note](x.rig) {
					report += "\n" + note.Text
				}
				for _, want := range f.says {
					assert.Contains(t, report, want)
				}
				if f.safe {
					assert.NoError(t, x.begins("4.0.7"), "%s", x.story())
				}
			})
		})
	}
}

const readsStore = `
runbook: look
title: Look
inputs:
  - {input: user, kind: text, about: who logs in}
  - {input: password, kind: secret, about: the password of that user}
phases:
  - phase: look
    steps:
      - {step: Find it, catch: {mode: admin}}
      - {step: Read it, read: [release, files, entry]}
`

// TestWhatCameInPartIsRemovedAndBroughtAgain has the network gone until that is noticed: what is left of the image goes
// behind a hold.
func TestWhatCameInPartIsRemovedAndBroughtAgain(t *testing.T) {
	t.Parallel()
	var cut atomic.Bool
	opt := storeOptions{device: roomFor(4), on: func(x *store, e event.Event) {
		switch b := e.Body.(type) {
		case event.Transfer:
			if b.Bytes > 100_000 && cut.CompareAndSwap(false, true) {
				x.lan.Spoil(simulated.Faults{Loss: 1})
			}
		case event.StepEnd:
			if b.Outcome == event.Failed {
				x.lan.Spoil(simulated.Faults{})
			}
		}
	}}
	inStore(t, opt, func(t *testing.T, x *store) {
		result := x.run()
		require.Equal(t, event.Done, result.Outcome, "%s\n%s", result.Message, x.story())
		require.NoError(t, x.begins("4.2.1"))
		assert.Contains(t, reallyTyped(x.kept()), "drop tern-4.2.1.brm")
	})
}

// TestAMistypedEntryIsFoundBeforeTheRestart has the operator set what it begins with by hand, and mistype it.
func TestAMistypedEntryIsFoundBeforeTheRestart(t *testing.T) {
	t.Parallel()
	inStore(t, storeOptions{lanOptions: lanOptions{book: readsStore}}, func(t *testing.T, x *store) {
		require.Equal(t, event.Done, x.run().Outcome)
		x.typeAt("begin with tern-4.0.7.bmr")
		require.Equal(t, event.Done, x.run().Outcome)
		x.typeAt("restart")
		held := find[event.Interlock](x.rig)
		require.NotEmpty(t, held, "%s", x.story())
		says := fmt.Sprint(held[len(held)-1])
		assert.Contains(t, says, "restarts the device")
		assert.Contains(t, says,
			"it begins with tern-4.0.7.bmr when it starts next, and its store has no whole image of that name")
		assert.Contains(t, says, "what it begins with is not saved, and lost at the next start")
		time.Sleep(time.Minute)
		assert.NotContains(t, x.story(), "going down", "it was not sent")
	})
}

// TestAMistypedEntryLeavesItInItsMonitor holds that the bench is honest: that is what the interlock is there for.
func TestAMistypedEntryLeavesItInItsMonitor(t *testing.T) {
	t.Parallel()
	inStore(
		t,
		storeOptions{device: func(r *brindle.Router) { r.Begin("2026-11-20", "tern-4.0.7.bmr") }},
		func(t *testing.T, x *store) {
			x.machine.PowerOff()
			x.machine.PowerOn()
			time.Sleep(time.Minute)
			var said strings.Builder
			for _, in := range find[event.In](x.rig) {
				said.Write(in.Bytes)
			}
			assert.Contains(t, said.String(), "no whole image tern-4.0.7.bmr in the store, staying here")
		},
	)
}

func TestTheOneStorePassesOnAwkwardDevices(t *testing.T) {
	passesIn(t, together(awkwardWays(t)), func(t *testing.T, way awkwardness) *store {
		return newStore(t,
			storeOptions{lanOptions: lanOptions{awkward: way, inputs: map[string]string{"into": ".", "tidy": "yes"}}})
	}, func(x *store) error {
		if files := x.files(); !slices.Equal(files, []string{"tern-4.2.1.brm"}) {
			return fmt.Errorf("its store holds %v", files)
		}
		return x.begins("4.2.1")
	})
}
