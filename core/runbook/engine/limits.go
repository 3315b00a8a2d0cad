package engine

import (
	"context"
	"errors"
	"fmt"
	"time"

	"pilotrix/core/clock"
	"pilotrix/core/event"
	"pilotrix/core/runbook"
	"pilotrix/core/sense"
	"pilotrix/core/transfer"
	"pilotrix/core/units"
)

// StepConsole is the console of a run: whatever a step does with it is done with the runbook's helm and within the
// step's timeout, without the step knowing of either.
//
// A wait for the device, or for time, outlives both. When the operator takes the helm the wait stands still until it
// is given back, and is gone on with where the operator says so; when the timeout is over the operator is asked
// whether to wait on, while the wait goes on. What types cannot be gone on with in its middle: it ends the step.
type StepConsole struct {
	Console
	run *Run

	sure    int // the console's doubts when the device's identity was read last, inDoubt where that does not count any more
	granted int // the same when the operator said to go on although it cannot be read
}

func (run *Run) control(c Console) *StepConsole {
	return &StepConsole{Console: c, run: run, sure: inDoubt, granted: inDoubt}
}

// Doubt says that the device may be another one by now.
func (c *StepConsole) Doubt() { c.sure, c.granted = inDoubt, inDoubt }

// timeLimit is what a step under way has left of its helm and its time. It is nil between steps.
type timeLimit struct {
	step     *runbook.PreparedStep
	end      context.CancelCauseFunc // ends the step
	until    time.Time               // zero while its time is not running: the operator is asked
	length   time.Duration
	bound    string // what the device does by itself at the end of the present wait, empty where the step's time ends it
	waitsOut bool   // it waits for what runs out, so that this does not bound it
	last     bool   // what an overrun leads to is said, or its repeating would do no harm: nobody is asked
}

// TakeUntil has the time of the step under way end then.
func (run *Run) TakeUntil(end time.Time) { run.limit.until = end }

// WaitOut has the step under way wait for what runs out by itself, so that this does not bound it.
func (run *Run) WaitOut() { run.limit.waitsOut = true }

// chosen is what the operator wants of a step that was interrupted.
type chosen struct{ Wish }

func (c *chosen) Error() string { return "the operator wants to " + c.Wish.String() }

// overrun is a step that has not come to its end within its timeout.
type overrun struct {
	text    string
	offered bool // the operator was offered to wait on
}

func (o *overrun) Error() string   { return o.text }
func (o *overrun) Unwrap() []error { return []error{ErrTimeout, context.DeadlineExceeded} }

// endless stands for a time that is not running.
const endless = 100 * 365 * 24 * time.Hour

// kind is what is done with the console.
type kind int

const (
	waits kind = iota // it is gone on with when the helm is given back, or when the operator waits on
	types             // it ends with the helm, and is errReturned when that is given back; it takes the time that it takes
	moves             // a file; it ends with the helm and with the step's time
)

// within does something with the runbook's helm and within the step's timeout.
func (c *StepConsole) within(ctx context.Context, kind kind, do func(context.Context) error) error {
	p := c.run.limit
	if p == nil {
		return do(ctx)
	}
	for {
		over, err := c.once(ctx, p, kind, do)
		switch {
		case errors.Is(err, errStoppedMeanwhile):
			continue
		case errors.Is(err, ErrHelm) && kind == waits:
			err = c.handedOver(p)
		case errors.Is(err, ErrHelm) && kind == types:
			if err = c.handedOver(p); err == nil {
				return ErrReturned
			}
		case over && kind == waits && !p.last:
			over, err = c.waitOn(ctx, p, do)
			if !over {
				return err
			}
		case over:
			err = c.overrun(p)
		default:
			if errors.Is(err, ErrHelm) {
				p.end(err)
			}
			return err
		}
		if err != nil {
			p.end(err)
			return err
		}
	}
}

// Waits does something that waits for the device, or for time: it is gone on with when the helm is given back.
func (c *StepConsole) Waits(ctx context.Context, do func(context.Context) error) error {
	return c.within(ctx, waits, do)
}

// Moves does something that moves a file: it ends with the helm, and with the step's time.
func (c *StepConsole) Moves(ctx context.Context, do func(context.Context) error) error {
	return c.within(ctx, moves, do)
}

