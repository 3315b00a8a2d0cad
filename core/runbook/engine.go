package runbook

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
)

// Doer is the work of every verb: it carries out a step, within the step's timeout and while the runbook has the helm.
type Doer interface {
	Do(ctx context.Context, e *Engine, s *PreparedStep) error
}

// Engine carries out one prepared runbook. It runs in the goroutine that calls Run.
type Engine struct {
	p       *Prepared
	console *steered
	beside  map[string]Console // lines that steps type on beside the first
	run     context.Context    // of the whole run: what waits for the operator has no other limit
	Account Account

	patience *patience // of the step that is under way
	doing    event.StepNow
	device   identity
	speed    lineSpeed

	began       map[string][]map[string]any // lists as they were first read in this run, by name
	rollingBack bool
	failures    map[string]int // repeat-from jumps used, by step
	lineLosses  int
	deadlines   string // what the device does by itself and when, as it was shown last

	course []PreparedStep // the steps as they are unrolled now, nil while rolling back
	here   int            // the present one's place there
	step   *PreparedStep  // the present one
	made   Made           // what steps made for later ones
	kept   map[any]any    // what the steps of a verb keep for later ones, by their Kept
	atEnd  []func()       // what is left to be ended with the run
}

// NewEngine makes an engine for one run.
func NewEngine(p *Prepared, console Console) *Engine {
	e := &Engine{
		p: p, failures: map[string]int{}, began: map[string][]map[string]any{},
		made: Made{}, kept: map[any]any{},
	}
	e.console = e.steer(console)
	e.Account.before = console.Facts().Changes()
	e.device.is = e.knownBefore()
	return e
}

// Beside makes lines known that steps type on beside the first, by name.
func (e *Engine) Beside(lines map[string]Console) { e.beside = lines }

// turn has a step type on its own line, until back is called.
func (e *Engine) turn(s *PreparedStep) (back func(), err error) {
	if s.On == "" {
		return func() {}, nil
	}
	other, open := e.beside[s.On]
	if !open {
		return nil, fmt.Errorf("the line %s is not open", s.On)
	}
	first := e.console
	other.TakeBack("“" + e.title(s) + "” types on it")
	e.console = e.steer(other)
	return func() {
		other.Release("“" + e.title(s) + "” is over")
		e.console = first
	}, nil
}

// Run carries the runbook out, then puts the line's speed back whatever happened.
func (e *Engine) Run(ctx context.Context) Result {
	e.run = ctx
	e.speed.before, _ = e.console.Speed()
	e.console.Emit(e.begin())
	e.tellShelf()
	result := e.withRecord(e.stillOpen(e.conclude(ctx, e.carryOut(ctx))))
	if note := e.putBack(ctx); note != "" {
		result.Message += "; " + note
	}
	e.console.Emit(event.RunEnd{Outcome: result.Outcome, Exit: result.Exit, Message: result.Message, Proved: result.Proved, Unrecorded: e.Account.unrecorded})
	e.console.Release("the runbook ended")
	return result
}

