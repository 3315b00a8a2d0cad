package engine_test

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
	"time"

	_ "pilotrix/core/runbook/verbs"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"

	"pilotrix/core/clock"
	"pilotrix/core/device"
	"pilotrix/core/dialect"
	"pilotrix/core/event"
	"pilotrix/core/reach"
	"pilotrix/core/runbook"
	"pilotrix/core/runbook/engine"
	"pilotrix/core/sense"
	"pilotrix/core/transfer"
)

const deviceText = `
dialect: small
modes: [{mode: ready, prompt: '^> $'}, {mode: away, text: going}]
readings:
  - {reading: self, command: self, facts: [{fact: device.serial, pattern: 'serial (\S+)'}]}
  - {reading: state, command: state, facts: [{fact: state.value, pattern: 'value (\d+)', as: number}]}
actions:
  - {action: raise, command: raise, done: raised, fail: may not}
  - {action: leave, in: [ready], command: leave, to: away}
  - {action: set, with: [to], command: 'set ${to}', done: ok}
image:
  - {name: release, pattern: 'release (\S+)'}
`

func small(t *testing.T) *dialect.Dialect {
	t.Helper()
	d, err := dialect.Parse("small.yaml", []byte(deviceText))
	require.NoError(t, err)
	return d
}

func prepare(t *testing.T, text string, values map[string]string) (*runbook.Prepared, error) {
	t.Helper()
	book, err := runbook.Parse("book.yaml", []byte(text))
	if err != nil {
		return nil, err
	}
	return book.Prepare(small(t), values, runbook.Kit{})
}

func TestInputs(t *testing.T) {
	path := filepath.Join(t.TempDir(), "tern.img")
	require.NoError(t, os.WriteFile(path, []byte("release 4.2.1\nbody"), 0o600))
	text := `
runbook: r
inputs:
  - {input: image, kind: image}
  - {input: speed, kind: choice, choices: [slow, fast], default: fast}
  - {input: amount, kind: number, default: '3'}
  - {input: code, kind: secret}
phases: [{phase: one, steps: [{step: x, check: {holds: 'image.release == "4.2.1" and speed == "fast" and amount + 1 == 4', message: no}}]}]
`
	good := map[string]string{"image": path, "code": "lamp"}
	p, err := prepare(t, text, good)
	require.NoError(t, err)
	assert.Equal(t, []string{"lamp"}, p.Secrets())
	assert.NotContains(t, p.Shown(), "code")
	assert.Equal(t, "4.2.1", p.Images["image"].Says["release"])
	assert.EqualValues(t, 18, p.Images["image"].Size)

	for name, c := range map[string]struct{ key, value, says string }{
		"unknown":       {"colour", "red", `no input "colour"`},
		"no such file":  {"image", "/nowhere/x.img", "/nowhere/x.img"},
		"a folder":      {"image", "/", "not a file"},
		"not a choice":  {"speed", "warp", "none of slow, fast"},
		"not a number":  {"amount", "many", "no number"},
		"control bytes": {"speed", "fast\rreset", "control character"},
	} {
		values := map[string]string{"image": path, "code": "lamp", c.key: c.value}
		_, err := prepare(t, text, values)
		assert.ErrorContains(t, err, c.says, name)
	}
	_, err = prepare(t, text, map[string]string{"image": path})
	assert.ErrorContains(t, err, "--secret code=env:VARIABLE")
}

// echoing is a console whose device answers by a table; the engine's own decisions are what is
// tested with it.
type echoing struct {
	facts    device.Facts
	t        *testing.T
	answers  map[string][]string // to each command, in turn; the last one stays
	typed    []string
	view     sense.State
	emitting sync.Mutex // servers say something, too
	events   []event.Body
	decide   func(event.Ask) string
	baud     int // of its line, 0 for one without
	hunts    int
	lost     sense.State // what it shows instead of a prompt, and goes on showing
	lineDown int         // how many commands find the line lost
	stops    func(string) string
	pending  []dialect.Open
	lostAt   string    // the command at which the line is lost, once
	notices  bool      // what ran out is pending no more
	awayAt   time.Time // when it comes to the mode away, zero for never
}

