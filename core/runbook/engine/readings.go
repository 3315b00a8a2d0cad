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

// readings are what is read of the device in a run.
type readings struct {
	run   *Run
	began map[string][]map[string]any // lists as they were first read in this run, by name
}

// TakeAll types the commands of readings and keeps what they say as facts.
func (rd *readings) TakeAll(ctx context.Context, s *runbook.PreparedStep, readings []*dialect.CompiledReading) error {
	for _, reading := range readings {
		if err := rd.Take(ctx, s, reading); err != nil {
			return err
		}
	}
	return nil
}

const readTries = 3

// Take takes one reading, however often the helm goes back and forward meanwhile.
func (rd *readings) Take(ctx context.Context, s *runbook.PreparedStep, reading *dialect.CompiledReading) error {
	for {
		if err := rd.takeNow(ctx, s, reading); !errors.Is(err, ErrReturned) {
			return err
		}
	}
}

// RefusedError is a reading that the device refuses.
type RefusedError struct{ command, words string }

func (e *RefusedError) Error() string { return fmt.Sprintf("%s answered: %s", e.command, e.words) }

// takeNow tries a few times: a bit error in the answer is no reason to stop.
func (rd *readings) takeNow(ctx context.Context, s *runbook.PreparedStep, reading *dialect.CompiledReading) error {
	if err := rd.run.Talk.EnsureMode(ctx, s, reading.In); err != nil {
		return err
	}
	command, err := reading.Type.Command(rd.run.Env())
	if err != nil {
		return err
	}
	if err := rd.run.interlock(ctx, s, command); err != nil {
		return err
	}
	var facts []device.Fact
	var doubts Doubts
	for range readTries {
		doubts = rd.run.Console.Doubts()
		rd.run.Now(s, "Reads "+reading.Reading.Reading, "the answer to "+command, s.Timeout)
		output, answerErr := rd.run.Talk.command(ctx, command)
		if answerErr != nil {
			return answerErr
		}
		if words := rd.run.Prepared.Dialect.Refuses(output); words != "" { // no list is empty because of that
			err = &RefusedError{command, words}
		} else if facts, err = reading.Parse(output, command, rd.run.Console.Clock().Now(),
			rd.run.Console.Facts()); err == nil {
			if err = reading.Repeats(command, output, rd.run.Env()); err == nil {
				err = rd.known(reading, facts)
			}
			if err == nil {
				break
			}
		}
	}
	if err != nil {
		return err
	}
	for _, fact := range facts {
		before := rd.run.Console.Learn(fact)
		report := event.Fact{
			Name:   fact.Name,
			Value:  fact.Text,
			Source: fact.Source,
			After:  rd.run.Console.Facts().Changes(),
			Rows:   dialect.TextRows(fact.Value),
		}
		if before.Text != fact.Text {
			report.Was = before.Text
		}
		rd.run.Console.Emit(report)
	}
	return rd.run.Device.identified(reading, facts, doubts)
}

// factsOf are the facts behind names.
func (rd *readings) factsOf(names []string) (facts []device.Fact) {
	for _, fact := range rd.run.Console.Facts().All() {
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
func (rd *readings) old(fact device.Fact) bool {
	reading := rd.run.Prepared.Dialect.Reading(fact.Reading)
	return rd.run.Console.Facts().Old(fact) || reading != nil && rd.run.Console.Clock().Since(fact.At) > reading.Good()
}

// refresh reads again what a hold rests on and is old, where that can be read as the device is now.
func (rd *readings) refresh(ctx context.Context, s *runbook.PreparedStep) error {
	facts := rd.factsOf(s.Rests())
	if !slices.ContainsFunc(facts, rd.old) {
		return nil
	}
	if err := rd.settled(ctx); err != nil {
		return err
	}
	return rd.takeAgain(ctx, s, facts, rd.old,
		func(reading *dialect.CompiledReading) bool { return rd.readable(reading) })
}

// settling is how long a device may take to come to its prompt, before it is taken for one that cannot be read now.
const settling = 15 * time.Second

// settled waits until the device is at a prompt: the operator may have left it in the middle of something.
func (rd *readings) settled(ctx context.Context) error {
	limited, cancel := rd.run.Console.Clock().WithTimeout(ctx, settling)
	defer cancel()
	_, err := rd.run.Console.Await(limited, func(v sense.State) bool { return v.AtPrompt })
	if err != nil && ctx.Err() == nil && errors.Is(err, context.DeadlineExceeded) {
		return nil
	}
	return err
}

func (rd *readings) readable(reading *dialect.CompiledReading) bool {
	v := rd.run.Console.Device()
	return v.AtPrompt && (len(reading.In) == 0 || slices.Contains(reading.In, v.Mode))
}

// EnsureFresh holds that what an expression proves by was read since the device was last changed, and reads it again
// where it was not: the operator may have typed something in between.
func (rd *readings) EnsureFresh(ctx context.Context, s *runbook.PreparedStep, guards ...*expression.Guard) error {
	if err := rd.run.Device.EnsureSameHere(ctx, s); err != nil {
		return err
	}
	var names []string
	for _, g := range guards {
		if g != nil {
			names = append(names, g.Uses()...)
		}
	}
	return rd.takeAgain(ctx, s, rd.factsOf(names), rd.run.Console.Facts().Old,
		func(*dialect.CompiledReading) bool { return true })
}

func (rd *readings) takeAgain(
	ctx context.Context, s *runbook.PreparedStep, facts []device.Fact, old func(device.Fact) bool,
	can func(*dialect.CompiledReading) bool,
) error {
	for _, name := range rd.run.Prepared.Dialect.ReadingNames() {
		reading := rd.run.Prepared.Dialect.Reading(name)
		made := slices.IndexFunc(facts, func(fact device.Fact) bool { return fact.Reading == name && old(fact) })
		if made < 0 || !can(reading) {
			continue
		}
		err := rd.takeWithin(ctx, s, reading)
		if err != nil && ctx.Err() == nil &&
			errors.Is(err, context.DeadlineExceeded) { // a byte of its prompt may be lost, and reading does no harm
			err = rd.takeWithin(ctx, s, reading)
		}
		if err != nil {
			return fmt.Errorf("%s was read before the device was last changed and has to be read again: %w",
				facts[made].Name, err)
		}
	}
	return nil
}

func (rd *readings) takeWithin(ctx context.Context, s *runbook.PreparedStep, reading *dialect.CompiledReading) error {
	limited, cancel := rd.run.Console.Clock().WithTimeout(ctx, reading.Limit())
	defer cancel()
	return rd.Take(limited, s, reading)
}

// oldText says what a hold rests on that could not be read for it.
func (rd *readings) oldText(s *runbook.PreparedStep) string {
	for _, fact := range rd.factsOf(s.Rests()) {
		if rd.old(fact) {
			return fmt.Sprintf(" %s was read %s ago and cannot be read now.", fact.Name,
				units.Text(rd.run.Console.Clock().Since(fact.At)))
		}
	}
	return ""
}
