package runbook

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"maps"
	"runtime/debug"
	"slices"
	"strings"
	"time"

	"pilotrix/core/clock"
	"pilotrix/core/device"
	"pilotrix/core/dialect"
	"pilotrix/core/event"
	"pilotrix/core/image"
	"pilotrix/core/reach"
	"pilotrix/core/sense"
	"pilotrix/core/serve"
	"pilotrix/core/transfer"
	"pilotrix/core/units"
)

// Console is what the engine needs of the session it runs in.
type Console interface {
	Clock() clock.Clock
	Emit(event.Body)
	// Device is what the device is in now.
	Device() sense.State
	// Await returns the first view for which ready holds. It ends with ctx, or with ErrLineLost.
	Await(ctx context.Context, ready func(sense.State) bool) (sense.State, error)
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
	// Carry hands the line to a transfer. What a waiting receiver has asked with is read first.
	Carry(ctx context.Context, carry func(context.Context, transfer.Duplex) error) error
	// AwaitLine waits for a lost line to come back.
	AwaitLine(ctx context.Context) error
	// Ask puts a question to the operator and returns one of its answers.
	Ask(ctx context.Context, ask event.Ask) (string, error)
	// WithHelm is a context that ends, with ErrHelm as its cause, when the hand takes the helm.
	WithHelm(ctx context.Context) (context.Context, context.CancelFunc)
	// AwaitHelm waits for the hand to give the helm back and says how to go on.
	AwaitHelm(ctx context.Context) (Resumption, error)
	// TakeBack gives the runbook the helm without asking, to put the line in order at the end.
	TakeBack(why string)
	// Release gives the helm to the hand, at the end.
	Release(why string)
	// Stops says why a command has to be held at its Enter, empty when it need not be.
	Stops(command string) string
	// Pending is what the device will lose, or do by itself, unless it is dealt with.
	Pending() []dialect.Open
	// Reach watches whether addresses answer; nil when nothing can be watched.
	Reach() *reach.Watch
}

// Typing says what a line is that is typed.
type Typing struct {
	Secret bool // it is not shown, and not recorded
	Fresh  bool // it begins a command; else it answers a question in the middle of one
	Leads  bool // the command leads to another mode
}

// Resumption is how to go on after the hand had the helm.
type Resumption int

// What the operator may choose when giving the helm back.
const (
	Repeat Resumption = iota // the step from its beginning
	GoOn                     // with the next step: this one was done by hand
	Stop
)

// Causes of a broken-off wait. Test with errors.Is.
var (
	ErrHelm     = errors.New("the operator took the helm")
	ErrLineLost = errors.New("the line was lost")
	errStopped  = errors.New("stopped by the operator")
	errTimeout  = errors.New("not within the timeout")
)

// Exit codes of a run.
const (
	ExitDone       = 0
	ExitFailed     = 1
	ExitStopped    = 3
	ExitRolledBack = 4
)

// Result is how a run ended.
type Result struct {
	Outcome event.Outcome
	Exit    int
	Message string
	Proved  []string
}

// Answers to an Ask.
const (
	Approve  = "approve"
	StopHere = "stop"
	DoneByMe = "done"
	TryAgain = "repeat"
	SkipIt   = "go on"
	RollBack = "roll back"
)

// Engine carries out one prepared runbook. It runs in the goroutine that calls Run.
type Engine struct {
	p       *Prepared
	console Console
	facts   *device.Facts

	changed     bool // something that the device keeps was changed
	rollingBack bool
	receiving   bool // the device was made to receive and did not come back from that yet
	speedBefore int
	failures    map[string]int // repeat-from jumps used, by step
	lineLosses  int
	proved      []string

	course    []PreparedStep // the steps as they are unrolled now, nil while rolling back
	here      int            // the present one's place there
	step      *PreparedStep  // the present one
	made      map[string]any // what steps made for later ones: serve, taken, upgrades, restart, snapshots
	dock      *serve.Dock    // nil until a step serves
	withdraw  map[string]func()
	unpacker  image.Unpacker
	upgrades  []image.UpgradeStep
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
	result := e.conclude(ctx, e.carryOut(ctx))
	if note := e.restoreSpeed(ctx); note != "" {
		result.Message += "; " + note
	}
	e.clear()
	e.console.Emit(event.RunEnd{Outcome: result.Outcome, Exit: result.Exit, Message: result.Message, Proved: result.Proved})
	e.console.Release("the runbook ended")
	return result
}

