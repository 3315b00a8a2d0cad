package engine

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"pilotrix/core/device"
	"pilotrix/core/dialect"
	"pilotrix/core/event"
	"pilotrix/core/expression"
	"pilotrix/core/runbook"
	"pilotrix/core/sense"
	"pilotrix/core/units"
)

// A hold shows the present: what it says of the device was read for it, and is read again when it is approved
// later than that is good for. Where it is not so any more the operator is asked anew.

// hold waits for the operator's approval where the step asks for one.
func (e *Run) hold(ctx context.Context, s *runbook.PreparedStep) error {
	if s.Hold == "" {
		return nil
	}
	if err := e.refresh(ctx, s); err != nil {
		return err
	}
	shown, err := e.present(s)
	if err != nil {
		return err
	}
	for anew := ""; ; {
		if err := e.askHold(ctx, s, shown, anew); err != nil {
			return err
		}
		if err := e.refresh(ctx, s); err != nil {
			return err
		}
		now, err := e.present(s)
		if err != nil {
			return err
		}
		if now.same(shown) {
			e.grants(now)
			return nil
		}
		shown, anew = now, "This is not as it was when you were asked. "
	}
}

// holdState is what a hold says at one time.
type holdState struct {
	text, rollback string
	types          []string
	pending        []string // names
	device         string   // what is to be said of which one it is, empty for nothing
	unread         bool     // whether it is still the same one cannot be read there
}

func (p holdState) same(as holdState) bool {
	return p.text == as.text && p.rollback == as.rollback && p.device == as.device && slices.Equal(p.types, as.types) && slices.Equal(p.pending, as.pending)
}

func (e *Run) present(s *runbook.PreparedStep) (p holdState, err error) {
	env := e.Env()
	if p.text, err = s.HoldText.Render(env); err != nil {
		return p, err
	}
	p.rollback = s.RollbackText.Shown(env)
	if p.rollback == "" && !s.Irreversible {
		p.rollback = e.Prepared.RollbackText(e.openEnv())
	}
	p.text, p.types = strings.TrimSpace(p.text), e.typesOf(s)
	for _, open := range e.Console.Pending() {
		p.pending = append(p.pending, open.Name)
	}
	p.device, p.unread = e.aboutDevice()
	return p, nil
}

func (e *Run) askHold(ctx context.Context, s *runbook.PreparedStep, shown holdState, anew string) error {
	if e.course != nil {
		e.Console.Emit(event.Course{Steps: e.plansOf(e.course, e.here)}) // what was read since fills it in
	}
	e.Console.Emit(event.StepNow{ID: s.ID, Doing: e.Title(s), Awaiting: "your approval"})
	answer, err := e.Console.Ask(ctx, event.Ask{
		Form: event.FormHold, Step: s.ID, Text: anew + shown.text + shown.device + e.oldWords(s), Types: shown.types, Rollback: shown.rollback,
		Irreversible: s.Irreversible, Changed: e.MayHaveChanged(), Pending: e.PendingText(), Now: e.Console.Present(), Answers: []string{Approve, StopHere},
	})
	if err == nil && answer != Approve {
		err = fmt.Errorf("%w at the hold", ErrStopped)
	}
	return err
}

// interlock asks before a command that the dialect calls a danger, or that a restart would lose something
// by, unless the step has asked already. A loss that is not the step's own is always asked about.
func (e *Run) interlock(ctx context.Context, s *runbook.PreparedStep, command string) error {
	says := e.Console.Stops(command)
	if says == "" || (s.Hold != "" || e.approvedBefore(s)) && says == e.Prepared.Dialect.DangerOf(command) {
		return nil
	}
	answer, err := e.Console.Ask(ctx, event.Ask{
		Form: event.FormHold, Step: s.ID, Text: fmt.Sprintf("“%s” %s.", command, says), Types: []string{command},
		Irreversible: true, Changed: e.MayHaveChanged(), Pending: e.PendingText(), Now: e.Console.Present(), Answers: []string{Approve, StopHere},
	})
	if err == nil && answer != Approve {
		err = fmt.Errorf("%w before “%s”", ErrStopped, command)
	}
	return err
}

// approvedBefore reports that what a step does was approved with an earlier one.
func (e *Run) approvedBefore(s *runbook.PreparedStep) bool {
	work, ok := s.Work.(interface{ Approved(e *Run) bool })
	return ok && work.Approved(e)
}

