package engine

import (
	"cmp"
	"context"
	"fmt"
	"maps"
	"time"

	"pilotrix/core/event"
	"pilotrix/core/runbook"
)

// What a run says of itself before it does it: its beginning, its course, its titles.

// CutOffStep is what the question about an earlier run that was cut off is called, where a step's number stands
// otherwise.
const CutOffStep = "cut-off"

// askCutOff asks before a run begins on a device on which an earlier one was cut off: nobody knows how far that one
// came.
func (run *Run) askCutOff(ctx context.Context) error {
	if run.Prepared.Kit.CutOff == "" {
		return nil
	}
	held, release := run.Console.WithHelm(ctx)
	defer release()
	answer, err := run.Console.Ask(held, event.Ask{
		Form:    event.FormHold,
		Step:    CutOffStep,
		Text:    "An earlier run was cut off: " + run.Prepared.Kit.CutOff + ". Begin this one all the same?",
		Answers: []string{Approve, StopHere},
	})
	if err == nil && answer != Approve {
		err = fmt.Errorf("%w before it began: an earlier run was cut off", ErrStopped)
	}
	return CauseOf(held, err)
}

func (run *Run) begin() event.RunBegin {
	begin := event.RunBegin{
		Runbook:  run.Prepared.Book.Runbook,
		Title:    cmp.Or(run.Prepared.TitleText(run.openEnv()), run.Prepared.Book.Runbook),
		Dialect:  run.Prepared.Dialect.Dialect,
		Inputs:   run.Prepared.Shown(),
		Rollback: run.Prepared.RollbackText(run.openEnv()),
	}
	begin.Steps = run.course.plansOf(run.Prepared.Steps, 0)
	return begin
}

// course is what is done, in its order, and where the run is.
type course struct {
	run       *Run
	steps     []runbook.PreparedStep // as they are unrolled now, nil while rolling back
	here      int                    // the present one's place there
	deadlines string                 // what the device does by itself and when, as it was shown last
}

// plansOf are steps as a course is drawn of them, their titles and what they type filled in as far as that is
// known now, at the step that is here.
func (crs *course) plansOf(steps []runbook.PreparedStep, here int) (plans []event.StepPlan) {
	walk := crs.planner()
	for i := range steps {
		s := &steps[i]
		plan := event.StepPlan{
			ID:           s.ID,
			Phase:        s.Phase,
			Title:        crs.run.Title(s),
			Verb:         s.VerbName(),
			Expected:     s.Expected,
			Timeout:      s.Timeout,
			Hold:         s.Hold != "",
			Irreversible: s.Irreversible,
			Rehearsed:    crs.run.Prepared.Rehearsed(s),
		}
		if s.Verb != nil {
			plan.Cards, plan.Yours = s.Verb.Cards, s.Verb.HandsOver
		}
		if i >= here {
			ahead := walk.Next(s)
			plan.Types, plan.Expected = runbook.TypedText(ahead.Types), ahead.Takes()
		}
		plans = append(plans, plan)
	}
	return plans
}

// planner lays out what is ahead from what is known now. What it takes to be made on the way stays its own.
func (crs *course) planner() *runbook.Planner {
	mode := ""
	if v := crs.run.Console.Device(); v.AtPrompt {
		mode = v.Mode
	}
	return crs.run.Prepared.Ahead(cloneTree(crs.run.openEnv()), crs.run.Console.Facts(), mode,
		crs.run.Console.Pending(), crs.run.Console.Clock().Now())
}

// deadlinesMoved reports whether what the device does by itself has changed since that was asked last: what is ahead
// takes another time then.
func (crs *course) deadlinesMoved() bool {
	now := ""
	for _, open := range crs.run.Console.Pending() {
		now += open.Name + open.Until.Round(10*time.Second).String()
	}
	moved := now != crs.deadlines
	crs.deadlines = now
	return moved
}

// cloneTree copies nested maps, not what they hold.
func cloneTree(tree map[string]any) map[string]any {
	clone := make(map[string]any, len(tree))
	for name, value := range tree {
		if inner, ok := value.(map[string]any); ok {
			value = cloneTree(inner)
		}
		clone[name] = value
	}
	return clone
}

// Title is what a step does, in words, with what is known now.
func (run *Run) Title(s *runbook.PreparedStep) string {
	if s.TitleText == nil {
		return s.Step
	}
	env := run.openEnv()
	maps.Copy(env, s.Vars)
	return s.TitleText.Shown(env)
}
