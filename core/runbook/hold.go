package runbook

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
	"pilotrix/core/sense"
	"pilotrix/core/units"
)

// A hold shows the present: what it says of the device was read for it, and is read again when it is approved
// later than that is good for. Where it is not so any more the operator is asked anew.

// hold waits for the operator's approval where the step asks for one.
func (e *Engine) hold(ctx context.Context, s *PreparedStep) error {
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

// present is what a hold says at one time.
type present struct {
	text, rollback string
	types          []string
	pending        []string // names
	device         string   // what is to be said of which one it is, empty for nothing
	unread         bool     // whether it is still the same one cannot be read there
}

func (p present) same(as present) bool {
	return p.text == as.text && p.rollback == as.rollback && p.device == as.device && slices.Equal(p.types, as.types) && slices.Equal(p.pending, as.pending)
}

func (e *Engine) present(s *PreparedStep) (p present, err error) {
	env := e.env()
	if p.text, err = s.hold.Render(env); err != nil {
		return p, err
	}
	p.rollback = s.rollback.Shown(env)
	if p.rollback == "" && !s.Irreversible {
		p.rollback = e.p.aboutRollback(e.openEnv())
	}
	p.text, p.types = strings.TrimSpace(p.text), e.typesOf(s)
	for _, open := range e.console.Pending() {
		p.pending = append(p.pending, open.Name)
	}
	p.device, p.unread = e.aboutDevice()
	return p, nil
}

func (e *Engine) askHold(ctx context.Context, s *PreparedStep, shown present, anew string) error {
	if e.course != nil {
		e.console.Emit(event.Course{Steps: e.plansOf(e.course, e.here)}) // what was read since fills it in
	}
	e.console.Emit(event.StepNow{ID: s.ID, Doing: e.title(s), Awaiting: "your approval"})
	answer, err := e.console.Ask(ctx, event.Ask{
		Form: event.FormHold, Step: s.ID, Text: anew + shown.text + shown.device + e.oldWords(s), Types: shown.types, Rollback: shown.rollback,
		Irreversible: s.Irreversible, Changed: e.mayHaveChanged(), Pending: e.pendingWords(), Now: e.console.Present(), Answers: []string{Approve, StopHere},
	})
	if err == nil && answer != Approve {
		err = fmt.Errorf("%w at the hold", errStopped)
	}
	return err
}

// interlock asks before a command that the dialect calls a danger, or that a restart would lose something
// by, unless the step has asked already. A loss that is not the step's own is always asked about.
func (e *Engine) interlock(ctx context.Context, s *PreparedStep, command string) error {
	says := e.console.Stops(command)
	if says == "" || (s.Hold != "" || e.approvedBefore(s)) && says == e.p.Dialect.DangerOf(command) {
		return nil
	}
	answer, err := e.console.Ask(ctx, event.Ask{
		Form: event.FormHold, Step: s.ID, Text: fmt.Sprintf("“%s” %s.", command, says), Types: []string{command},
		Irreversible: true, Changed: e.mayHaveChanged(), Pending: e.pendingWords(), Now: e.console.Present(), Answers: []string{Approve, StopHere},
	})
	if err == nil && answer != Approve {
		err = fmt.Errorf("%w before “%s”", errStopped, command)
	}
	return err
}

// approvedBefore reports that what a step does was approved with an earlier one.
func (e *Engine) approvedBefore(s *PreparedStep) bool {
	work, ok := s.Work.(interface{ Approved(e *Engine) bool })
	return ok && work.Approved(e)
}

// typesOf is what a step types from here, in words: the same as its plan says, with what is known now.
func (e *Engine) typesOf(s *PreparedStep) []string { return typedWords(e.planner().work(s)) }

// factsOf are the facts behind names.
func (e *Engine) factsOf(names []string) (facts []device.Fact) {
	for _, fact := range e.console.Facts().All() {
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
func (e *Engine) old(fact device.Fact) bool {
	reading := e.p.Dialect.Reading(fact.Reading)
	return e.console.Facts().Old(fact) || reading != nil && e.console.Clock().Since(fact.At) > reading.Good()
}

// refresh reads again what a hold rests on and is old, where that can be read as the device is now.
func (e *Engine) refresh(ctx context.Context, s *PreparedStep) error {
	facts := e.factsOf(s.rests())
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
func (e *Engine) settled(ctx context.Context) error {
	limited, cancel := e.console.Clock().WithTimeout(ctx, settling)
	defer cancel()
	_, err := e.console.Await(limited, func(v sense.State) bool { return v.AtPrompt })
	if err != nil && ctx.Err() == nil && errors.Is(err, context.DeadlineExceeded) {
		return nil
	}
	return err
}

func (e *Engine) readable(reading *dialect.CompiledReading) bool {
	v := e.console.Device()
	return v.AtPrompt && (len(reading.In) == 0 || slices.Contains(reading.In, v.Mode))
}

// fresh holds that what an expression proves by was read since the device was last changed, and reads it again where
// it was not: the hand may have typed something in between.
func (e *Engine) fresh(ctx context.Context, s *PreparedStep, guards ...*expression.Guard) error {
	if err := e.thisDeviceHere(ctx, s); err != nil {
		return err
	}
	var names []string
	for _, g := range guards {
		if g != nil {
			names = append(names, g.Uses()...)
		}
	}
	return e.readAgain(ctx, s, e.factsOf(names), e.console.Facts().Old, func(*dialect.CompiledReading) bool { return true })
}

func (e *Engine) readAgain(ctx context.Context, s *PreparedStep, facts []device.Fact, old func(device.Fact) bool, can func(*dialect.CompiledReading) bool) error {
	for _, name := range e.p.Dialect.ReadingNames() {
		reading := e.p.Dialect.Reading(name)
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

func (e *Engine) readWithin(ctx context.Context, s *PreparedStep, reading *dialect.CompiledReading) error {
	limited, cancel := e.console.Clock().WithTimeout(ctx, reading.Limit())
	defer cancel()
	return e.readOne(limited, s, reading)
}

// oldWords tells what a hold rests on that could not be read for it.
func (e *Engine) oldWords(s *PreparedStep) string {
	for _, fact := range e.factsOf(s.rests()) {
		if e.old(fact) {
			return fmt.Sprintf(" %s was read %s ago and cannot be read now.", fact.Name, units.Words(e.console.Clock().Since(fact.At)))
		}
	}
	return ""
}
