package test

import (
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"pilotrix/bench"
	"pilotrix/bench/tamsin"
	"pilotrix/core/event"
	"pilotrix/core/runbook/engine"
	"pilotrix/demo"
)

// edge is the scenario's edge router, whose new systems run on trial.
type edge struct{ onDevice[*tamsin.Router] }

// edgeOptions are what a test wants different.
type edgeOptions = deviceOptions[*edge, *tamsin.Router]

func newEdge(t *testing.T, opt edgeOptions) *edge {
	t.Helper()
	x := &edge{}
	return start(t, x, &x.onDevice, family{
		name:    "quay-er1",
		dialect: "tamsin-e8",
		book:    "install-and-confirm",
		inputs:  map[string]string{"image": "marl-5.4.tms"},
		shelf:   func(folder string) error { return demo.EdgeShelf(folder, smallImage) },
	}, opt, func(lan *bench.LAN) *tamsin.Router { return demo.Edge(lan, smallImage) })
}

func inEdge(t *testing.T, opt edgeOptions, use func(t *testing.T, x *edge)) {
	inTime(t, func(t *testing.T) *edge { return newEdge(t, opt) }, use)
}

// stands says why the device does not run that release, or does not have that one last, or has a trial open.
func (x *edge) stands(runs, lasts string) error {
	running, trial, lasting := x.device.Runs()
	if running != runs || lasting != lasts || trial {
		return fmt.Errorf("it runs %s (on trial: %v), and %s lasts", running, trial, lasting)
	}
	return nil
}

// newer has 5.4 unpacked beside 5.2, running and lasting.
func newer(r *tamsin.Router) { r.Install(demo.EdgeImage("5.4", smallImage)) }

// trial has 5.4 run on trial since the device was switched on.
func onTrial(minutes int) func(*tamsin.Router) {
	return func(r *tamsin.Router) { r.Try(demo.EdgeImage("5.4", smallImage), minutes) }
}

// fill leaves too little room for unpacking what is brought.
func fill(r *tamsin.Router) {
	_ = r.Hold().Put(bench.File{Name: "half-brought.tms", Data: make([]byte, 5*smallImage), Broken: true})
}

func TestATrialIsConfirmedAndLasts(t *testing.T) {
	t.Parallel()
	inEdge(
		t,
		edgeOptions{lanOptions: lanOptions{inputs: map[string]string{"into": ".", "tidy": "yes"}}},
		func(t *testing.T, x *edge) {
			result := x.run()
			require.Equal(t, event.Done, result.Outcome, "%s\n%s", result.Message, x.story())
			require.NoError(t, x.stands("5.4", "5.4"))
			assert.Equal(t, []string{
				"the parcel of 5.4 in the hold has the digest that it has here", "marl 5.4 runs on quay-er1",
				"the setup is what it was", "marl 5.4 lasts beyond a power cut",
			}, result.Proved)
			assert.Empty(t, x.device.Hold().Files(), "tidied up")
			assert.Equal(t, []string{"5.4"}, x.device.Unfolded())
			kept, err := filepath.Glob(filepath.Join(x.folder, "quay-er1-5.2-*.txt"))
			require.NoError(t, err)
			assert.Len(t, kept, 1)

			again := x.run()
			require.Equal(t, event.Done, again.Outcome, "%s", again.Message)
		},
	)
}

func TestWhatRunsAndLastsIsDoneAlready(t *testing.T) {
	t.Parallel()
	inEdge(t, edgeOptions{device: newer}, func(t *testing.T, x *edge) {
		result := x.run()
		require.Equal(t, event.Already, result.Outcome, "%s\n%s", result.Message, x.story())
		assert.Contains(t, result.Message, "marl 5.4 runs and lasts")
	})
}

func TestEveryWayOfBringingAParcel(t *testing.T) {
	t.Parallel()
	for _, protocol := range []string{"tftp", "http", "stick", "hold"} {
		t.Run(protocol, func(t *testing.T) {
			opt := edgeOptions{lanOptions: lanOptions{inputs: map[string]string{}}}
			parcel := bench.File{Name: "brought-before.tms", Data: demo.EdgeImage("5.4", smallImage)}
			switch protocol {
			case "stick":
				opt.device = func(r *tamsin.Router) { require.NoError(t, r.PlugStick(parcel)) }
			case "hold":
				parcel.Name = "marl-5.4.tms"
				opt.device = func(r *tamsin.Router) { require.NoError(t, r.Hold().Put(parcel)) }
			default:
				opt.inputs["protocol"] = protocol
			}
			inEdge(t, opt, func(t *testing.T, x *edge) {
				result := x.run()
				require.Equal(t, event.Done, result.Outcome, "%s\n%s", result.Message, x.story())
				require.NoError(t, x.stands("5.4", "5.4"))
				moved := len(find[event.TransferEnd](x.rig)) > 0
				assert.Equal(t, opt.inputs["protocol"] != "", moved)
			})
		})
	}
}

