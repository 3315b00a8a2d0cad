package runbook

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"pilotrix/core/carrier"
	"pilotrix/core/clock"
	"pilotrix/core/device"
	"pilotrix/core/dialect"
	"pilotrix/core/event"
	"pilotrix/core/reach"
	"pilotrix/core/sense"
)

const deviceText = `
dialect: small
modes: [{mode: ready, prompt: '^> $'}, {mode: away, text: going}]
readings:
  - {reading: state, command: state, facts: [{fact: state.value, pattern: 'value (\d+)', as: number}]}
actions:
  - {action: raise, command: raise, done: raised, changes: true}
  - {action: leave, in: [ready], command: leave, to: away}
  - {action: set, with: [to], command: 'set ${to}', changes: true}
image:
  - {name: release, pattern: 'release (\S+)'}
`

func small(t *testing.T) *dialect.Dialect {
	t.Helper()
	d, err := dialect.Parse("small.yaml", []byte(deviceText))
	require.NoError(t, err)
	return d
}

func prepare(t *testing.T, text string, values map[string]string) (*Prepared, error) {
	t.Helper()
	book, err := Parse("book.yaml", []byte(text))
	if err != nil {
		return nil, err
	}
	return book.Prepare(small(t), values, Kit{})
}

func TestComplaintsBeforeALineIsOpened(t *testing.T) {
	head := "runbook: r\ninputs:\n  - {input: image, kind: image}\n  - {input: code, kind: secret}\nlegs:\n  - leg: one\n    steps:\n"
	for name, c := range map[string]struct{ step, says, at string }{
		"several verbs":    {"{step: x, read: [state], note: y}", "several things (note, read)", "book.yaml:8:"},
		"no verb":          {"{step: x}", "does nothing", "book.yaml:8:"},
		"no words":         {"{note: y}", "has no words", "book.yaml:8:"},
		"unknown reading":  {"{step: x, read: [state, mood]}", `no reading "mood"; it has state`, "book.yaml:8:"},
		"unknown action":   {"{step: x, act: {action: fly}}", `no action "fly"; it has leave, raise, set`, "book.yaml:8:"},
		"missing with":     {"{step: x, act: {action: set}}", "needs to (with: {to: …})", "book.yaml:8:"},
		"surplus with":     {"{step: x, act: {action: raise, with: {by: '5'}}}", `takes no "by"`, "book.yaml:8:"},
		"unknown mode":     {"{step: x, wait: {mode: [gone]}}", `no mode "gone"; it has ready`, "book.yaml:8:"},
		"unknown fact":     {"{step: x, check: state.mood > 3}", "state.mood", "book.yaml:8:"},
		"broken check":     {"{step: x, check: 'state.value >'}", "unexpected token", "book.yaml:8:"},
		"unknown carrier":  {"{step: x, send: {file: image, by: pigeon, action: raise}}", `no carrier "pigeon"`, "book.yaml:8:"},
		"not an image":     {"{step: x, send: {file: code, by: xmodem, action: raise}}", `no input "code" of kind image`, "book.yaml:8:"},
		"speed of nothing": {"{step: x, speed: {}}", "either to: BAUD or back: true", "book.yaml:8:"},
		"bad failure":      {"{step: x, note: y, on-failure: {do: panic}}", `"panic"`, "book.yaml:8:"},
		"unknown leg":      {"{step: x, note: y, on-failure: {again-from: two}}", `no leg "two"`, "book.yaml:8:"},
		"half a compare":   {"{step: x, compare: [{what: a, want: '1'}]}", "needs want and got", "book.yaml:8:"},
		"unknown key":      {"{step: x, reed: [state]}", "reed", "book.yaml:8:"},
	} {
		t.Run(name, func(t *testing.T) {
			_, err := prepare(t, head+"      - "+c.step+"\n", nil)
			require.Error(t, err)
			assert.Contains(t, err.Error(), c.says)
			assert.True(t, strings.HasPrefix(err.Error(), c.at), "%v", err)
		})
	}
}

