package engine

import (
	"context"
	"errors"
	"fmt"
	"runtime/debug"
	"slices"
	"strings"

	"pilotrix/core/event"
	"pilotrix/core/runbook"
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

// putBack puts the line's speed back and ends what steps left open. It tells what is left to say.
func (e *Run) putBack(ctx context.Context) (note string) {
	err := e.guarded(func() error {
		note = e.restoreSpeed(ctx)
		return nil
	})
	if cleared := e.guarded(func() error { e.clear(); return nil }); err == nil {
		err = cleared
	}
	if err != nil {
		note = err.Error()
	}
	return note
}

// carryOut is the run up to what it ends with.
func (e *Run) carryOut(ctx context.Context) (err error) {
	defer e.faulted(&err)
	if err := e.askCutOff(ctx); err != nil {
		return err
	}
	return e.runSteps(ctx, e.Prepared.Steps, true)
}

// faulted makes a fault of this program's own an end like another: the operator keeps the console, the line its
// speed, and the logbook the run's last event. It is deferred.
func (e *Run) faulted(err *error) {
	if fault := recover(); fault != nil {
		*err = fmt.Errorf("a fault of this program, at %s: %v", e.atWords(), fault)
		e.Console.Emit(event.Note{Level: event.Error, Text: (*err).Error() + "\n" + string(debug.Stack())})
	}
}

func (e *Run) atWords() string {
	if e.step == nil {
		return "the beginning"
	}
	return "“" + e.Title(e.step) + "”"
}

// clear ends what steps left open, such as staged files and unpacked ones.
func (e *Run) clear() {
	for _, end := range slices.Backward(e.atEnd) {
		end()
	}
}

// AtEnd has something be ended with the run, what came last first.
func (e *Run) AtEnd(end func()) { e.atEnd = append(e.atEnd, end) }

// conclude turns what ended the steps into a result, going the rollback where that is said.
func (e *Run) conclude(ctx context.Context, err error) Result {
	switch {
	case err == nil && !e.Account.complete():
		return Result{Outcome: event.DoneBut, Exit: ExitDoneBut, Message: e.Account.incompleteText() + e.Account.byHandText(), Proved: e.Account.proved}
	case err == nil && e.Prepared.Rehearsal:
		return Result{Outcome: event.Done, Exit: ExitDone, Message: "rehearsed" + e.Account.byHandText() + ": what follows was not done" + e.changedWords(), Proved: e.Account.proved}
	case err == nil:
		return Result{Outcome: event.Done, Exit: ExitDone, Message: "done" + e.Account.byHandText(), Proved: e.Account.proved}
	case errors.Is(err, errAlready):
		return Result{Outcome: event.Already, Exit: ExitDone, Message: e.Account.already + e.changedWords(), Proved: e.Account.proved}
	case errors.Is(err, event.ErrNotRecorded):
		return Result{Outcome: event.Stopped, Exit: ExitUnrecorded, Message: err.Error() + e.changedWords()}
	case errors.Is(err, ErrStopped):
		return Result{Outcome: event.Stopped, Exit: ExitStopped, Message: err.Error() + e.changedWords()}
	case errors.Is(err, errRollBack):
		return e.rollBack(ctx, strings.TrimSuffix(err.Error(), ": "+errRollBack.Error()))
	case ctx.Err() != nil:
		return Result{Outcome: event.Stopped, Exit: ExitStopped, Message: "the program was ended" + e.changedWords()}
	}
	return Result{Outcome: event.Failed, Exit: ExitFailed, Message: err.Error() + e.changedWords()}
}

// rollBack goes the rollback. Its steps stand on the course behind those that were done.
func (e *Run) rollBack(ctx context.Context, failure string) Result {
	e.Console.Emit(event.Note{Level: event.Warning, Text: "rolling back"})
	e.rollingBack = true
	e.Console.Emit(event.Course{Steps: append(e.plansOf(e.course[:min(len(e.course), e.here+1)], e.here+1), e.plansOf(e.Prepared.Rollback, 0)...)})
	before := len(e.Account.ignored)
	back := e.guarded(func() error { return e.runSteps(ctx, e.Prepared.Rollback, false) })
	switch {
	case errors.Is(back, ErrStopped):
		return Result{Outcome: event.Stopped, Exit: ExitStopped, Message: fmt.Sprintf("%s; and the rollback was stopped: %v", failure, back)}
	case back != nil:
		return Result{Outcome: event.Failed, Exit: ExitFailed, Message: fmt.Sprintf("%s; and the rollback failed: %v", failure, back)}
	case len(e.Account.ignored) > before:
		return Result{Outcome: event.Failed, Exit: ExitFailed, Message: fmt.Sprintf("%s; and of the rollback this failed: %s", failure, strings.Join(e.Account.ignored[before:], "; "))}
	}
	return e.rolledBack(failure)
}

// guarded does something whose faults are errors.
func (e *Run) guarded(do func() error) (err error) {
	defer e.faulted(&err)
	return do()
}

// MayHaveChanged reports whether the device may not be what it was when the run began: a command that changes it
// went out, or the hand typed something.
func (e *Run) MayHaveChanged() bool { return e.Account.tried || e.typedByHand() }

func (e *Run) typedByHand() bool {
	return e.Console.Facts().Changes() > e.Account.before+e.Account.own
}

func (e *Run) changedWords() string {
	by := e.Account.changesText()
	if by != "" {
		by = ": " + by
	}
	by += e.armed()
	switch {
	case e.Account.changed:
		return "; the device was changed before that" + by
	case e.Account.tried:
		return "; the device may have been changed before that" + by
	case e.typedByHand():
		return "; the runbook changed nothing on the device, what was typed by hand aside"
	}
	return "; nothing was changed on the device"
}

var (
	errRollBack   = errors.New("roll back")
	errRepeatFrom = errors.New("repeat from a phase")
	errAlready    = errors.New("it was so already")
)

// Wrote notes a change that goes out now, by an action with those parameters, which only a restart has none of.
func (e *Run) Wrote(s *runbook.PreparedStep, action string, parameters ...string) {
	switch {
	case s.Verb != nil && s.Verb.Restarts && len(parameters) == 0: // what runs now is what the rollback is about
	case e.rollingBack:
		e.Account.putsBack(action)
	default:
		e.Account.write(e.Title(s), action)
	}
}

// rolledBack is what a rollback that went to its end has come to.
func (e *Run) rolledBack(failure string) Result {
	result := Result{Outcome: event.RolledBack, Exit: ExitRolledBack, Message: failure}
	if left := e.Account.changesText(); left != "" {
		result.Outcome = event.RolledBackBut
		result.Message += "; not put back: what these have changed: " + left
	}
	return result
}

// armed says what was left pending that a restart brings, or loses.
func (e *Run) armed() (words string) {
	for _, open := range e.Console.Pending() {
		if open.Until.IsZero() {
			words += "; still pending: " + open.Says
		}
	}
	return words
}
