package engine_test

import (
	"context"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"pilotrix/core/device"
	"pilotrix/core/dialect"
	"pilotrix/core/event"
	"pilotrix/core/runbook"
	"pilotrix/core/runbook/engine"
	"pilotrix/core/sense"
)

// TestEveryEndHasAWordAndACode runs to each of them.
func TestEveryEndHasAWordAndACode(t *testing.T) {
	const rollback = "rollback:\n  steps: [{step: Back, act: {action: set, with: {to: '1'}}}]\n"
	for name, c := range map[string]struct {
		steps, after string
		answers      map[string][]string
		decide       string
		outcome      event.Outcome
		exit         int
		says         string
	}{
		"done": {"      - {step: Raise, act: {action: raise}}\n", "", map[string][]string{"raise": {"raised"}}, "", event.Done, 0, "done"},
		"so already": {
			"      - {step: Look, read: [state]}\n      - {step: So, already: {holds: state.value == 7, message: 'it is ${state.value}', proves: it is 7}}\n      - {step: Raise, act: {action: raise}}\n", "",
			map[string][]string{"state": {"value 7"}},
			"", event.Already, 0, "it is 7; nothing was changed on the device",
		},
		"not so already": {
			"      - {step: Look, read: [state]}\n      - {step: So, already: {holds: state.value == 7, message: so}}\n      - {step: Raise, act: {action: raise}}\n", "",
			map[string][]string{"state": {"value 8"}, "raise": {"raised"}},
			"", event.Done, 0, "done",
		},
		"done, but": {
			"      - {step: Raise, act: {action: raise}, on-failure: {do: go-on}}\n", "",
			map[string][]string{"raise": {"no"}},
			"",
			event.DoneBut, 5, "done, but this failed and was gone past: “Raise”",
		},
		"failed": {"      - {step: Raise, act: {action: raise}}\n", "", map[string][]string{"raise": {"no"}}, "", event.Failed, 1, "the device may have been changed before that"},
		"failed after a change": {
			"      - {step: Raise, act: {action: raise}}\n      - {step: Set, act: {action: set, with: {to: '1'}}}\n", "",
			map[string][]string{"raise": {"raised"}, "set 1": {"no"}},
			"", event.Failed, 1, "the device was changed before that",
		},
		"rolled back, but not all": {
			"      - {step: Raise, act: {action: raise}, on-failure: {do: roll-back}}\n", rollback,
			map[string][]string{"raise": {"no"}},
			"", event.RolledBackBut, 4, "not put back: what these have changed: “Raise”",
		},
		"rolled back, where the rollback undoes it": {
			"      - {step: Raise, act: {action: raise}, on-failure: {do: roll-back}}\n", strings.Replace(rollback,
				"{step:", "{undoes: [raise], step:", 1),
			map[string][]string{"raise": {"no"}},
			"", event.RolledBack, 4, "“Raise”: “raise” did not say that it succeeded",
		},
		"rolled back, where it was refused": {
			"      - {step: Raise, act: {action: raise}, on-failure: {do: roll-back}}\n", rollback,
			map[string][]string{"raise": {"may not"}},
			"", event.RolledBack, 4, "“raise” was answered: may not",
		},
		"rolled back by the same action with another value": {
			"      - {step: Set, act: {action: set, with: {to: '2'}}}\n      - {step: Check, check: {holds: 1 == 2, message: no}, on-failure: {do: roll-back}}\n", rollback,
			map[string][]string{"set 2": {"ok"}},
			"", event.RolledBack, 4, "“Check”: no",
		},
		"rolled back by one step of two": {
			"      - {step: Raise, act: {action: raise}}\n      - {step: Set, act: {action: set, with: {to: '2'}}}\n      - {step: Check, check: {holds: 1 == 2, message: no}, on-failure: {do: roll-back}}\n", rollback,
			map[string][]string{"raise": {"raised"}, "set 2": {"ok"}},
			"", event.RolledBackBut, 4, "not put back: what these have changed: “Raise”",
		},
		"rolled back in vain": {
			"      - {step: Raise, act: {action: raise}, on-failure: {do: roll-back}}\n", rollback,
			map[string][]string{"raise": {"no"}, "set 1": {"no"}},
			"",
			event.Failed, 1, "and the rollback failed",
		},
		"rolled back over a failure": {
			"      - {step: Raise, act: {action: raise}, on-failure: {do: roll-back}}\n", "rollback:\n  steps: [{step: Back, act: {action: set, with: {to: '1'}}, on-failure: {do: go-on}}]\n",
			map[string][]string{"raise": {"no"}, "set 1": {"no"}},
			"", event.Failed, 1, "and of the rollback this failed: “Back”",
		},
		"stopped behind a change": {
			"      - {step: Raise, act: {action: raise}}\n      - {step: Set, hold: Sets it., act: {action: set, with: {to: '1'}}}\n", "",
			map[string][]string{"raise": {"raised"}},
			engine.StopHere, event.Stopped, 3, "the device was changed before that: “Raise”; still pending: the choice",
		},
		"stopped": {"      - {step: Raise, hold: Raises it., act: {action: raise}}\n", "", nil, engine.StopHere, event.Stopped, 3, "nothing was changed on the device"},
	} {
		t.Run(name, func(t *testing.T) {
			c2 := &echoing{answers: c.answers}
			if c.decide != "" {
				c2.decide = func(event.Ask) string { return c.decide }
			}
			if strings.Contains(c.says, "still pending") {
				c2.pending = []dialect.Open{{Name: "choice", Says: "the choice"}}
			}
			result := runText(t, "runbook: r\nphases:\n  - phase: one\n    steps:\n"+c.steps+c.after, c2)
			assert.Equal(t, c.outcome, result.Outcome, result.Message)
			assert.Equal(t, c.exit, result.Exit)
			assert.Contains(t, result.Message, c.says)
			end, ok := c2.events[len(c2.events)-1].(event.RunEnd)
			require.True(t, ok, "it is the last event")
			assert.Equal(t, result.Outcome, end.Outcome)
		})
	}
}