// once does it until the operator takes the helm, which is ErrHelm then, or the time is over.
func (c *StepConsole) once(
	ctx context.Context, p *timeLimit, kind kind, do func(context.Context) error,
) (over bool, err error) {
	held, release := c.WithHelm(ctx)
	defer release()
	limited := held
	left, why := c.run.left(p)
	if p.bound = why; kind != types && left < endless {
		timed, cancel := c.Clock().WithTimeout(held, left)
		defer cancel()
		limited = timed
	}
	stopped := c.Stopped()
	err = do(limited)
	if kind == waits && !p.until.IsZero() && limited.Err() != nil && held.Err() == nil &&
		errors.Is(err, context.DeadlineExceeded) {
		if gone := c.Stopped() - stopped; gone > 0 { // it is the step's time that this program did not run in, and not the device's
			p.until = p.until.Add(gone)
			return false, errStoppedMeanwhile
		}
	}
	switch {
	case err == nil || ctx.Err() != nil:
		return false, err
	case errors.Is(err, ErrHelm) || errors.Is(context.Cause(held), ErrHelm):
		return false, ErrHelm
	}
	return limited.Err() != nil && errors.Is(err, context.DeadlineExceeded), err
}

// errStoppedMeanwhile says that a wait was over only since this program did not run.
var errStoppedMeanwhile = errors.New("this program did not run meanwhile")

// left is what is left of a step's time, or until the device acts by itself where that is sooner, and why. What it has
// done by itself already bounds nothing: it is waited for now what that leads to. Nor does anything bound the rollback,
// which is for that.
func (run *Run) left(p *timeLimit) (left time.Duration, why string) {
	now := run.Console.Clock().Now()
	if left = endless; !p.until.IsZero() {
		left = p.until.Sub(now)
		if p.waitsOut || run.rollingBack {
			return max(left, time.Millisecond), ""
		}
		for _, open := range run.Console.Pending() {
			if soon := open.Until.Sub(now); !open.Until.IsZero() && soon > 0 && soon < left {
				left, why = soon, open.Says
			}
		}
	}
	return max(left, time.Millisecond), why
}

// handedOver waits until the operator gives the helm back. The step's time stands still meanwhile. It is nil when the
// wait is to be gone on with.
func (c *StepConsole) handedOver(p *timeLimit) error {
	begun, doing := c.Clock().Now(), c.run.doing
	c.Console.Emit(
		event.StepNow{ID: p.step.ID, Doing: "The hand has the helm", Awaiting: "until it is given back", Resumes: true})
	wish, err := c.AwaitHelm(c.run.Context)
	if !p.until.IsZero() {
		p.until = p.until.Add(c.Clock().Since(begun))
	}
	switch {
	case err != nil:
		return err
	case wish != Resume:
		return &chosen{wish}
	}
	if err := c.Tidy(c.run.Context); err != nil {
		c.Console.Emit(event.Note{Level: event.Warning, Text: err.Error()})
	}
	if doing.ID == p.step.ID {
		doing.Timeout, _ = c.run.left(p)
		c.Emit(doing)
	}
	return nil
}

// overrun is the error of a step that took too long.
func (c *StepConsole) overrun(p *timeLimit) *overrun {
	if p.bound != "" {
		return &overrun{
			text: fmt.Sprintf("%v: this happens by itself now: %s; %s", ErrTimeout, p.bound, c.run.StateText()),
		}
	}
	return &overrun{
		text: fmt.Sprintf("%v of %s (%s): %s", ErrTimeout, units.Text(p.length), p.step.TimeoutFrom, c.run.StateText()),
	}
}

// waitOn asks whether to wait on. The wait goes on while the operator thinks, and its own end ends the question: over
// is false then. It is no error when there is more time.
func (c *StepConsole) waitOn(ctx context.Context, p *timeLimit, do func(context.Context) error) (over bool, err error) {
	failure := c.overrun(p)
	if p.bound != "" {
		return true, failure
	}
	held, release := c.WithHelm(ctx)
	defer release()
	asking, answered := context.WithCancel(held)
	defer answered()
	came := make(chan error, 1)
	go func() {
		came <- do(asking)
		answered()
	}()
	answer, err := c.Console.Ask(asking, event.Ask{
		Form:  event.FormOverrun,
		Step:  p.step.ID,
		Title: c.run.Title(p.step),
		Text: fmt.Sprintf("“%s” takes longer than the %s that it may (%s). The wait goes on meanwhile; %s.",
			c.run.Title(p.step), units.Text(p.length), p.step.TimeoutFrom, c.run.StateText()),
		Answers: []string{WaitOn, GiveUp},
		Changed: c.run.MayHaveChanged(),
	})
	answered()
	switch got := <-came; {
	case got == nil || ctx.Err() != nil:
		return false, got
	case errors.Is(context.Cause(held), ErrHelm):
		return true, c.handedOver(p)
	case !errors.Is(got, context.Canceled): // such as a lost line
		return false, got
	case err != nil:
		return true, err
	case answer == WaitOn:
		p.until = c.Clock().Now().Add(p.length)
		return true, nil
	}
	failure.offered = true
	return true, failure
}