// edgeFaults are what goes wrong with a change on trial, how the run has to end, and how the device stands then.
var edgeFaults = map[string]struct {
	opt        edgeOptions
	outcome    event.Outcome
	says       []string
	runs, last string
}{
	"the digest differs": {
		edgeOptions{device: func(r *tamsin.Router) { r.Fail(tamsin.Faults{SpoilsParcels: true}) }},
		event.Failed,
		[]string{"sha512 of the parcel: want", "the device says"},
		"5.2", "5.2",
	},
	"room runs out while it is unpacked": {
		edgeOptions{device: func(r *tamsin.Router) { r.Fail(tamsin.Faults{OverlooksRoom: true}); fill(r) }},
		event.Failed,
		[]string{"not unfolded: no room left", "are missing"},
		"5.2", "5.2",
	},
	"the dry run finds too little room": {
		edgeOptions{device: func(r *tamsin.Router) { fill(r) }},
		event.Failed,
		[]string{"The dry run refuses: room:", "are missing in the hold", "Nothing was changed but the hold"},
		"5.2", "5.2",
	},
	"the dry run refuses the release to come from": {
		edgeOptions{lanOptions: lanOptions{inputs: map[string]string{"image": "marl-6.0.tms"}}},
		event.Failed,
		[]string{"The dry run refuses: system: wants marl 5.4 to come from, this is 5.2"},
		"5.2", "5.2",
	},
	"it does not come up, and falls back": {
		edgeOptions{device: func(r *tamsin.Router) { r.Fail(tamsin.Faults{DoesNotComeUp: true}) }},
		event.Failed,
		[]string{"running release: want 5.4, the device says 5.2"},
		"5.2", "5.2",
	},
	"it forgets what it was told to keep": {
		edgeOptions{device: func(r *tamsin.Router) { r.Fail(tamsin.Faults{ForgetsAnchor: true}) }},
		event.Failed,
		[]string{"It said that it lasts, and 5.2 is still the one that lasts: a power cut brings that back"},
		"5.4", "5.2",
	},
}

func TestFaultsOfAChangeOnTrial(t *testing.T) {
	t.Parallel()
	for name, f := range some(edgeFaults) {
		t.Run(name, func(t *testing.T) {
			inEdge(t, f.opt, func(t *testing.T, x *edge) {
				result := x.run()
				require.Equal(t, f.outcome, result.Outcome, "%s\n%s", result.Message, x.story())
				for _, says := range f.says {
					assert.Contains(t, result.Message, says)
				}
				assert.NoError(t, x.stands(f.runs, f.last))
			})
		})
	}
}

// TestAWarningOfTheDryRunHolds: the new release drops a line of the setup, and the operator decides.
func TestAWarningOfTheDryRunHolds(t *testing.T) {
	t.Parallel()
	for answer, want := range map[string]event.Outcome{engine.Approve: event.Done, engine.StopHere: event.Stopped} {
		var asked []string
		approve := func(ask event.Ask) string {
			asked = append(asked, ask.Text)
			if strings.Contains(ask.Text, "The dry run warns") {
				return answer
			}
			return engine.Approve
		}
		opt := edgeOptions{
			lanOptions: lanOptions{approve: approve},
			device:     func(r *tamsin.Router) { r.Setup = append(r.Setup, "old gauges at the ramp") },
		}
		inEdge(t, opt, func(t *testing.T, x *edge) {
			result := x.run()
			require.Equal(t, want, result.Outcome, "%s\n%s", result.Message, x.story())
			assert.Contains(t, asked[0], "The dry run warns: setup: drops old gauges.")
			require.NoError(t,
				x.stands(map[event.Outcome]string{event.Done: "5.4", event.Stopped: "5.2"}[want],
					map[event.Outcome]string{event.Done: "5.4", event.Stopped: "5.2"}[want]))
		})
	}
}

