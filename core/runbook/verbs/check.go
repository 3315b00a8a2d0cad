package verbs

import (
	"context"
	"errors"
	"strings"
	"time"

	"pilotrix/core/event"
	"pilotrix/core/expression"
	"pilotrix/core/runbook"
	"pilotrix/core/runbook/engine"
	"pilotrix/core/source"
)

var _ = runbook.Register(runbook.Verb{
	Name: "check", Does: "holds an expression against facts and inputs, and fails with a message when it does not hold",
	Timeout: time.Second, Repeatable: true, Learns: true,
	New: func() runbook.Body { return new(checkBody) },
})

type checkBody struct {
	Holds   source.Expression `yaml:"holds" jsonschema:"required" jsonschema_description:"What has to hold"`
	Message string            `yaml:"message" jsonschema:"required" jsonschema_description:"What is said when it does not; may hold ${…}"`
}

type checkWork struct {
	checkBody
	holds   *expression.Guard
	message *expression.Template
}

// Compile implements runbook.Body.
func (b *checkBody) Compile(c *runbook.Compiler) runbook.Work {
	return &checkWork{*b, c.Guard("holds", b.Holds), c.Template("message", b.Message)}
}

// Do implements engine.Doer.
func (w *checkWork) Do(_ context.Context, run *engine.Run, s *runbook.PreparedStep) error {
	return check(run, s, w.holds, w.message, run.Title(s))
}

// check says whether a guard holds, and fails with a message when it does not.
func check(
	run *engine.Run, s *runbook.PreparedStep, holds *expression.Guard, message *expression.Template, title string,
) error {
	env := run.Env()
	held, err := holds.Holds(env)
	if err != nil {
		return err
	}
	text := title
	if !held {
		if text, err = message.Render(env); err != nil || strings.TrimSpace(text) == "" {
			text = "this does not hold: " + holds.Text()
		}
	}
	run.Console.Emit(event.Check{Step: s.ID, Text: text, Held: held})
	if !held {
		return errors.New(strings.TrimSpace(text))
	}
	return nil
}

// Summary implements runbook.Summarizer.
func (w *checkWork) Summary(*runbook.Planner, *runbook.PreparedStep) runbook.Summary {
	return runbook.Summary{Checks: []string{string(w.checkBody.Holds)}}
}