func (c *echoing) Clock() clock.Clock { return clock.Real() }
func (c *echoing) Emit(body event.Body) {
	c.emitting.Lock()
	defer c.emitting.Unlock()
	c.events = append(c.events, body)
	if _, ended := body.(event.StepEnd); ended && !c.awayAt.IsZero() {
		c.view.AtPrompt = false
	}
}
func (c *echoing) Device() sense.State { return c.view }

func (c *echoing) Await(ctx context.Context, ready func(sense.State) bool) (sense.State, error) {
	if c.lineDown > 0 {
		c.lineDown--
		return c.view, engine.ErrLineLost
	}
	if ready(c.view) {
		return c.view, nil
	}
	comes := make(<-chan time.Time)
	if !c.awayAt.IsZero() {
		comes = time.After(time.Until(c.awayAt))
	}
	select {
	case <-comes:
		c.awayAt = time.Time{}
		c.view = sense.State{Mode: "away", Count: c.view.Count + 1}
		return c.Await(ctx, ready)
	case <-ctx.Done():
		return c.view, ctx.Err()
	}
}

func (c *echoing) Type(_ context.Context, text string, _ bool) error {
	command := strings.TrimSpace(text)
	c.typed = append(c.typed, command)
	if c.lost.Asked != "" {
		return nil
	}
	if command == c.lostAt && command != "" {
		c.lostAt = ""
		return engine.ErrLineLost
	}
	output := "ok"
	if all := c.answers[command]; len(all) > 0 {
		output = all[0]
		if len(all) > 1 {
			c.answers[command] = all[1:]
		}
	}
	c.view = sense.NewState(
		sense.State{Mode: "ready", AtPrompt: output != "silence", Prompt: "> ", Count: c.view.Count + 1}, output)
	if output == "going" {
		c.view = sense.NewState(
			sense.State{Mode: sense.Garbled, Passed: []string{"away", sense.Garbled}, Count: c.view.Count + 1}, output)
	}
	return nil
}

func (c *echoing) Command(ctx context.Context, text string, how engine.Typing) error {
	return c.Type(ctx, text+"\r", how.Secret)
}

func (c *echoing) LineRate() float64                           { return 960 }
func (c *echoing) Latency() time.Duration                      { return 0 }
func (c *echoing) Speed() (int, bool)                          { return c.baud, c.baud != 0 }
func (c *echoing) SetSpeed(context.Context, int, string) error { return errors.ErrUnsupported }

func (c *echoing) Hunt(context.Context, sense.Hunt) (sense.Found, error) {
	c.hunts++
	return sense.Found{}, nil
}

func (c *echoing) Facts() *device.Facts { return c.facts.Clone() }
func (c *echoing) Changed()             { c.facts.Change() }
func (c *echoing) Learn(fact device.Fact) device.Fact {
	before, _ := c.facts.Set(fact)
	return before
}
func (c *echoing) Present() []string                              { return nil }
func (c *echoing) Tidy(context.Context) error                     { return nil }
func (c *echoing) Settle(context.Context) error                   { return nil }
func (c *echoing) AwaitLine(context.Context) error                { return nil }
func (c *echoing) AwaitHelm(context.Context) (engine.Wish, error) { return engine.Stop, nil }
func (c *echoing) Pending() []dialect.Open {
	return slices.DeleteFunc(slices.Clone(c.pending),
		func(o dialect.Open) bool { return c.notices && !o.Until.After(time.Now()) })
}
func (c *echoing) Gone() []event.Pending         { return nil }
func (c *echoing) Doubts() engine.Doubts         { return engine.Doubts{} }
func (c *echoing) Stopped() time.Duration        { return 0 }
func (c *echoing) Kept() (name, identity string) { return "", "" }
func (c *echoing) Reach() *reach.Watch           { return nil }
func (c *echoing) Shell() *ssh.Client            { return nil }
func (c *echoing) TakeBack(string)               {}
func (c *echoing) HandOver(string) bool          { return false }

func (c *echoing) Release(string) {}

func (c *echoing) Share(_ any, open func(func(event.Body)) io.Closer) (io.Closer, func()) {
	shared := open(c.Emit)
	return shared, func() { _ = shared.Close() }
}

func (c *echoing) InTurn(ctx context.Context, types func(context.Context) error) error {
	return types(ctx)
}