// powerCuts are when the power goes, by the event it goes at, and how the run has to end.
var powerCuts = map[string]struct {
	at         func(event.Event) bool
	outcome    event.Outcome
	runs, last string
}{
	"while it is brought":    {movedBytes(100_000), event.Failed, "5.2", "5.2"},
	"while it is unpacked":   {stepBegins("6.1"), event.Failed, "5.2", "5.2"},
	"while it restarts":      {modeIs("booting"), event.Failed, "5.2", "5.2"},
	"before it is confirmed": {stepEnds("8.2"), event.Failed, "5.2", "5.2"},
	"before it lasts":        {stepEnds("8.4"), event.Failed, "5.2", "5.2"},
}

func stepBegins(id string) func(event.Event) bool {
	return func(e event.Event) bool { b, ok := e.Body.(event.StepBegin); return ok && b.ID == id }
}

func stepEnds(id string) func(event.Event) bool {
	return func(e event.Event) bool { b, ok := e.Body.(event.StepEnd); return ok && b.ID == id }
}

func modeIs(mode string) func(event.Event) bool {
	return func(e event.Event) bool { m, ok := e.Body.(event.Mode); return ok && m.Name == mode }
}

func movedBytes(n int64) func(event.Event) bool {
	return func(e event.Event) bool { p, ok := e.Body.(event.Transfer); return ok && p.Bytes >= n }
}

func TestThePowerGoesInEachPhaseOfATrial(t *testing.T) {
	t.Parallel()
	for name, cut := range some(powerCuts) {
		t.Run(name, func(t *testing.T) {
			gone := false
			opt := edgeOptions{on: func(x *edge, e event.Event) {
				if !gone && cut.at(e) {
					gone = true
					go x.machine.PowerCut(3 * time.Second)
				}
			}}
			inEdge(t, opt, func(t *testing.T, x *edge) {
				result := x.run()
				require.True(t, gone)
				require.Equal(t, cut.outcome, result.Outcome, "%s\n%s", result.Message, x.story())
				time.Sleep(5 * time.Minute)
				assert.NoError(t, x.stands(cut.runs, cut.last), result.Message)
			})
		})
	}
}

// thoughtOver is a trial of five minutes in which the operator has the helm for a while before it is confirmed.
func thoughtOver(length time.Duration, as engine.Wish) edgeOptions {
	took := false
	return edgeOptions{
		lanOptions: lanOptions{inputs: map[string]string{"minutes": "5"}},
		on: func(x *edge, e event.Event) {
			if !took && stepEnds("8.2")(e) {
				took = true
				go func() {
					x.session.TakeHelm()
					time.Sleep(length)
					x.session.GiveHelm(as)
				}()
			}
		},
	}
}

func TestATrialRunsOutWhileTheHandHasTheHelm(t *testing.T) {
	t.Parallel()
	inEdge(t, thoughtOver(8*time.Minute, engine.Repeat), func(t *testing.T, x *edge) {
		result := x.run()
		require.Equal(t, event.Failed, result.Outcome, "%s\n%s", result.Message, x.story())
		require.NoError(t, x.stands("5.2", "5.2"))
		var report []string
		for _, p := range find[event.Pending](x.rig) {
			report = append(report, p.Name+" "+p.State)
		}
		assert.Contains(t, report, "trial ran out")
		assert.NotContains(t, report, "trial dealt with")
		assert.Contains(t, result.Message, "meanwhile ran out: the release that runs is on trial")
	})
}

func TestATrialIsConfirmedAtTheLastMinute(t *testing.T) {
	t.Parallel()
	inEdge(t, thoughtOver(4*time.Minute, engine.Resume), func(t *testing.T, x *edge) {
		result := x.run()
		require.Equal(t, event.Done, result.Outcome, "%s\n%s", result.Message, x.story())
		require.NoError(t, x.stands("5.4", "5.4"))
	})
}

// TestConfirmingIsNotSkipped has the operator say that it was done by hand, when it was not.
func TestConfirmingIsNotSkipped(t *testing.T) {
	t.Parallel()
	took := false
	opt := edgeOptions{on: func(x *edge, e event.Event) {
		if !took && stepBegins("8.4")(e) {
			took = true
			x.session.TakeHelm()
			go func() {
				time.Sleep(time.Second)
				x.session.GiveHelm(engine.GoOn)
			}()
		}
	}}
	inEdge(t, opt, func(t *testing.T, x *edge) {
		result := x.run()
		require.Equal(t, event.Done, result.Outcome, "%s\n%s", result.Message, x.story())
		require.NoError(t, x.stands("5.4", "5.4"))
		assert.True(t, slices.ContainsFunc(find[event.Note](x.rig),
			func(n event.Note) bool { return strings.Contains(n.Text, "was not done by hand") }))
	})
}

