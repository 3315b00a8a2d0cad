package app

import (
	"fmt"
	"regexp"
	"slices"
	"strings"

	"pilotrix/core/event"
	"pilotrix/core/runbook"
	"pilotrix/core/runbook/engine"
)

// What can be approved beside holds: to go on where it cannot be read whether it is still the same device, and where
// nothing can be recorded.
const (
	identityApproval   = "identity"
	unrecordedApproval = "unrecorded"
)

// approver answers holds where no operator is. What was not approved, it stops.
func approver(approvals []string) func(event.Ask) string {
	return func(ask event.Ask) string {
		switch {
		case ask.Form == event.FormOverrun:
			return engine.GiveUp // nobody is here to wait on; the runbook says what follows
		case (ask.Form == event.FormHold || ask.Form == event.FormOperator) && approves(approvals, ask.Step, ask.Title):
			return ask.Answers[0]
		case ask.Form == event.FormIdentity && (slices.Contains(approvals,
			"all") || slices.Contains(approvals, identityApproval)):
			return ask.Answers[0]
		case ask.Form == event.FormRecord && slices.Contains(approvals, unrecordedApproval): // which all does not say
			return engine.GoUnrecorded
		}
		return engine.StopHere
	}
}

// approves reports whether a step is approved: all are, or it by its number or its name, or it in every round of its
// loop by its number in the file, 3.1 for 3a.1.
func approves(approvals []string, number, title string) bool {
	return slices.ContainsFunc(approvals, func(one string) bool {
		return one == "all" || one == number || one == title && title != "" ||
			one == round.ReplaceAllString(number, "$1.")
	})
}

// CheckApprovals refuses to approve what is no step: a slip of the operator would stop the run at its hold, hours
// later.
func CheckApprovals(prepared *runbook.Prepared, approvals []string) error {
	steps := slices.Concat(prepared.Steps, prepared.Rollback)
	for _, one := range approvals {
		known := one == "all" || one == "nothing" || one == identityApproval || one == unrecordedApproval ||
			slices.ContainsFunc(steps, func(s runbook.PreparedStep) bool {
				return approves([]string{one}, s.ID, s.Step) || s.ID == round.ReplaceAllString(one, "$1.")
			})
		if known {
			continue
		}
		var holds []string
		for _, s := range steps {
			if s.Hold != "" {
				holds = append(holds, s.ID+" “"+s.Step+"”")
			}
		}
		return fmt.Errorf("%s: there is no such step; those that hold are %s", one, strings.Join(holds, ", "))
	}
	return nil
}

var round = regexp.MustCompile(`^(\d+)[a-z]+\.`)

// Approver answers the holds of a run where no operator is, by steps that were approved beforehand: all, or a step's
// number or name. A step may be named as the runbook's file does, in every round of its loop.
func Approver(prepared *runbook.Prepared, approvals []string) func(event.Ask) string {
	approve, names := approver(approvals), map[string]string{}
	for _, s := range slices.Concat(prepared.Steps, prepared.Rollback) {
		names[s.ID] = s.Step
	}
	return func(ask event.Ask) string {
		answer := approve(ask)
		if name := names[round.ReplaceAllString(ask.Step, "$1.")]; answer == engine.StopHere && name != "" {
			ask.Title = name
			answer = approve(ask)
		}
		return answer
	}
}
