package engine

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"pilotrix/core/event"
	"pilotrix/core/runbook"
)

// A hold shows the present: what it says of the device was read for it, and is read again when it is approved
// later than that is good for. Where it is not so any more the operator is asked again.

// hold waits for the operator's approval where the step asks for one.
func (run *Run) hold(ctx context.Context, s *runbook.PreparedStep) error {
	if s.Hold == "" {
		return nil
	}
	if err := run.Readings.refresh(ctx, s); err != nil {
		return err
	}
	shown, err := run.present(s)
	if err != nil {
		return err
	}
	for again := ""; ; {
		if err := run.askHold(ctx, s, shown, again); err != nil {
			return err
		}
		if err := run.Readings.refresh(ctx, s); err != nil {
			return err
		}
		now, err := run.present(s)
		if err != nil {
			return err
		}
		if now.same(shown) {
			run.Device.grants(now)
			return nil
		}
		shown, again = now, "This is not as it was when you were asked. "
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
	return p.text == as.text && p.rollback == as.rollback && p.device == as.device && slices.Equal(p.types, as.types) &&
		slices.Equal(p.pending, as.pending)
}

func (run *Run) present(s *runbook.PreparedStep) (p holdState, err error) {
	env := run.Env()
	if p.text, err = s.HoldText.Render(env); err != nil {
		return p, err
	}
	p.rollback = s.RollbackText.Shown(env)
	if p.rollback == "" && !s.Irreversible {
		p.rollback = run.Prepared.RollbackText(run.openEnv())
	}
	p.text, p.types = strings.TrimSpace(p.text), run.course.typesOf(s)
	for _, open := range run.Console.Pending() {
		p.pending = append(p.pending, open.Name)
	}
	p.device, p.unread = run.Device.about()
	return p, nil
}

func (run *Run) askHold(ctx context.Context, s *runbook.PreparedStep, shown holdState, again string) error {
	if run.course.steps != nil {
		run.Console.Emit(event.Course{Steps: run.course.plansOf(run.course.steps,
			run.course.here)}) // what was read since fills it in
	}
	run.Console.Emit(event.StepNow{ID: s.ID, Doing: run.Title(s), Awaiting: "your approval"})
	answer, err := run.Console.Ask(ctx, event.Ask{
		Form:         event.FormHold,
		Step:         s.ID,
		Text:         again + shown.text + shown.device + run.Readings.oldText(s),
		Types:        shown.types,
		Rollback:     shown.rollback,
		Irreversible: s.Irreversible,
		Changed:      run.MayHaveChanged(),
		Pending:      run.PendingText(),
		Now:          run.Console.Present(),
		Answers:      []string{Approve, StopHere},
	})
	if err == nil && answer != Approve {
		err = fmt.Errorf("%w at the hold", ErrStopped)
	}
	return err
}

// interlock asks before a command that the dialect calls a danger, or that a restart would lose something
// by, unless the step has asked already. A loss that is not the step's own is always asked about.
func (run *Run) interlock(ctx context.Context, s *runbook.PreparedStep, command string) error {
	says := run.Console.Stops(command)
	if says == "" || (s.Hold != "" || run.approvedBefore(s)) && says == run.Prepared.Dialect.DangerOf(command) {
		return nil
	}
	answer, err := run.Console.Ask(ctx, event.Ask{
		Form:         event.FormHold,
		Step:         s.ID,
		Text:         fmt.Sprintf("“%s” %s.", command, says),
		Types:        []string{command},
		Irreversible: true,
		Changed:      run.MayHaveChanged(),
		Pending:      run.PendingText(),
		Now:          run.Console.Present(),
		Answers:      []string{Approve, StopHere},
	})
	if err == nil && answer != Approve {
		err = fmt.Errorf("%w before “%s”", ErrStopped, command)
	}
	return err
}

// approvedBefore reports that what a step does was approved with an earlier one.
func (run *Run) approvedBefore(s *runbook.PreparedStep) bool {
	work, ok := s.Work.(interface{ Approved(run *Run) bool })
	return ok && work.Approved(run)
}

// typesOf is what a step types from here, in words: the same as its plan says, with what is known now.
func (crs *course) typesOf(s *runbook.PreparedStep) []string {
	return runbook.TypedText(crs.planner().Work(s))
}
