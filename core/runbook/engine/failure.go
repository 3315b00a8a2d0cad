package engine

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"pilotrix/core/event"
	"pilotrix/core/runbook"
	"pilotrix/core/sense"
	"pilotrix/core/units"
)

// What a failed step leads to: it is repeated, ignored, led back from, or left to the operator.

// Answers to an Ask.
const (
	Approve  = "approve"
	StopHere = "stop"
	DoneByMe = "done"
	WaitOn   = "wait on"
	GiveUp   = "give up"
	LeaveIt  = "another one"
	TryAgain = "repeat"
	SkipIt   = "go on"
	RollBack = "roll back"
	// GoUnrecorded changes the device although nothing is kept of that, for the rest of the run.
	GoUnrecorded = "go on unrecorded"
)

// backTo goes back to the phase that a failed step names. What was unrolled from there on is unrolled again, since
// its list may be another one now; but the present round of a loop begins again as it is.
func (run *Run) backTo(
	ctx context.Context, steps []runbook.PreparedStep, from int, failure error,
) ([]runbook.PreparedStep, int, error) {
	s := &steps[from]
	again := s.Failure.RepeatFrom
	run.failures[s.ID]++
	why := strings.TrimSuffix(failure.Error(), ": "+errRepeatFrom.Error())
	run.Console.Emit(event.Note{Level: event.Warning, Text: fmt.Sprintf("starts over from “%s”: %s", again, why)})
	if other := run.Device.EnsureSameHere(ctx, s); other != nil {
		return nil, 0, fmt.Errorf("“%s”: %w", run.Title(s), other)
	}
	phase := slices.IndexFunc(run.Prepared.Book.Phases, func(l runbook.Phase) bool { return l.Phase == again })
	if run.rollingBack || phase == s.PhaseIndex {
		return steps, run.phaseStart(steps, from, phase), nil
	}
	at := slices.IndexFunc(steps, func(one runbook.PreparedStep) bool { return one.PhaseIndex >= phase })
	whole := slices.IndexFunc(run.Prepared.Steps,
		func(one runbook.PreparedStep) bool { return one.PhaseIndex >= phase })
	if at < 0 || whole < 0 {
		return steps, from, nil
	}
	steps = slices.Concat(steps[:at:at], run.Prepared.Steps[whole:])
	run.Console.Emit(event.Course{Steps: run.course.plansOf(steps, at)})
	return steps, at, nil
}

// phaseStart is the first step of a phase; of one that was unrolled, the present round's. Where nothing is left of
// the phase it is the failed step itself.
func (run *Run) phaseStart(steps []runbook.PreparedStep, from, phase int) int {
	for at := from; at >= 0; at-- {
		if steps[at].PhaseIndex != phase {
			continue
		}
		for at > 0 && steps[at-1].PhaseIndex == phase && steps[at-1].Phase == steps[at].Phase {
			at--
		}
		return at
	}
	return from
}

// needsNobody reports whether a step that takes too long goes on without the operator: what follows is said, or
// it is repeated and that does no harm.
func (run *Run) needsNobody(s *runbook.PreparedStep, try int) bool {
	if run.onFailure(s) == "go-on" {
		return true
	}
	return s.Repeatable() && (try <= s.Retry || run.repeatsFrom(s))
}

// onFailure is what a failure of the step leads to, empty when the operator is asked.
func (run *Run) onFailure(s *runbook.PreparedStep) string {
	if s.Failure.Do != "" || s.Failure.RepeatFrom != "" {
		return s.Failure.Do
	}
	return run.Prepared.Book.OnFailure.Do
}

// repeatsFrom reports whether a failure of the step leads back to a phase.
func (run *Run) repeatsFrom(s *runbook.PreparedStep) bool {
	return s.Failure.RepeatFrom != "" && run.failures[s.ID] < max(s.Failure.Times, 1)
}

// StateText says what the device shows, for a failure.
func (run *Run) StateText() string {
	v := run.Console.Device()
	words := "the device is in mode " + v.Mode
	if v.Proof != "" {
		words += fmt.Sprintf(" (%q)", sense.Sample([]byte(v.Proof), 60))
	}
	switch ago := run.Console.Clock().Since(v.Heard); {
	case v.Heard.IsZero():
		return words + ", nothing was heard of it yet"
	case ago < time.Second:
		return words + ", last heard less than a second ago"
	default:
		return words + ", last heard " + units.Text(ago) + " ago"
	}
}

const (
	lineBackTimeout = 2 * time.Minute
	maxLineRepeats  = 5
)