// runSteps carries out steps in order. A phase with a loop is unrolled when it is come to; a failure may
// lead back to the beginning of a phase.
func (e *Engine) runSteps(ctx context.Context, steps []PreparedStep, course bool) error {
	for i := 0; i < len(steps); {
		if steps[i].Loops() {
			e.step = nil
			unrolled, err := e.p.Unroll(steps, i, e.env(), e.made)
			if err != nil {
				return fmt.Errorf("phase “%s”: %w", steps[i].Phase, err)
			}
			if steps = unrolled; course {
				e.console.Emit(event.Course{Steps: e.plansOf(steps, i)})
			}
			continue
		}
		e.course = nil
		if course {
			e.course, e.here = steps, i
			if moved := e.deadlinesMoved(); i > 0 && (moved || steps[i].Phase != steps[i-1].Phase) {
				e.console.Emit(event.Course{Steps: e.plansOf(steps, i)}) // what was read since fills it in
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
func (e *Engine) runStep(ctx context.Context, s *PreparedStep) error {
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
		begun := e.console.Clock().Now()
		e.console.Emit(event.StepBegin{ID: s.ID, Try: try})
		err := e.attempt(ctx, s, try)
		if errors.Is(err, ErrHelm) && ctx.Err() == nil {
			err = e.byHand(ctx, s)
		}
		var wish *chosen
		if errors.As(err, &wish) && (wish.Wish == Repeat || wish.Wish == Resume) {
			continue
		}
		end := event.StepEnd{ID: s.ID, Outcome: event.Done, Took: e.console.Clock().Since(begun)}
		switch {
		case wish != nil && wish.Wish == GoOn && len(e.dealsWith(s)) > 0:
			e.console.Emit(event.Note{Level: event.Warning, Text: "“" + e.title(s) + "” was not done by hand: " + e.openWords(e.dealsWith(s)) + "; it is done now"})
			continue
		case wish != nil && wish.Wish == GoOn:
			end.Outcome, err = event.ByHand, nil
			e.Account.byHand = append(e.Account.byHand, "“"+e.title(s)+"”")
		case wish != nil:
			err = fmt.Errorf("%w at “%s”", errStopped, e.title(s))
		}
		if err != nil {
			end.Outcome, end.Message = event.OutcomeOf(err)
			if errors.Is(err, errStopped) {
				end.Outcome = event.Stopped
			}
		}
		if errors.Is(err, errAlready) {
			end.Outcome, end.Message = event.Done, ""
		}
		e.console.Emit(end)
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
func (e *Engine) skips(s *PreparedStep) (bool, error) {
	if s.of < e.p.from && !e.rollingBack && !s.learns() {
		e.console.Emit(event.StepEnd{ID: s.ID, Outcome: event.Skipped, Message: "the run begins at “" + e.p.Book.Phases[e.p.from].Phase + "”"})
		return true, nil
	}
	for _, when := range s.when {
		holds, err := when.Holds(e.env())
		if err != nil {
			return false, fmt.Errorf("step “%s”: when %w", e.title(s), err)
		}
		if !holds {
			e.console.Emit(event.StepEnd{ID: s.ID, Outcome: event.Skipped, Message: cmp.Or(s.skipped.Shown(e.openEnv()), "not needed")})
			return true, nil
		}
	}
	return false, nil
}

// attempt does the step once, within its timeout and while the runbook has the helm.
func (e *Engine) attempt(run context.Context, s *PreparedStep, try int) (err error) {
	defer e.faulted(&err)
	ctx, end := context.WithCancelCause(run)
	defer end(nil)
	p := &patience{step: s, end: end, length: s.Timeout, last: e.needsNobody(s, try)}
	e.patience = p
	defer func() { e.patience = nil }()
	if err = e.console.ours(ctx); err == nil {
		err = e.hold(ctx, s)
	}
	if err == nil && s.Work != nil {
		p.until = e.console.Clock().Now().Add(p.length)
		err = s.Work.(Doer).Do(ctx, e, s)
	}
	if errors.Is(err, errReturned) { // what it was about to type was not sent: it begins anew
		return &chosen{Repeat}
	}
	if cause := context.Cause(ctx); cause != nil && run.Err() == nil && !errors.Is(err, cause) {
		err = cause // what ended the step, whatever came of that further in
	}
	return err
}

// pendingWords is what is pending now, and how long it has.
func (e *Engine) pendingWords() []string { return e.eachOpen(e.console.Pending()) }

// causeOf replaces a cancellation by what caused it.
func causeOf(ctx context.Context, err error) error {
	if err != nil && ctx.Err() != nil {
		if cause := context.Cause(ctx); errors.Is(cause, ErrHelm) {
			return ErrHelm
		}
	}
	return err
}

// byHand waits while the hand has the helm. Its error says how to go on.
func (e *Engine) byHand(ctx context.Context, s *PreparedStep) error {
	e.console.Emit(event.StepNow{ID: s.ID, Doing: "The hand has the helm", Awaiting: "until it is given back"})
	wish, err := e.console.AwaitHelm(ctx)
	if err != nil {
		return err
	}
	return &chosen{wish}
}

// env is what expressions see: facts, inputs, what earlier steps made, and the loop's own.
func (e *Engine) env() map[string]any {
	return e.envOf(e.console.Facts())
}

// envOf is what expressions would see if that were what was read.
func (e *Engine) envOf(facts *device.Facts) map[string]any {
	env := e.p.Env(facts)
	e.made.Into(env)
	now := e.console.Clock().Now()
	env["prompt"] = e.promptNow()
	env["clock"] = map[string]any{"day": now.Format("2006-01-02"), "time": now.Format("1504")}
	if e.step != nil {
		maps.Copy(env, e.step.vars)
	}
	return env
}

// promptNow is the mode that the device is in, and the named groups of its prompt.
func (e *Engine) promptNow() map[string]any {
	v := e.console.Device()
	groups := map[string]any{}
	if v.AtPrompt {
		groups = e.p.Dialect.PromptGroups(v.Mode, v.Prompt)
	}
	groups["mode"] = v.Mode
	return groups
}

// openEnv is env without secrets.
func (e *Engine) openEnv() map[string]any {
	env := e.env()
	e.p.mask(env)
	e.made.Mask(env)
	return env
}

// now tells what a step does and waits for.
func (e *Engine) now(s *PreparedStep, doing, awaiting string, timeout time.Duration) {
	e.console.Emit(event.StepNow{ID: s.ID, Doing: doing, Awaiting: awaiting, Timeout: timeout})
}

// Read takes the readings of a runbook that only reads, without being a run: what one of them cannot tell keeps none
// of the others from being taken. It reports what could not be read.
func (e *Engine) Read(ctx context.Context) (failed error) {
	defer e.console.Release("what was to be read was read")
	e.run = ctx
	for i := range e.p.Steps {
		s := &e.p.Steps[i]
		e.step = s
		err := e.attempt(ctx, s, 1)
		if ctx.Err() != nil || errors.Is(err, ErrHelm) || errors.Is(err, ErrLineLost) {
			return err
		}
		if err != nil {
			failed = errors.Join(failed, fmt.Errorf("%s: %w", e.title(s), err))
			e.console.Emit(event.Note{Level: event.Warning, Text: e.title(s) + ": " + err.Error()})
		}
	}
	return failed
}

// masks makes the secrets known that stand in the command of a way, so that nobody is shown them, and reports whether
// there are any.
func (e *Engine) masks(way *dialect.CompiledWay, env map[string]any) bool {
	for _, name := range way.Secret {
		if value, is := env[name].(string); is {
			e.console.Emit(event.Secret{What: name, Value: value})
		}
	}
	return len(way.Secret) > 0
}
