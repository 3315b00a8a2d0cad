package runbook

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"pilotrix/core/carrier"
	"pilotrix/core/clock"
	"pilotrix/core/device"
	"pilotrix/core/event"
	"pilotrix/core/image"
	"pilotrix/core/reach"
	"pilotrix/core/sense"
	"pilotrix/core/serve"
)

// Console is what the engine needs of the session it runs in.
type Console interface {
	Clock() clock.Clock
	Emit(event.Body)
	// View is what the device is in now.
	View() sense.View
	// Await returns the first view for which ready holds. It ends with ctx, or with ErrLineLost.
	Await(ctx context.Context, ready func(sense.View) bool) (sense.View, error)
	// Type sends keys with the runbook's helm.
	Type(ctx context.Context, text string, secret bool) error
	// Command types a line, sees it stand there, and only then ends it.
	Command(ctx context.Context, text string, how Typing) error
	// Speed is our end's speed in baud; ok is false for a line without one.
	Speed() (baud int, ok bool)
	SetSpeed(ctx context.Context, baud int, why string) error
	// LineRate is how many characters our line carries a second, 0 where it has no speed.
	LineRate() float64
	// Latency is how long our adapter holds what arrives, 0 when that is not known.
	Latency() time.Duration
	Hunt(ctx context.Context, hunt sense.Hunt) (sense.Found, error)
	// Carry hands the line to a carrier. What a waiting receiver has asked with is read first.
	Carry(ctx context.Context, carry func(context.Context, carrier.Port) error) error
	// AwaitLine waits for a lost line to come back.
	AwaitLine(ctx context.Context) error
	// Ask puts a question to the operator and returns one of its answers.
	Ask(ctx context.Context, ask event.Ask) (string, error)
	// WithHelm is a context that ends, with ErrHelm as its cause, when the hand takes the helm.
	WithHelm(ctx context.Context) (context.Context, context.CancelFunc)
	// AwaitHelm waits for the hand to give the helm back and says how to go on.
	AwaitHelm(ctx context.Context) (Choice, error)
	// TakeBack gives the runbook the helm without asking, to put the line in order at the end.
	TakeBack(why string)
	// Release gives the helm to the hand, at the end.
	Release(why string)
	// Stops says why a command has to be held at its Enter, empty when it need not be.
	Stops(command string) string
	// Reach watches whether targets answer; nil when nothing can be watched.
	Reach() *reach.Watch
}

// Typing says what a line is that is typed.
type Typing struct {
	Secret bool // it is not shown, and not recorded
	Fresh  bool // it begins a command; else it answers a question in the middle of one
	Leads  bool // the command leads to another mode
}

// Choice is how to go on after the hand had the helm.
type Choice int

// What the operator may choose when giving the helm back.
const (
	Repeat Choice = iota // the step from its beginning
	GoOn                 // with the next step: this one was done by hand
	Stop
)

// Causes of a broken-off wait. Test with errors.Is.
var (
	ErrHelm     = errors.New("the operator took the helm")
	ErrLineLost = errors.New("the line was lost")
	errStopped  = errors.New("stopped by the operator")
	errLimit    = errors.New("not within the limit")
)

// Exit codes of a run.
const (
	ExitDone     = 0
	ExitFailed   = 1
	ExitStopped  = 3
	ExitWentBack = 4
)

// Result is how a run ended.
type Result struct {
	Outcome string
	Exit    int
	Message string
	Proved  []string
}

// Answers to an Ask.
const (
	Approve   = "approve"
	StopHere  = "stop"
	DoneByMe  = "done"
	TryAgain  = "repeat"
	SkipIt    = "go on"
	TakeBackA = "go back"
)

// Engine carries out one prepared runbook. It runs in the goroutine that calls Run.
type Engine struct {
	p       *Prepared
	console Console
	facts   *device.Facts

	changed     bool // something that the device keeps was changed
	receiving   bool // the device was made to receive and did not come back from that yet
	speedBefore int
	failures    map[string]int // again-from jumps used, by step
	lineLosses  int
	proved      []string

	step      *Prepped       // the present one
	made      map[string]any // what steps made for later ones: serve, taken, hops, restart, snapshots
	dock      *serve.Dock    // nil until a step serves
	withdraw  map[string]func()
	unpacker  image.Unpacker
	hops      []image.Hop
	shelfTold event.Shelf
}

