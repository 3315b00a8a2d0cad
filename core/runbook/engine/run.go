// Package engine carries a prepared runbook out: its steps in order, with the helm, within their time, to an
// end that is said and proved. What a step does is its verb's; see Doer.
package engine

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"maps"
	"time"

	"pilotrix/core/device"
	"pilotrix/core/event"
	"pilotrix/core/runbook"
)

// Doer is the work of every verb: it carries out a step, within the step's timeout and while the runbook has the helm.
type Doer interface {
	Do(ctx context.Context, run *Run, s *runbook.PreparedStep) error
}

// Run carries out one prepared runbook. It runs in the goroutine that calls Run.
type Run struct {
	Prepared *runbook.Prepared
	Console  *StepConsole
	lines    map[string]Console // lines that steps type on beside the first
	Context  context.Context    // of the whole run: what waits for the operator has no other limit
	Account  Account

	Device   *identity
	Speed    *lineSpeed
	Readings *readings
	Talk     *talk
	Actions  *actions
	course   *course

	limit *timeLimit // of the step that is under way
	doing event.StepNow
	step  *runbook.PreparedStep // the present one

	rollingBack bool
	failures    map[string]int // repeat-from jumps used, by step
	lineLosses  int

	Made  runbook.Made // what steps made for later ones
	kept  map[any]any  // what the steps of a verb keep for later ones, by their Kept
	atEnd []func()     // what is left to be ended with the run
}

// New makes an engine for one run.
func New(p *runbook.Prepared, console Console) *Run {
	run := &Run{Prepared: p, failures: map[string]int{}, Made: runbook.Made{}, kept: map[any]any{}}
	run.Device, run.Speed, run.course = &identity{run: run}, &lineSpeed{run: run}, &course{run: run}
	run.Readings, run.Talk, run.Actions = &readings{
		run:   run,
		began: map[string][]map[string]any{},
	}, &talk{
		run,
	}, &actions{
		run,
	}
	run.Console = run.control(console)
	run.Account.before = console.Facts().Changes()
	run.Device.is = run.Device.knownBefore()
	return run
}

// WithLines makes lines known that steps type on beside the first, by name.
func (run *Run) WithLines(lines map[string]Console) { run.lines = lines }

// turn has a step type on its own line, until back is called.
func (run *Run) turn(s *runbook.PreparedStep) (back func(), err error) {
	if s.On == "" {
		return func() {}, nil
	}
	other, open := run.lines[s.On]
	if !open {
		return nil, fmt.Errorf("the line %s is not open", s.On)
	}
	first := run.Console
	other.TakeBack("“" + run.Title(s) + "” types on it")
	run.Console = run.control(other)
	return func() {
		other.Release("“" + run.Title(s) + "” is over")
		run.Console = first
	}, nil
}

// Execute carries the runbook out, then puts the line's speed back whatever happened.
func (run *Run) Execute(ctx context.Context) Result {
	run.Context = ctx
	run.Speed.before, _ = run.Console.Speed()
	run.Console.Emit(run.begin())
	run.ShowShelf()
	result := run.withRecord(run.stillOpen(run.conclude(ctx, run.carryOut(ctx))))
	if note := run.putBack(ctx); note != "" {
		result.Message += "; " + note
	}
	run.Console.Emit(event.RunEnd{
		Outcome:    result.Outcome,
		Exit:       result.Exit,
		Message:    result.Message,
		Proved:     result.Proved,
		Unrecorded: run.Account.unrecorded,
	})
	run.Console.Release("the runbook ended")
	return result
}

// runSteps carries out steps in order. A phase with a loop is unrolled when it is come to; a failure may
// lead back to the beginning of a phase.
func (run *Run) runSteps(ctx context.Context, steps []runbook.PreparedStep, course bool) error {
	for i := 0; i < len(steps); {
		if steps[i].Loops() {
			run.step = nil
			unrolled, err := run.Prepared.Unroll(steps, i, run.Env(), run.Made)
			if err != nil {
				return fmt.Errorf("phase “%s”: %w", steps[i].Phase, err)
			}
			if steps = unrolled; course {
				run.Console.Emit(event.Course{Steps: run.course.plansOf(steps, i)})
			}
			continue
		}
		run.course.steps = nil
		if course {
			run.course.steps, run.course.here = steps, i
			if moved := run.course.deadlinesMoved(); i > 0 && (moved || steps[i].Phase != steps[i-1].Phase) {
				run.Console.Emit(event.Course{Steps: run.course.plansOf(steps, i)}) // what was read since fills it in
			}
		}
		err := run.runStep(ctx, &steps[i])
		if err == nil {
			i++
			continue
		}
		if !errors.Is(err, errRepeatFrom) || ctx.Err() != nil {
			return err
		}
		if steps, i, err = run.backTo(ctx, steps, i, err); err != nil {
			return err
		}
	}
	return nil
}

