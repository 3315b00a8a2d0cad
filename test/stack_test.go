package test

import (
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"pilotrix/bench"
	"pilotrix/bench/maskel"
	"pilotrix/core/device"
	"pilotrix/core/event"
	"pilotrix/core/runbook/engine"
	"pilotrix/core/state"
	"pilotrix/demo"
)

// stack is the scenario's stack of three switches.
type stack struct{ onDevice[*maskel.Stack] }

// stackOptions are what a test wants different.
type stackOptions struct {
	lanOptions
	made   func(*maskel.Settings)
	device func(*maskel.Stack) // as it stands when the test begins
	on     func(*stack, event.Event)
	before []string // what the operator types before the run
}

func newStack(t *testing.T, opt stackOptions) *stack {
	t.Helper()
	x := &stack{}
	return start(t, x, &x.onDevice, family{
		name:    "tangle-sw1",
		dialect: "maskel-s24",
		book:    "stack-upgrade",
		inputs:  map[string]string{"image": "strand-3.2.msl"},
		shelf:   func(folder string) error { return demo.StackShelf(folder, smallImage) },
	}, deviceOptions[*stack, *maskel.Stack]{opt.lanOptions, opt.device, opt.on}, func(lan *bench.LAN) *maskel.Stack {
		settings := demo.StackSettings()
		if opt.made != nil {
			opt.made(&settings)
		}
		return demo.Switches(lan, settings)
	})
}

func inStack(t *testing.T, opt stackOptions, use func(t *testing.T, x *stack)) {
	inTime(t, func(t *testing.T) *stack { return newStack(t, opt) }, use)
}

// allRun says why not every unit is of the stack, runs that release and starts it next.
func (x *stack) allRun(release string) error {
	for _, u := range x.device.Units() {
		if u.Runs != release || u.Next != release || u.State != "here" {
			return fmt.Errorf("unit %d is %s, runs %s and starts %s next", u.Number, u.State, u.Runs, u.Next)
		}
	}
	return nil
}

// standings are how the units stand, in short.
func (x *stack) standings() (all []string) {
	for _, u := range x.device.Units() {
		all = append(all, fmt.Sprintf("%d %s %s→%s", u.Number, u.State, u.Runs, u.Next))
	}
	return all
}

func faulty(f maskel.Faults) func(*maskel.Stack) { return func(s *maskel.Stack) { s.Fail(f) } }

// replaced is a stack whose third unit was replaced by one with an old release.
func replaced(s *maskel.Settings) { s.Units[2].Release = "2.9" }

var oneUnit = lanOptions{book: "stack-one-unit", inputs: map[string]string{"unit": "3", "image": "strand-3.1.msl"}}

func TestEveryUnitOfAStackIsUpgraded(t *testing.T) {
	t.Parallel()
	inStack(
		t,
		stackOptions{lanOptions: lanOptions{inputs: map[string]string{"into": "."}}},
		func(t *testing.T, x *stack) {
			result := x.run()
			require.Equal(t, event.Done, result.Outcome, "%s\n%s", result.Message, x.story())
			require.NoError(t, x.allRun("3.2"))
			assert.Equal(t, []string{
				"every unit starts 3.2 next", "strand 3.2 runs on all 3 units", "all 3 units are one stack",
				"the ring is closed",
			}, result.Proved)
			again := x.run()
			assert.Equal(t, event.Already, again.Outcome, again.Message)
		},
	)
}

func TestAStackTakesItFromAStick(t *testing.T) {
	t.Parallel()
	file := bench.File{Name: "as-it-was-called.msl", Data: demo.StackImage("3.2", smallImage)}
	inStack(
		t,
		stackOptions{device: func(s *maskel.Stack) { require.NoError(t, s.PlugStick(file)) }},
		func(t *testing.T, x *stack) {
			result := x.run()
			require.Equal(t, event.Done, result.Outcome, "%s\n%s", result.Message, x.story())
			require.NoError(t, x.allRun("3.2"))
			assert.Empty(t, find[event.TransferBegin](x.rig))
		},
	)
}

