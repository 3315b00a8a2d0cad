package test

import (
	"bytes"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"pilotrix/bench"
	"pilotrix/bench/pellow"
	"pilotrix/core/event"
	"pilotrix/core/network/simulated"
	"pilotrix/core/runbook/engine"
	"pilotrix/demo"
)

// wbridge is the scenario's wireless bridge, whose flash is written by addresses.
type wbridge struct {
	onDevice[*pellow.Bridge]
	pressed atomic.Int32
}

// bridgeOptions are what a test wants different.
type bridgeOptions struct {
	lanOptions
	whole  bool                        // 2.4 runs, and is not cut off in the flash
	device func(*pellow.Bridge)        // as it stands when the test begins
	hand   func(x *wbridge, tries int) // what the operator does while a window is awaited; it presses the button unless said
	on     func(x *wbridge, e event.Event)
}

const bridgeAt = "192.0.2.45"

// approveHands approves holds, and says done where the operator is asked for something.
func approveHands(ask event.Ask) string {
	if ask.Form == event.FormOperator {
		return engine.DoneByMe
	}
	return approveAll(ask)
}

func newBridge(t *testing.T, opt bridgeOptions) *wbridge {
	t.Helper()
	x := &wbridge{}
	if opt.approve == nil && !opt.present {
		opt.approve = approveHands
	}
	given := map[string]string{"image": "skua-2.6.pws", "address": bridgeAt}
	maps.Copy(given, opt.inputs)
	opt.inputs = given
	on := func(x *wbridge, e event.Event) {
		if w, ok := e.Body.(event.Window); ok && w.State == event.WindowAwaited {
			x.hand(opt, w.Tries)
		}
		if opt.on != nil {
			opt.on(x, e)
		}
	}
	return start(t, x, &x.onDevice, family{
		name: "ramp-br1", dialect: "pellow-w3", book: "try-then-burn",
		shelf: func(folder string) error { return demo.BridgeShelf(folder, smallImage) },
	}, deviceOptions[*wbridge, *pellow.Bridge]{opt.lanOptions, opt.device, on}, func(lan *bench.LAN) *pellow.Bridge {
		return demo.Bridge(lan, smallImage, !opt.whole)
	})
}

// hand presses the button at the fifth try, or does what the test says.
func (x *wbridge) hand(opt bridgeOptions, tries int) {
	switch {
	case opt.hand != nil:
		opt.hand(x, tries)
	case tries == 5:
		x.press()
	}
}

func (x *wbridge) press() {
	x.pressed.Add(1)
	go x.machine.PressButton()
}

func inBridge(t *testing.T, opt bridgeOptions, use func(t *testing.T, x *wbridge)) {
	inTime(t, func(t *testing.T) *wbridge { return newBridge(t, opt) }, use)
}

// stands says why that release does not run from the flash, or why the flash does not hold it and what it held besides.
func (x *wbridge) stands(release string) error {
	runs, memory := x.device.Runs()
	_, parts := x.device.Flash()
	wants := demo.BridgeSystem(release, smallImage)
	switch {
	case runs != release || memory:
		return fmt.Errorf("it runs %q (from memory: %v)", runs, memory)
	case !bytes.HasPrefix(parts["system"], wants):
		return fmt.Errorf("the flash does not hold %s", release)
	case len(bytes.Trim(parts["system"][len(wants):], "\xff")) > 0:
		return fmt.Errorf("behind %s something is left that was not erased", release)
	}
	return x.spared()
}

// spared says which part that is never touched was touched.
func (x *wbridge) spared() error {
	_, parts := x.device.Flash()
	for name, begins := range map[string]string{"loader": "boot program", "board": "address and radio data of this very board"} {
		if !bytes.HasPrefix(parts[name], []byte(begins)) || len(bytes.Trim(parts[name][len(begins):], "\xff")) > 0 {
			return fmt.Errorf("part %s was touched", name)
		}
	}
	return nil
}

