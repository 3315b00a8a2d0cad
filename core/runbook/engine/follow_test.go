package engine_test

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"pilotrix/core/event"
	"pilotrix/core/runbook/engine"
)

func follows(more string) string {
	return "runbook: r\nphases:\n  - phase: one\n    steps:\n      - {step: Follow, follow: {each: card, in: 'filter(cards, .kind != \"left\")', row: slot, read: [cards], every: 10s, until: 'card.kind == \"done\"'" + more + "}}\n"
}

// TestFollowingEndsWhenAllHaveArrived, or when its time is over: the run goes on then, and says who has not.
func TestFollowingEndsWhenAllHaveArrived(t *testing.T) {
	late := []string{"1 wait\n2 wait\n", "1 done\n2 wait\n", "1 done\n2 done\n"}
	for name, c := range map[string]struct {
		more    string
		answers []string
		outcome event.Outcome
		says    string
		typed   int
	}{
		"all arrive":               {", within: 5m", late, event.Done, "done", 3},
		"one does not":             {", within: 1m, look: 'it is ${card.kind}'", late[:2], event.DoneBut, "done but for 2 (it is wait)", 7},
		"one will not":             {", within: 1h, given-up: 'card.kind == \"broken\"'", []string{"1 done\n2 broken\n"}, event.DoneBut, "done but for 2", 1},
		"one is not even listed":   {", within: 1m, number: '3'", []string{"1 done\n2 done\n"}, event.DoneBut, "done but for 1 that are not listed any more", 7},
		"none is listed":           {", within: 1m", []string{"9 left\n"}, event.DoneBut, "done but for all of them: not one is listed", 7},
		"none has to be listed":    {", within: 1m, number: '0'", []string{"9 left\n"}, event.Done, "done", 1},
		"the time is none":         {", within: soon", late, event.Failed, `within: "soon" is no time such as 30m`, 0},
		"the number is none":       {", within: 1m, number: '\"x\"'", late, event.Failed, `"x" is no number of rows`, 1},
		"the device does not know": {", within: 1m", []string{"busy\n"}, event.Failed, "the answer has no row of cards", 3},
	} {
		t.Run(name, func(t *testing.T) {
			e := &echoing{answers: map[string][]string{"cards": c.answers}}
			result := carryOut(t, follows(c.more), e)
			assert.Equal(t, c.outcome, result.Outcome, result.Message)
			assert.Contains(t, result.Message, c.says)
			assert.Len(t, e.typed, c.typed)
			if c.outcome == event.DoneBut {
				assert.Equal(t, engine.ExitDoneBut, result.Exit)
			}
		})
	}
}

// TestWhoIsFollowedAndWhoAgreesAreThoseThatTheRunBeganWith reads the slots first; then a row is a duplicate, is
// missing, or is another one.
func TestWhoIsFollowedAndWhoAgreesAreThoseThatTheRunBeganWith(t *testing.T) {
	const first = "1 done\n2 done\n3 done\n"
	for name, c := range map[string]struct{ then, agrees, follows string }{
		"as before":            {first, "done", "done"},
		"in another order":     {"3 done\n1 done\n2 done\n", "done", "done"},
		"one is there twice":   {"1 done\n2 done\n2 done\n", "cards has slot 2 twice", "cards has slot 2 twice"},
		"one is drawn anew":    {first + "1 done\n", "cards has slot 1 twice", "cards has slot 1 twice"},
		"one is missing":       {"1 done\n2 done\n", "slot 3 is not listed any more", "done but for 3 (it is not listed any more)"},
		"one is another":       {"1 done\n2 done\n9 done\n", "slot 9 is none of those that were there when the run began: 1, 2, 3, slot 3 is not listed any more", "done but for 3 (it is not listed any more)"},
		"one more":             {first + "9 done\n", "slot 9 is none of those that were there when the run began: 1, 2, 3", "done"},
		"one more that is not": {first + "9 wait\n", "slot 9 is none of those that were there when the run began: 1, 2, 3", "done"},
	} {
		t.Run(name, func(t *testing.T) {
			book := func(step string) string {
				return "runbook: r\nphases:\n  - phase: one\n    steps:\n      - {step: Look, read: [cards]}\n      - {step: Look again, read: [cards]}\n      - " + step + "\n"
			}
			for step, want := range map[string]string{
				"{step: Agree, agree: {what: kind, in: 'filter(cards, .kind != \"left\")', on: kind, unit: slot}}":                                                        c.agrees,
				"{step: Follow, follow: {each: card, in: cards, row: slot, read: [cards], every: 10s, within: 1m, until: 'card.kind == \"done\"'}}":                       c.follows,
				"{step: Follow, follow: {each: card, in: cards, row: slot, read: [cards], every: 10s, within: 1m, until: 'card.kind == \"done\"', number: 'len(cards)'}}": "",
			} {
				result := carryOut(t, book(step), &echoing{answers: map[string][]string{"cards": {first, c.then}}})
				assert.Contains(t, result.Message, want, step)
				if want == "" && c.follows != "done" {
					assert.NotEqual(t, event.Done, result.Outcome, result.Message)
				}
			}
		})
	}
}