// runStep carries one step out, repeating it as its retry rule, the operator or a lost line ask.
func (run *Run) runStep(ctx context.Context, s *runbook.PreparedStep) error {
	run.step = s
	if skip, err := run.skips(s); err != nil || skip {
		return err
	}
	back, err := run.turn(s)
	if err != nil {
		return err
	}
	defer back()
	for try := 1; ; try++ {
		begun := run.Console.Clock().Now()
		run.Console.Emit(event.StepBegin{ID: s.ID, Try: try})
		byHand, again, err := run.wished(s, run.attemptOrHand(ctx, s, try))
		if again {
			continue
		}
		end := stepEnd(s, byHand, err)
		end.Took = run.Console.Clock().Since(begun)
		run.Console.Emit(end)
		if err == nil && run.rollingBack {
			run.Account.putsBack(s.Undoes...)
		}
		if err == nil || errors.Is(err, errAlready) {
			return err
		}
		if again, err = run.afterFailure(ctx, s, try, err); !again {
			return err
		}
	}
}

// attemptOrHand does the step once; where the operator takes the helm its error is what that one wishes then.
func (run *Run) attemptOrHand(ctx context.Context, s *runbook.PreparedStep, try int) error {
	err := run.attempt(ctx, s, try)
	if errors.Is(err, ErrHelm) && ctx.Err() == nil {
		return run.byHand(ctx, s)
	}
	return err
}

// wished does what the operator wished of a step that was interrupted: it is done again, was done by hand, or stops the
// run. A step that deals with what runs out is not done by hand while that is still open.
func (run *Run) wished(s *runbook.PreparedStep, err error) (byHand, again bool, _ error) {
	var wish *chosen
	if !errors.As(err, &wish) {
		return false, false, err
	}
	switch wish.Wish {
	case Repeat, Resume:
		return false, true, nil
	case Stop:
		return false, false, fmt.Errorf("%w at “%s”", ErrStopped, run.Title(s))
	}
	if open := run.course.dealsWith(s); len(open) > 0 {
		run.Console.Emit(event.Note{
			Level: event.Warning,
			Text:  "“" + run.Title(s) + "” was not done by hand: " + run.openText(open) + "; it is done now",
		})
		return false, true, nil
	}
	run.Account.byHand = append(run.Account.byHand, "“"+run.Title(s)+"”")
	return true, false, nil
}

// stepEnd is how a step ended.
func stepEnd(s *runbook.PreparedStep, byHand bool, err error) event.StepEnd {
	end := event.StepEnd{ID: s.ID, Outcome: event.Done}
	switch {
	case byHand:
		end.Outcome = event.ByHand
	case err == nil || errors.Is(err, errAlready):
	default:
		end.Outcome, end.Message = event.OutcomeOf(err)
		if errors.Is(err, ErrStopped) {
			end.Outcome = event.Stopped
		}
	}
	return end
}

// skips reports whether a step is left out: it, or its phase, is not needed, or the run begins later and it is
// none that learns from the device.
func (run *Run) skips(s *runbook.PreparedStep) (bool, error) {
	if s.PhaseIndex < run.Prepared.FromPhase && !run.rollingBack && !s.Learns() {
		run.Console.Emit(event.StepEnd{
			ID:      s.ID,
			Outcome: event.Skipped,
			Message: "the run begins at “" + run.Prepared.Book.Phases[run.Prepared.FromPhase].Phase + "”",
		})
		return true, nil
	}
	for _, when := range s.Guards {
		holds, err := when.Holds(run.Env())
		if err != nil {
			return false, fmt.Errorf("step “%s”: when %w", run.Title(s), err)
		}
		if !holds {
			run.Console.Emit(event.StepEnd{
				ID:      s.ID,
				Outcome: event.Skipped,
				Message: cmp.Or(s.SkippedText.Shown(run.openEnv()), "not needed"),
			})
			return true, nil
		}
	}
	return false, nil
}