// NewEngine makes an engine for one run. Facts may hold what was read before.
func NewEngine(p *Prepared, console Console, facts *device.Facts) *Engine {
	return &Engine{
		p: p, console: console, facts: facts, failures: map[string]int{},
		made: map[string]any{}, withdraw: map[string]func(){}, unpacker: image.Unpacker{In: p.Kit.Folder},
	}
}

// Run carries the runbook out, then puts the line's speed back whatever happened.
func (e *Engine) Run(ctx context.Context) Result {
	e.speedBefore, _ = e.console.Speed()
	e.console.Emit(e.begin())
	e.tellShelf()
	err := e.runSteps(ctx, e.p.Steps, true)
	result := e.conclude(ctx, err)
	if note := e.restoreSpeed(ctx); note != "" {
		result.Message += "; " + note
	}
	e.clear()
	e.console.Emit(event.RunEnd{Outcome: result.Outcome, Exit: result.Exit, Message: result.Message, Proved: result.Proved})
	e.console.Release("the runbook ended")
	return result
}

func (e *Engine) begin() event.RunBegin {
	begin := event.RunBegin{
		Runbook: e.p.Book.Runbook, Title: e.p.Book.Title, Dialect: e.p.Dialect.Dialect, Inputs: e.p.Shown(),
		WayBack: strings.TrimSpace(e.p.Book.WayBack.About),
	}
	begin.Steps = plansOf(e.p.Steps)
	return begin
}

func plansOf(steps []Prepped) (plans []event.StepPlan) {
	for _, s := range steps {
		plans = append(plans, event.StepPlan{
			ID: s.ID, Leg: s.Leg, Title: s.Step.Step, Verb: s.Verb, Expected: s.Expected, Limit: s.Limit,
			Hold: s.Step.Hold != "", NoReturn: s.NoReturn,
		})
	}
	return plans
}

// clear ends what steps left open: carriers, staged files, unpacked ones.
func (e *Engine) clear() {
	for _, withdraw := range e.withdraw {
		withdraw()
	}
	if e.dock != nil {
		e.dock.Close()
	}
	if err := e.unpacker.Close(); err != nil {
		e.console.Emit(event.Note{Level: event.Warn, Text: "what was unpacked is left behind: " + err.Error()})
	}
}

// conclude turns what ended the steps into a result, going the way back where that is said.
func (e *Engine) conclude(ctx context.Context, err error) Result {
	switch {
	case err == nil:
		return Result{Outcome: event.Done, Exit: ExitDone, Message: "done", Proved: e.proved}
	case errors.Is(err, errStopped):
		return Result{Outcome: event.Stopped, Exit: ExitStopped, Message: err.Error() + e.changedWords()}
	case errors.Is(err, errGoBack):
		e.console.Emit(event.Note{Level: event.Warn, Text: "going the way back"})
		message := strings.TrimSuffix(err.Error(), ": "+errGoBack.Error())
		if back := e.runSteps(ctx, e.p.WayBack, false); back != nil {
			return Result{Outcome: event.Failed, Exit: ExitFailed, Message: fmt.Sprintf("%s; and the way back failed: %v", message, back)}
		}
		return Result{Outcome: event.WentBack, Exit: ExitWentBack, Message: message + "; the way back was gone"}
	case ctx.Err() != nil:
		return Result{Outcome: event.Stopped, Exit: ExitFailed, Message: "the program was ended" + e.changedWords()}
	}
	return Result{Outcome: event.Failed, Exit: ExitFailed, Message: err.Error() + e.changedWords()}
}

func (e *Engine) changedWords() string {
	if e.changed {
		return "; the device was changed before that"
	}
	return "; nothing was changed on the device"
}

var errGoBack = errors.New("go back")