// runText runs a whole runbook against answers.
func runText(t *testing.T, text string, c *echoing) (result engine.Result) {
	t.Helper()
	synctest.Test(t, func(t *testing.T) {
		p, err := prepare(t, text, nil)
		require.NoError(t, err)
		c.t, c.view = t, sense.State{Mode: "ready", AtPrompt: true}
		result = engine.New(p, c).Execute(t.Context())
	})
	return result
}

// TestOneTimeout holds that the larger of what step and action say is waited for, shown and named.
func TestOneTimeout(t *testing.T) {
	d, err := dialect.Parse("gate.yaml",
		[]byte("dialect: gate\nmodes: [{mode: ready, prompt: '^> $'}]\nactions:\n  - {action: slow, command: slow, done: ok, timeout: 3m}\n  - {action: quick, command: quick, done: ok}\n"))
	require.NoError(t, err)
	for steps, want := range map[string]struct {
		timeout time.Duration
		from    string
	}{
		"{step: x, act: {action: slow}, timeout: 1m}":  {3 * time.Minute, "(gate.yaml:4)"},
		"{step: x, act: {action: slow}, timeout: 5m}":  {5 * time.Minute, "(book.yaml:2)"},
		"{step: x, act: {action: quick}, timeout: 5s}": {5 * time.Second, "(book.yaml:2)"},
		"{step: x, act: {action: quick}}":              {time.Minute, "(what “act” has unless a step says otherwise)"},
	} {
		synctest.Test(t, func(t *testing.T) {
			book, err := runbook.Parse("book.yaml", []byte("runbook: r\nphases: [{phase: one, steps: ["+steps+"]}]\n"))
			require.NoError(t, err)
			p, err := book.Prepare(d, nil, runbook.Kit{})
			require.NoError(t, err)
			assert.Equal(t, want.timeout, p.Plan(&device.Facts{}).Steps[0].Timeout)
			c := &echoing{
				t:       t,
				view:    sense.State{Mode: "ready", AtPrompt: true},
				answers: map[string][]string{"slow": {"silence"}, "quick": {"silence"}},
				decide:  func(event.Ask) string { return engine.GiveUp },
			}
			begun := time.Now()
			result := engine.New(p, c).Execute(t.Context())
			assert.Equal(t, want.timeout, time.Since(begun))
			assert.Contains(t, result.Message, want.from)
			for _, e := range c.events {
				if now, ok := e.(event.StepNow); ok {
					assert.Equal(t, want.timeout, now.Timeout)
				}
			}
		})
	}
}