func (c *echoing) WithHelm(x context.Context) (context.Context, context.CancelFunc) {
	return context.WithCancel(x)
}

func (c *echoing) Stops(command string) string {
	if c.stops == nil {
		return ""
	}
	return c.stops(command)
}

func (c *echoing) Carry(context.Context, func(context.Context, transfer.Duplex) error) error {
	return errors.ErrUnsupported
}

func (c *echoing) Ask(_ context.Context, ask event.Ask) (string, error) {
	c.emitting.Lock()
	c.events = append(c.events, ask)
	c.emitting.Unlock()
	if c.decide == nil {
		return engine.StopHere, nil
	}
	return c.decide(ask), nil
}

// runSteps runs steps of one phase against answers.
func runSteps(t *testing.T, steps string, c *echoing) (result engine.Result) {
	t.Helper()
	synctest.Test(t, func(t *testing.T) {
		p, err := prepare(t, "runbook: r\nphases:\n  - phase: one\n    steps:\n"+steps, nil)
		require.NoError(t, err)
		c.t = t
		if c.view = c.lost; c.lost.Asked == "" {
			c.view = sense.State{Mode: "ready", AtPrompt: true}
		}
		result = engine.New(p, c).Execute(t.Context())
	})
	return result
}

func (c *echoing) outcomes() (all []string) {
	for _, e := range c.events {
		if end, ok := e.(event.StepEnd); ok {
			all = append(all, end.ID+" "+string(end.Outcome))
		}
	}
	return all
}

func TestRetryRepeatsTheStep(t *testing.T) {
	c := &echoing{answers: map[string][]string{"raise": {"not now", "not now", "raised"}}}
	result := runSteps(t, "      - {step: Raise, act: {action: raise}, retry: 2}\n", c)
	assert.Equal(t, event.Done, result.Outcome, result.Message)
	assert.Equal(t, []string{"raise", "raise", "raise"}, c.typed)
}

func TestAFailureStopsAndSaysWhereAndWhetherAnythingChanged(t *testing.T) {
	c := &echoing{answers: map[string][]string{"raise": {"not now"}}}
	result := runSteps(t, "      - {step: Raise it, act: {action: raise}}\n      - {step: Never, note: never}\n", c)
	assert.Equal(t, event.Failed, result.Outcome)
	assert.Equal(t, engine.ExitFailed, result.Exit)
	assert.Contains(t, result.Message, "“Raise it”")
	assert.Contains(t, result.Message, "did not say that it succeeded")
	assert.Contains(t, result.Message, "the device may have been changed before that")
	assert.Equal(t, []string{"1.1 failed"}, c.outcomes())
}

func TestTheOperatorMayGoOnAfterAFailure(t *testing.T) {
	c := &echoing{
		answers: map[string][]string{"raise": {"not now"}},
		decide:  func(event.Ask) string { return engine.SkipIt },
	}
	result := runSteps(t, "      - {step: Raise it, act: {action: raise}}\n      - {step: Say, note: said}\n", c)
	assert.Equal(t, event.DoneBut, result.Outcome)
	assert.Equal(t, engine.ExitDoneBut, result.Exit)
	assert.Contains(t, result.Message, "done, but this failed and was gone past: “Raise it”")
	assert.Equal(t, []string{"1.1 failed", "1.2 done"}, c.outcomes())
}

func TestGoOnNeedsNobody(t *testing.T) {
	c := &echoing{answers: map[string][]string{"raise": {"not now"}}}
	result := runSteps(t, "      - {step: Raise it, act: {action: raise}, on-failure: {do: go-on}}\n", c)
	assert.Equal(t, event.DoneBut, result.Outcome)
}

func TestRepeatFromStartsThePhaseOverSoManyTimes(t *testing.T) {
	c := &echoing{answers: map[string][]string{"raise": {"not now"}, "state": {"value 1"}}}
	steps := "      - {step: Look, read: [state]}\n      - {step: Raise, act: {action: raise}, on-failure: {repeat-from: one, times: 2}}\n"
	result := runSteps(t, steps, c)
	assert.Equal(t, event.Failed, result.Outcome)
	assert.Equal(t, []string{"state", "raise", "state", "raise", "state", "raise"}, c.typed)
}