// carryOut is the run up to what it ends with.
func (e *Engine) carryOut(ctx context.Context) (err error) {
	defer e.faulted(&err)
	if err := e.askCutOff(ctx); err != nil {
		return err
	}
	return e.runSteps(ctx, e.p.Steps, true)
}

// faulted makes a fault of this program's own an end like another: the operator keeps the console, the line its
// speed, and the logbook the run's last event. It is deferred.
func (e *Engine) faulted(err *error) {
	if fault := recover(); fault != nil {
		*err = fmt.Errorf("a fault of this program, at %s: %v", e.atWords(), fault)
		e.console.Emit(event.Note{Level: event.Error, Text: (*err).Error() + "\n" + string(debug.Stack())})
	}
}

func (e *Engine) atWords() string {
	if e.step == nil {
		return "the beginning"
	}
	return "“" + e.title(e.step) + "”"
}

// CutOffStep is what the question about an earlier run that was cut off is called, where a step's number stands
// otherwise.
const CutOffStep = "cut-off"

// askCutOff asks before a run begins on a device on which an earlier one was cut off: nobody knows how far that one
// came.
func (e *Engine) askCutOff(ctx context.Context) error {
	if e.p.Kit.CutOff == "" {
		return nil
	}
	held, release := e.console.WithHelm(ctx)
	defer release()
	answer, err := e.console.Ask(held, event.Ask{
		Form: event.FormHold, Step: CutOffStep, Text: "An earlier run was cut off: " + e.p.Kit.CutOff + ". Begin this one all the same?",
		Answers: []string{Approve, StopHere},
	})
	if err == nil && answer != Approve {
		err = fmt.Errorf("%w before it began: an earlier run was cut off", errStopped)
	}
	return causeOf(held, err)
}

func (e *Engine) begin() event.RunBegin {
	begin := event.RunBegin{
		Runbook: e.p.Book.Runbook, Title: e.p.titleWords(e.openEnv()), Dialect: e.p.Dialect.Dialect, Inputs: e.p.Shown(),
		Rollback: e.p.aboutRollback(e.openEnv()),
	}
	begin.Steps = e.plansOf(e.p.Steps, 0)
	return begin
}

// plansOf are steps as a course is drawn of them, their titles and what they type filled in as far as that is
// known now, at the step that is here.
func (e *Engine) plansOf(steps []PreparedStep, here int) (plans []event.StepPlan) {
	walk := e.planner()
	for i := range steps {
		s := &steps[i]
		plan := event.StepPlan{
			ID: s.ID, Phase: s.Phase, Title: e.title(s), Verb: s.VerbName(), Expected: s.Expected, Timeout: s.Timeout,
			Hold: s.Hold != "", Irreversible: s.Irreversible,
		}
		if s.Verb != nil {
			plan.Cards = s.Verb.Cards
		}
		if i >= here {
			plan.Types = typedWords(walk.step(s).Types)
		}
		plans = append(plans, plan)
	}
	return plans
}

// planner lays out what is ahead from what is known now.
func (e *Engine) planner() *planner {
	p := &planner{Prepared: e.p, env: e.openEnv(), locks: e.p.Dialect.NewInterlocks(), altered: new(bool)}
	if v := e.console.Device(); v.AtPrompt {
		p.mode = v.Mode
	}
	return p
}

// title is what a step does, in words, with what is known now.
func (e *Engine) title(s *PreparedStep) string {
	if s.title == nil {
		return s.Step
	}
	env := e.openEnv()
	maps.Copy(env, s.vars)
	return s.title.Shown(env)
}

