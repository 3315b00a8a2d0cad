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
	"pilotrix/core/runbook"
	"pilotrix/core/runbook/engine"
	"pilotrix/core/sense"
	"pilotrix/core/transfer/xmodem"
)

var _ = runbook.Register(runbook.Verb{
	Name:    "carry",
	Does:    "sends a file over the line to a receiver that waits there already, or is started meanwhile",
	Timeout: 2 * time.Hour,
	OwnLine: true,
	Cards:   []string{runbook.CardTransfer},
	New:     func() runbook.Body { return new(carryBody) },
})

var _ = done(ByHand{
	Name: "carry", Menu: Sending, Rank: 1, Key: "s", Needs: engine.Line,
	Does: "send a file", Title: "Send a file over the line",
	Make: func(Place) (*runbook.Runbook, error) {
		return oneStep("carry", "Send ${file.name}", "Sends a file of the shelf to a receiver that waits on the line.",
			"carry", map[string]any{"file": "file", "protocol": "${protocol}", "as": "${as}"},
			input("file", runbook.KindImage, "what the receiver is to get"),
			input("protocol", runbook.KindChoice, "that the receiver speaks",
				"choices", strings.Fields("xmodem-1k xmodem ymodem ymodem-g"), "default", "xmodem-1k"),
			input("as", runbook.KindText, "the name that YMODEM says; its own unless said", "default", ""))
	},
})

type carryBody struct {
	File     string `yaml:"file" jsonschema:"required" jsonschema_description:"An input of kind image, or what the loop brings"`
	Protocol string `yaml:"protocol" jsonschema:"required" jsonschema_description:"xmodem, xmodem-1k, ymodem or ymodem-g; may be the ${input} of a choice"`
	As       string `yaml:"as" jsonschema_description:"The name that YMODEM says; its own unless said"`
}

type carryWork struct {
	file         string
	protocol, as *expression.Template
}

// Compile implements runbook.Body.
func (b *carryBody) Compile(c *runbook.Compiler) runbook.Work {
	c.Image("file", b.File)
	c.Changes()
	return &carryWork{b.File, c.Protocol("protocol", b.Protocol,
		func(name string) error { _, err := xmodem.Parse(name); return err }), c.Template("as", b.As)}
}

// Summary implements runbook.Summarizer.
func (w *carryWork) Summary(p *runbook.Planner, s *runbook.PreparedStep) runbook.Summary {
	name := "${" + w.file + "}"
	if img := p.ImageOf(s, w.file); img != nil {
		name = fmt.Sprintf("%s (%d B)", img.Name, img.Size)
	}
	return runbook.Summary{Does: []string{"sends " + name + " by " + w.protocol.Shown(p.Known) + " to a receiver that waits"}}
}

// receiverWithin is how long a receiver may take until it asks for the file.
const receiverWithin = 2 * time.Minute

// endWithin is how long it may take to take the end: a store may be slow to write.
const endWithin = 2 * time.Minute

// Do implements engine.Doer.
func (w *carryWork) Do(ctx context.Context, run *engine.Run, s *runbook.PreparedStep) error {
	img, err := run.Ready(ctx, s, run.Prepared.ImageOf(s, w.file))
	if err != nil {
		return err
	}
	name, err := w.protocol.Render(run.Env())
	if err != nil {
		return err
	}
	variant, err := xmodem.Parse(name)
	if err != nil {
		return err
	}
	as, err := fill(run, w.as)
	if err != nil {
		return err
	}
	file, err := img.Reader()
	if err != nil {
		return err
	}
	defer file.Close()
	run.Now(s, fmt.Sprintf("Sends %s by %s", img.Name, variant), "a receiver that asks for it", receiverWithin)
	limited, cancel := run.Console.Clock().WithTimeout(ctx, receiverWithin)
	defer cancel()
	_, err = run.Console.Await(limited, func(v sense.State) bool { return v.Receiver != 0 || v.Request != 0 })
	if errors.Is(err, context.DeadlineExceeded) && ctx.Err() == nil {
		return fmt.Errorf("no receiver asked for %s within %s: start one on the device first", img.Name, receiverWithin)
	}
	if err != nil {
		return err
	}
	run.Receives(true)
	defer run.Receives(false)
	if err := moves(ctx, run, s, img, cmp.Or(as, img.Name), file, variant, endWithin); err != nil {
		return err
	}
	run.Console.Emit(event.Note{
		Level: event.Info,
		Text:  fmt.Sprintf("%s was taken by the receiver; what the device makes of it, it says itself", img.Name),
	})
	return nil
}