func TestARestartOfAStackAtATime(t *testing.T) {
	t.Parallel()
	for name, inputs := range map[string]map[string]string{"in minutes": {"minutes": "20"}, "at a time": {"at": "00:30"}} {
		t.Run(name, func(t *testing.T) {
			inStack(t, stackOptions{lanOptions: lanOptions{inputs: inputs}}, func(t *testing.T, x *stack) {
				began := time.Now()
				result := x.run()
				require.Equal(t, event.Done, result.Outcome, "%s\n%s", result.Message, x.story())
				require.NoError(t, x.allRun("3.2"))
				assert.Greater(t, time.Since(began), 20*time.Minute)
				var report []string
				for _, p := range find[event.Pending](x.rig) {
					report = append(report, p.State)
				}
				assert.Contains(t, report, event.PendingOpen)
				assert.Contains(t, report, event.PendingRan)
			})
		})
	}
}

// TestATimedRestartThatTakesTheLineWithIt as that of a shell session does: nothing is seen of the start.
func TestATimedRestartThatTakesTheLineWithIt(t *testing.T) {
	t.Parallel()
	for name, at := range map[string]func(event.Event) bool{
		"when it is due": func(e event.Event) bool { p, ok := e.Body.(event.Pending); return ok && p.State == event.PendingRan },
		"long before":    func(e event.Event) bool { now, ok := e.Body.(event.StepNow); return ok && now.ID == "4.4" },
	} {
		gone := false
		opt := stackOptions{
			lanOptions: lanOptions{inputs: map[string]string{"minutes": "20"}},
			on: func(x *stack, e event.Event) {
				if !gone && at(e) {
					gone = true
					go func() {
						x.machine.Unplug()
						time.Sleep(time.Minute)
						_ = x.machine.Plug()
					}()
				}
			},
		}
		inStack(t, opt, func(t *testing.T, x *stack) {
			result := x.run()
			require.True(t, gone, name)
			require.Equal(t, event.Done, result.Outcome, "%s: %s\n%s", name, result.Message, x.story())
			require.NoError(t, x.allRun("3.2"))
		})
	}
}

// TestATimedRestartIsTakenBack by the operator, while the runbook waits for it.
func TestATimedRestartIsTakenBack(t *testing.T) {
	t.Parallel()
	took := false
	opt := stackOptions{
		lanOptions: lanOptions{inputs: map[string]string{"minutes": "20"}},
		on: func(x *stack, e event.Event) {
			if now, ok := e.Body.(event.StepNow); !took && ok && now.ID == "4.4" && now.Timeout > 0 {
				took = true
				go func() {
					x.session.TakeHelm()
					x.typeAt("tumble never")
					x.session.GiveHelm(engine.Resume)
				}()
			}
		},
	}
	inStack(t, opt, func(t *testing.T, x *stack) {
		result := x.run()
		require.Equal(t, event.Failed, result.Outcome, "%s\n%s", result.Message, x.story())
		assert.Contains(t, result.Message,
			"“timed restart” is pending no more, and the device has not restarted: it was dealt with")
		assert.NotContains(t, result.Message, "STILL OPEN")
		assert.False(t, x.device.Timed())
		for _, u := range x.device.Units() {
			assert.Equal(t, "3.1", u.Runs)
		}
	})
}

// TestARunThatEndsWithARestartSetSaysSo, as with a trial.
func TestARunThatEndsWithARestartSetSaysSo(t *testing.T) {
	t.Parallel()
	opt := stackOptions{lanOptions: lanOptions{book: laterBook, inputs: map[string]string{}}}
	inStack(t, opt, func(t *testing.T, x *stack) {
		result := x.run()
		require.Equal(t, event.DoneBut, result.Outcome, "%s\n%s", result.Message, x.story())
		assert.Regexp(t, `^STILL OPEN: a restart of every unit is set, in (30|2\d) min`, result.Message)
		again := x.run()
		assert.Equal(t, event.DoneBut, again.Outcome)
		x.typeAt("tumble all")
		held := find[event.Interlock](x.rig)
		require.NotEmpty(t, held)
		assert.Contains(t, held[0].Says, "a restart of every unit is set")
	})
}

