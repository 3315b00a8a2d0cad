package engine

import (
	"context"
	"errors"
	"fmt"

	"pilotrix/core/event"
	"pilotrix/core/runbook"
)

// What changes the device is on record before it is typed. Where it cannot be kept nothing is typed, unless the
// operator says so for this run, which its end reports.

// onRecord waits until what happened so far is kept, or the operator goes on without.
func (run *Run) onRecord(ctx context.Context, s *runbook.PreparedStep, command string) error {
	for run.Account.unrecorded == "" {
		err := run.Console.Settle(ctx)
		if err == nil || !errors.Is(err, event.ErrNotRecorded) {
			return err
		}
		run.Console.Emit(
			event.StepNow{ID: s.ID, Doing: run.Title(s), Awaiting: "a record, or your word to go on without"})
		answer, asked := run.Console.Ask(ctx, event.Ask{
			Form:    event.FormRecord,
			Step:    s.ID,
			Title:   run.Title(s),
			Types:   []string{command},
			Changed: run.MayHaveChanged(),
			Text: fmt.Sprintf("“%s” is not typed: it is %v. It can be tried again once that is mended.", command,
				err),
			Answers: []string{TryAgain, GoUnrecorded, StopHere},
		})
		switch {
		case asked != nil:
			return asked
		case answer == GoUnrecorded:
			run.Account.unrecorded = fmt.Sprintf("from “%s” on: %v", command, err)
			run.Console.Emit(
				event.Note{Level: event.Warning, Text: "goes on unrecorded by the operator's word: " + err.Error()})
		case answer != TryAgain:
			return fmt.Errorf("%w before “%s”: %w", ErrStopped, command, err)
		}
	}
	return nil
}

// withRecord says of a result what of the run is not on record.
func (run *Run) withRecord(result Result) Result {
	if run.Account.unrecorded == "" {
		return result
	}
	result.Message += "; UNRECORDED " + run.Account.unrecorded
	if result.Outcome.Good() {
		result.Exit = ExitUnrecorded
	}
	return result
}
