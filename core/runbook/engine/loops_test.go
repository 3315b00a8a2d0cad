package engine_test

import (
	"testing"
	"testing/synctest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"pilotrix/core/dialect"
	"pilotrix/core/event"
	"pilotrix/core/runbook"
	"pilotrix/core/runbook/engine"
	"pilotrix/core/sense"
)

const cardText = `
dialect: cards
modes: [{mode: ready, prompt: '^> $'}]
readings:
  - {reading: cards, command: cards, rows: [{list: cards, key: [slot], pattern: '(?m)^(?P<slot>\d) (?P<kind>\w+)$'}]}
  - {reading: haul, command: haul, facts: [{fact: haul.state, pattern: 'state (\w+)'}, {fact: haul.bytes, pattern: 'bytes (\d+)', as: number, default: ''}]}
actions:
  - {action: fit, command: 'fit ${slot}', with: [slot], done: fitted}
  - {action: wipe, command: wipe, done: wiped}
dangers: [{pattern: '^wipe', says: empties everything}]
`

// carryOut runs a whole runbook against answers.
func carryOut(t *testing.T, text string, c *echoing) (result engine.Result) {
	t.Helper()
	synctest.Test(t, func(t *testing.T) {
		d, err := dialect.Parse("cards.yaml", []byte(cardText))
		require.NoError(t, err)
		book, err := runbook.Parse("book.yaml", []byte(text))
		require.NoError(t, err)
		p, err := book.Prepare(d, nil, runbook.Kit{})
		require.NoError(t, err)
		c.t, c.view, c.stops = t, sense.State{Mode: "ready", AtPrompt: true}, d.DangerOf
		result = engine.New(p, c).Execute(t.Context())
	})
	return result
}

const eachCard = `
runbook: each
phases:
  - phase: look
    steps: [{step: Look, read: [cards]}]
  - phase: slot ${card.slot}
    for: {each: card, in: cards, where: card.kind == "line"}
    steps:
      - {step: 'Fit ${card.slot}', act: {action: fit, with: {slot: '${card.slot}'}}, on-failure: {repeat-from: 'slot ${card.slot}', times: 2}}
  - phase: end
    steps: [{step: Look again, read: [cards]}]
`

func TestAPhaseIsCarriedOutForEachRow(t *testing.T) {
	c := &echoing{
		answers: map[string][]string{
			"cards": {"1 trunk\n2 line\n3 line\n"},
			"fit 2": {"fitted"},
			"fit 3": {"no", "no", "fitted"},
		},
	}
	result := carryOut(t, eachCard, c)
	assert.Equal(t, event.Done, result.Outcome, result.Message)
	assert.Equal(t, []string{"cards", "fit 2", "fit 3", "fit 3", "fit 3", "cards"}, c.typed,
		"a round starts over from its own beginning")
	var course event.Course
	for _, e := range c.events {
		if report, ok := e.(event.Course); ok && len(course.Steps) == 0 && len(report.Steps) == 4 {
			course = report // as it was told when the loop was unrolled
		}
	}
	require.Len(t, course.Steps, 4)
	assert.Equal(t, event.StepPlan{
		ID:      "2b.1",
		Phase:   "slot 3",
		Title:   "Fit 3",
		Verb:    "act",
		Timeout: course.Steps[2].Timeout,
		Cards:   []string{runbook.CardBanks},
		Types:   []string{"fit 3"},
	}, course.Steps[2])
}

func TestALoopOverNothingIsLeftOut(t *testing.T) {
	c := &echoing{answers: map[string][]string{"cards": {"1 trunk\n"}}}
	result := carryOut(t, eachCard, c)
	assert.Equal(t, event.Done, result.Outcome, result.Message)
	assert.Equal(t, []string{"cards", "cards"}, c.typed)
}

func poll(more string) string {
	return "runbook: r\nphases:\n  - phase: one\n    steps:\n      - {step: Wait, timeout: 10m, poll: {read: [haul], every: 5s, until: haul.state == \"ready\"" + more + "}}\n"
}

