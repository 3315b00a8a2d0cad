package engine

import (
	"context"
	"errors"
	"fmt"

	"pilotrix/core/device"
	"pilotrix/core/event"
	"pilotrix/core/runbook"
	"pilotrix/core/sense"
	"pilotrix/core/transfer"
)

// Deed is a small runbook that the operator has carried out by itself, beside whatever else goes on, a run included:
// its verbs are those of any runbook, and its events touch no run's.
type Deed struct {
	ID       string
	Prepared *runbook.Prepared
	Needs    Needs
	// Advise is given what the operator has to know and what is recorded nowhere, such as what a device needs to use a
	// server; nil for nobody.
	Advise func(text string)
}

// Needs is what a deed needs of the line.
type Needs int

// What a deed needs.
const (
	Nothing Needs = iota // it types nothing
	Turns                // it types a line now and then, where nobody else does
	Line                 // it has the line, and with it the helm
)

// ErrNoLine is why a deed does not type: the line is the operator's, or a run's.
var ErrNoLine = errors.New("this is done beside the line, and does not type on it")

// Title is what it is, in words.
func (d Deed) Title(facts *device.Facts) string {
	env := d.Prepared.Env(facts)
	d.Prepared.Mask(env)
	return d.Prepared.TitleText(env)
}

// Execute carries it out, until it is done, fails, or ctx ends it.
func (d Deed) Execute(ctx context.Context, console Console) error {
	beside := &besideLine{Console: console, deed: d}
	run := New(d.Prepared, beside)
	run.Context = ctx
	console.Emit(beside.event(event.DeedBegun))
	err := run.doDeed(ctx)
	end := beside.event(event.DeedEnded)
	if end.Outcome, end.Message = event.OutcomeOf(err); errors.Is(err, ErrStopped) {
		end.Outcome = event.Stopped
	}
	if cause := context.Cause(ctx); errors.Is(err, context.Canceled) && cause != nil {
		end.Message = cause.Error()
	}
	console.Emit(end)
	return err
}

func (run *Run) doDeed(ctx context.Context) (err error) {
	defer func() {
		if cleared := run.guarded(func() error { run.clear(); return nil }); err == nil {
			err = cleared
		}
	}()
	defer run.faulted(&err)
	return run.runSteps(ctx, run.Prepared.Steps, false)
}

// Deed is the ID of the deed that it is, empty for a run.
func (run *Run) Deed() string {
	if beside, ok := run.Console.Console.(*besideLine); ok {
		return beside.deed.ID
	}
	return ""
}

// Advise has the operator know something that is recorded nowhere, where it is a deed.
func (run *Run) Advise(text string) {
	if beside, ok := run.Console.Console.(*besideLine); ok && beside.deed.Advise != nil {
		beside.deed.Advise(text)
	}
}

// besideLine is the console of a deed: what it says is said of the deed, and the line is not its.
type besideLine struct {
	Console
	deed Deed
}

func (c *besideLine) event(state string) event.Deed {
	said := event.Deed{ID: c.deed.ID, Title: c.deed.Title(c.Facts()), State: state}
	if steps := c.deed.Prepared.Steps; len(steps) > 0 && steps[0].Verb != nil {
		said.Verb = steps[0].Verb.Name
	}
	return said
}

// Emit implements Console.
func (c *besideLine) Emit(body event.Body) {
	switch b := body.(type) {
	case event.StepNow:
		now := c.event(event.DeedNow)
		now.Doing, now.Awaits = b.Doing, b.Awaiting
		if b.Timeout > 0 {
			now.Until = c.Clock().Now().Add(b.Timeout)
		}
		c.Console.Emit(now)
	case event.StepBegin, event.StepEnd, event.Course, event.RunBegin, event.RunEnd, event.Check, event.Preflight,
		event.Estimates, event.Shelf: // these are a run's
	case event.Change:
		b.Step = ""
		c.Console.Emit(b)
	case event.TransferBegin:
		b.Deed = c.deed.ID
		c.Console.Emit(b)
	default:
		c.Console.Emit(body)
	}
}

// Ask implements Console. What fails, or takes too long, is not asked about: it ends, and whether it is tried again is
// the operator's next key.
func (c *besideLine) Ask(ctx context.Context, ask event.Ask) (string, error) {
	switch ask.Form {
	case event.FormFailure:
		return StopHere, nil
	case event.FormOverrun:
		return GiveUp, nil
	}
	ask.Deed, ask.Step = c.deed.ID, ""
	return c.Console.Ask(ctx, ask)
}

// WithHelm implements Console: whoever has the helm, a deed beside the line goes on.
func (c *besideLine) WithHelm(ctx context.Context) (context.Context, context.CancelFunc) {
	if c.deed.Needs == Line {
		return c.Console.WithHelm(ctx)
	}
	return context.WithCancel(ctx)
}

// AwaitHelm implements Console: when the operator takes the helm a deed that had it is over.
func (c *besideLine) AwaitHelm(context.Context) (Wish, error) { return Stop, nil }

// Type implements Console.
func (c *besideLine) Type(ctx context.Context, text string, secret bool) error {
	if c.deed.Needs != Line {
		return ErrNoLine
	}
	return c.Console.Type(ctx, text, secret)
}

// Command implements Console.
func (c *besideLine) Command(ctx context.Context, text string, how Typing) error {
	if c.deed.Needs == Nothing {
		return fmt.Errorf("“%s” is not typed: %w", text, ErrNoLine)
	}
	return c.Console.Command(ctx, text, how)
}

// SetSpeed implements Console.
func (c *besideLine) SetSpeed(ctx context.Context, baud int, why string) error {
	if c.deed.Needs != Line {
		return ErrNoLine
	}
	return c.Console.SetSpeed(ctx, baud, why)
}

// Hunt implements Console.
func (c *besideLine) Hunt(ctx context.Context, hunt sense.Hunt) (sense.Found, error) {
	if c.deed.Needs != Line {
		return sense.Found{}, ErrNoLine
	}
	return c.Console.Hunt(ctx, hunt)
}

// Carry implements Console.
func (c *besideLine) Carry(ctx context.Context, carry func(context.Context, transfer.Duplex) error) error {
	if c.deed.Needs != Line {
		return ErrNoLine
	}
	return c.Console.Carry(ctx, carry)
}

// Tidy implements Console.
func (c *besideLine) Tidy(ctx context.Context) error {
	if c.deed.Needs != Line {
		return nil
	}
	return c.Console.Tidy(ctx)
}

// TakeBack implements Console: the helm is given to a deed by whoever begins it.
func (c *besideLine) TakeBack(string) {}

// HandOver implements Console.
func (c *besideLine) HandOver(string) bool { return false }

// Release implements Console.
func (c *besideLine) Release(string) {}
