package engine

import (
	"context"
	"errors"
	"fmt"
	"runtime/debug"
	"slices"
	"strings"

	"pilotrix/core/event"
)

// How a run ends: what is said of it, and what is put back whatever ended it.

// Exit codes of a run. 2 is what the system gives a program that crashes.
const (
	ExitDone       = 0 // it was so already, too
	ExitFailed     = 1
	ExitStopped    = 3
	ExitRolledBack = 4
	ExitDoneBut    = 5 // to the end, over steps that failed
	ExitUnrecorded = 6 // something of it is not on record, or it was stopped for that
)

// Result is how a run ended.
type Result struct {
	Outcome event.Outcome
	Exit    int
	Message string
	Proved  []string
}

// putBack puts the line's speed back and ends what steps left open. It says what is left to say.
func (run *Run) putBack(ctx context.Context) (note string) {
	err := run.guarded(func() error {
		note = run.Speed.restore(ctx)
		return nil
	})
	if cleared := run.guarded(func() error { run.clear(); return nil }); err == nil {
		err = cleared
	}
	if err != nil {
		note = err.Error()
	}
	return note
}

// carryOut is the run up to what it ends with.
func (run *Run) carryOut(ctx context.Context) (err error) {
	defer run.faulted(&err)
	if err := run.askCutOff(ctx); err != nil {
		return err
	}
	return run.runSteps(ctx, run.Prepared.Steps, true)
}

// faulted makes an internal error's own an end like another: the operator keeps the console, the line its
// speed, and the logbook the run's last event. It is deferred.
func (run *Run) faulted(err *error) {
	if fault := recover(); fault != nil {
		*err = fmt.Errorf("a fault of this program, at %s: %v", run.atText(), fault)
		run.Console.Emit(event.Note{Level: event.Error, Text: (*err).Error() + "\n" + string(debug.Stack())})
	}
}

func (run *Run) atText() string {
	if run.step == nil {
		return "the beginning"
	}
	return "“" + run.Title(run.step) + "”"
}

// clear ends what steps left open, such as staged files and unpacked ones.
func (run *Run) clear() {
	for _, end := range slices.Backward(run.atEnd) {
		end()
	}
}

// AtEnd has something be ended with the run, what came last first.
func (run *Run) AtEnd(end func()) { run.atEnd = append(run.atEnd, end) }

// conclude turns what ended the steps into a result, going the rollback where that is said.
func (run *Run) conclude(ctx context.Context, err error) Result {
	switch {
	case err == nil && !run.Account.complete():
		return Result{
			Outcome: event.DoneBut,
			Exit:    ExitDoneBut,
			Message: run.Account.incompleteText() + run.Account.byHandText(),
			Proved:  run.Account.proved,
		}
	case err == nil && run.Prepared.Rehearsal:
		return Result{
			Outcome: event.Done,
			Exit:    ExitDone,
			Message: "rehearsed" + run.Account.byHandText() + ": what follows was not done" + run.changedText(),
			Proved:  run.Account.proved,
		}
	case err == nil:
		return Result{
			Outcome: event.Done,
			Exit:    ExitDone,
			Message: "done" + run.Account.byHandText(),
			Proved:  run.Account.proved,
		}
	case errors.Is(err, errAlready):
		return Result{
			Outcome: event.Already,
			Exit:    ExitDone,
			Message: run.Account.already + run.changedText(),
			Proved:  run.Account.proved,
		}
	case errors.Is(err, event.ErrNotRecorded):
		return Result{Outcome: event.Stopped, Exit: ExitUnrecorded, Message: err.Error() + run.changedText()}
	case errors.Is(err, ErrStopped):
		return Result{Outcome: event.Stopped, Exit: ExitStopped, Message: err.Error() + run.changedText()}
	case errors.Is(err, errRollBack):
		return run.rollBack(ctx, strings.TrimSuffix(err.Error(), ": "+errRollBack.Error()))
	case ctx.Err() != nil:
		return Result{Outcome: event.Stopped, Exit: ExitStopped, Message: "the program was ended" + run.changedText()}
	}
	return Result{Outcome: event.Failed, Exit: ExitFailed, Message: err.Error() + run.changedText()}
}

// rollBack goes the rollback. Its steps stand on the course behind those that were done.
func (run *Run) rollBack(ctx context.Context, failure string) Result {
	run.Console.Emit(event.Note{Level: event.Warning, Text: "rolling back"})
	run.rollingBack = true
	run.Console.Emit(event.Course{
		Steps: append(
			run.course.plansOf(run.course.steps[:min(len(run.course.steps), run.course.here+1)], run.course.here+1),
			run.course.plansOf(run.Prepared.Rollback, 0)...),
	})
	before := len(run.Account.ignored)
	back := run.guarded(func() error { return run.runSteps(ctx, run.Prepared.Rollback, false) })
	switch {
	case errors.Is(back, ErrStopped):
		return Result{
			Outcome: event.Stopped,
			Exit:    ExitStopped,
			Message: fmt.Sprintf("%s; and the rollback was stopped: %v", failure, back),
		}
	case back != nil:
		return Result{
			Outcome: event.Failed,
			Exit:    ExitFailed,
			Message: fmt.Sprintf("%s; and the rollback failed: %v", failure, back),
		}
	case len(run.Account.ignored) > before:
		return Result{
			Outcome: event.Failed,
			Exit:    ExitFailed,
			Message: fmt.Sprintf("%s; and of the rollback this failed: %s", failure,
				strings.Join(run.Account.ignored[before:], "; ")),
		}
	}
	return run.rolledBack(failure)
}

// guarded does something whose faults are errors.
func (run *Run) guarded(do func() error) (err error) {
	defer run.faulted(&err)
	return do()
}

// MayHaveChanged reports whether the device may not be what it was when the run began: a command that changes it
// went out, or the operator typed something.
func (run *Run) MayHaveChanged() bool { return run.Account.tried || run.typedByHand() }

func (run *Run) typedByHand() bool {
	return run.Console.Facts().Changes() > run.Account.before+run.Account.own
}

var (
	errRollBack   = errors.New("roll back")
	errRepeatFrom = errors.New("repeat from a phase")
	errAlready    = errors.New("it was so already")
)

// armed says what was left pending that a restart brings, or loses.
func (run *Run) armed() (words string) {
	for _, open := range run.Console.Pending() {
		if open.Until.IsZero() {
			words += "; still pending: " + open.Says
		}
	}
	return words
}