func TestWhenSkipsAndFactsFlow(t *testing.T) {
	c := &echoing{answers: map[string][]string{"state": {"value 41"}}}
	steps := "      - {step: Look, read: [state]}\n" +
		"      - {step: Not this, when: state.value > 50, act: {action: raise}}\n" +
		"      - {step: Set it, act: {action: set, with: {to: '${state.value + 1}'}}}\n"
	result := runSteps(t, steps, c)
	assert.Equal(t, event.Done, result.Outcome, result.Message)
	assert.Equal(t, []string{"state", "set 42"}, c.typed)
	assert.Equal(t, []string{"1.1 done", "1.2 skipped", "1.3 done"}, c.outcomes())
}

func TestAnAnswerThatDoesNotParseIsReadTwice(t *testing.T) {
	c := &echoing{answers: map[string][]string{"state": {"vXlue 1", "value 1"}}}
	assert.Equal(t, event.Done, runSteps(t, "      - {step: Look, read: [state]}\n", c).Outcome)
	c = &echoing{answers: map[string][]string{"state": {"nothing of use"}}}
	result := runSteps(t, "      - {step: Look, read: [state]}\n", c)
	assert.Contains(t, result.Message, "says no state.value")
	assert.Contains(t, result.Message, "nothing was changed")
}

func TestALimitEndsASilentDevice(t *testing.T) {
	c := &echoing{answers: map[string][]string{"state": {"silence"}}}
	began := time.Now()
	result := runSteps(t, "      - {step: Look, read: [state], timeout: 10s}\n", c)
	assert.Equal(t, event.Failed, result.Outcome)
	assert.Contains(t, result.Message, "not within the timeout of 10 s (book.yaml:5)")
	assert.Less(t, time.Since(began), time.Minute)
}

// TestAModeThatWasLeftAgainCounts has a device that was in the mode before one could look.
func TestAModeThatWasLeftAgainCounts(t *testing.T) {
	c := &echoing{answers: map[string][]string{"leave": {"going"}}}
	assert.Equal(t, event.Done, runSteps(t, "      - {step: Leave, act: {action: leave}}\n", c).Outcome)
	c = &echoing{answers: map[string][]string{"leave": {"cannot"}}}
	assert.Contains(t, runSteps(t, "      - {step: Leave, act: {action: leave}}\n", c).Message,
		"left the device in mode ready: cannot")
}

func TestALostLineRepeatsWhatIsHarmless(t *testing.T) {
	c := &echoing{lineDown: 1, answers: map[string][]string{"state": {"value 1"}}}
	assert.Equal(t, event.Done, runSteps(t, "      - {step: Look, read: [state]}\n", c).Outcome)
	c = &echoing{lineDown: 1, answers: map[string][]string{"raise": {"raised"}}}
	result := runSteps(t, "      - {step: Raise, act: {action: raise}}\n", c)
	assert.Equal(t, event.Failed, result.Outcome, "what changes the device is not repeated unasked")
	assert.Contains(t, result.Message, engine.ErrLineLost.Error())
}

func TestAFaultOfOurOwnEndsARunLikeAnother(t *testing.T) {
	c := &echoing{stops: func(string) string { panic("out of reckoning") }}
	result := runSteps(t, "      - {step: Raise it, act: {action: raise}}\n", c)
	assert.Equal(t, engine.ExitFailed, result.Exit)
	assert.Contains(t, result.Message, "a fault of this program, at “Raise it”: out of reckoning")
	assert.Equal(t, []string{"1.1 failed"}, c.outcomes(), "the step ended")
	assert.IsType(t, event.RunEnd{}, c.events[len(c.events)-1])
	assert.Empty(t, c.typed)
}

func TestHoldsAreAskedBeforeAnythingIsTyped(t *testing.T) {
	c := &echoing{}
	result := runSteps(t, "      - {step: Raise, hold: Raises it., act: {action: raise}}\n", c)
	assert.Equal(t, engine.ExitStopped, result.Exit)
	assert.Empty(t, c.typed)
	assert.Contains(t, result.Message, "nothing was changed")
	var asked []string
	for _, e := range c.events {
		if ask, ok := e.(event.Ask); ok {
			asked = append(asked, fmt.Sprint(ask.Form, " ", ask.Types))
		}
	}
	assert.Equal(t, []string{"hold [raise]"}, asked)
}