const laterBook = `
runbook: later
title: Later
inputs:
  - {input: user, kind: text}
  - {input: password, kind: secret}
phases:
  - phase: later
    steps:
      - {step: Find it, catch: {mode: armed}}
      - step: Set it
        act: {action: restart-in, with: {minutes: '30'}}
`

// stackFaults are what goes wrong with a stack, how the run has to end, and how the units stand then.
var stackFaults = map[string]struct {
	opt     stackOptions
	outcome event.Outcome
	says    []string
	units   []string
}{
	"a unit is away": {
		stackOptions{device: faulty(maskel.Faults{Away: 2})},
		event.Failed,
		[]string{"unit 2 is away: it would be left behind with the old release"},
		[]string{"1 here 3.1→3.1", "2 away →3.1", "3 here 3.1→3.1"},
	},
	"a unit fails to take it": {
		stackOptions{device: faulty(maskel.Faults{TakesNot: 3})},
		event.Failed,
		[]string{"unit 3 has not taken it: failed, broken off at 60 percent. Nothing restarts"},
		[]string{"1 here 3.1→3.2", "2 here 3.1→3.2", "3 here 3.1→3.1"},
	},
	"a unit is of another model": {
		stackOptions{lanOptions: lanOptions{inputs: map[string]string{"image": "strand-3.2-s24.msl"}}},
		event.Failed,
		[]string{"unit 2 is an S24-48, and the image is for S24: that unit needs another one"},
		[]string{"1 here 3.1→3.1", "2 here 3.1→3.1", "3 here 3.1→3.1"},
	},
	"a unit's boot firmware is too old": {
		stackOptions{made: func(s *maskel.Settings) { s.Units[1].Boot = "1.2" }},
		event.Failed,
		[]string{"unit 2 has boot firmware 1.2, and the image wants 1.4"},
		[]string{"1 here 3.1→3.1", "2 here 3.1→3.1", "3 here 3.1→3.1"},
	},
	"a unit comes up alone with the old release": {
		stackOptions{device: faulty(maskel.Faults{ComesOld: 3})},
		event.Failed,
		[]string{
			"the units do not agree on the running release: unit 1 has 3.2, unit 2 has 3.2, unit 3 has 3.1; wanted is 3.2",
		},
		[]string{"1 here 3.2→3.2", "2 here 3.2→3.2", "3 apart 3.1→3.1"},
	},
	"a restart is set already": {
		stackOptions{before: []string{"", "harbour", "lamp-and-tide", "arm", "tumble in 30"}},
		event.Failed,
		[]string{"A restart of every unit is set", "nothing is loaded underneath it", "STILL OPEN"},
		[]string{"1 here 3.1→3.1", "2 here 3.1→3.1", "3 here 3.1→3.1"},
	},
	"a unit that was replaced takes it with the others": {
		stackOptions{made: replaced}, event.Done, nil, []string{"1 here 3.2→3.2", "2 here 3.2→3.2", "3 here 3.2→3.2"},
	},
	"one unit: it is not there": {
		stackOptions{
			lanOptions: lanOptions{
				book:   "stack-one-unit",
				inputs: map[string]string{"unit": "7", "image": "strand-3.1.msl"},
			},
		},
		event.Failed,
		[]string{"Unit 7 is not there: there are 1 (here), 2 (here), 3 (here)"},
		nil,
	},
	"one unit: the image is not the stack's": {
		stackOptions{
			lanOptions: lanOptions{
				book:   "stack-one-unit",
				inputs: map[string]string{"unit": "3", "image": "strand-3.2.msl"},
			},
			made: replaced,
		},
		event.Failed,
		[]string{"The image is of 3.2, and the stack runs 3.1: the unit would be apart with it, too"},
		nil,
	},
	"one unit: it leads": {
		stackOptions{
			lanOptions: lanOptions{
				book:   "stack-one-unit",
				inputs: map[string]string{"unit": "1", "image": "strand-3.1.msl"},
			},
			made: func(s *maskel.Settings) { s.Units[0].Release = "2.9" },
		},
		event.Already,
		nil,
		nil,
	},
	"one unit: it comes up with the old release again": {
		stackOptions{lanOptions: oneUnit, made: replaced, device: faulty(maskel.Faults{ComesOld: 3})},
		event.Failed,
		[]string{"Unit 3 has come up alone, with another release than the stack", "unit 3 runs 2.9"},
		[]string{"1 here 3.1→3.1", "2 here 3.1→3.1", "3 apart 2.9→2.9"},
	},
}