// attempt does the step once, within its timeout and while the runbook has the helm.
func (run *Run) attempt(whole context.Context, s *runbook.PreparedStep, try int) (err error) {
	defer run.faulted(&err)
	ctx, end := context.WithCancelCause(whole)
	defer end(nil)
	p := &timeLimit{step: s, end: end, length: s.Timeout, last: run.needsNobody(s, try)}
	run.limit = p
	defer func() { run.limit = nil }()
	if err = run.Console.Ours(ctx); err == nil {
		err = run.hold(ctx, s)
	}
	if err == nil && s.Work != nil {
		p.until = run.Console.Clock().Now().Add(p.length)
		err = s.Work.(Doer).Do(ctx, run, s)
	}
	if errors.Is(err, ErrReturned) { // what it was about to type was not sent: it starts again
		return &chosen{Repeat}
	}
	if cause := context.Cause(ctx); cause != nil && whole.Err() == nil && !errors.Is(err, cause) {
		err = cause // what ended the step, whatever came of that further in
	}
	return err
}

// PendingText is what is pending now, and how long it has.
func (run *Run) PendingText() []string { return run.eachOpen(run.Console.Pending()) }

// CauseOf replaces a cancellation by what caused it.
func CauseOf(ctx context.Context, err error) error {
	if err != nil && ctx.Err() != nil {
		if cause := context.Cause(ctx); errors.Is(cause, ErrHelm) {
			return ErrHelm
		}
	}
	return err
}

// byHand waits while the operator has the helm. Its error says how to go on.
func (run *Run) byHand(ctx context.Context, s *runbook.PreparedStep) error {
	run.Console.Emit(event.StepNow{ID: s.ID, Doing: "The hand has the helm", Awaiting: "until it is given back"})
	wish, err := run.Console.AwaitHelm(ctx)
	if err != nil {
		return err
	}
	return &chosen{wish}
}

// Env is what expressions see: facts, inputs, what earlier steps made, and the loop's own.
func (run *Run) Env() map[string]any {
	return run.envOf(run.Console.Facts())
}

// envOf is what expressions would see if that were what was read.
func (run *Run) envOf(facts *device.Facts) map[string]any {
	env := run.Prepared.Env(facts)
	run.Made.Into(env)
	now := run.Console.Clock().Now()
	env["prompt"] = run.promptNow()
	env["clock"] = map[string]any{"day": now.Format("2006-01-02"), "time": now.Format("1504")}
	if run.step != nil {
		maps.Copy(env, run.step.Vars)
	}
	return env
}

// promptNow is the mode that the device is in, and the named groups of its prompt.
func (run *Run) promptNow() map[string]any {
	v := run.Console.Device()
	groups := map[string]any{}
	if v.AtPrompt {
		groups = run.Prepared.Dialect.PromptGroups(v.Mode, v.Prompt)
	}
	groups["mode"] = v.Mode
	return groups
}

// openEnv is env without secrets.
func (run *Run) openEnv() map[string]any {
	env := run.Env()
	run.Prepared.Mask(env)
	run.Made.Mask(env)
	return env
}

// Now says what a step does and waits for.
func (run *Run) Now(s *runbook.PreparedStep, doing, awaiting string, timeout time.Duration) {
	run.Console.Emit(event.StepNow{ID: s.ID, Doing: doing, Awaiting: awaiting, Timeout: timeout})
}

// Read takes the readings of a runbook that only reads, without being a run: what one of them cannot say keeps none
// of the others from being taken. It reports what could not be read.
func (run *Run) Read(ctx context.Context) (failed error) {
	defer run.Console.Release("what was to be read was read")
	run.Context = ctx
	for i := range run.Prepared.Steps {
		s := &run.Prepared.Steps[i]
		run.step = s
		err := run.attempt(ctx, s, 1)
		if ctx.Err() != nil || errors.Is(err, ErrHelm) || errors.Is(err, ErrLineLost) {
			return err
		}
		if err != nil {
			failed = errors.Join(failed, fmt.Errorf("%s: %w", run.Title(s), err))
			run.Console.Emit(event.Note{Level: event.Warning, Text: run.Title(s) + ": " + err.Error()})
		}
	}
	return failed
}