// TestAPollOutlivesOneReadingThatDoesNotCome loses one, then two in a row.
func TestAPollOutlivesOneReadingThatDoesNotCome(t *testing.T) {
	const steps = "      - {step: Wait, poll: {read: [state], every: 10s, until: state.value == 3}, timeout: 1h}\n"
	c := &echoing{answers: map[string][]string{"state": {"value 1", "silence", "value 2", "silence", "value 3"}}}
	assert.Equal(t, event.Done, runSteps(t, steps, c).Outcome)
	c = &echoing{answers: map[string][]string{"state": {"value 1", "silence", "silence", "value 3"}}}
	result := runSteps(t, steps, c)
	assert.Equal(t, event.Failed, result.Outcome)
	assert.Contains(t, result.Message, "no prompt after “state”")
}

// TestGoingBackReadsALoopsListAgain has one of two cards fitted, then starts over from before the loop.
func TestGoingBackReadsALoopsListAgain(t *testing.T) {
	c := &echoing{answers: map[string][]string{
		"cards": {
			"1 line\n2 line\n",
			"1 trunk\n2 line\n",
			"1 trunk\n2 trunk\n",
		},
		"fit 1": {"fitted"},
		"fit 2": {"fitted"},
		"haul":  {"state no", "state up"},
	}}
	result := carryOut(t, `
runbook: r
phases:
  - phase: look
    steps: [{step: Look, read: [cards]}]
  - phase: slot ${card.slot}
    for: {each: card, in: cards, where: card.kind == "line"}
    steps: [{step: 'Fit ${card.slot}', act: {action: fit, with: {slot: '${card.slot}'}}}]
  - phase: end
    steps:
      - {step: Read, read: [haul]}
      - {step: Up, check: {holds: haul.state == "up", message: down}, on-failure: {repeat-from: look, times: 2}}
`, c)
	assert.Equal(t, event.Done, result.Outcome, result.Message)
	assert.Equal(t, []string{"cards", "fit 1", "fit 2", "haul", "cards", "fit 2", "haul"}, c.typed,
		"what is fitted is not fitted twice")
}

// TestAReadingThatIsADangerIsAskedAboutToo has a dialect that calls one so.
func TestAReadingThatIsADangerIsAskedAboutToo(t *testing.T) {
	c := &echoing{stops: func(command string) string { return map[string]string{"state": "ends every call"}[command] }}
	result := runSteps(t, "      - {step: Look, read: [state]}\n", c)
	assert.Equal(t, event.Stopped, result.Outcome)
	assert.Empty(t, c.typed)
}

// TestTheRollbackStandsOnTheCourse holds that a rollback's steps are known to whoever follows the run.
func TestTheRollbackStandsOnTheCourse(t *testing.T) {
	c := &echoing{answers: map[string][]string{"raise": {"no"}}}
	runText(t,
		"runbook: r\nphases:\n  - phase: one\n    steps: [{step: Raise, act: {action: raise}, on-failure: {do: roll-back}}, {step: Never, note: never}]\nrollback:\n  steps: [{step: Go back, act: {action: set, with: {to: '1'}}}]\n",
		c)
	var titles []string
	for _, e := range c.events {
		if course, ok := e.(event.Course); ok {
			titles = nil
			for _, s := range course.Steps {
				titles = append(titles, s.ID+" "+s.Title)
			}
		}
	}
	assert.Equal(t, []string{"1.1 Raise", "back.1 Go back"}, titles)
}

// TestAFaultWhileWaitingEndsTheStep has the session call something that panics.
func TestAFaultWhileWaitingEndsTheStep(t *testing.T) {
	c := &echoing{view: sense.State{Mode: "ready", AtPrompt: true}}
	run := engine.New(&runbook.Prepared{Book: &runbook.Runbook{}}, c)
	_, err := run.Console.Await(context.Background(), func(sense.State) bool { panic("a fault") })
	assert.ErrorContains(t, err, "a fault of this program: a fault")
}