// typesOf is what a step types from here, in words: the same as its plan says, with what is known now.
func (e *Run) typesOf(s *runbook.PreparedStep) []string {
	return runbook.TypedText(e.planner().Work(s))
}

// factsOf are the facts behind names.
func (e *Run) factsOf(names []string) (facts []device.Fact) {
	for _, fact := range e.Console.Facts().All() {
		if fact.Reading != "" && slices.ContainsFunc(names, func(name string) bool {
			return name == fact.Name || strings.HasPrefix(name, fact.Name+".") || strings.HasPrefix(fact.Name, name+".")
		}) {
			facts = append(facts, fact)
		}
	}
	return facts
}

// old reports whether a fact is no picture of the present: the device was changed since, or it is older than its
// reading is good for.
func (e *Run) old(fact device.Fact) bool {
	reading := e.Prepared.Dialect.Reading(fact.Reading)
	return e.Console.Facts().Old(fact) || reading != nil && e.Console.Clock().Since(fact.At) > reading.Good()
}

// refresh reads again what a hold rests on and is old, where that can be read as the device is now.
func (e *Run) refresh(ctx context.Context, s *runbook.PreparedStep) error {
	facts := e.factsOf(s.Rests())
	if !slices.ContainsFunc(facts, e.old) {
		return nil
	}
	if err := e.settled(ctx); err != nil {
		return err
	}
	return e.readAgain(ctx, s, facts, e.old, func(reading *dialect.CompiledReading) bool { return e.readable(reading) })
}

// settling is how long a device may take to come to its prompt, before it is taken for one that cannot be read now.
const settling = 15 * time.Second

// settled waits until the device is at a prompt: the hand may have left it in the middle of something.
func (e *Run) settled(ctx context.Context) error {
	limited, cancel := e.Console.Clock().WithTimeout(ctx, settling)
	defer cancel()
	_, err := e.Console.Await(limited, func(v sense.State) bool { return v.AtPrompt })
	if err != nil && ctx.Err() == nil && errors.Is(err, context.DeadlineExceeded) {
		return nil
	}
	return err
}

func (e *Run) readable(reading *dialect.CompiledReading) bool {
	v := e.Console.Device()
	return v.AtPrompt && (len(reading.In) == 0 || slices.Contains(reading.In, v.Mode))
}

// EnsureFresh holds that what an expression proves by was read since the device was last changed, and reads it again where
// it was not: the hand may have typed something in between.
func (e *Run) EnsureFresh(ctx context.Context, s *runbook.PreparedStep, guards ...*expression.Guard) error {
	if err := e.ThisDeviceHere(ctx, s); err != nil {
		return err
	}
	var names []string
	for _, g := range guards {
		if g != nil {
			names = append(names, g.Uses()...)
		}
	}
	return e.readAgain(ctx, s, e.factsOf(names), e.Console.Facts().Old, func(*dialect.CompiledReading) bool { return true })
}

func (e *Run) readAgain(ctx context.Context, s *runbook.PreparedStep, facts []device.Fact, old func(device.Fact) bool, can func(*dialect.CompiledReading) bool) error {
	for _, name := range e.Prepared.Dialect.ReadingNames() {
		reading := e.Prepared.Dialect.Reading(name)
		made := slices.IndexFunc(facts, func(fact device.Fact) bool { return fact.Reading == name && old(fact) })
		if made < 0 || !can(reading) {
			continue
		}
		err := e.readWithin(ctx, s, reading)
		if err != nil && ctx.Err() == nil && errors.Is(err, context.DeadlineExceeded) { // a byte of its prompt may be lost, and reading does no harm
			err = e.readWithin(ctx, s, reading)
		}
		if err != nil {
			return fmt.Errorf("%s was read before the device was last changed and has to be read again: %w", facts[made].Name, err)
		}
	}
	return nil
}

func (e *Run) readWithin(ctx context.Context, s *runbook.PreparedStep, reading *dialect.CompiledReading) error {
	limited, cancel := e.Console.Clock().WithTimeout(ctx, reading.Limit())
	defer cancel()
	return e.ReadOne(limited, s, reading)
}

// oldWords tells what a hold rests on that could not be read for it.
func (e *Run) oldWords(s *runbook.PreparedStep) string {
	for _, fact := range e.factsOf(s.Rests()) {
		if e.old(fact) {
			return fmt.Sprintf(" %s was read %s ago and cannot be read now.", fact.Name, units.Words(e.Console.Clock().Since(fact.At)))
		}
	}
	return ""
}