// Emit remembers what the step is doing.
func (c *StepConsole) Emit(body event.Body) {
	if now, ok := body.(event.StepNow); ok {
		c.run.doing = now
	}
	c.Console.Emit(body)
}

// Await waits for the device.
func (c *StepConsole) Await(ctx context.Context, ready func(sense.State) bool) (v sense.State, err error) {
	var fault error
	guarded := func(v sense.State) (ok bool) { // it is called by the session, which no fault of a step may end
		defer func() {
			if f := recover(); f != nil {
				fault, ok = fmt.Errorf("a fault of this program: %v", f), true
			}
		}()
		return ready(v)
	}
	err = c.within(ctx, waits, func(ctx context.Context) (err error) {
		v, err = c.Console.Await(ctx, guarded)
		return err
	})
	return v, errors.Join(fault, err)
}

// Pause waits for time to pass.
func (c *StepConsole) Pause(ctx context.Context, d time.Duration) error {
	until := c.Clock().Now().Add(d)
	return c.within(ctx, waits, func(ctx context.Context) error {
		return c.Clock().Wait(ctx, max(0, until.Sub(c.Clock().Now())))
	})
}

// Type types keys.
func (c *StepConsole) Type(ctx context.Context, text string, secret bool) error {
	return c.within(ctx, types, func(ctx context.Context) error { return c.Console.Type(ctx, text, secret) })
}

// Command types a line and ends it.
func (c *StepConsole) Command(ctx context.Context, text string, how Typing) error {
	return c.within(ctx, types, func(ctx context.Context) error { return c.Console.Command(ctx, text, how) })
}

// SetSpeed sets our end's speed.
func (c *StepConsole) SetSpeed(ctx context.Context, baud int, why string) error {
	return c.within(ctx, waits, func(ctx context.Context) error { return c.Console.SetSpeed(ctx, baud, why) })
}

// Hunt looks for the device's speed.
func (c *StepConsole) Hunt(ctx context.Context, hunt sense.Hunt) (found sense.Found, err error) {
	err = c.within(ctx, types, func(ctx context.Context) (err error) {
		found, err = c.Console.Hunt(ctx, hunt)
		return err
	})
	return found, err
}

// Carry hands the line to a transfer.
func (c *StepConsole) Carry(ctx context.Context, carry func(context.Context, transfer.Duplex) error) error {
	return c.within(ctx, moves, func(ctx context.Context) error { return c.Console.Carry(ctx, carry) })
}

// ErrReturned is said of what was to be typed, or asked, when the operator had the helm and gave it back: its line was
// not ended. The device may be anywhere now, so whoever gets it looks again.
var ErrReturned = errors.New("the helm was given back")

// Ask asks the operator. The step's time stands still meanwhile, unless it is the operator's own work that is asked
// for.
func (c *StepConsole) Ask(ctx context.Context, ask event.Ask) (answer string, err error) {
	p := c.run.limit
	if p != nil && ask.Form != event.FormOperator {
		until, begun := p.until, c.Clock().Now()
		p.until = time.Time{}
		defer func() {
			if !until.IsZero() {
				p.until = until.Add(c.Clock().Since(begun))
			}
		}()
	}
	if p != nil && ask.Title == "" {
		ask.Title = c.run.Title(p.step)
	}
	defer c.Doubt() // time has passed, of which nothing is known here
	first := true
	err = c.within(ctx, waits, func(ctx context.Context) (err error) {
		if !first && ask.Form == event.FormDialog {
			return ErrReturned
		}
		first = false
		answer, err = c.Console.Ask(ctx, ask)
		return err
	})
	return answer, err
}

// Ours waits until the runbook has the helm.
func (c *StepConsole) Ours(ctx context.Context) error {
	return c.within(ctx, waits, func(ctx context.Context) error { return ctx.Err() })
}

// Clock is the session's.
func (c *StepConsole) Clock() clock.Clock { return c.Console.Clock() }
