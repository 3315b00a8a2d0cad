package verbs

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"pilotrix/core/event"
	"pilotrix/core/expression"
	"pilotrix/core/plain"
	"pilotrix/core/runbook"
	"pilotrix/core/runbook/engine"
)

var _ = runbook.Register(runbook.Verb{
	Name:    "repeat",
	Does:    "types a command again and again, each time at an empty prompt where nobody types, until its answer holds something, or is another one",
	Timeout: 12 * time.Hour,
	OwnLine: true,
	Learns:  true,
	New:     func() runbook.Body { return new(repeatBody) },
})

var _ = done(ByHand{
	Name: "repeat", Menu: Watching, Rank: 3, Key: "r", Needs: engine.Turns,
	Does: "repeat a command", Title: "Repeat a command",
	Make: func(Place) (*runbook.Runbook, error) {
		return oneStep("repeat", "Repeat “${command}”",
			"Types a command again and again, between your own, until its answer holds something or changes.", "repeat",
			map[string]any{"command": "${command}", "every": "${every}", "until": "${until}"},
			input("command", runbook.KindText, "what is typed; nothing that changes the device"),
			input("every", runbook.KindText, "how often", "default", "5s"),
			input("until", runbook.KindText, "the pattern that ends it; until the answer changes unless said", "default", ""))
	},
})

type repeatBody struct {
	Command string `yaml:"command" jsonschema:"required" jsonschema_description:"What is typed; may hold ${…}"`
	Every   string `yaml:"every" jsonschema:"required" jsonschema_description:"How often, such as 5s; may be the ${input} of a text"`
	Until   string `yaml:"until" jsonschema_description:"The pattern that the answer holds in the end; until it is another one unless said"`
}

type repeatWork struct{ command, every, until *expression.Template }

// Compile implements runbook.Body.
func (b *repeatBody) Compile(c *runbook.Compiler) runbook.Work {
	return &repeatWork{c.Template("command", b.Command), c.Template("every", b.Every), c.Template("until", b.Until)}
}

// Summary implements runbook.Summarizer.
func (w *repeatWork) Summary(p *runbook.Planner, _ *runbook.PreparedStep) runbook.Summary {
	return runbook.Summary{Does: []string{"types “" + w.command.Shown(p.Known) + "” every " + w.every.Shown(p.Known)}}
}

// minEvery is how often a command may be repeated: a device has other things to do.
const minEvery = time.Second

// Do implements engine.Doer.
func (w *repeatWork) Do(ctx context.Context, run *engine.Run, s *runbook.PreparedStep) error {
	command, every, ends, err := w.asked(run)
	if err != nil {
		return err
	}
	first := ""
	for n := 1; ; n++ {
		answer, err := run.Talk.InTurn(ctx, command)
		switch {
		case errors.Is(err, engine.ErrNoTurn), errors.Is(err, engine.ErrUnseen):
			answer = "" // the operator came before it: it is typed again
		case err != nil:
			return err
		case first == "":
			first = answer
		}
		if says := ends(first, answer, n); err == nil && says != "" {
			run.Console.Emit(event.Note{
				Level: event.Info,
				Text:  fmt.Sprintf("“%s”: %s", command, plain.Clip(strings.Join(strings.Fields(says), " "), 100)),
			})
			return nil
		}
		run.Now(s, fmt.Sprintf("“%s”, typed %d times; the last: %s", command, n, plain.Clip(lastLine(answer), 60)),
			"another answer, every "+every.String(), s.Timeout)
		if err := run.Console.Pause(ctx, every); err != nil {
			return err
		}
	}
}

// asked is what is repeated how often, and the line of an answer that ends it, empty for none, by what the first answer
// was and how many there were.
func (w *repeatWork) asked(run *engine.Run) (
	command string, every time.Duration, ends func(first, answer string, n int) string, err error,
) {
	if command, err = fill(run, w.command); err != nil {
		return
	}
	if says := run.Console.Stops(command); says != "" || strings.ContainsAny(command, "\r\n") || command == "" {
		err = fmt.Errorf("“%s” is not repeated: %s", command, cmp.Or(says, "it is not one command"))
		return
	}
	text, err := fill(run, w.every)
	if err != nil {
		return
	}
	if every, err = time.ParseDuration(text); err != nil || every < minEvery {
		err = fmt.Errorf("%q is no time such as 5s: every second is the most", text)
		return
	}
	if text, err = fill(run, w.until); err != nil {
		return
	}
	if text == "" {
		return command, every, func(first, answer string, n int) string {
			if n == 1 {
				return ""
			}
			return another(first, answer)
		}, nil
	}
	pattern, err := patternOf(text)
	if err != nil {
		return
	}
	return command, every, func(_, answer string, _ int) string {
		for line := range strings.Lines(answer) {
			if pattern.MatchString(line) {
				return line
			}
		}
		return ""
	}, nil
}

// another is the first line of an answer that the first answer did not have, empty where it is the same answer.
func another(before, answer string) string {
	if before == answer {
		return ""
	}
	had := map[string]bool{}
	for line := range strings.Lines(before) {
		had[strings.TrimSpace(line)] = true
	}
	for line := range strings.Lines(answer) {
		if !had[strings.TrimSpace(line)] {
			return line
		}
	}
	return "it says less than at first"
}

// lastLine is the last line of an answer that says something.
func lastLine(answer string) string {
	answer = strings.TrimSpace(answer)
	return strings.TrimSpace(answer[strings.LastIndexByte(answer, '\n')+1:])
}