func TestAnActIsHeldToWhatIsReadAfterwards(t *testing.T) {
	steps := "      - {step: Raise, act: {action: raise, expect: {read: [state], holds: state.value == 2, message: 'it is ${state.value}', proves: 'raised to ${state.value}'}}}\n"
	c := &echoing{answers: map[string][]string{"raise": {"raised"}, "state": {"value 2"}}}
	result := runSteps(t, steps, c)
	assert.Equal(t, event.Done, result.Outcome, result.Message)
	assert.Equal(t, []string{"raised to 2"}, result.Proved)
	c = &echoing{answers: map[string][]string{"raise": {"raised"}, "state": {"value 1"}}}
	result = runSteps(t, steps, c)
	assert.Equal(t, event.Failed, result.Outcome)
	assert.Contains(t, result.Message, "it is 1")
}

func TestComputedValuesHaveNames(t *testing.T) {
	c := &echoing{answers: map[string][]string{"state": {"value 4"}}}
	steps := "      - {step: Look, read: [state]}\n" +
		"      - {step: Reckon, let: {next: state.value + 1}}\n" +
		"      - {step: 'Set ${next}', act: {action: set, with: {to: '${next}'}}}\n"
	result := runSteps(t, steps, c)
	assert.Equal(t, event.Done, result.Outcome, result.Message)
	assert.Equal(t, []string{"state", "set 5"}, c.typed)
}

// begunAt runs a runbook from a phase on.
func begunAt(t *testing.T, text, phase string, c *echoing) (result engine.Result) {
	t.Helper()
	synctest.Test(t, func(t *testing.T) {
		p, err := prepare(t, text, nil)
		require.NoError(t, err)
		require.NoError(t, p.From(phase))
		if c.view = c.lost; c.lost.Asked == "" {
			c.view = sense.State{Mode: "ready", AtPrompt: true}
		}
		result = engine.New(p, c).Execute(t.Context())
	})
	return result
}

func TestARunMayBeginAtAPhase(t *testing.T) {
	text := `
runbook: r
phases:
  - {phase: look, steps: [{step: Look, read: [state]}, {step: Keep, snapshot: before}, {step: Set, act: {action: set, with: {to: '9'}}}]}
  - {phase: raise, steps: [{step: 'Raise from ${before.state.value}', act: {action: raise}}]}
`
	c := &echoing{answers: map[string][]string{"state": {"value 4"}, "raise": {"raised"}}}
	result := begunAt(t, text, "raise", c)
	assert.Equal(t, event.Done, result.Outcome, result.Message)
	assert.Equal(t, []string{"state", "raise"}, c.typed,
		"what was changed before is not changed again, what was read is read anew")
	assert.Equal(t, []string{"1.1 done", "1.2 done", "1.3 skipped", "2.1 done"}, c.outcomes())
	p, err := prepare(t, text, nil)
	require.NoError(t, err)
	assert.ErrorContains(t, p.From("fly"), `no phase "fly"; it has look, raise`)
}

func TestAPhaseMayHaveACondition(t *testing.T) {
	c := &echoing{answers: map[string][]string{"state": {"value 4"}}}
	synctest.Test(t, func(t *testing.T) {
		p, err := prepare(t, `
runbook: r
phases:
  - {phase: look, steps: [{step: Look, read: [state]}]}
  - {phase: raise, when: state.value > 5, steps: [{step: Raise, act: {action: raise}}]}
`, nil)
		require.NoError(t, err)
		if c.view = c.lost; c.lost.Asked == "" {
			c.view = sense.State{Mode: "ready", AtPrompt: true}
		}
		assert.Equal(t, engine.ExitDone, engine.New(p, c).Execute(t.Context()).Exit)
	})
	assert.Equal(t, []string{"1.1 done", "2.1 skipped"}, c.outcomes())
	for _, e := range c.events {
		if end, ok := e.(event.StepEnd); ok && end.Outcome == event.Skipped {
			assert.Equal(t, "not needed", end.Message, "in words, not by the condition")
		}
	}
}