func TestASystemIsTriedAndThenBurned(t *testing.T) {
	t.Parallel()
	inBridge(t, bridgeOptions{}, func(t *testing.T, x *wbridge) {
		result := x.run()
		require.Equal(t, event.Done, result.Outcome, "%s\n%s", result.Message, x.story())
		require.NoError(t, x.stands("2.6"))
		require.Len(t, result.Proved, 4, "%v", result.Proved)
		assert.Contains(t, result.Proved[1], "part system holds the 300184 B of skua-2.6.pws")
		assert.Equal(t, "2.6 started by itself, without a key", result.Proved[3])
		var states []string
		for _, f := range find[event.Flash](x.rig) {
			states = append(states, f.State)
		}
		assert.Equal(t, []string{
			event.FlashComputed, event.FlashComputed, event.FlashErasing, event.FlashErased, event.FlashWriting,
			event.FlashWritten, event.FlashVerified,
		}, states)
	})
}

// TestARehearsalTouchesNothing ends behind what is tried from memory: the flash holds to the byte what it held.
func TestARehearsalTouchesNothing(t *testing.T) {
	t.Parallel()
	inBridge(
		t,
		bridgeOptions{whole: true, device: func(b *pellow.Bridge) { b.Cold() }},
		func(t *testing.T, x *wbridge) {
			before, _ := x.device.Flash()
			require.NoError(t, x.book.Rehearse())
			result := x.run()
			require.Equal(t, event.Done, result.Outcome, "%s\n%s", result.Message, x.story())
			assert.Contains(t, result.Message,
				"rehearsed: what follows was not done; nothing was changed on the device")
			runs, memory := x.device.Runs()
			assert.Equal(t, "2.6", runs)
			assert.True(t, memory)
			after, _ := x.device.Flash()
			assert.True(t, bytes.Equal(before, after))
			assert.Empty(t, find[event.Change](x.rig))
			x.machine.PowerOff()
			x.machine.PowerOn()
			time.Sleep(time.Minute)
			runs, memory = x.device.Runs()
			assert.Equal(t, "2.4", runs, "a restart starts what it had")
			assert.False(t, memory)
		},
	)
}

// bridgeFaults are what goes wrong with a burn, how the run has to end, and whether the flash was touched.
var bridgeFaults = map[string]struct {
	opt     bridgeOptions
	says    []string
	touched bool
}{
	"the file is larger than the part": {
		bridgeOptions{lanOptions: lanOptions{inputs: map[string]string{"image": "skua-3.0.pws"}}},
		[]string{
			"skua-3.0.pws is not burned", "part system holds 7995392 B", "too many",
			"nothing was changed on the device",
		},
		false,
	},
	"the part is protected": {
		bridgeOptions{lanOptions: lanOptions{inputs: map[string]string{"part": "loader"}}},
		[]string{"part loader is protected: it is never erased", "nothing was changed on the device"},
		false,
	},
	"there is no such part": {
		bridgeOptions{lanOptions: lanOptions{inputs: map[string]string{"part": "sistem"}}},
		[]string{`the flash has no part "sistem"; it has loader, system, settings, env, board`},
		false,
	},
	"it is built for another board": {
		bridgeOptions{lanOptions: lanOptions{inputs: map[string]string{"image": "skua-2.6-w5.pws"}}},
		[]string{
			"“Start 2.6 from memory”: it came to mode starting, and not to shell",
			"nothing was changed on the device",
		},
		false,
	},
	"a bit flips in memory": {
		bridgeOptions{device: func(b *pellow.Bridge) { b.Fail(pellow.Faults{SpoilsMemory: true}) }},
		[]string{"CRC-32 in memory: want", "nothing was changed on the device"},
		false,
	},
	"the erase stops": {
		bridgeOptions{device: func(b *pellow.Bridge) { b.Fail(pellow.Faults{EraseStops: true}) }},
		[]string{"erase bf040000 bf08ffff", "not within the timeout", "was changed"},
		true,
	},
	"a sector does not take": {
		bridgeOptions{device: func(b *pellow.Bridge) { b.Fail(pellow.Faults{StuckSector: true}) }},
		[]string{"CRC-32 of part system: want", "the device was changed before that"},
		true,
	},
	"the environment is not written": {
		bridgeOptions{device: func(b *pellow.Bridge) { b.Fail(pellow.Faults{EnvFails: true}) }},
		[]string{"“saveenv” was answered: Timeout writing to Flash"},
		true,
	},
}

