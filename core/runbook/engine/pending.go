package engine

import (
	"slices"
	"strings"
	"time"

	"pilotrix/core/dialect"
	"pilotrix/core/event"
	"pilotrix/core/runbook"
	"pilotrix/core/units"
)

// What the device does by itself unless it is dealt with in time: a run neither ignores the step that deals with it,
// nor ends quietly while it is open.

// dealsWith is what a step deals with that runs out by itself and is open now.
func (crs *course) dealsWith(s *runbook.PreparedStep) (open []dialect.Open) {
	pending := crs.run.Console.Pending()
	if len(pending) == 0 {
		return nil
	}
	var named []string
	for _, typed := range crs.planner().Work(s) {
		named = append(named, crs.run.Prepared.Dialect.DealtWithBy(typed.Text)...)
	}
	for _, one := range pending {
		if !one.Until.IsZero() && slices.Contains(named, one.Name) {
			open = append(open, one)
		}
	}
	return open
}

// eachOpen says of each what is open, and how long it has.
func (run *Run) eachOpen(open []dialect.Open) (words []string) {
	for _, one := range open {
		text := one.Says
		if !one.Until.IsZero() {
			text += ", in " + units.Text(max(0, one.Until.Sub(run.Console.Clock().Now())).Round(time.Second))
		}
		words = append(words, text)
	}
	return words
}

// openText says it of all of them.
func (run *Run) openText(open []dialect.Open) string { return strings.Join(run.eachOpen(open), "; ") }

// goneText says what ran out, or was lost, while a run was under way that did not come to its end: it may be why.
func (run *Run) goneText() (words string) {
	for _, gone := range run.Console.Gone() {
		words += "; meanwhile " + gone.State + ": " + gone.Says
	}
	return words
}

// stillOpen makes a result say first what runs out by itself behind the run's end: done is not done then.
func (run *Run) stillOpen(result Result) Result {
	if !result.Outcome.Good() {
		result.Message += run.goneText()
	}
	now := run.Console.Clock().Now()
	open := slices.DeleteFunc(run.Console.Pending(), func(o dialect.Open) bool { return !o.Until.After(now) })
	if len(open) == 0 {
		return result
	}
	result.Message = "STILL OPEN: " + run.openText(open) + ". The run: " + result.Message
	if result.Outcome.Good() {
		result.Outcome, result.Exit = event.DoneBut, ExitDoneBut
	}
	return result
}
