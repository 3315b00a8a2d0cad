package engine

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"maps"
	"time"

	"pilotrix/core/device"
	"pilotrix/core/dialect"
	"pilotrix/core/event"
	"pilotrix/core/runbook"
)

// Doer is the work of every verb: it carries out a step, within the step's timeout and while the runbook has the helm.
type Doer interface {
	Do(ctx context.Context, e *Run, s *runbook.PreparedStep) error
}

// Run carries out one prepared runbook. It runs in the goroutine that calls Run.
type Run struct {
	Prepared *runbook.Prepared
	Console  *StepConsole
	lines    map[string]Console // lines that steps type on beside the first
	Context  context.Context    // of the whole run: what waits for the operator has no other limit
	Account  Account

	limit  *timeLimit // of the step that is under way
	doing  event.StepNow
	device identity
	speed  lineSpeed

	began       map[string][]map[string]any // lists as they were first read in this run, by name
	rollingBack bool
	failures    map[string]int // repeat-from jumps used, by step
	lineLosses  int
	deadlines   string // what the device does by itself and when, as it was shown last

	course []runbook.PreparedStep // the steps as they are unrolled now, nil while rolling back
	here   int                    // the present one's place there
	step   *runbook.PreparedStep  // the present one
	Made   runbook.Made           // what steps made for later ones
	kept   map[any]any            // what the steps of a verb keep for later ones, by their Kept
	atEnd  []func()               // what is left to be ended with the run
}

// New makes an engine for one run.
func New(p *runbook.Prepared, console Console) *Run {
	e := &Run{
		Prepared: p, failures: map[string]int{}, began: map[string][]map[string]any{},
		Made: runbook.Made{}, kept: map[any]any{},
	}
	e.Console = e.steer(console)
	e.Account.before = console.Facts().Changes()
	e.device.is = e.knownBefore()
	return e
}

// WithLines makes lines known that steps type on beside the first, by name.
func (e *Run) WithLines(lines map[string]Console) { e.lines = lines }

// turn has a step type on its own line, until back is called.
func (e *Run) turn(s *runbook.PreparedStep) (back func(), err error) {
	if s.On == "" {
		return func() {}, nil
	}
	other, open := e.lines[s.On]
	if !open {
		return nil, fmt.Errorf("the line %s is not open", s.On)
	}
	first := e.Console
	other.TakeBack("“" + e.Title(s) + "” types on it")
	e.Console = e.steer(other)
	return func() {
		other.Release("“" + e.Title(s) + "” is over")
		e.Console = first
	}, nil
}

// Execute carries the runbook out, then puts the line's speed back whatever happened.
func (e *Run) Execute(ctx context.Context) Result {
	e.Context = ctx
	e.speed.before, _ = e.Console.Speed()
	e.Console.Emit(e.begin())
	e.ShowShelf()
	result := e.withRecord(e.stillOpen(e.conclude(ctx, e.carryOut(ctx))))
	if note := e.putBack(ctx); note != "" {
		result.Message += "; " + note
	}
	e.Console.Emit(event.RunEnd{Outcome: result.Outcome, Exit: result.Exit, Message: result.Message, Proved: result.Proved, Unrecorded: e.Account.unrecorded})
	e.Console.Release("the runbook ended")
	return result
}

// runSteps carries out steps in order. A phase with a loop is unrolled when it is come to; a failure may
// lead back to the beginning of a phase.
func (e *Run) runSteps(ctx context.Context, steps []runbook.PreparedStep, course bool) error {
	for i := 0; i < len(steps); {
		if steps[i].Loops() {
			e.step = nil
			unrolled, err := e.Prepared.Unroll(steps, i, e.Env(), e.Made)
			if err != nil {
				return fmt.Errorf("phase “%s”: %w", steps[i].Phase, err)
			}
			if steps = unrolled; course {
				e.Console.Emit(event.Course{Steps: e.plansOf(steps, i)})
			}
			continue
		}
		e.course = nil
		if course {
			e.course, e.here = steps, i
			if moved := e.deadlinesMoved(); i > 0 && (moved || steps[i].Phase != steps[i-1].Phase) {
				e.Console.Emit(event.Course{Steps: e.plansOf(steps, i)}) // what was read since fills it in
			}
		}
		err := e.runStep(ctx, &steps[i])
		if err == nil {
			i++
			continue
		}
		if !errors.Is(err, errRepeatFrom) || ctx.Err() != nil {
			return err
		}
		if steps, i, err = e.backTo(ctx, steps, i, err); err != nil {
			return err
		}
	}
	return nil
}