// runSteps carries out steps in order. A leg with a loop is unrolled when it is come to; a failure may
// lead back to the beginning of a leg.
func (e *Engine) runSteps(ctx context.Context, steps []Prepped, course bool) error {
	for i := 0; i < len(steps); {
		if steps[i].loop != nil {
			unrolled, err := e.unroll(steps, i)
			if err != nil {
				return fmt.Errorf("leg “%s”: %w", steps[i].Leg, err)
			}
			if steps = unrolled; course {
				e.console.Emit(event.Course{Steps: plansOf(steps)})
			}
			continue
		}
		err := e.runStep(ctx, &steps[i])
		if err == nil {
			i++
			continue
		}
		again := steps[i].Failure.AgainFrom
		if again == "" || errors.Is(err, errStopped) || ctx.Err() != nil || e.failures[steps[i].ID] >= max(steps[i].Failure.Times, 1) {
			return err
		}
		e.failures[steps[i].ID]++
		e.console.Emit(event.Note{Level: event.Warn, Text: fmt.Sprintf("starts over from “%s”: %v", again, err)})
		i = e.legStart(steps, i, again)
	}
	return nil
}

// legStart is the first step of a leg, by its name in the file; of one that was unrolled, the present
// round's, or else the first one's. Where nothing is left of the leg it is the failed step itself.
func (e *Engine) legStart(steps []Prepped, from int, name string) int {
	leg := slices.IndexFunc(e.p.Book.Legs, func(l Leg) bool { return l.Leg == name })
	for at := from; at >= 0; at-- {
		if steps[at].of != leg {
			continue
		}
		for at > 0 && steps[at-1].of == leg && steps[at-1].Leg == steps[at].Leg {
			at--
		}
		return at
	}
	return from
}

// runStep carries one step out, repeating it as its retry rule, the operator or a lost line ask.
func (e *Engine) runStep(ctx context.Context, s *Prepped) error {
	e.step = s
	if skip, err := e.skips(s); err != nil || skip {
		return err
	}
	for try := 1; ; try++ {
		begun := e.console.Clock().Now()
		e.console.Emit(event.StepBegin{ID: s.ID, Try: try})
		err := e.attempt(ctx, s)
		end := event.StepEnd{ID: s.ID, Outcome: event.Done, Took: e.console.Clock().Since(begun)}
		if errors.Is(err, ErrHelm) && ctx.Err() == nil {
			err = e.byHand(ctx, s, &end)
			if err == errRepeat {
				continue
			}
			if err == nil {
				e.console.Emit(end)
				return nil
			}
		}
		if err != nil {
			end.Outcome, end.Message = event.Failed, err.Error()
			if errors.Is(err, errStopped) {
				end.Outcome = event.Stopped
			}
		}
		e.console.Emit(end)
		if err == nil {
			return nil
		}
		again, err := e.afterFailure(ctx, s, try, err)
		if !again {
			return err
		}
	}
}

var errRepeat = errors.New("repeat the step")

func (e *Engine) skips(s *Prepped) (bool, error) {
	if s.when == nil {
		return false, nil
	}
	holds, err := s.when.Holds(e.env())
	if err != nil {
		return false, fmt.Errorf("step “%s”: when %w", s.Step.Step, err)
	}
	if !holds {
		e.console.Emit(event.StepEnd{ID: s.ID, Outcome: event.Skipped, Message: "not needed: " + s.When})
	}
	return !holds, nil
}

// attempt does the step once, within its limit and while the runbook has the helm.
func (e *Engine) attempt(ctx context.Context, s *Prepped) error {
	held, release := e.console.WithHelm(ctx)
	defer release()
	if err := e.hold(held, s); err != nil {
		return causeOf(held, err)
	}
	limited, cancel := e.console.Clock().WithTimeout(held, s.Limit)
	defer cancel()
	err := e.do(limited, s)
	if err != nil && errors.Is(err, context.DeadlineExceeded) && held.Err() == nil {
		err = fmt.Errorf("%w of %s: %s", errLimit, s.Limit, e.stateWords())
	}
	return causeOf(held, err)
}

