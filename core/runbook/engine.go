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
	AwaitHelm(ctx context.Context) (Wish, error)
	// TakeBack gives the runbook the helm without asking, to put the line in order at the end.
	TakeBack(why string)
	// Release gives the helm to the hand, at the end.
	Release(why string)
	// Stops says why a command has to be held at its Enter, empty when it need not be.
	Stops(command string) string
	// Present is what is under way now, in words, which a danger is told with.
	Present() []string
	// Pending is what the device will lose, or do by itself, unless it is dealt with.
	Pending() []dialect.Open
	// Settle waits until everything that happened so far is kept.
	Settle(ctx context.Context) error
	// Reach watches whether addresses answer; nil when nothing can be watched.
	Reach() *reach.Watch
}

// Typing says what a line is that is typed.
type Typing struct {
	Secret bool // it is not shown, and not recorded
	Fresh  bool // it begins a command; else it answers a question in the middle of one
	Leads  bool // the command leads to another mode
	Masks  bool // a secret stands in it
}

// Wish is how to go on after the hand had the helm.
type Wish int

// What the operator may choose when giving the helm back.
const (
	Resume Wish = iota // waiting, where a wait was interrupted; else the step is repeated
	Repeat             // the step from its beginning
	GoOn               // with the next step: this one was done by hand
	Stop
)

func (w Wish) String() string {
	return [...]string{"go on waiting", "repeat the step", "go on with the next step", "stop"}[w]
}

// Causes of a broken-off wait. Test with errors.Is.
var (
	ErrHelm     = errors.New("the operator took the helm")
	ErrLineLost = errors.New("the line was lost")
	errStopped  = errors.New("stopped by the operator")
	errTimeout  = errors.New("not within the timeout")
)

// Exit codes of a run. 2 is what the system gives a program that crashes.
const (
	ExitDone       = 0 // it was so already, too
	ExitFailed     = 1
	ExitStopped    = 3
	ExitRolledBack = 4
	ExitDoneBut    = 5 // to the end, over steps that failed
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
	WaitOn   = "wait on"
	GiveUp   = "give up"
	TryAgain = "repeat"
	SkipIt   = "go on"
	RollBack = "roll back"
)

// Engine carries out one prepared runbook. It runs in the goroutine that calls Run.
type Engine struct {
	p       *Prepared
	console *steered
	facts   *device.Facts
	run     context.Context // of the whole run: what waits for the operator has no other limit

	patience *patience // of the step that is under way
	doing    event.StepNow

	tried       bool     // a command went out that changes what the device keeps
	changed     bool     // and succeeded
	ownChanges  int      // how many changes were this run's, of those that the facts know of
	changesThen int      // how many the facts knew of when it began
	past        []string // failures that were gone past
	already     string   // why nothing was to be done
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
	e := &Engine{
		p: p, facts: facts, failures: map[string]int{},
		made: map[string]any{}, withdraw: map[string]func(){}, unpacker: image.Unpacker{In: p.Kit.Folder},
		changesThen: facts.Changes(),
	}
	e.console = &steered{Console: console, e: e}
	return e
}

// Run carries the runbook out, then puts the line's speed back whatever happened.
func (e *Engine) Run(ctx context.Context) Result {
	e.run = ctx
	e.speedBefore, _ = e.console.Speed()
	e.console.Emit(e.begin())
	e.tellShelf()
	result := e.conclude(ctx, e.carryOut(ctx))
	if note := e.putBack(ctx); note != "" {
		result.Message += "; " + note
	}
	e.console.Emit(event.RunEnd{Outcome: result.Outcome, Exit: result.Exit, Message: result.Message, Proved: result.Proved})
	e.console.Release("the runbook ended")
	return result
}

// putBack puts the line's speed back and ends what steps left open. It tells what is left to say.
func (e *Engine) putBack(ctx context.Context) (note string) {
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
	case err == nil && len(e.past) > 0:
		return Result{Outcome: event.DoneBut, Exit: ExitDoneBut, Message: "done, but this failed and was gone past: " + strings.Join(e.past, "; "), Proved: e.proved}
	case err == nil:
		return Result{Outcome: event.Done, Exit: ExitDone, Message: "done", Proved: e.proved}
	case errors.Is(err, errAlready):
		return Result{Outcome: event.Already, Exit: ExitDone, Message: e.already + e.changedWords(), Proved: e.proved}
	case errors.Is(err, errStopped):
		return Result{Outcome: event.Stopped, Exit: ExitStopped, Message: err.Error() + e.changedWords()}
	case errors.Is(err, errRollBack):
		return e.rollBack(ctx, strings.TrimSuffix(err.Error(), ": "+errRollBack.Error()))
	case ctx.Err() != nil:
		return Result{Outcome: event.Stopped, Exit: ExitFailed, Message: "the program was ended" + e.changedWords()}
	}
	return Result{Outcome: event.Failed, Exit: ExitFailed, Message: err.Error() + e.changedWords()}
}