// runStep carries one step out, repeating it as its retry rule, the operator or a lost line ask.
func (e *Run) runStep(ctx context.Context, s *runbook.PreparedStep) error {
	e.step = s
	if skip, err := e.skips(s); err != nil || skip {
		return err
	}
	back, err := e.turn(s)
	if err != nil {
		return err
	}
	defer back()
	for try := 1; ; try++ {
		begun := e.Console.Clock().Now()
		e.Console.Emit(event.StepBegin{ID: s.ID, Try: try})
		err := e.attempt(ctx, s, try)
		if errors.Is(err, ErrHelm) && ctx.Err() == nil {
			err = e.byHand(ctx, s)
		}
		var wish *chosen
		if errors.As(err, &wish) && (wish.Wish == Repeat || wish.Wish == Resume) {
			continue
		}
		end := event.StepEnd{ID: s.ID, Outcome: event.Done, Took: e.Console.Clock().Since(begun)}
		switch {
		case wish != nil && wish.Wish == GoOn && len(e.dealsWith(s)) > 0:
			e.Console.Emit(event.Note{Level: event.Warning, Text: "“" + e.Title(s) + "” was not done by hand: " + e.openWords(e.dealsWith(s)) + "; it is done now"})
			continue
		case wish != nil && wish.Wish == GoOn:
			end.Outcome, err = event.ByHand, nil
			e.Account.byHand = append(e.Account.byHand, "“"+e.Title(s)+"”")
		case wish != nil:
			err = fmt.Errorf("%w at “%s”", ErrStopped, e.Title(s))
		}
		if err != nil {
			end.Outcome, end.Message = event.OutcomeOf(err)
			if errors.Is(err, ErrStopped) {
				end.Outcome = event.Stopped
			}
		}
		if errors.Is(err, errAlready) {
			end.Outcome, end.Message = event.Done, ""
		}
		e.Console.Emit(end)
		if err == nil && e.rollingBack {
			e.Account.putsBack(s.Undoes...)
		}
		if err == nil || errors.Is(err, errAlready) {
			return err
		}
		again, err := e.afterFailure(ctx, s, try, err)
		if !again {
			return err
		}
	}
}

// skips reports whether a step is left out: it, or its phase, is not needed, or the run begins later and it is
// none that learns from the device.
func (e *Run) skips(s *runbook.PreparedStep) (bool, error) {
	if s.PhaseIndex < e.Prepared.FromPhase && !e.rollingBack && !s.Learns() {
		e.Console.Emit(event.StepEnd{ID: s.ID, Outcome: event.Skipped, Message: "the run begins at “" + e.Prepared.Book.Phases[e.Prepared.FromPhase].Phase + "”"})
		return true, nil
	}
	for _, when := range s.Guards {
		holds, err := when.Holds(e.Env())
		if err != nil {
			return false, fmt.Errorf("step “%s”: when %w", e.Title(s), err)
		}
		if !holds {
			e.Console.Emit(event.StepEnd{ID: s.ID, Outcome: event.Skipped, Message: cmp.Or(s.SkippedText.Shown(e.openEnv()), "not needed")})
			return true, nil
		}
	}
	return false, nil
}