func TestFaultsOfABurn(t *testing.T) {
	t.Parallel()
	for name, f := range some(bridgeFaults) {
		t.Run(name, func(t *testing.T) {
			inBridge(t, f.opt, func(t *testing.T, x *wbridge) {
				before, _ := x.device.Flash()
				result := x.run()
				require.Equal(t, event.Failed, result.Outcome, "%s\n%s", result.Message, x.story())
				for _, says := range f.says {
					assert.Contains(t, result.Message, says)
				}
				after, _ := x.device.Flash()
				assert.Equal(t, f.touched, !bytes.Equal(before, after))
				assert.NoError(t, x.spared())
			})
		})
	}
}

// startsElsewhere has the bootloader start what is in another part.
func startsElsewhere(b *pellow.Bridge) {
	b.KeepEnvironment(map[string]string{"bootcmd": "bootm bf7e0000", "loadaddr": "81000000", "bootdelay": "3"})
}

// TestAnEnvironmentThatWasNotKeptIsFoundOut: another system is told to start by itself, which the loader forgets.
func TestAnEnvironmentThatWasNotKeptIsFoundOut(t *testing.T) {
	t.Parallel()
	wrong := func(b *pellow.Bridge) {
		startsElsewhere(b)
		b.Fail(pellow.Faults{EnvForgotten: true})
	}
	inBridge(t, bridgeOptions{device: wrong}, func(t *testing.T, x *wbridge) {
		result := x.run()
		require.Equal(t, event.Failed, result.Outcome, "%s\n%s", result.Message, x.story())
		assert.Contains(t, result.Message, "after the restart the device came to mode prompt instead of shell")
		assert.Contains(t, result.Message, "the device was changed before that")
	})
}

// bridgeCuts are when the power goes in a burn, and whether the device starts what it had afterwards.
var bridgeCuts = map[string]struct {
	at     func(event.Event) bool
	starts string // by itself afterwards, empty where only the loader is left
}{
	"while it is fetched":        {movedBytes(100_000), "2.4"},
	"while it runs from memory":  {stepBegins("3.4"), "2.4"},
	"while it is erased":         {flashIs(event.FlashErasing), ""},
	"while it is written":        {flashIs(event.FlashWriting), ""},
	"before what starts is kept": {stepBegins("6.7"), "2.6"},
	"while it starts by itself":  {stepBegins("8.1"), "2.6"},
}

func flashIs(state string) func(event.Event) bool {
	return func(e event.Event) bool { f, ok := e.Body.(event.Flash); return ok && f.State == state }
}

func TestThePowerGoesInEachPhaseOfABurn(t *testing.T) {
	t.Parallel()
	for name, cut := range some(bridgeCuts) {
		t.Run(name, func(t *testing.T) {
			var gone atomic.Bool
			opt := bridgeOptions{
				whole:  true,
				device: func(b *pellow.Bridge) { b.Cold() },
				on: func(x *wbridge, e event.Event) {
					if !gone.Load() && cut.at(e) {
						gone.Store(true)
						go func() {
							time.Sleep(300 * time.Millisecond)
							x.machine.PowerOff()
							time.Sleep(20 * time.Minute) // long enough for whatever waits to give up
							x.machine.PowerOn()
						}()
					}
				},
			}
			inBridge(t, opt, func(t *testing.T, x *wbridge) {
				result := x.run()
				require.False(t, result.Outcome.Good(), "%s: %s\n%s", result.Outcome, result.Message, x.story())
				require.NoError(t, x.spared())
				x.session.Close("the run is over")
				time.Sleep(30 * time.Minute)
				runs, _ := x.device.Runs()
				assert.Equal(t, cut.starts, runs)
			})
		})
	}
}

