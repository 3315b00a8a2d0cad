package app

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"pilotrix/core/dialect"
	"pilotrix/core/event"
	"pilotrix/core/runbook"
	"pilotrix/core/runbook/engine"
)

// TestApprovalsKnowLoopsAndTheRollback names steps by number and by words, as they stand in the file and as they are
// unrolled.
func TestApprovalsKnowLoopsAndTheRollback(t *testing.T) {
	d, err := dialect.Parse("d.yaml",
		[]byte("dialect: d\nmodes: [{mode: ready, prompt: '^> $'}]\nreadings: [{reading: cards, command: cards, rows: [{list: cards, pattern: '(?P<slot>\\d)'}]}]\n"))
	require.NoError(t, err)
	book, err := runbook.Parse("b.yaml", []byte(`
runbook: r
phases:
  - {phase: look, steps: [{step: Look, read: [cards]}]}
  - {phase: 'slot ${card.slot}', for: {each: card, in: cards}, steps: [{step: 'Fit ${card.slot}', hold: 'Fits ${card.slot}.'}]}
rollback:
  steps: [{step: Go back, hold: Goes back.}]
`))
	require.NoError(t, err)
	p, err := book.Prepare(d, nil, runbook.Kit{})
	require.NoError(t, err)
	round := event.Ask{
		Form:    event.FormHold,
		Step:    "2a.1",
		Title:   "Fit 3",
		Answers: []string{engine.Approve, engine.StopHere},
	}
	back := event.Ask{
		Form:    event.FormHold,
		Step:    "back.1",
		Title:   "Go back",
		Answers: []string{engine.Approve, engine.StopHere},
	}
	for approval, want := range map[string][2]string{
		"all": {engine.Approve, engine.Approve}, "2.1": {engine.Approve, engine.StopHere}, "2a.1": {engine.Approve, engine.StopHere},
		"Fit 3": {engine.Approve, engine.StopHere}, "Fit ${card.slot}": {engine.Approve, engine.StopHere},
		"back.1": {engine.StopHere, engine.Approve}, "Go back": {engine.StopHere, engine.Approve}, "2b.1": {engine.StopHere, engine.StopHere}, "": {engine.StopHere, engine.StopHere},
	} {
		approve := Approver(p, []string{approval})
		assert.Equal(t, want, [2]string{approve(round), approve(back)}, "%q", approval)
	}
	over := event.Ask{Form: event.FormOverrun, Answers: []string{engine.WaitOn, engine.GiveUp}}
	assert.Equal(t, engine.GiveUp, Approver(p, []string{"all"})(over), "nobody is there to wait on")
}