// rollBack goes the rollback. Its steps stand on the course behind those that were done.
func (e *Engine) rollBack(ctx context.Context, failure string) Result {
	e.console.Emit(event.Note{Level: event.Warning, Text: "rolling back"})
	e.rollingBack = true
	e.console.Emit(event.Course{Steps: append(e.plansOf(e.course[:min(len(e.course), e.here+1)], e.here+1), e.plansOf(e.p.Rollback, 0)...)})
	gone := len(e.past)
	back := e.guarded(func() error { return e.runSteps(ctx, e.p.Rollback, false) })
	switch {
	case errors.Is(back, errStopped):
		return Result{Outcome: event.Stopped, Exit: ExitStopped, Message: fmt.Sprintf("%s; and the rollback was stopped: %v", failure, back)}
	case back != nil:
		return Result{Outcome: event.Failed, Exit: ExitFailed, Message: fmt.Sprintf("%s; and the rollback failed: %v", failure, back)}
	case len(e.past) > gone:
		return Result{Outcome: event.Failed, Exit: ExitFailed, Message: fmt.Sprintf("%s; and of the rollback this failed: %s", failure, strings.Join(e.past[gone:], "; "))}
	}
	return Result{Outcome: event.RolledBack, Exit: ExitRolledBack, Message: failure + "; rolled back"}
}

// guarded does something whose faults are errors.
func (e *Engine) guarded(do func() error) (err error) {
	defer e.faulted(&err)
	return do()
}

// mayHaveChanged reports whether the device may not be what it was when the run began: a command that changes it
// went out, or the hand typed something.
func (e *Engine) mayHaveChanged() bool { return e.tried || e.typedByHand() }

func (e *Engine) typedByHand() bool { return e.facts.Changes() > e.changesThen+e.ownChanges }

func (e *Engine) changedWords() string {
	switch {
	case e.changed:
		return "; the device was changed before that"
	case e.tried:
		return "; the device may have been changed before that"
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
		if !errors.Is(err, errRepeatFrom) || ctx.Err() != nil {
			return err
		}
		if steps, i, err = e.backTo(ctx, steps, i, err); err != nil {
			return err
		}
	}
	return nil
}

// backTo goes back to the phase that a failed step names. What was unrolled from there on is unrolled anew, since
// its list may be another one now; but the present round of a loop begins again as it is.
func (e *Engine) backTo(ctx context.Context, steps []PreparedStep, from int, failure error) ([]PreparedStep, int, error) {
	s := &steps[from]
	again := s.Failure.RepeatFrom
	e.failures[s.ID]++
	why := strings.TrimSuffix(failure.Error(), ": "+errRepeatFrom.Error())
	e.console.Emit(event.Note{Level: event.Warning, Text: fmt.Sprintf("starts over from “%s”: %s", again, why)})
	if other := e.sameDeviceHere(ctx, s); other != nil {
		return nil, 0, fmt.Errorf("“%s”: %w", e.title(s), other)
	}
	phase := slices.IndexFunc(e.p.Book.Phases, func(l Phase) bool { return l.Phase == again })
	if e.rollingBack || phase == s.of {
		return steps, e.phaseStart(steps, from, phase), nil
	}
	at := slices.IndexFunc(steps, func(one PreparedStep) bool { return one.of >= phase })
	whole := slices.IndexFunc(e.p.Steps, func(one PreparedStep) bool { return one.of >= phase })
	if at < 0 || whole < 0 {
		return steps, from, nil
	}
	steps = slices.Concat(steps[:at:at], e.p.Steps[whole:])
	e.console.Emit(event.Course{Steps: e.plansOf(steps, at)})
	return steps, at, nil
}

// phaseStart is the first step of a phase; of one that was unrolled, the present round's. Where nothing is left of
// the phase it is the failed step itself.
func (e *Engine) phaseStart(steps []PreparedStep, from, phase int) int {
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
		case wish != nil && wish.Wish == GoOn:
			end.Outcome, err = event.ByHand, nil
		case wish != nil:
			err = fmt.Errorf("%w at “%s”", errStopped, e.title(s))
		}
		if err != nil {
			end.Outcome, end.Message = event.Failed, err.Error()
			if errors.Is(err, errStopped) {
				end.Outcome = event.Stopped
			}
		}
		if errors.Is(err, errAlready) {
			end.Outcome, end.Message = event.Done, ""
		}
		e.console.Emit(end)
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
		err = s.Work.Do(ctx, e, s)
	}
	if cause := context.Cause(ctx); cause != nil && run.Err() == nil && !errors.Is(err, cause) {
		err = cause // what ended the step, whatever came of that further in
	}
	return err
}