// TestThePowerGoesWhileTheRecoveryLoaderWrites: nothing starts then, and the same runbook puts it again.
func TestThePowerGoesWhileTheRecoveryLoaderWrites(t *testing.T) {
	t.Parallel()
	var gone atomic.Bool
	opt := bridgeOptions{lanOptions: lanOptions{book: "recovery-put"}, on: func(x *wbridge, e event.Event) {
		if end, ok := e.Body.(event.TransferEnd); ok && end.Outcome == event.Done && gone.CompareAndSwap(false, true) {
			go func() {
				time.Sleep(time.Second)
				x.machine.PowerCut(3 * time.Second)
			}()
		}
	}}
	inBridge(t, opt, func(t *testing.T, x *wbridge) {
		result := x.run()
		require.Equal(t, event.Failed, result.Outcome, "%s\n%s", result.Message, x.story())
		assert.Contains(t, result.Message, "the device was changed before that")
		require.NoError(t, x.spared())
		again := x.run()
		require.Equal(t, event.Done, again.Outcome, "%s\n%s", again.Message, x.story())
		require.NoError(t, x.stands("2.6"))
	})
}

func TestAFileIsPutIntoTheRecoveryLoader(t *testing.T) {
	t.Parallel()
	inBridge(t, bridgeOptions{lanOptions: lanOptions{book: "recovery-put"}}, func(t *testing.T, x *wbridge) {
		result := x.run()
		require.Equal(t, event.Done, result.Outcome, "%s\n%s", result.Message, x.story())
		require.NoError(t, x.stands("2.6"))
		windows := find[event.Window](x.rig)
		require.NotEmpty(t, windows)
		assert.Equal(t, event.WindowTaken, windows[len(windows)-1].State)
		assert.Greater(t, windows[len(windows)-1].Tries, 5, "it was tried from before the window on")
	})
}

// TestAPutThatIsCutIsBegunAgain within the same window: by the loader itself, and by a cable that is pulled for a
// while.
func TestAPutThatIsCutIsBegunAgain(t *testing.T) {
	t.Parallel()
	pulled := func(x *wbridge, e event.Event) {
		if movedBytes(100_000)(e) && x.pressed.CompareAndSwap(1, 2) {
			x.lan.Spoil(simulated.Faults{Loss: 1})
			go func() {
				time.Sleep(12 * time.Second)
				x.lan.Spoil(simulated.Faults{})
			}()
		}
	}
	for name, opt := range map[string]bridgeOptions{
		"by the loader": {device: func(b *pellow.Bridge) { b.Fail(pellow.Faults{RecoveryDrops: true}) }},
		"by the cable":  {on: pulled},
	} {
		t.Run(name, func(t *testing.T) {
			opt.book = "recovery-put"
			inBridge(t, opt, func(t *testing.T, x *wbridge) {
				result := x.run()
				require.Equal(t, event.Done, result.Outcome, "%s\n%s", result.Message, x.story())
				require.NoError(t, x.stands("2.6"))
				var cut bool
				for _, w := range find[event.Window](x.rig) {
					cut = cut || w.State == event.WindowCut
				}
				assert.True(t, cut)
			})
		})
	}
}

