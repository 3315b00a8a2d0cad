package verbs

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"pilotrix/core/runbook"
	"pilotrix/core/runbook/engine"
	"pilotrix/core/sense"
)

var _ = runbook.Register(runbook.Verb{
	Name: "wait", Does: "lets the device come to a mode by itself; its questions are answered meanwhile",
	Timeout: 5 * time.Minute, Repeatable: true,
	New: func() runbook.Body { return new(waitBody) },
})

type waitBody struct {
	Mode []string `yaml:"mode" jsonschema:"required" jsonschema_description:"Modes that end the wait"`
}

type waitWork struct{ waitBody }

// Compile implements runbook.Body.
func (b *waitBody) Compile(c *runbook.Compiler) runbook.Work {
	if len(b.Mode) == 0 {
		c.Complain("mode", "say which modes are waited for")
	}
	c.Modes("mode", b.Mode)
	return &waitWork{*b}
}

// Types implements runbook.Typist: nothing is typed, and the device goes where it is waited for.
func (w *waitWork) Types(p *runbook.Planner, _ *runbook.PreparedStep) []runbook.Typed {
	p.Mode = w.Mode[0]
	return nil
}

// Summary implements runbook.Summarizer.
func (w *waitWork) Summary(p *runbook.Planner, _ *runbook.PreparedStep) runbook.Summary {
	return runbook.Summary{Checks: []string{"goes on in mode " + strings.Join(w.Mode, " or ")}}
}

const garbleTolerance = 2 * time.Second

// Do implements Work: it answers the device's questions and follows its speed.
func (w *waitWork) Do(ctx context.Context, run *engine.Run, s *runbook.PreparedStep) error {
	run.Now(s, "Waits for the device", "mode "+strings.Join(w.Mode, " or "), s.Timeout)
	for {
		v, err := run.Console.Await(ctx, func(v sense.State) bool {
			return v.Dialog != "" || v.AtPrompt || v.Mode == sense.Garbled || slices.Contains(w.Mode, v.Mode)
		})
		if err != nil {
			return err
		}
		switch {
		case slices.Contains(w.Mode, v.Mode):
			return nil
		case v.Dialog != "":
			if err := run.Talk.Answer(ctx, nil, v, nil); err != nil {
				return err
			}
		case v.Mode == sense.Garbled:
			if err := waitGarbled(run, ctx, s, v); err != nil && !errors.Is(err, engine.ErrReturned) {
				return err
			}
		default:
			return fmt.Errorf("the device came to mode %s instead of %s (%q)", v.Mode, strings.Join(w.Mode, " or "),
				v.Prompt)
		}
	}
}

// waitGarbled gives garble a moment to pass, then looks for the speed.
func waitGarbled(run *engine.Run, ctx context.Context, s *runbook.PreparedStep, v sense.State) error {
	limited, cancel := run.Console.Clock().WithTimeout(ctx, garbleTolerance)
	_, err := run.Console.Await(limited, func(v sense.State) bool { return v.Mode != sense.Garbled })
	cancel()
	if err == nil || ctx.Err() != nil || !errors.Is(err, context.DeadlineExceeded) {
		return err
	}
	return catchHunt(run, ctx, s, v)
}