// needsNobody reports whether a step that takes too long goes on without the operator: what follows is said, or
// it is repeated and that does no harm.
func (e *Engine) needsNobody(s *PreparedStep, try int) bool {
	if e.onFailure(s) == "go-on" {
		return true
	}
	return s.repeatable() && (try <= s.Retry || e.repeatsFrom(s))
}

func (s *PreparedStep) repeatable() bool { return s.Verb == nil || s.Verb.Repeatable }

// onFailure is what a failure of the step leads to, empty when the operator is asked.
func (e *Engine) onFailure(s *PreparedStep) string {
	if s.Failure.Do != "" || s.Failure.RepeatFrom != "" {
		return s.Failure.Do
	}
	return e.p.Book.OnFailure.Do
}

// repeatsFrom reports whether a failure of the step leads back to a phase.
func (e *Engine) repeatsFrom(s *PreparedStep) bool {
	return s.Failure.RepeatFrom != "" && e.failures[s.ID] < max(s.Failure.Times, 1)
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

// byHand waits while the hand has the helm. Its error says how to go on.
func (e *Engine) byHand(ctx context.Context, s *PreparedStep) error {
	e.console.Emit(event.StepNow{ID: s.ID, Doing: "The hand has the helm", Awaiting: "until it is given back"})
	wish, err := e.console.AwaitHelm(ctx)
	if err != nil {
		return err
	}
	return &chosen{wish}
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
	var late *overrun
	twice := errors.As(err, &late) && late.offered && !s.repeatable() // it may still be under way: nothing is begun twice
	do := e.onFailure(s)
	switch {
	case try <= s.Retry && !twice:
		return true, nil
	case do == "go-on":
		e.console.Emit(event.Note{Level: event.Warning, Text: "goes on although " + titled.Error()})
		e.past = append(e.past, titled.Error())
		return false, nil
	case e.repeatsFrom(s) && !twice:
		return false, fmt.Errorf("%w: %w", titled, errRepeatFrom)
	case do == "roll-back" && len(e.p.Rollback) > 0 && e.mayHaveChanged():
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
	for {
		held, release := e.console.WithHelm(ctx)
		err := e.identify(held, s)
		release()
		if !errors.Is(err, ErrHelm) || ctx.Err() != nil {
			return err
		}
		switch wish, err := e.console.AwaitHelm(ctx); {
		case err != nil:
			return err
		case wish == Stop:
			return fmt.Errorf("%w before the device was known to be the same", errStopped)
		}
	}
}

// sameDeviceHere holds the same where the device may have restarted, or the run goes back; it is read only where
// nothing has to be typed to get there.
func (e *Engine) sameDeviceHere(ctx context.Context, s *PreparedStep) error {
	if id := e.p.Dialect.Identity; id == nil || !e.readable(e.p.Dialect.Reading(id.Read)) {
		return nil
	}
	return e.identify(ctx, s)
}

func (e *Engine) identify(ctx context.Context, s *PreparedStep) error {
	id := e.p.Dialect.Identity
	if id == nil {
		return nil
	}
	before, known := e.facts.Get(id.Fact)
	if !known {
		return nil
	}
	limited, cancel := e.console.Clock().WithTimeout(ctx, identityTimeout)
	defer cancel()
	if err := e.readOne(limited, s, e.p.Dialect.Reading(id.Read)); err != nil {
		if ctx.Err() != nil {
			return causeOf(ctx, err)
		}
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
	if len(e.p.Rollback) > 0 && e.mayHaveChanged() && !e.rollingBack {
		answers = append(answers, RollBack)
	}
	held, release := e.console.WithHelm(ctx)
	defer release()
	answer, err := e.console.Ask(held, event.Ask{
		Form: event.FormFailure, Step: s.ID, Title: e.title(s), Text: failure.Error(), Answers: answers, Changed: e.mayHaveChanged(),
		Rollback: e.p.aboutRollback(e.openEnv()),
	})
	if errors.Is(causeOf(held, err), ErrHelm) && ctx.Err() == nil {
		wish, err := e.console.AwaitHelm(ctx)
		answer = map[Wish]string{Resume: TryAgain, Repeat: TryAgain, GoOn: SkipIt, Stop: StopHere}[wish]
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
		e.past = append(e.past, failure.Error())
		return false, nil
	case RollBack:
		return false, fmt.Errorf("%w: %w", failure, errRollBack)
	}
	return false, failure
}

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
	e.p.mask(env)
	if served, is := env["serve"].(map[string]any); is {
		served = maps.Clone(served)
		served["password"] = event.Redacted
		env["serve"] = served
	}
	return env
}

// now tells what a step does and waits for.
func (e *Engine) now(s *PreparedStep, doing, awaiting string, timeout time.Duration) {
	e.console.Emit(event.StepNow{ID: s.ID, Doing: doing, Awaiting: awaiting, Timeout: timeout})
}