// attempt does the step once, within its timeout and while the runbook has the helm.
func (e *Run) attempt(run context.Context, s *runbook.PreparedStep, try int) (err error) {
	defer e.faulted(&err)
	ctx, end := context.WithCancelCause(run)
	defer end(nil)
	p := &timeLimit{step: s, end: end, length: s.Timeout, last: e.needsNobody(s, try)}
	e.limit = p
	defer func() { e.limit = nil }()
	if err = e.Console.Ours(ctx); err == nil {
		err = e.hold(ctx, s)
	}
	if err == nil && s.Work != nil {
		p.until = e.Console.Clock().Now().Add(p.length)
		err = s.Work.(Doer).Do(ctx, e, s)
	}
	if errors.Is(err, ErrReturned) { // what it was about to type was not sent: it begins anew
		return &chosen{Repeat}
	}
	if cause := context.Cause(ctx); cause != nil && run.Err() == nil && !errors.Is(err, cause) {
		err = cause // what ended the step, whatever came of that further in
	}
	return err
}

// PendingText is what is pending now, and how long it has.
func (e *Run) PendingText() []string { return e.eachOpen(e.Console.Pending()) }

// CauseOf replaces a cancellation by what caused it.
func CauseOf(ctx context.Context, err error) error {
	if err != nil && ctx.Err() != nil {
		if cause := context.Cause(ctx); errors.Is(cause, ErrHelm) {
			return ErrHelm
		}
	}
	return err
}

// byHand waits while the hand has the helm. Its error says how to go on.
func (e *Run) byHand(ctx context.Context, s *runbook.PreparedStep) error {
	e.Console.Emit(event.StepNow{ID: s.ID, Doing: "The hand has the helm", Awaiting: "until it is given back"})
	wish, err := e.Console.AwaitHelm(ctx)
	if err != nil {
		return err
	}
	return &chosen{wish}
}

// Env is what expressions see: facts, inputs, what earlier steps made, and the loop's own.
func (e *Run) Env() map[string]any {
	return e.envOf(e.Console.Facts())
}

// envOf is what expressions would see if that were what was read.
func (e *Run) envOf(facts *device.Facts) map[string]any {
	env := e.Prepared.Env(facts)
	e.Made.Into(env)
	now := e.Console.Clock().Now()
	env["prompt"] = e.promptNow()
	env["clock"] = map[string]any{"day": now.Format("2006-01-02"), "time": now.Format("1504")}
	if e.step != nil {
		maps.Copy(env, e.step.Vars)
	}
	return env
}

// promptNow is the mode that the device is in, and the named groups of its prompt.
func (e *Run) promptNow() map[string]any {
	v := e.Console.Device()
	groups := map[string]any{}
	if v.AtPrompt {
		groups = e.Prepared.Dialect.PromptGroups(v.Mode, v.Prompt)
	}
	groups["mode"] = v.Mode
	return groups
}

// openEnv is env without secrets.
func (e *Run) openEnv() map[string]any {
	env := e.Env()
	e.Prepared.Mask(env)
	e.Made.Mask(env)
	return env
}

// Now tells what a step does and waits for.
func (e *Run) Now(s *runbook.PreparedStep, doing, awaiting string, timeout time.Duration) {
	e.Console.Emit(event.StepNow{ID: s.ID, Doing: doing, Awaiting: awaiting, Timeout: timeout})
}

// Read takes the readings of a runbook that only reads, without being a run: what one of them cannot tell keeps none
// of the others from being taken. It reports what could not be read.
func (e *Run) Read(ctx context.Context) (failed error) {
	defer e.Console.Release("what was to be read was read")
	e.Context = ctx
	for i := range e.Prepared.Steps {
		s := &e.Prepared.Steps[i]
		e.step = s
		err := e.attempt(ctx, s, 1)
		if ctx.Err() != nil || errors.Is(err, ErrHelm) || errors.Is(err, ErrLineLost) {
			return err
		}
		if err != nil {
			failed = errors.Join(failed, fmt.Errorf("%s: %w", e.Title(s), err))
			e.Console.Emit(event.Note{Level: event.Warning, Text: e.Title(s) + ": " + err.Error()})
		}
	}
	return failed
}

// masks makes the secrets known that stand in the command of a way, so that nobody is shown them, and reports whether
// there are any.
func (e *Run) masks(way *dialect.CompiledWay, env map[string]any) bool {
	for _, name := range way.Secret {
		if value, is := env[name].(string); is {
			e.Console.Emit(event.Secret{What: name, Value: value})
		}
	}
	return len(way.Secret) > 0
}