// stateWords tells what the device shows, for a failure.
func (e *Engine) stateWords() string {
	v := e.console.View()
	words := "the device is in mode " + v.Mode
	if v.Proof != "" {
		words += fmt.Sprintf(" (%q)", sense.Sample([]byte(v.Proof), 60))
	}
	return words + fmt.Sprintf(", last heard %s ago", e.console.Clock().Since(v.LastByte).Round(100*time.Millisecond))
}

// causeOf replaces a cancellation by what caused it.
func causeOf(ctx context.Context, err error) error {
	if err != nil && ctx.Err() != nil {
		if cause := context.Cause(ctx); errors.Is(cause, ErrHelm) {
			return ErrHelm
		}
	}
	return err
}

// byHand waits while the hand has the helm, then goes on as told.
func (e *Engine) byHand(ctx context.Context, s *Prepped, end *event.StepEnd) error {
	e.console.Emit(event.StepNow{ID: s.ID, Doing: "The hand has the helm", Awaiting: "until it is given back"})
	choice, err := e.console.AwaitHelm(ctx)
	switch {
	case err != nil:
		return err
	case choice == Repeat:
		return errRepeat
	case choice == GoOn:
		end.Outcome = event.ByHand
		return nil
	}
	return fmt.Errorf("%w at “%s”", errStopped, s.Step.Step)
}

// idempotent verbs may be repeated without asking after the line was lost.
var idempotent = map[string]bool{"hops": true, "poll": true, "watch": true, "snapshot": true, "read": true, "check": true, "catch": true, "wait": true, "compare": true, "note": true, "hold": true, "speed": true}

const (
	lineBackLimit  = 2 * time.Minute
	maxLineRepeats = 5
)

// afterFailure decides whether a failed step is tried again.
func (e *Engine) afterFailure(ctx context.Context, s *Prepped, try int, err error) (again bool, _ error) {
	titled := fmt.Errorf("“%s”: %w", s.Step.Step, err)
	if errors.Is(err, errStopped) || ctx.Err() != nil {
		return false, titled
	}
	if errors.Is(err, ErrLineLost) {
		if back := e.lineBack(ctx); back != nil {
			return false, fmt.Errorf("“%s”: %w", s.Step.Step, back)
		}
		if e.lineLosses++; idempotent[s.Verb] && e.lineLosses <= maxLineRepeats {
			return true, nil
		}
	}
	if try <= s.Retry {
		return true, nil
	}
	do := s.Failure.Do
	if do == "" && s.Failure.AgainFrom == "" {
		do = e.p.Book.OnFailure.Do
	}
	switch {
	case do == "go-on":
		e.console.Emit(event.Note{Level: event.Warn, Text: "goes on although " + titled.Error()})
		return false, nil
	case s.Failure.AgainFrom != "" && e.failures[s.ID] < max(s.Failure.Times, 1):
		return false, titled
	case do == "go-back" && len(e.p.WayBack) > 0 && e.changed:
		return false, fmt.Errorf("%w: %w", titled, errGoBack)
	}
	return e.askAfterFailure(ctx, s, titled)
}

func (e *Engine) lineBack(ctx context.Context) error {
	e.console.Emit(event.Note{Level: event.Warn, Text: "the line is lost; waiting for it to come back"})
	limited, cancel := e.console.Clock().WithTimeout(ctx, lineBackLimit)
	defer cancel()
	if err := e.console.AwaitLine(limited); err != nil {
		return fmt.Errorf("%w and did not come back within %s", ErrLineLost, lineBackLimit)
	}
	return nil
}

// askAfterFailure lets the operator decide; with nobody to ask the answer is to stop.
func (e *Engine) askAfterFailure(ctx context.Context, s *Prepped, failure error) (bool, error) {
	answers := []string{TryAgain, SkipIt, StopHere}
	if len(e.p.WayBack) > 0 && e.changed {
		answers = append(answers, TakeBackA)
	}
	held, release := e.console.WithHelm(ctx)
	defer release()
	answer, err := e.console.Ask(held, event.Ask{
		Form: "failure", Step: s.ID, Text: failure.Error(), Answers: answers, Changed: e.changed,
		WayBack: strings.TrimSpace(e.p.Book.WayBack.About),
	})
	if errors.Is(causeOf(held, err), ErrHelm) && ctx.Err() == nil {
		choice, err := e.console.AwaitHelm(ctx)
		answer = map[Choice]string{Repeat: TryAgain, GoOn: SkipIt, Stop: StopHere}[choice]
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
		return false, nil
	case TakeBackA:
		return false, fmt.Errorf("%w: %w", failure, errGoBack)
	}
	return false, failure
}