// TestAKeyThatIsPressedCutsNoPut: the operator has the helm then, and the blocks go on.
func TestAKeyThatIsPressedCutsNoPut(t *testing.T) {
	t.Parallel()
	var pressed atomic.Bool
	opt := bridgeOptions{lanOptions: lanOptions{book: "recovery-put"}, on: func(x *wbridge, e event.Event) {
		if movedBytes(100_000)(e) && pressed.CompareAndSwap(false, true) {
			go func() {
				x.session.Press([]byte("a"))
				time.Sleep(40 * time.Second)
				x.session.Press([]byte("\x15"))
				x.session.GiveHelm(engine.Resume)
			}()
		}
	}}
	inBridge(t, opt, func(t *testing.T, x *wbridge) {
		result := x.run()
		require.Equal(t, event.Done, result.Outcome, "%s\n%s", result.Message, x.story())
		require.NoError(t, x.stands("2.6"))
		for _, w := range find[event.Window](x.rig) {
			assert.NotEqual(t, event.WindowCut, w.State)
		}
		assert.EqualValues(t, 1, x.pressed.Load())
	})
}

// TestAWindowThatIsMissedIsWaitedForAgain: the operator is late, and holds the button once more.
func TestAWindowThatIsMissedIsWaitedForAgain(t *testing.T) {
	t.Parallel()
	opt := bridgeOptions{lanOptions: lanOptions{book: "recovery-put"}, hand: func(x *wbridge, tries int) {
		switch {
		case tries == 2: // the cable is not in yet
			x.lan.Spoil(simulated.Faults{Loss: 1})
			x.press()
		case tries == 120:
			x.lan.Spoil(simulated.Faults{})
			x.press()
		}
	}}
	inBridge(t, opt, func(t *testing.T, x *wbridge) {
		result := x.run()
		require.Equal(t, event.Done, result.Outcome, "%s\n%s", result.Message, x.story())
		require.NoError(t, x.stands("2.6"))
		assert.EqualValues(t, 2, x.pressed.Load())
	})
}

func TestNoWindowEverOpens(t *testing.T) {
	t.Parallel()
	inBridge(
		t,
		bridgeOptions{lanOptions: lanOptions{book: "recovery-put"}, hand: func(*wbridge, int) {}},
		func(t *testing.T, x *wbridge) {
			result := x.run()
			require.Equal(t, event.Failed, result.Outcome, "%s\n%s", result.Message, x.story())
			assert.Contains(t, result.Message, "the loader at 192.0.2.45 never answered, in ")
			assert.Contains(t, result.Message, "nothing was changed on the device")
			windows := find[event.Window](x.rig)
			assert.Equal(t, event.WindowMissed, windows[len(windows)-1].State)
		},
	)
}

// TestTheOperatorStopsAtTheWindow: what is asked for by hand may be declined, and nothing is sent any more.
func TestTheOperatorStopsAtTheWindow(t *testing.T) {
	t.Parallel()
	stops := func(ask event.Ask) string {
		if ask.Form == event.FormOperator {
			return engine.StopHere
		}
		return approveAll(ask)
	}
	inBridge(
		t,
		bridgeOptions{lanOptions: lanOptions{book: "recovery-put", approve: stops}},
		func(t *testing.T, x *wbridge) {
			before, _ := x.device.Flash()
			result := x.run()
			require.Equal(t, event.Stopped, result.Outcome, "%s\n%s", result.Message, x.story())
			after, _ := x.device.Flash()
			assert.True(t, bytes.Equal(before, after))
		},
	)
}

// TestARecoveryLoaderTakesWhatDoesNotFit: it writes a system for another board, and the proof finds that out.
func TestARecoveryLoaderTakesWhatDoesNotFit(t *testing.T) {
	t.Parallel()
	opt := bridgeOptions{
		lanOptions: lanOptions{book: "recovery-put", inputs: map[string]string{"image": "skua-2.6-w5.pws"}},
	}
	inBridge(t, opt, func(t *testing.T, x *wbridge) {
		result := x.run()
		require.Equal(t, event.Failed, result.Outcome, "%s\n%s", result.Message, x.story())
		assert.Contains(t, result.Message, "does not show “2.6”")
	})
}