func TestFaultsOfAStack(t *testing.T) {
	t.Parallel()
	for name, f := range some(stackFaults) {
		t.Run(name, func(t *testing.T) {
			inStack(t, f.opt, func(t *testing.T, x *stack) {
				for _, line := range f.opt.before {
					x.typeAt(line)
				}
				result := x.run()
				require.Equal(t, f.outcome, result.Outcome, "%s\n%s", result.Message, x.story())
				for _, says := range f.says {
					assert.Contains(t, result.Message, says)
				}
				if f.units != nil {
					assert.Equal(t, f.units, x.standings())
				}
			})
		})
	}
}

// TestTheTrapOfOneUnitIsFoundByAReading: a hand fills only the lead unit; the runbook goes on from there and refuses to
// restart.
func TestTheTrapOfOneUnitIsFoundByAReading(t *testing.T) {
	t.Parallel()
	inStack(
		t,
		stackOptions{lanOptions: lanOptions{book: trapBook, inputs: map[string]string{"image": "strand-3.2.msl"}}},
		func(t *testing.T, x *stack) {
			result := x.run()
			require.Equal(t, event.Failed, result.Outcome, "%s\n%s", result.Message, x.story())
			assert.Contains(t, result.Message,
				"the units do not agree on the release that starts next: unit 1 has 3.2, unit 2 has 3.1, unit 3 has 3.1; wanted is 3.2")
			assert.Equal(t, []string{"1 here 3.1→3.2", "2 here 3.1→3.1", "3 here 3.1→3.1"}, x.standings())
			x.typeAt("load tftp 192.0.2.10 strand-3.2.msl")
			held := find[event.Interlock](x.rig)
			require.Len(t, held, 1, "typed by hand it is held at its Enter")
			assert.Contains(t, held[0].Says, "fills only the unit whose prompt this is")
		},
	)
}

const trapBook = `
runbook: trap
title: The other word
inputs:
  - {input: user, kind: text}
  - {input: password, kind: secret}
  - {input: image, kind: image}
phases:
  - phase: all
    steps:
      - {step: Find it, catch: {mode: armed}}
      - {step: Read, read: [self, units, banks, copies]}
      - {step: Stage it, serve: {file: image, protocol: tftp, device: '${device.address}'}}
      - step: Fill
        hold: Fills it.
        act: {action: load-here, by: tftp, with: {server: '${serve.address}', name: '${serve.name}'}}
      - {step: Wait, poll: {read: [copies], every: 5s, until: 'load.state == "ready"'}}
      - {step: Read again, read: [banks]}
      - step: All start the same
        agree: {what: the release that starts next, in: 'filter(banks, .next == "yes")', on: release, want: image.release, number: '3'}
      - step: Restart
        restart: {action: restart, mode: [login], then: armed}
`

func TestAUnitThatSaysNothingDoesNotAgree(t *testing.T) {
	t.Parallel()
	book := strings.Replace(readBook, "{mode: work}", "{mode: armed}", 1)
	book = strings.Replace(book, "read: [self, systems]}", "read: [self, units, banks]}", 1) + `      - step: All tell
        agree: {what: what they start, in: 'filter(banks, .next == "yes")', on: release, number: device.units}
`
	inStack(
		t,
		stackOptions{
			lanOptions: lanOptions{book: book, inputs: map[string]string{}},
			device:     faulty(maskel.Faults{Away: 2}),
		},
		func(t *testing.T, x *stack) {
			result := x.run()
			require.Equal(t, event.Failed, result.Outcome, "%s\n%s", result.Message, x.story())
			assert.Contains(t, result.Message, "3 units are to agree, and only 2 tell: unit 1, 3")
		},
	)
}