// clear ends what steps left open: transfers, staged files, unpacked ones.
func (e *Engine) clear() {
	for _, withdraw := range e.withdraw {
		withdraw()
	}
	if e.dock != nil {
		e.dock.Close()
	}
	if err := e.unpacker.Close(); err != nil {
		e.console.Emit(event.Note{Level: event.Warning, Text: "what was unpacked is left behind: " + err.Error()})
	}
}

// conclude turns what ended the steps into a result, going the rollback where that is said.
func (e *Engine) conclude(ctx context.Context, err error) Result {
	switch {
	case err == nil:
		return Result{Outcome: event.Done, Exit: ExitDone, Message: "done", Proved: e.proved}
	case errors.Is(err, errStopped):
		return Result{Outcome: event.Stopped, Exit: ExitStopped, Message: err.Error() + e.changedWords()}
	case errors.Is(err, errRollBack):
		e.console.Emit(event.Note{Level: event.Warning, Text: "rolling back"})
		message := strings.TrimSuffix(err.Error(), ": "+errRollBack.Error())
		e.rollingBack = true
		if back := e.runSteps(ctx, e.p.Rollback, false); back != nil {
			return Result{Outcome: event.Failed, Exit: ExitFailed, Message: fmt.Sprintf("%s; and the rollback failed: %v", message, back)}
		}
		return Result{Outcome: event.RolledBack, Exit: ExitRolledBack, Message: message + "; rolled back"}
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

var errRollBack = errors.New("roll back")

// runSteps carries out steps in order. A phase with a loop is unrolled when it is come to; a failure may
// lead back to the beginning of a phase.
func (e *Engine) runSteps(ctx context.Context, steps []PreparedStep, course bool) error {
	for i := 0; i < len(steps); {
		if steps[i].loop != nil {
			unrolled, err := e.unroll(steps, i)
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
			if i > 0 && steps[i].Phase != steps[i-1].Phase {
				e.console.Emit(event.Course{Steps: e.plansOf(steps, i)}) // what was read since fills it in
			}
		}
		err := e.runStep(ctx, &steps[i])
		if err == nil {
			i++
			continue
		}
		again := steps[i].Failure.RepeatFrom
		if again == "" || errors.Is(err, errStopped) || ctx.Err() != nil || e.failures[steps[i].ID] >= max(steps[i].Failure.Times, 1) {
			return err
		}
		e.failures[steps[i].ID]++
		e.console.Emit(event.Note{Level: event.Warning, Text: fmt.Sprintf("starts over from “%s”: %v", again, err)})
		i = e.phaseStart(steps, i, again)
	}
	return nil
}

// phaseStart is the first step of a phase, by its name in the file; of one that was unrolled, the present
// round's, or else the first one's. Where nothing is left of the phase it is the failed step itself.
func (e *Engine) phaseStart(steps []PreparedStep, from int, name string) int {
	phase := slices.IndexFunc(e.p.Book.Phases, func(l Phase) bool { return l.Phase == name })
	for at := from; at >= 0; at-- {
		if steps[at].of != phase {
			continue
		}
		for at > 0 && steps[at-1].of == phase && steps[at-1].Phase == steps[at].Phase {
			at--
		}
		return at
	}
	return from
}

// runStep carries one step out, repeating it as its retry rule, the operator or a lost line ask.
func (e *Engine) runStep(ctx context.Context, s *PreparedStep) error {
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
func (e *Engine) attempt(ctx context.Context, s *PreparedStep) (err error) {
	defer e.faulted(&err)
	held, release := e.console.WithHelm(ctx)
	defer release()
	if err := e.hold(held, s); err != nil {
		return causeOf(held, err)
	}
	limit, ends := e.bounded(s.Timeout)
	limited, cancel := e.console.Clock().WithTimeout(held, limit)
	defer cancel()
	if s.Work != nil {
		err = s.Work.Do(limited, e, s)
	}
	if err != nil && errors.Is(err, context.DeadlineExceeded) && held.Err() == nil {
		err = fmt.Errorf("%w of %s%s: %s", errTimeout, limit, ends, e.stateWords())
	}
	return causeOf(held, err)
}

// bounded is a timeout, or what is left until the device acts by itself where that is sooner, and why.
func (e *Engine) bounded(timeout time.Duration) (limit time.Duration, why string) {
	now := e.console.Clock().Now()
	for _, open := range e.console.Pending() {
		if left := open.Until.Sub(now); !open.Until.IsZero() && left < timeout {
			timeout, why = max(left, time.Second), ", when this happens by itself: "+open.Says
		}
	}
	return timeout.Round(time.Millisecond), why
}

// pendingWords is what is pending now, and how long it has.
func (e *Engine) pendingWords() (words []string) {
	now := e.console.Clock().Now()
	for _, open := range e.console.Pending() {
		text := open.Says
		if !open.Until.IsZero() {
			text += ", in " + units.Words(max(0, open.Until.Sub(now)))
		}
		words = append(words, text)
	}
	return words
}

// stateWords tells what the device shows, for a failure.
func (e *Engine) stateWords() string {
	v := e.console.Device()
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
func (e *Engine) byHand(ctx context.Context, s *PreparedStep, end *event.StepEnd) error {
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
	return fmt.Errorf("%w at “%s”", errStopped, e.title(s))
}

const (
	lineBackTimeout = 2 * time.Minute
	maxLineRepeats  = 5
)

// afterFailure decides whether a failed step is tried again.
func (e *Engine) afterFailure(ctx context.Context, s *PreparedStep, try int, err error) (again bool, _ error) {
	titled := fmt.Errorf("“%s”: %w", e.title(s), err)
	if errors.Is(err, errStopped) || ctx.Err() != nil {
		return false, titled
	}
	if errors.Is(err, ErrLineLost) {
		if back := e.lineBack(ctx); back != nil {
			return false, fmt.Errorf("“%s”: %w", e.title(s), back)
		}
		if other := e.sameDevice(ctx, s); other != nil {
			return false, fmt.Errorf("“%s”: %w", e.title(s), other)
		}
		if e.lineLosses++; (s.Verb == nil || s.Verb.Repeatable) && e.lineLosses <= maxLineRepeats {
			return true, nil
		}
	}
	if try <= s.Retry {
		return true, nil
	}
	do := s.Failure.Do
	if do == "" && s.Failure.RepeatFrom == "" {
		do = e.p.Book.OnFailure.Do
	}
	switch {
	case do == "go-on":
		e.console.Emit(event.Note{Level: event.Warning, Text: "goes on although " + titled.Error()})
		return false, nil
	case s.Failure.RepeatFrom != "" && e.failures[s.ID] < max(s.Failure.Times, 1):
		return false, titled
	case do == "roll-back" && len(e.p.Rollback) > 0 && e.changed:
		return false, fmt.Errorf("%w: %w", titled, errRollBack)
	}
	return e.askAfterFailure(ctx, s, titled)
}

// lineBack waits for the line to come back. The operator may take the helm meanwhile: a stop ends the wait, and
// anything else goes on with it.
func (e *Engine) lineBack(ctx context.Context) error {
	e.console.Emit(event.Note{Level: event.Warning, Text: "the line is lost; waiting for it to come back"})
	for {
		held, release := e.console.WithHelm(ctx)
		limited, cancel := e.console.Clock().WithTimeout(held, lineBackTimeout)
		err := e.console.AwaitLine(limited)
		taken := errors.Is(causeOf(held, err), ErrHelm)
		cancel()
		release()
		switch {
		case err == nil:
			return nil
		case !taken || ctx.Err() != nil:
			return fmt.Errorf("%w and did not come back within %s", ErrLineLost, lineBackTimeout)
		}
		choice, err := e.console.AwaitHelm(ctx)
		if err != nil {
			return err
		}
		if choice == Stop {
			return fmt.Errorf("%w while the line was lost", errStopped)
		}
	}
}

const identityTimeout = 20 * time.Second

// sameDevice holds, after the line was lost, that the device behind it is still the one that was read before.
// Where that cannot be read now it is said, and nothing more.
func (e *Engine) sameDevice(ctx context.Context, s *PreparedStep) error {
	id := e.p.Dialect.Identity
	if id == nil {
		return nil
	}
	before, known := e.facts.Get(id.Fact)
	if !known {
		return nil
	}
	held, release := e.console.WithHelm(ctx)
	defer release()
	limited, cancel := e.console.Clock().WithTimeout(held, identityTimeout)
	defer cancel()
	if err := e.readOne(limited, s, e.p.Dialect.Reading(id.Read)); err != nil {
		e.console.Emit(event.Note{Level: event.Warning, Text: "whether this is still " + before.Text + " cannot be read now"})
		return nil
	}
	if now, _ := e.facts.Get(id.Fact); now.Text != before.Text {
		return fmt.Errorf("%w: another device is on the line now: %s reads %s, was %s", errStopped, id.Fact, now.Text, before.Text)
	}
	return nil
}

// askAfterFailure lets the operator decide; with nobody to ask the answer is to stop.
func (e *Engine) askAfterFailure(ctx context.Context, s *PreparedStep, failure error) (bool, error) {
	answers := []string{TryAgain, SkipIt, StopHere}
	if len(e.p.Rollback) > 0 && e.changed {
		answers = append(answers, RollBack)
	}
	held, release := e.console.WithHelm(ctx)
	defer release()
	answer, err := e.console.Ask(held, event.Ask{
		Form: event.FormFailure, Step: s.ID, Text: failure.Error(), Answers: answers, Changed: e.changed,
		Rollback: e.p.aboutRollback(e.openEnv()),
	})
	if errors.Is(causeOf(held, err), ErrHelm) && ctx.Err() == nil {
		choice, err := e.console.AwaitHelm(ctx)
		answer = map[Resumption]string{Repeat: TryAgain, GoOn: SkipIt, Stop: StopHere}[choice]
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
	case RollBack:
		return false, fmt.Errorf("%w: %w", failure, errRollBack)
	}
	return false, failure
}

// hold waits for the operator's approval where the step asks for one.
func (e *Engine) hold(ctx context.Context, s *PreparedStep) error {
	if s.Hold == "" {
		return nil
	}
	env := e.env()
	text, err := s.hold.Render(env)
	if err != nil {
		return err
	}
	rollback := s.rollback.Shown(env)
	if rollback == "" && !s.Irreversible {
		rollback = e.p.aboutRollback(e.openEnv())
	}
	if e.course != nil {
		e.console.Emit(event.Course{Steps: e.plansOf(e.course, e.here)}) // what was read since fills it in
	}
	e.console.Emit(event.StepNow{ID: s.ID, Doing: e.title(s), Awaiting: "your approval"})
	answer, err := e.console.Ask(ctx, event.Ask{
		Form: event.FormHold, Step: s.ID, Text: strings.TrimSpace(text), Types: e.typesOf(s), Rollback: rollback,
		Irreversible: s.Irreversible, Changed: e.changed, Pending: e.pendingWords(), Answers: []string{Approve, StopHere},
	})
	if err != nil {
		return err
	}
	if answer != Approve {
		return fmt.Errorf("%w at the hold", errStopped)
	}
	return nil
}

// typesOf is what a step types from here, in words: the same as its plan says, with what is known now.
func (e *Engine) typesOf(s *PreparedStep) []string { return typedWords(e.planner().step(s).Types) }

// env is what expressions see: facts, inputs, what earlier steps made, and the loop's own.
func (e *Engine) env() map[string]any {
	env := e.p.Env(e.facts)
	maps.Copy(env, e.made)
	now := e.console.Clock().Now()
	if v := e.console.Device(); v.AtPrompt {
		env["prompt"] = e.p.Dialect.PromptGroups(v.Mode, v.Prompt)
	}
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

func (e *Engine) now(s *PreparedStep, doing, awaiting string, timeout time.Duration) {
	e.console.Emit(event.StepNow{ID: s.ID, Doing: doing, Awaiting: awaiting, Timeout: timeout})
}