// afterFailure decides whether a failed step is tried again.
func (run *Run) afterFailure(ctx context.Context, s *runbook.PreparedStep, try int, err error) (again bool, _ error) {
	titled := fmt.Errorf("“%s”: %w", run.Title(s), err)
	if errors.Is(err, ErrStopped) || ctx.Err() != nil {
		return false, titled
	}
	if errors.Is(err, ErrLineLost) {
		if back := run.LineBack(ctx); back != nil {
			return false, fmt.Errorf("“%s”: %w", run.Title(s), back)
		}
		if other := run.Device.sameBack(ctx, s); other != nil {
			return false, fmt.Errorf("“%s”: %w", run.Title(s), other)
		}
		if run.lineLosses++; (s.Verb == nil || s.Verb.Repeatable) && run.lineLosses <= maxLineRepeats {
			return true, nil
		}
	}
	var late *overrun
	twice := errors.As(err, &late) && late.offered &&
		!s.Repeatable() // it may still be under way: nothing is begun twice
	do := run.onFailure(s)
	switch {
	case try <= s.Retry && !twice:
		return true, nil
	case do == "go-on":
		run.Console.Emit(event.Note{Level: event.Warning, Text: "goes on although " + titled.Error()})
		run.Account.ignore(titled)
		return false, nil
	case run.repeatsFrom(s) && !twice:
		return false, fmt.Errorf("%w: %w", titled, errRepeatFrom)
	case do == "roll-back" && len(run.Prepared.Rollback) > 0 && run.MayHaveChanged() && !run.rollingBack:
		return false, fmt.Errorf("%w: %w", titled, errRollBack)
	}
	return run.askAfterFailure(ctx, s, titled)
}

// LineBack waits for the line to come back. The operator may take the helm meanwhile: a stop ends the wait, and
// anything else goes on with it.
func (run *Run) LineBack(ctx context.Context) error {
	limit := lineBackTimeout
	if p := run.limit; p != nil && !p.until.IsZero() { // a restart, say: the line may be away for as long as the device
		left, _ := run.left(p)
		limit = max(limit, left)
	}
	run.Console.Emit(event.Note{Level: event.Warning, Text: "the line is lost; waiting for it to come back"})
	for {
		held, release := run.Console.WithHelm(ctx)
		limited, cancel := run.Console.Clock().WithTimeout(held, limit)
		err := run.Console.AwaitLine(limited)
		taken := errors.Is(CauseOf(held, err), ErrHelm)
		cancel()
		release()
		switch {
		case err == nil:
			return nil
		case !taken || ctx.Err() != nil:
			return fmt.Errorf("%w and did not come back within %s: %w", ErrLineLost, units.Text(limit), err)
		}
		choice, err := run.Console.AwaitHelm(ctx)
		if err != nil {
			return err
		}
		if choice == Stop {
			return fmt.Errorf("%w while the line was lost", ErrStopped)
		}
	}
}

// askAfterFailure lets the operator decide; with nobody to ask the answer is to stop.
func (run *Run) askAfterFailure(ctx context.Context, s *runbook.PreparedStep, failure error) (bool, error) {
	answers, text := []string{TryAgain, SkipIt, StopHere}, failure.Error()+run.goneText()
	if open := run.course.dealsWith(s); len(open) > 0 {
		answers, text = []string{TryAgain, StopHere}, text+". This cannot be gone past: "+run.openText(open)
	}
	if len(run.Prepared.Rollback) > 0 && run.MayHaveChanged() && !run.rollingBack {
		answers = append(answers, RollBack)
	}
	held, release := run.Console.WithHelm(ctx)
	defer release()
	answer, err := run.Console.Ask(held, event.Ask{
		Form:     event.FormFailure,
		Step:     s.ID,
		Title:    run.Title(s),
		Text:     text,
		Answers:  answers,
		Changed:  run.MayHaveChanged(),
		Rollback: run.Prepared.RollbackText(run.openEnv()),
	})
	if errors.Is(CauseOf(held, err), ErrHelm) && ctx.Err() == nil {
		wish, err := run.Console.AwaitHelm(ctx)
		answer = map[Wish]string{Resume: TryAgain, Repeat: TryAgain, GoOn: SkipIt, Stop: StopHere}[wish]
		if answer == SkipIt && len(run.course.dealsWith(s)) > 0 {
			answer = TryAgain
		}
		if err != nil {
			return false, err
		}
	} else if err != nil {
		return false, failure
	}
	switch answer {
	case TryAgain:
		return true, nil
	case SkipIt:
		run.Account.ignore(failure)
		return false, nil
	case RollBack:
		return false, fmt.Errorf("%w: %w", failure, errRollBack)
	}
	return false, failure
}