// TestARunThatEndsWithATrialOpenSaysSoFirst stops it between activating and confirming.
func TestARunThatEndsWithATrialOpenSaysSoFirst(t *testing.T) {
	t.Parallel()
	opt := edgeOptions{
		lanOptions: lanOptions{book: halfBook, inputs: map[string]string{}},
		device: func(r *tamsin.Router) {
			r.Unfold(demo.EdgeImage("5.4", smallImage))
		},
	}
	inEdge(t, opt, func(t *testing.T, x *edge) {
		result := x.run()
		require.Equal(t, event.DoneBut, result.Outcome, "%s\n%s", result.Message, x.story())
		assert.Equal(t, engine.ExitDoneBut, result.Exit)
		assert.Regexp(t,
			`^STILL OPEN: the release that runs is on trial, and the device goes back to the lasting one by itself, in 1\d min`,
			result.Message)
	})
}

const halfBook = `
runbook: half
title: Half of it
inputs:
  - {input: user, kind: text}
  - {input: password, kind: secret}
phases:
  - phase: activate
    steps:
      - {step: Find it, catch: {mode: work}}
      - {step: Read, read: [self, systems]}
      - step: Activate
        restart: {action: activate, with: {release: '5.4', minutes: '20'}, mode: [login], then: work}
`

func TestATrialFoundAtTheStartIsGoneOnWith(t *testing.T) {
	t.Parallel()
	inEdge(t, edgeOptions{device: onTrial(30)}, func(t *testing.T, x *edge) {
		result := x.run()
		require.Equal(t, event.Done, result.Outcome, "%s\n%s", result.Message, x.story())
		require.NoError(t, x.stands("5.4", "5.4"))
		require.NotEmpty(t, find[event.Pending](x.rig), "it is told when it is found")
	})
}

func TestATrialOfAnotherReleaseIsLeftAlone(t *testing.T) {
	t.Parallel()
	opt := edgeOptions{device: func(r *tamsin.Router) { r.Try(demo.EdgeImage("5.3", smallImage), 30) }}
	inEdge(t, opt, func(t *testing.T, x *edge) {
		result := x.run()
		require.Equal(t, event.Failed, result.Outcome, "%s\n%s", result.Message, x.story())
		assert.Contains(t, result.Message, "5.3 is on trial")
		assert.Contains(t, result.Message, "STILL OPEN")
		release, trial, _ := x.device.Runs()
		assert.Equal(t, "5.3", release)
		assert.True(t, trial)
	})
}

func TestATrialIsLetRunOut(t *testing.T) {
	t.Parallel()
	inEdge(
		t,
		edgeOptions{lanOptions: lanOptions{book: "let-the-trial-run-out"}, device: onTrial(12)},
		func(t *testing.T, x *edge) {
			result := x.run()
			require.Equal(t, event.Done, result.Outcome, "%s\n%s", result.Message, x.story())
			require.NoError(t, x.stands("5.2", "5.2"))
			assert.Contains(t, result.Proved, "marl 5.2 runs on quay-er1 again")
		},
	)
}

func TestATrialThatIsOverAndGoesOnIsReportedSo(t *testing.T) {
	t.Parallel()
	opt := edgeOptions{lanOptions: lanOptions{book: "let-the-trial-run-out"}, device: func(r *tamsin.Router) {
		onTrial(12)(r)
		r.Fail(tamsin.Faults{OverstaysTime: true})
	}}
	inEdge(t, opt, func(t *testing.T, x *edge) {
		result := x.run()
		require.Equal(t, event.Failed, result.Outcome, "%s\n%s", result.Message, x.story())
		assert.Contains(t, result.Message, "“trial” ran out 2 min ago, and the device has not restarted by itself")
	})
}

// TestATrialConfirmedMeanwhileIsNotWaitedOut has somebody else confirm it, on the console.
func TestATrialConfirmedMeanwhileIsNotWaitedOut(t *testing.T) {
	t.Parallel()
	took := false
	opt := edgeOptions{
		lanOptions: lanOptions{book: "let-the-trial-run-out"},
		device:     onTrial(12),
		on: func(x *edge, e event.Event) {
			if now, ok := e.Body.(event.StepNow); !took && ok && now.ID == "2.1" && now.Timeout > 0 {
				took = true
				go func() {
					x.session.TakeHelm()
					x.typeAt("settle")
					x.session.GiveHelm(engine.Resume)
				}()
			}
		},
	}
	inEdge(t, opt, func(t *testing.T, x *edge) {
		result := x.run()
		require.Equal(t, event.Failed, result.Outcome, "%s\n%s", result.Message, x.story())
		assert.Contains(t, result.Message, "is pending no more, and the device has not restarted: it was dealt with")
		require.NoError(t, x.stands("5.4", "5.2"))
	})
}