func TestAPollEndsWhenItsConditionHolds(t *testing.T) {
	c := &echoing{
		answers: map[string][]string{
			"haul": {"state fetching\nbytes 1", "state fetching\nbytes 2", "state ready\nbytes 3"},
		},
	}
	result := carryOut(t, poll(", shows: '${haul.bytes} B'"), c)
	assert.Equal(t, event.Done, result.Outcome, result.Message)
	assert.Len(t, c.typed, 3)
	shown := false
	for _, e := range c.events {
		if now, ok := e.(event.StepNow); ok {
			shown = shown || now.Awaiting == "the next reading, every 5 s; the last: 2 B"
		}
	}
	assert.True(t, shown)
}

func TestAPollGivesUp(t *testing.T) {
	for name, c := range map[string]struct{ more, answer, says string }{
		"on failure":                  {`, fail: haul.state == "failed", message: 'it failed at ${haul.bytes} B'`, "state failed\nbytes 7", "it failed at 7 B"},
		"on failure, without words":   {`, fail: haul.state == "failed"`, "state failed\nbytes 7", `this holds: haul.state == "failed"`},
		"when nothing changes":        {", stalled: 1m", "state preparing", "nothing changed for 1 min"},
		"when its timeout is over":    {"", "state preparing", "not within the timeout of 10 min (book.yaml:5)"},
		"when the answer is nonsense": {"", "gone", "says no haul.state"},
	} {
		e := &echoing{answers: map[string][]string{"haul": {c.answer}}}
		result := carryOut(t, poll(c.more), e)
		assert.Equal(t, event.Failed, result.Outcome, name)
		assert.Contains(t, result.Message, c.says, name)
		assert.Contains(t, result.Message, "nothing was changed on the device", name)
	}
}

func TestADangerInARunbookIsAskedAboutUnlessItsStepDoes(t *testing.T) {
	steps := func(hold string) string {
		return "runbook: r\nphases:\n  - phase: one\n    steps:\n      - {step: Wipe it, " + hold + "act: {action: wipe}}\n"
	}
	asked := func(c *echoing) (texts []string) {
		for _, e := range c.events {
			if ask, ok := e.(event.Ask); ok {
				texts = append(texts, ask.Text)
			}
		}
		return texts
	}
	c := &echoing{}
	assert.Equal(t, engine.ExitStopped, carryOut(t, steps(""), c).Exit)
	assert.Equal(t, []string{"“wipe” empties everything."}, asked(c))
	assert.Empty(t, c.typed)
	c = &echoing{
		answers: map[string][]string{"wipe": {"wiped"}},
		decide:  func(event.Ask) string { return engine.Approve },
	}
	assert.Equal(t, engine.ExitDone, carryOut(t, steps("hold: Empties it., "), c).Exit)
	assert.Equal(t, []string{"Empties it."}, asked(c), "once")
}

// TestRowsAreWhatAPollSees has rows that change while their number does not, and an answer that has none.
func TestRowsAreWhatAPollSees(t *testing.T) {
	const text = "runbook: r\nphases: [{phase: one, steps: [{step: x, timeout: 20m, poll: {read: [cards], every: 20s, stalled: 60s, until: 'all(cards, .kind == \"done\")'}}]}]\n"
	c := &echoing{
		answers: map[string][]string{
			"cards": {"1 p10\n", "1 p20\n", "1 p30\n", "1 p40\n", "1 p50\n", "1 p60\n", "1 done\n"},
		},
	}
	result := carryOut(t, text, c)
	assert.Equal(t, event.Done, result.Outcome, result.Message)
	c = &echoing{answers: map[string][]string{"cards": {"busy, try later\n"}}}
	result = carryOut(t, text, c)
	assert.Equal(t, event.Failed, result.Outcome, "no row is not every row")
	assert.Contains(t, result.Message, "the answer has no row of cards")
}
