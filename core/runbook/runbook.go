// Package runbook is the language of changes. A runbook names actions of a dialect, never device text, so
// that it serves every dialect that has them; it is checked whole against the dialect before a line is
// opened. What a step can do is a verb: verbs are declared in core/runbook/verbs, and carried out by
// core/runbook/engine.
package runbook

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"pilotrix/core/expression"
	"pilotrix/core/source"
)

// Runbook is a loaded runbook. It is checked against a dialect by Prepare.
type Runbook struct {
	Document
	file  *source.File
	stays bool // see StayInMode
}

// Load reads a runbook file.
func Load(path string) (*Runbook, error) {
	r := &Runbook{}
	f, err := source.Read(path, &r.Document)
	if err != nil {
		return nil, err
	}
	r.file = f
	return r, r.checkForm()
}

// Parse does the same with text available; name is used in complaints.
func Parse(name string, data []byte) (*Runbook, error) {
	r := &Runbook{}
	f, err := source.Decode(name, data, &r.Document)
	if err != nil {
		return nil, err
	}
	r.file = f
	return r, r.checkForm()
}

// StayInMode says that the runbook begins in the mode that all of its steps work in: nothing is typed to go to another
// one.
func (r *Runbook) StayInMode() { r.stays = true }

// checkForm checks what needs no dialect.
func (r *Runbook) checkForm() error {
	seen := map[string]bool{}
	for i, input := range r.Inputs {
		r.checkInput(fmt.Sprintf("inputs[%d]", i), input, seen)
	}
	if len(r.Phases) == 0 {
		r.file.Complain("phases", "the runbook has no phases")
	}
	names := map[string]bool{}
	for i, phase := range r.Phases {
		path := fmt.Sprintf("phases[%d]", i)
		if names[phase.Phase] && phase.Phase != "" {
			r.file.Complain(path+".phase", "phase %q is there twice", phase.Phase)
		}
		names[phase.Phase] = true
		if len(phase.Steps) == 0 {
			r.file.Complain(path+".steps", "phase %q has no steps", phase.Phase)
		}
	}
	r.checkFailure("on-failure", r.OnFailure)
	r.eachStep(r.checkStep)
	return r.file.Err()
}

func (r *Runbook) checkInput(path string, input Input, seen map[string]bool) {
	complain := func(key, format string, args ...any) { r.file.Complain(path+key, format, args...) }
	switch {
	case input.Input != "" && !plainName.MatchString(input.Input):
		complain(".input", "%q cannot be a name: want letters, digits and _, such as upgrade_paths", input.Input)
	case input.Input == "clock" || input.Input == "prompt":
		complain(".input", "%s is a name of the program's own", input.Input)
	case expression.Reserved(input.Input):
		complain(".input", "%s is a word of expressions and cannot be a name", input.Input)
	case seen[input.Input]:
		complain(".input", "input %q is there twice", input.Input)
	}
	seen[input.Input] = true
	switch {
	case input.Kind == KindChoice && len(input.Choices) == 0:
		complain("", "input %s is a choice of nothing: give choices", input.Input)
	case input.Kind != KindChoice && len(input.Choices) > 0:
		complain(".choices", "only an input of kind choice has choices; this one is of kind %s",
			cmp.Or(input.Kind, "none"))
	case input.Kind == KindSecret && input.Default != nil && *input.Default != "":
		complain(".default",
			"a secret has no default but an empty one: it would stand in this file for everybody to read")
	}
	if input.Default != nil && input.Kind != KindSecret && input.Kind != KindImage && input.Kind != KindFolder {
		if _, err := input.value(string(*input.Default)); err != nil {
			complain(".default", "%v", err)
		}
	}
}

func (r *Runbook) checkStep(path string, step *Step) {
	if step.Step == "" {
		r.file.Complain(path+".step", "the step has no words (step: …)")
	}
	switch {
	case len(step.verbs) > 1:
		r.file.Complain(path, "step %q does several things (%s): make a step of each", step.Step,
			strings.Join(step.verbs, ", "))
	case len(step.verbs) == 0 && step.Hold == "":
		r.file.Complain(path, "step %q does nothing: give it one of %s", step.Step, verbNames())
	}
	if step.Skipped != "" && step.When == "" {
		r.file.Complain(path+".skipped", "the step is never skipped: it has no when")
	}
	if step.Rollback != "" && step.Hold == "" {
		r.file.Warn(path+".rollback", "a step's rollback is said with its hold, and there is none")
	}
	if step.Irreversible && step.Hold == "" {
		r.file.Warn(path+".irreversible", "this cannot be undone and does not hold before it")
	}
	if step.Expected != nil && step.Timeout != nil && *step.Expected > *step.Timeout {
		r.file.Complain(path+".expected", "it is expected to take longer than it may (timeout: …)")
	}
	r.checkFailure(path+".on-failure", step.Failure)
	if len(step.Undoes) > 0 && !strings.HasPrefix(path, "rollback.") {
		r.file.Complain(path+".undoes", "undoes goes with the steps of the rollback")
	}
}

func (r *Runbook) checkFailure(path string, f OnFailure) {
	switch {
	case f.RepeatFrom != "" && !slices.ContainsFunc(r.Phases, func(p Phase) bool { return p.Phase == f.RepeatFrom }):
		r.file.Complain(path+".repeat-from", "no phase %q", f.RepeatFrom)
	case f.Times != 0 && f.RepeatFrom == "":
		r.file.Complain(path+".times", "times goes with repeat-from; a step by itself is repeated by retry")
	case f.Do == "roll-back" && len(r.Rollback.Steps) == 0:
		r.file.Complain(path+".do", "there is nothing to roll back with: give the runbook rollback: {steps: …}")
	}
}

// eachStep visits every step with its path in the file, the rollback included.
func (r *Runbook) eachStep(visit func(path string, step *Step)) {
	for i := range r.Phases {
		for j := range r.Phases[i].Steps {
			visit(fmt.Sprintf("phases[%d].steps[%d]", i, j), &r.Phases[i].Steps[j])
		}
	}
	for j := range r.Rollback.Steps {
		visit(fmt.Sprintf("rollback.steps[%d]", j), &r.Rollback.Steps[j])
	}
}

// Warnings are the remarks about what is allowed but odd, those of the last check against a dialect too.
func (r *Runbook) Warnings() []*source.Complaint { return r.file.Warnings() }

// Input finds an input by name.
func (r *Runbook) Input(name string) (Input, bool) {
	for _, input := range r.Inputs {
		if input.Input == name {
			return input, true
		}
	}
	return Input{}, false
}

func (r *Runbook) inputNames() string {
	names := make([]string, len(r.Inputs))
	for i, input := range r.Inputs {
		names[i] = input.Input
	}
	return cmp.Or(strings.Join(names, ", "), "none")
}

// phaseNames lists the phases as the file calls them.
func (r *Runbook) phaseNames() string {
	names := make([]string, len(r.Phases))
	for i, phase := range r.Phases {
		names[i] = phase.Phase
	}
	return strings.Join(names, ", ")
}