func TestBackToThePreviousRelease(t *testing.T) {
	t.Parallel()
	inEdge(
		t,
		edgeOptions{lanOptions: lanOptions{book: "back-to-the-previous"}, device: newer},
		func(t *testing.T, x *edge) {
			result := x.run()
			require.Equal(t, event.Done, result.Outcome, "%s\n%s", result.Message, x.story())
			require.NoError(t, x.stands("5.2", "5.2"))
		},
	)
}

func TestBackToWhichReleaseIsAsked(t *testing.T) {
	t.Parallel()
	opt := edgeOptions{lanOptions: lanOptions{book: "back-to-the-previous"}, device: func(r *tamsin.Router) {
		r.Unfold(demo.EdgeImage("5.0", smallImage))
		newer(r)
	}}
	inEdge(t, opt, func(t *testing.T, x *edge) {
		result := x.run()
		require.Equal(t, event.Failed, result.Outcome, "%s\n%s", result.Message, x.story())
		assert.Contains(t, result.Message, "5.2, 5.0")
		assert.Contains(t, result.Message, "Say which (release)")
	})
}

// TestATrialIsFoundByReadingAgain needs no runbook and no account: it reads in the mode that the device is in.
func TestATrialIsFoundByReadingAgain(t *testing.T) {
	t.Parallel()
	inEdge(
		t,
		edgeOptions{device: onTrial(30), lanOptions: lanOptions{book: readBook, inputs: map[string]string{}}},
		func(t *testing.T, x *edge) {
			x.typeAt("")
			for _, line := range []string{"harbour", "lamp-and-tide"} {
				x.typeAt(line)
			}
			require.NoError(t, x.session.ReadAgain(t.Context()))
			synctest.Wait() // until it is collected
			open := find[event.Pending](x.rig)
			require.Len(t, open, 1, x.story())
			assert.Equal(t, "trial", open[0].Name)
			assert.WithinDuration(t, time.Now().Add(30*time.Minute), open[0].Until, time.Minute)
		},
	)
}

// TestADeadlineIsNotDealtWithByWhatTheDeviceRefuses: without the right to, settle settles nothing.
func TestADeadlineIsNotDealtWithByWhatTheDeviceRefuses(t *testing.T) {
	t.Parallel()
	inEdge(
		t,
		edgeOptions{device: onTrial(30), lanOptions: lanOptions{book: readBook, inputs: map[string]string{}}},
		func(t *testing.T, x *edge) {
			require.Equal(t, event.DoneBut, x.run().Outcome)
			states := func() (all []string) {
				synctest.Wait()
				for _, p := range find[event.Pending](x.rig) {
					all = append(all, p.Name+" "+p.State)
				}
				return all
			}
			x.typeAt("rest")
			x.typeAt("settle")
			assert.Equal(t, []string{
				"trial pending",
				"trial dealt with",
				"lasting pending",
				"lasting " + event.PendingNever,
				"trial pending",
			}, states(), "refused: it is open still")
			x.typeAt("work")
			x.typeAt("settle")
			assert.Equal(t, []string{"trial dealt with", "lasting pending"}, states()[5:])
			_, trial, _ := x.device.Runs()
			assert.False(t, trial)
			x.typeAt("swing 9.9 20")
			x.session.SendHeld()
			time.Sleep(3 * time.Second)
			assert.Equal(t, []string{"trial pending", "trial " + event.PendingNever}, states()[7:],
				"no such release: no trial began")
		},
	)
}

// TestARestartTypedDuringATrialIsHeld holds it at its Enter with what it would mean.
func TestARestartTypedDuringATrialIsHeld(t *testing.T) {
	t.Parallel()
	inEdge(
		t,
		edgeOptions{device: onTrial(30), lanOptions: lanOptions{book: readBook, inputs: map[string]string{}}},
		func(t *testing.T, x *edge) {
			result := x.run()
			require.Equal(t, event.DoneBut, result.Outcome, "%s\n%s", result.Message, x.story())
			x.typeAt("turn over")
			held := find[event.Interlock](x.rig)
			require.Len(t, held, 1, x.story())
			assert.Contains(t, held[0].Says, "while this is pending: the release that runs is on trial")
			release, _, _ := x.device.Runs()
			assert.Equal(t, "5.4", release)
		},
	)
}

