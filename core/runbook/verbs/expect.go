package verbs

import (
	"context"
	"fmt"
	"regexp"
	"strings"
	"time"

	"pilotrix/core/event"
	"pilotrix/core/expression"
	"pilotrix/core/plain"
	"pilotrix/core/runbook"
	"pilotrix/core/runbook/engine"
	"pilotrix/core/sense"
)

var _ = runbook.Register(runbook.Verb{
	Name:       "expect",
	Does:       "waits until the device writes what a pattern matches; nothing is typed",
	Timeout:    12 * time.Hour,
	Repeatable: true,
	Learns:     true,
	New:        func() runbook.Body { return new(expectBody) },
})

var _ = done(ByHand{
	Name: "expect", Menu: Watching, Rank: 2, Key: "e",
	Does: "expect a text", Title: "Expect a text of the device",
	Make: func(Place) (*runbook.Runbook, error) {
		return oneStep("expect", "Expect “${text}”",
			"Waits until the device writes something, and rings the terminal's bell then.", "expect",
			map[string]any{"text": "${text}", "for": "${for}"},
			input("text", runbook.KindText, "a pattern: upper and lower case are the same in it"),
			input("for", runbook.KindText, "how long, such as 30m; until it is ended unless said", "default", ""))
	},
})

type expectBody struct {
	Text    string `yaml:"text" jsonschema:"required" jsonschema_description:"The pattern; may hold ${…}"`
	lasting `yaml:",inline"`
}

type expectWork struct {
	text *expression.Template
	lasts
}

// Compile implements runbook.Body.
func (b *expectBody) Compile(c *runbook.Compiler) runbook.Work {
	return &expectWork{c.Template("text", b.Text), b.lasting.compile(c)}
}

// Summary implements runbook.Summarizer.
func (w *expectWork) Summary(p *runbook.Planner, _ *runbook.PreparedStep) runbook.Summary {
	return runbook.Summary{Checks: []string{"the device writes " + w.text.Shown(p.Known)}}
}

// patternOf is a pattern as a person types it: upper and lower case are the same in it.
func patternOf(text string) (*regexp.Regexp, error) {
	pattern, err := regexp.Compile("(?i)" + text)
	if err != nil {
		return nil, fmt.Errorf("%q is no pattern: %w", text, err)
	}
	return pattern, nil
}

// Do implements engine.Doer. What stands there already is not what is waited for.
func (w *expectWork) Do(ctx context.Context, run *engine.Run, s *runbook.PreparedStep) error {
	text, err := fill(run, w.text)
	if err != nil {
		return err
	}
	pattern, err := patternOf(text)
	if err != nil {
		return err
	}
	there := func(v sense.State) (lines []string) {
		shown := v.Output()
		if typed, known := v.Typed(); !known || typed == "" { // what is being typed is not the device's
			shown += v.Partial
		}
		for line := range strings.Lines(shown) {
			if pattern.MatchString(line) {
				lines = append(lines, strings.TrimSpace(line))
			}
		}
		return lines
	}
	begun := run.Console.Device()
	before := len(there(begun))
	return w.wait(ctx, run, s, "Expects “"+text+"”", "the device to write it", func(ctx context.Context) error {
		var found string
		_, err := run.Console.Await(ctx, func(v sense.State) bool {
			if v.Commands != begun.Commands {
				before = 0
			}
			lines := there(v)
			if len(lines) > before {
				found = lines[len(lines)-1]
			}
			return found != ""
		})
		if err == nil {
			run.Console.Emit(event.Note{Level: event.Info, Text: "it came: " + plain.Clip(found, 100)})
		}
		return err
	})
}