// TestAWaitIsBoundedByWhatRunsOut has a trial that ends long before the step's own timeout.
func TestAWaitIsBoundedByWhatRunsOut(t *testing.T) {
	began := time.Now()
	c := &echoing{answers: map[string][]string{"state": {"silence"}}}
	var result engine.Result
	synctest.Test(t, func(t *testing.T) {
		began = time.Now()
		p, err := prepare(t,
			"runbook: r\nphases: [{phase: one, steps: [{step: Wait, wait: {mode: [away]}, timeout: 1h}]}]\n", nil)
		require.NoError(t, err)
		c.view = sense.State{Mode: "ready"}
		c.pending = []dialect.Open{
			{Name: "trial", Says: "the old release comes back", Until: began.Add(90 * time.Second)},
		}
		result = engine.New(p, c).Execute(t.Context())
		assert.InDelta(t, 90, time.Since(began).Seconds(), 5)
	})
	assert.Contains(t, result.Message, "not within the timeout: this happens by itself now: the old release comes back")
}

// TestWhatADeadlineLeadsToIsWaitedFor has a trial run out in a step, or before it: the reason is reported, and neither
// the rollback's waits nor what waits after it ends with it.
func TestWhatADeadlineLeadsToIsWaitedFor(t *testing.T) {
	const rollsBack = `
runbook: r
on-failure: {do: roll-back}
phases: [{phase: one, steps: [{step: Raise, act: {action: raise}}, {step: Wait, wait: {mode: [away]}, timeout: 20m}]}]
rollback: {about: it comes back by itself, steps: [{step: It is away, undoes: [raise], wait: {mode: [away]}, timeout: 10m}]}
`
	const waitsBehind = "runbook: r\nphases: [{phase: one, steps: [{step: It is away, wait: {mode: [away]}, timeout: 10m}]}]\n"
	for name, c := range map[string]struct {
		book    string
		ends    time.Duration // the trial, from when the run begins
		comes   time.Duration // the device
		outcome event.Outcome
		says    string
		at      time.Duration
		runsOut bool // the session has noticed it
	}{
		"in a rollback":                          {rollsBack, 90 * time.Second, 5 * time.Minute, event.RolledBack, "happens by itself now: the old release", 5 * time.Minute, false},
		"in a rollback, noticed":                 {rollsBack, 90 * time.Second, 5 * time.Minute, event.RolledBack, "happens by itself now: the old release", 5 * time.Minute, true},
		"before the rollback's wait is over":     {rollsBack, 20 * time.Minute, 25 * time.Minute, event.RolledBack, "not within the timeout", 25 * time.Minute, false},
		"it ran out before the wait":             {waitsBehind, -time.Second, 5 * time.Minute, event.Done, "", 5 * time.Minute, false},
		"it runs out in a wait for other things": {waitsBehind, 90 * time.Second, 5 * time.Minute, event.Failed, "happens by itself now: the old release", 90 * time.Second, false},
	} {
		t.Run(name, func(t *testing.T) {
			e := &echoing{answers: map[string][]string{"raise": {"raised"}}}
			var result engine.Result
			synctest.Test(t, func(t *testing.T) {
				began := time.Now()
				p, err := prepare(t, c.book, nil)
				require.NoError(t, err)
				e.view, e.awayAt = sense.State{Mode: "ready", AtPrompt: c.book == rollsBack}, began.Add(c.comes)
				e.pending = []dialect.Open{
					{Name: "trial", Says: "the old release comes back", Until: began.Add(c.ends)},
				}
				e.notices = c.runsOut
				result = engine.New(p, e).Execute(t.Context())
				assert.InDelta(t, c.at.Seconds(), time.Since(began).Seconds(), 5, "%v", result)
			})
			assert.Equal(t, c.outcome, result.Outcome, result.Message)
			assert.Contains(t, result.Message, c.says)
		})
	}
}