const readBook = `
runbook: look
title: Look
inputs:
  - {input: user, kind: text}
  - {input: password, kind: secret}
phases:
  - phase: look
    steps:
      - {step: Find it, catch: {mode: work}}
      - {step: Read, read: [self, systems]}
`

// TestAnActionThatTheReleaseLacksIsNotTyped: the older release would refuse it behind the whole transfer.
func TestAnActionThatTheReleaseLacksIsNotTyped(t *testing.T) {
	t.Parallel()
	for release, want := range map[string]event.Outcome{"5.2": event.Failed, "5.4": event.DoneBut} {
		opt := edgeOptions{
			lanOptions: lanOptions{
				book:   sweepBook,
				inputs: map[string]string{"image": "marl-5.6.tms"},
				shelf: func(folder string) {
					_ = os.WriteFile(filepath.Join(folder, "marl-5.6.tms"), demo.EdgeImage("5.6", smallImage), 0o600)
				},
			},
		}
		if release == "5.4" {
			opt.device = newer
		}
		inEdge(t, opt, func(t *testing.T, x *edge) {
			result := x.run()
			require.Equal(t, want, result.Outcome, "%s: %s\n%s", release, result.Message, x.story())
			if release == "5.2" {
				assert.Contains(t, result.Message,
					"not typed: 5.2 has no “bring-and-activate”: it is there from 5.4 on; bring, unpack and activate are done one by one")
				assert.Empty(t, find[event.TransferBegin](x.rig))
			}
		})
	}
}

func TestOneCommandDoesItWhereTheReleaseHasIt(t *testing.T) {
	t.Parallel()
	later := func(folder string) {
		_ = os.WriteFile(filepath.Join(folder, "marl-5.6.tms"), demo.EdgeImage("5.6", smallImage), 0o600)
	}
	for release, swept := range map[string]bool{"5.2": false, "5.4": true} {
		opt := edgeOptions{
			lanOptions: lanOptions{inputs: map[string]string{"image": "marl-5.6.tms", "once": "yes"}, shelf: later},
		}
		if release == "5.4" {
			opt.device = newer
		}
		inEdge(t, opt, func(t *testing.T, x *edge) {
			result := x.run()
			require.Equal(t, event.Done, result.Outcome, "%s: %s\n%s", release, result.Message, x.story())
			require.NoError(t, x.stands("5.6", "5.6"))
			why := ""
			for _, end := range find[event.StepEnd](x.rig) {
				if end.ID == "3.2" && end.Outcome == event.Skipped {
					why = end.Message
				}
			}
			assert.Equal(t, swept, why == "", why)
			if !swept {
				assert.Contains(t, why, "5.2 has no “bring-and-activate”: it is there from 5.4 on")
			}
		})
	}
}

func TestWhatTheReleaseWouldRefuseIsHeldWhenTyped(t *testing.T) {
	t.Parallel()
	inEdge(
		t,
		edgeOptions{lanOptions: lanOptions{book: readBook, inputs: map[string]string{}}},
		func(t *testing.T, x *edge) {
			require.Equal(t, event.Done, x.run().Outcome)
			x.typeAt("sweep 192.0.2.10 marl-5.4.tms 20")
			held := find[event.Interlock](x.rig)
			require.Len(t, held, 1, x.story())
			assert.Contains(t, held[0].Says,
				"will be refused: 5.2 has no “bring-and-activate”: it is there from 5.4 on")
		},
	)
}

const sweepBook = `
runbook: sweep
title: All in one
inputs:
  - {input: user, kind: text}
  - {input: password, kind: secret}
  - {input: image, kind: image}
phases:
  - phase: all
    steps:
      - {step: Find it, catch: {mode: work}}
      - {step: Read, read: [self, systems]}
      - {step: Stage it, serve: {file: image, protocol: tftp, device: '${device.address}'}}
      - step: Do it
        restart: {action: bring-and-activate, with: {server: '${serve.address}', name: '${serve.name}', minutes: '20'}, mode: [login], then: work}
      - {step: Read again, read: [self]}
      - step: It runs
        compare: [{what: release, want: image.release, got: running.release}]
`