func TestASystemIsWrittenOverTheShell(t *testing.T) {
	t.Parallel()
	inBridge(
		t,
		bridgeOptions{whole: true, lanOptions: lanOptions{book: "write-over-the-shell"}},
		func(t *testing.T, x *wbridge) {
			_, before := x.device.Flash()
			result := x.run()
			require.Equal(t, event.Done, result.Outcome, "%s\n%s", result.Message, x.story())
			require.NoError(t, x.stands("2.6"))
			assert.Contains(t, result.Proved, "it was built 2026-10-14, as published")
			_, after := x.device.Flash()
			assert.Equal(t, before["settings"], after["settings"],
				"the unclear question was answered so that the settings stay")
			again := x.run()
			require.Equal(t, event.Already, again.Outcome, "%s", again.Message)
		},
	)
}

// shellFaults are what goes wrong with a write over the shell.
var shellFaults = map[string]struct {
	opt  bridgeOptions
	says []string
}{
	"it says that it wrote, and did not": {
		bridgeOptions{device: func(b *pellow.Bridge) { b.Fail(pellow.Faults{RenewStaysOld: true}) }},
		[]string{"does not show “2.6”", "skua 2.4"},
	},
	"the build description is another release's": {
		bridgeOptions{
			lanOptions: lanOptions{
				shelf: describes("Release: 2.6\nSystem: skua\nBuilt: 2026-10-14\n",
					"Release: 2.5\nSystem: skua\nBuilt: 2026-10-14\n"),
			},
		},
		[]string{"The description beside skua-2.6.pws is of 2.5", "nothing was changed on the device"},
	},
	"the build description says no day": {
		bridgeOptions{lanOptions: lanOptions{shelf: describes("", "Release: 2.6\nSystem: skua\n")}},
		[]string{"skua-2.6.pws.build says no built", "nothing was changed on the device"},
	},
	"it was built on another day than published": {
		bridgeOptions{lanOptions: lanOptions{shelf: describes("", "Release: 2.6\nSystem: skua\nBuilt: 2026-10-15\n")}},
		[]string{"day it was built: want 2026-10-15, the device says 2026-10-14"},
	},
	"it is built for another board": {
		bridgeOptions{
			lanOptions: lanOptions{inputs: map[string]string{"image": "skua-2.6-w5.pws"}, shelf: func(folder string) {
				_ = os.WriteFile(filepath.Join(folder, "skua-2.6-w5.pws.build"),
					[]byte("Release: 2.6\nSystem: skua\nBuilt: 2026-10-14\n"), 0o600)
			}},
		},
		[]string{"the device is not back"},
	},
}

// describes replaces the build description on the shelf.
func describes(_, text string) func(string) {
	return func(folder string) {
		_ = os.WriteFile(filepath.Join(folder, "skua-2.6.pws.build"), []byte(text), 0o600)
	}
}

func TestFaultsOfAWriteOverTheShell(t *testing.T) {
	t.Parallel()
	for name, f := range some(shellFaults) {
		t.Run(name, func(t *testing.T) {
			f.opt.whole, f.opt.book = true, "write-over-the-shell"
			inBridge(t, f.opt, func(t *testing.T, x *wbridge) {
				result := x.run()
				require.Equal(t, event.Failed, result.Outcome, "%s\n%s", result.Message, x.story())
				for _, says := range f.says {
					assert.Contains(t, result.Message, says)
				}
				assert.NoError(t, x.spared())
			})
		})
	}
}

// TestWithoutABuildDescriptionNothingIsBegun.
func TestWithoutABuildDescriptionNothingIsBegun(t *testing.T) {
	t.Parallel()
	opt := bridgeOptions{whole: true, lanOptions: lanOptions{book: "write-over-the-shell", shelf: func(folder string) {
		_ = os.Remove(filepath.Join(folder, "skua-2.6.pws.build"))
	}}}
	inBridge(t, opt, func(t *testing.T, x *wbridge) {
		result := x.run()
		require.Equal(t, event.Failed, result.Outcome, "%s\n%s", result.Message, x.story())
		assert.Contains(t, result.Message, "no build description")
		assert.True(t, strings.Contains(result.Message, "nothing was changed on the device"))
	})
}