func TestHoldsSaysWhatIsPending(t *testing.T) {
	c := &echoing{}
	synctest.Test(t, func(t *testing.T) {
		p, err := prepare(t,
			"runbook: r\nphases: [{phase: one, steps: [{step: Raise, hold: Raises it., act: {action: raise}}]}]\n", nil)
		require.NoError(t, err)
		if c.view = c.lost; c.lost.Asked == "" {
			c.view = sense.State{Mode: "ready", AtPrompt: true}
		}
		c.pending = []dialect.Open{
			{Says: "the choice"},
			{Says: "it comes back", Until: time.Now().Add(190 * time.Second)},
		}
		engine.New(p, c).Execute(t.Context())
	})
	for _, e := range c.events {
		if ask, ok := e.(event.Ask); ok {
			assert.Equal(t, []string{"the choice", "it comes back, in 3 min 10 s"}, ask.Pending)
			return
		}
	}
	t.Fatal("it did not ask")
}

// TestAnotherDeviceBehindALostLineIsNoticed reads another serial number once the line is back.
func TestAnotherDeviceBehindALostLineIsNoticed(t *testing.T) {
	for name, c := range map[string]struct {
		after string
		want  event.Outcome
	}{"the same one": {"serial A1", event.Done}, "another one": {"serial B2", event.Stopped}} {
		e := &echoing{answers: map[string][]string{"self": {"serial A1", c.after}, "state": {"value 1"}}}
		var result engine.Result
		synctest.Test(t, func(t *testing.T) {
			d, err := dialect.Parse("id.yaml", []byte(deviceText+"identity: {read: self, fact: device.serial}\n"))
			require.NoError(t, err)
			book, err := runbook.Parse("book.yaml",
				[]byte("runbook: r\nphases: [{phase: one, steps: [{step: Who, read: [self]}, {step: Look, read: [state]}]}]\n"))
			require.NoError(t, err)
			p, err := book.Prepare(d, nil, runbook.Kit{})
			require.NoError(t, err)
			e.view = sense.State{Mode: "ready", AtPrompt: true}
			e.lostAt = "state"
			result = engine.New(p, e).Execute(t.Context())
		})
		assert.Equal(t, c.want, result.Outcome, "%s: %s", name, result.Message)
		if c.want == event.Stopped {
			assert.Contains(t, result.Message, "device.serial reads B2, was A1")
		}
	}
}

func TestARunAsksAfterOneThatWasCutOff(t *testing.T) {
	for answer, want := range map[string]int{engine.Approve: engine.ExitDone, engine.StopHere: engine.ExitStopped} {
		c := &echoing{
			answers: map[string][]string{"raise": {"raised"}},
			decide:  func(event.Ask) string { return answer },
		}
		synctest.Test(t, func(t *testing.T) {
			p, err := prepare(t, "runbook: r\nphases: [{phase: one, steps: [{step: Raise, act: {action: raise}}]}]\n",
				nil)
			require.NoError(t, err)
			p.Kit.CutOff = "entry 7 was cut off in step “Raise”"
			if c.view = c.lost; c.lost.Asked == "" {
				c.view = sense.State{Mode: "ready", AtPrompt: true}
			}
			assert.Equal(t, want, engine.New(p, c).Execute(t.Context()).Exit)
		})
		assert.Equal(t, answer == engine.Approve, len(c.typed) > 0)
		asks := 0
		for _, e := range c.events {
			if ask, ok := e.(event.Ask); ok {
				asks++
				assert.Contains(t, ask.Text, "entry 7 was cut off in step “Raise”. Begin this one all the same?")
				assert.Equal(t, engine.CutOffStep, ask.Step)
			}
		}
		assert.Equal(t, 1, asks)
	}
}

func TestAHoldFillsTheCourseInWithWhatWasRead(t *testing.T) {
	c := &echoing{answers: map[string][]string{"state": {"value 4"}}}
	runSteps(t,
		"      - {step: Look, read: [state]}\n      - {step: 'Set ${state.value}', hold: Sets it., act: {action: set, with: {to: '${state.value}'}}}\n",
		c)
	var begun, held []string
	for _, e := range c.events {
		switch b := e.(type) {
		case event.RunBegin:
			begun = append(b.Steps[0].Types, b.Steps[1].Types...)
		case event.Course:
			held = append(held, b.Steps[1].Title)
			held = append(held, b.Steps[1].Types...)
		}
	}
	assert.Equal(t, []string{"state", "set ${state.value}"}, begun, "before anything is known")
	assert.Equal(t, []string{"Set 4", "set 4"}, held)
}