// hold waits for the operator's approval where the step asks for one.
func (e *Engine) hold(ctx context.Context, s *Prepped) error {
	if s.Step.Hold == "" {
		return nil
	}
	env := e.env()
	text, err := s.hold.Render(env)
	if err != nil {
		return err
	}
	wayBack := s.wayBack.Shown(env)
	if wayBack == "" && !s.NoReturn {
		wayBack = strings.TrimSpace(e.p.Book.WayBack.About)
	}
	e.console.Emit(event.StepNow{ID: s.ID, Doing: s.Step.Step, Awaiting: "your approval"})
	answer, err := e.console.Ask(ctx, event.Ask{
		Form: "hold", Step: s.ID, Text: strings.TrimSpace(text), Types: e.p.Types(s, e.openEnv()), WayBack: wayBack,
		NoReturn: s.NoReturn, Changed: e.changed, Answers: []string{Approve, StopHere},
	})
	if err != nil {
		return err
	}
	if answer != Approve {
		return fmt.Errorf("%w at the hold", errStopped)
	}
	return nil
}

// env is what expressions see: facts, inputs, what earlier steps made, and the loop's own.
func (e *Engine) env() map[string]any {
	env := e.p.Env(e.facts)
	maps.Copy(env, e.made)
	now := e.console.Clock().Now()
	env["clock"] = map[string]any{"day": now.Format("2006-01-02"), "time": now.Format("1504")}
	if e.step != nil {
		maps.Copy(env, e.step.vars)
	}
	return env
}

// openEnv is env without secrets.
func (e *Engine) openEnv() map[string]any {
	env := e.env()
	for _, input := range e.p.Book.Inputs {
		if input.Kind == KindSecret {
			delete(env, input.Input)
		}
	}
	if served, is := env["serve"].(map[string]any); is {
		served = maps.Clone(served)
		delete(served, "password")
		env["serve"] = served
	}
	return env
}

// do carries out the step's verb.
func (e *Engine) do(ctx context.Context, s *Prepped) error {
	switch {
	case len(s.Read) > 0:
		defer e.tellShelf()
		return e.read(ctx, s)
	case s.Step.Check != "":
		return e.check(s)
	case s.Act != nil:
		return e.act(ctx, s)
	case s.Send != nil:
		return e.send(ctx, s)
	case s.Speed != nil:
		return e.speed(ctx, s)
	case s.Catch != nil:
		return e.catch(ctx, s)
	case s.Wait != nil:
		return e.wait(ctx, s)
	case len(s.Step.Compare) > 0:
		return e.compareAll(s)
	case s.Operator != "":
		return e.operator(ctx, s)
	case s.Hops != nil:
		return e.planHops(s)
	case s.Serve != nil:
		return e.serve(ctx, s)
	case s.Take != nil:
		return e.take(ctx, s)
	case s.Put != nil:
		return e.put(ctx, s)
	case s.Poll != nil:
		return e.poll(ctx, s)
	case s.Restart != nil:
		return e.restart(ctx, s)
	case len(s.Step.Watch) > 0:
		return e.watch(s)
	case s.Snapshot != "":
		e.made[s.Snapshot] = e.facts.Tree()
		return nil
	case s.Note != "":
		text, err := s.say.Render(e.env())
		e.console.Emit(event.Note{Level: event.Say, Text: text})
		return err
	}
	return nil
}

func (e *Engine) now(s *Prepped, doing, awaiting string, limit time.Duration) {
	e.console.Emit(event.StepNow{ID: s.ID, Doing: doing, Awaiting: awaiting, Limit: limit})
}
