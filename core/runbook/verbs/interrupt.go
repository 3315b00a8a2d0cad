package verbs

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"pilotrix/core/event"
	"pilotrix/core/expression"
	"pilotrix/core/runbook"
	"pilotrix/core/runbook/engine"
	"pilotrix/core/sense"
)

var _ = runbook.Register(runbook.Verb{
	Name:    "interrupt",
	Does:    "presses a key again and again while a device starts, until it waits at something: a loader is stopped so of which nothing is known",
	Timeout: 10 * time.Minute,
	OwnLine: true,
	Learns:  true,
	New:     func() runbook.Body { return new(interruptBody) },
})

// interrupts are the keys that stop loaders, by their names.
var interrupts = []struct{ name, key string }{
	{"Enter", "\r"}, {"Space", " "}, {"Esc", "\x1b"}, {"Ctrl-C", "\x03"},
}

var _ = done(ByHand{
	Name: "interrupt", Menu: Entering, Rank: 2, Key: "k", Needs: engine.Line,
	Does: "stop it with a key", Title: "Stop a device that starts, with a key",
	Make: func(Place) (*runbook.Runbook, error) {
		var names []string
		for _, one := range interrupts {
			names = append(names, one.name)
		}
		return oneStep("interrupt", "Press ${key} until it waits",
			"Presses a key from now on, through the power-up, until the device waits at something.", "interrupt",
			map[string]any{"key": "${key}"},
			input("key", runbook.KindText, "the key: "+strings.Join(names, ", ")+", or a character", "default", names[0]))
	},
})

type interruptBody struct {
	Key string `yaml:"key" jsonschema:"required" jsonschema_description:"Enter, Space, Esc, Ctrl-C, or a character"`
}

type interruptWork struct{ key *expression.Template }

// Compile implements runbook.Body.
func (b *interruptBody) Compile(c *runbook.Compiler) runbook.Work {
	return &interruptWork{c.Template("key", b.Key)}
}

// Summary implements runbook.Summarizer.
func (w *interruptWork) Summary(p *runbook.Planner, _ *runbook.PreparedStep) runbook.Summary {
	return runbook.Summary{Does: []string{"presses " + w.key.Shown(p.Known) + " until the device waits"}}
}

const (
	interruptEvery = 300 * time.Millisecond
	interruptSame  = 4 // presses that change nothing: it waits
)

// Do implements engine.Doer.
func (w *interruptWork) Do(ctx context.Context, run *engine.Run, s *runbook.PreparedStep) error {
	name, err := fill(run, w.key)
	if err != nil {
		return err
	}
	key := name
	if i := slices.IndexFunc(interrupts, func(one struct{ name, key string }) bool {
		return strings.EqualFold(one.name, name)
	}); i >= 0 {
		key = interrupts[i].key
	}
	if len([]rune(key)) != 1 {
		return fmt.Errorf("%q is no key: it takes Enter, Space, Esc, Ctrl-C, or one character", name)
	}
	run.Now(s, "Presses "+name, "the device to wait at something", s.Timeout)
	begun := run.Console.Device()
	before, same := begun, 0
	for {
		if err := run.Console.Type(ctx, key, false); err != nil {
			return err
		}
		if err := run.Console.Pause(ctx, interruptEvery); err != nil {
			return err
		}
		v := run.Console.Device()
		waits := v.Bytes > begun.Bytes && v.Mode != sense.Garbled && settledAt(v) != "" && settledAt(v) == settledAt(before)
		if same++; !waits {
			same = 0
		}
		if same >= interruptSame || v.AtPrompt && v.Bytes > begun.Bytes {
			run.Console.Emit(event.Note{Level: event.Info, Text: "it waits at “" + settledAt(v) + "”"})
			return nil
		}
		before = v
	}
}

// settledAt is what stands on the device's line, without what a key has put there.
func settledAt(v sense.State) string { return strings.TrimRight(v.Partial, " ") }