func TestInputs(t *testing.T) {
	path := filepath.Join(t.TempDir(), "tern.img")
	require.NoError(t, os.WriteFile(path, []byte("release 4.2.1\nbody"), 0o600))
	text := `
runbook: r
inputs:
  - {input: image, kind: image}
  - {input: speed, kind: choice, choices: [slow, fast], default: fast}
  - {input: count, kind: number, default: '3'}
  - {input: code, kind: secret}
legs: [{leg: one, steps: [{step: x, check: 'image.release == "4.2.1" and speed == "fast"'}]}]
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
		"not a number":  {"count", "many", "no number"},
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
	t        *testing.T
	answers  map[string][]string // to each command, in turn; the last one stays
	typed    []string
	view     sense.View
	events   []event.Body
	decide   func(event.Ask) string
	lineDown int // how many commands find the line lost
	stops    func(string) string
}

func (c *echoing) Clock() clock.Clock   { return clock.Real() }
func (c *echoing) Emit(body event.Body) { c.events = append(c.events, body) }
func (c *echoing) View() sense.View     { return c.view }

func (c *echoing) Await(ctx context.Context, ready func(sense.View) bool) (sense.View, error) {
	if c.lineDown > 0 {
		c.lineDown--
		return c.view, ErrLineLost
	}
	if ready(c.view) {
		return c.view, nil
	}
	<-ctx.Done()
	return c.view, ctx.Err()
}

func (c *echoing) Type(_ context.Context, text string, _ bool) error {
	command := strings.TrimSpace(text)
	c.typed = append(c.typed, command)
	output := ""
	if all := c.answers[command]; len(all) > 0 {
		output = all[0]
		if len(all) > 1 {
			c.answers[command] = all[1:]
		}
	}
	c.view = sense.NewView(sense.View{Mode: "ready", AtPrompt: output != "silence", Prompt: "> ", Count: c.view.Count + 1}, output)
	if output == "going" {
		c.view = sense.NewView(sense.View{Mode: sense.Garbled, Passed: []string{"away", sense.Garbled}, Count: c.view.Count + 1}, output)
	}
	return nil
}

func (c *echoing) Command(ctx context.Context, text string, how Typing) error {
	return c.Type(ctx, text+"\r", how.Secret)
}

func (c *echoing) LineRate() float64                           { return 960 }
func (c *echoing) Latency() time.Duration                      { return 0 }
func (c *echoing) Speed() (int, bool)                          { return 0, false }
func (c *echoing) SetSpeed(context.Context, int, string) error { return errors.ErrUnsupported }

func (c *echoing) Hunt(context.Context, sense.Hunt) (sense.Found, error) { return sense.Found{}, nil }
func (c *echoing) AwaitLine(context.Context) error                       { return nil }
func (c *echoing) AwaitHelm(context.Context) (Choice, error)             { return Stop, nil }
func (c *echoing) Reach() *reach.Watch                                   { return nil }
func (c *echoing) TakeBack(string)                                       {}
func (c *echoing) Release(string)                                        {}
func (c *echoing) WithHelm(x context.Context) (context.Context, context.CancelFunc) {
	return context.WithCancel(x)
}

func (c *echoing) Stops(command string) string {
	if c.stops == nil {
		return ""
	}
	return c.stops(command)
}

func (c *echoing) Carry(context.Context, func(context.Context, carrier.Port) error) error {
	return errors.ErrUnsupported
}

func (c *echoing) Ask(_ context.Context, ask event.Ask) (string, error) {
	c.events = append(c.events, ask)
	if c.decide == nil {
		return StopHere, nil
	}
	return c.decide(ask), nil
}

// runSteps runs steps of one leg against answers.
func runSteps(t *testing.T, steps string, c *echoing) (result Result) {
	t.Helper()
	synctest.Test(t, func(t *testing.T) {
		p, err := prepare(t, "runbook: r\nlegs:\n  - leg: one\n    steps:\n"+steps, nil)
		require.NoError(t, err)
		c.t = t
		c.view = sense.View{Mode: "ready", AtPrompt: true}
		result = NewEngine(p, c, &device.Facts{}).Run(t.Context())
	})
	return result
}

func (c *echoing) outcomes() (all []string) {
	for _, e := range c.events {
		if end, is := e.(event.StepEnd); is {
			all = append(all, end.ID+" "+end.Outcome)
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
	assert.Equal(t, ExitFailed, result.Exit)
	assert.Contains(t, result.Message, "“Raise it”")
	assert.Contains(t, result.Message, "did not say that it succeeded")
	assert.Contains(t, result.Message, "the device was changed before that")
	assert.Equal(t, []string{"1.1 failed"}, c.outcomes())
}

func TestTheOperatorMayGoOnAfterAFailure(t *testing.T) {
	c := &echoing{answers: map[string][]string{"raise": {"not now"}}, decide: func(event.Ask) string { return SkipIt }}
	result := runSteps(t, "      - {step: Raise it, act: {action: raise}}\n      - {step: Say, note: said}\n", c)
	assert.Equal(t, event.Done, result.Outcome)
	assert.Equal(t, []string{"1.1 failed", "1.2 done"}, c.outcomes())
}

func TestGoOnNeedsNobody(t *testing.T) {
	c := &echoing{answers: map[string][]string{"raise": {"not now"}}}
	result := runSteps(t, "      - {step: Raise it, act: {action: raise}, on-failure: {do: go-on}}\n", c)
	assert.Equal(t, event.Done, result.Outcome)
}

func TestAgainFromStartsTheLegOverSoManyTimes(t *testing.T) {
	c := &echoing{answers: map[string][]string{"raise": {"not now"}, "state": {"value 1"}}}
	steps := "      - {step: Look, read: [state]}\n      - {step: Raise, act: {action: raise}, on-failure: {again-from: one, times: 2}}\n"
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
	result := runSteps(t, "      - {step: Look, read: [state], limit: 10s}\n", c)
	assert.Equal(t, event.Failed, result.Outcome)
	assert.Contains(t, result.Message, "not within the limit of 10s")
	assert.Less(t, time.Since(began), time.Minute)
}

// TestAModeThatWasLeftAgainCounts has a device that was in the mode before one could look.
func TestAModeThatWasLeftAgainCounts(t *testing.T) {
	c := &echoing{answers: map[string][]string{"leave": {"going"}}}
	assert.Equal(t, event.Done, runSteps(t, "      - {step: Leave, act: {action: leave}}\n", c).Outcome)
	c = &echoing{answers: map[string][]string{"leave": {"cannot"}}}
	assert.Contains(t, runSteps(t, "      - {step: Leave, act: {action: leave}}\n", c).Message, "left the device in mode ready: cannot")
}

func TestALostLineRepeatsWhatIsHarmless(t *testing.T) {
	c := &echoing{lineDown: 1, answers: map[string][]string{"state": {"value 1"}}}
	assert.Equal(t, event.Done, runSteps(t, "      - {step: Look, read: [state]}\n", c).Outcome)
	c = &echoing{lineDown: 1, answers: map[string][]string{"raise": {"raised"}}}
	result := runSteps(t, "      - {step: Raise, act: {action: raise}}\n", c)
	assert.Equal(t, event.Failed, result.Outcome, "what changes the device is not repeated unasked")
	assert.Contains(t, result.Message, ErrLineLost.Error())
}

func TestHoldsAreAskedBeforeAnythingIsTyped(t *testing.T) {
	c := &echoing{}
	result := runSteps(t, "      - {step: Raise, hold: Raises it., act: {action: raise}}\n", c)
	assert.Equal(t, ExitStopped, result.Exit)
	assert.Empty(t, c.typed)
	assert.Contains(t, result.Message, "nothing was changed")
	var asked []string
	for _, e := range c.events {
		if ask, is := e.(event.Ask); is {
			asked = append(asked, fmt.Sprint(ask.Form, " ", ask.Types))
		}
	}
	assert.Equal(t, []string{"hold [raise]"}, asked)
}