func TestOneUnitIsBroughtToTheOthers(t *testing.T) {
	t.Parallel()
	inStack(t, stackOptions{lanOptions: oneUnit, made: replaced}, func(t *testing.T, x *stack) {
		require.Equal(t, "apart", x.device.Units()[2].State)
		result := x.run()
		require.Equal(t, event.Done, result.Outcome, "%s\n%s", result.Message, x.story())
		require.NoError(t, x.allRun("3.1"))
		assert.Contains(t, result.Proved, "unit 3 runs strand 3.1, as the others do")
		again := x.run()
		assert.Equal(t, event.Already, again.Outcome, again.Message)
	})
}

// TestRolesThatMoveAreReported has the lead unit come up late.
func TestRolesThatMoveAreReported(t *testing.T) {
	t.Parallel()
	inStack(t, stackOptions{device: faulty(maskel.Faults{LeadLate: true})}, func(t *testing.T, x *stack) {
		result := x.run()
		require.Equal(t, event.Done, result.Outcome, "%s\n%s", result.Message, x.story())
		assert.True(t, slices.ContainsFunc(find[event.Note](x.rig), func(n event.Note) bool {
			return strings.Contains(n.Text, "Unit 2 leads now; unit 1 led before")
		}))
	})
}

func TestABrokenRingHolds(t *testing.T) {
	t.Parallel()
	var asked []string
	approve := func(ask event.Ask) string {
		asked = append(asked, ask.Text)
		return engine.Approve
	}
	inStack(
		t,
		stackOptions{lanOptions: lanOptions{approve: approve}, device: faulty(maskel.Faults{RingBreak: 2})},
		func(t *testing.T, x *stack) {
			result := x.run()
			require.Equal(t, event.Done, result.Outcome, "%s\n%s", result.Message, x.story())
			require.NotEmpty(t, asked)
			assert.Contains(t, asked[0], "The ring is broken between unit 2 and unit 3")
			assert.Contains(t, result.Proved, "the ring is broken")
		},
	)
}

// TestARestartThatIsSetForLaterIsReckonedWith has the plan, and what the header counts down, hold the time until it
// comes.
func TestARestartThatIsSetForLaterIsReckonedWith(t *testing.T) {
	t.Parallel()
	plans := map[string]time.Duration{}
	for _, minutes := range []string{"0", "20", "45"} {
		inStack(
			t,
			stackOptions{lanOptions: lanOptions{inputs: map[string]string{"minutes": minutes}}},
			func(t *testing.T, x *stack) {
				plans[minutes] = x.book.Plan(&device.Facts{}).Expected
			},
		)
	}
	assert.InDelta(t, 20, (plans["20"] - plans["0"]).Minutes(), 0.5)
	assert.InDelta(t, 45, (plans["45"] - plans["0"]).Minutes(), 0.5)

	for name, inputs := range map[string]map[string]string{"in minutes": {"minutes": "20"}, "at a time": {"at": "00:30"}} {
		inStack(t, stackOptions{lanOptions: lanOptions{inputs: inputs}}, func(t *testing.T, x *stack) {
			result := x.run()
			require.Equal(t, event.Done, result.Outcome, "%s\n%s", result.Message, x.story())
			s := state.New()
			var ended time.Time
			left := map[string]time.Time{} // when the run is to end, by what is shown as each step begins
			for _, e := range x.kept() {
				s.Apply(e)
				switch b := e.Body.(type) {
				case event.StepNow:
					s.Tick(e.At)
					left[b.Doing] = e.At.Add(s.Left())
				case event.RunEnd:
					ended = e.At
				}
			}
			waits := 0
			for doing, at := range left {
				if strings.HasPrefix(doing, "Waits until it runs out") {
					waits++
					assert.InDelta(t, 0, ended.Sub(at).Minutes(), 4, "%s: %s", name, doing)
				}
			}
			assert.Positive(t, waits, name)
		})
	}
}
