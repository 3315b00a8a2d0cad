package verbs

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"time"

	"pilotrix/core/arithmetic"
	"pilotrix/core/event"
	"pilotrix/core/expression"
	"pilotrix/core/runbook"
	"pilotrix/core/runbook/engine"
	"pilotrix/core/transfer"
	"pilotrix/core/transfer/xmodem"
)

var _ = runbook.Register(runbook.Verb{
	Name:    "take",
	Does:    "takes a file over the line from a sender that waits there already, or is started meanwhile; nothing is written over",
	Timeout: 2 * time.Hour,
	OwnLine: true,
	Learns:  true,
	Cards:   []string{runbook.CardTransfer},
	New:     func() runbook.Body { return new(takeBody) },
})

var _ = done(ByHand{
	Name: "take", Menu: Sending, Rank: 2, Key: "r", Needs: engine.Line,
	Does: "receive a file", Title: "Receive a file over the line",
	Make: func(at Place) (*runbook.Runbook, error) {
		return oneStep("take", "Receive a file", "Takes a file from a sender on the line.", "take",
			map[string]any{"into": "${into}", "as": "${as}", "protocol": "${protocol}"},
			input("into", runbook.KindFolder, "the folder that it is put into; nothing there is written over", "default", at.Folder),
			input("as", runbook.KindText, "its name here; by YMODEM the sender says it, by XMODEM it has to be given", "default", ""),
			input("protocol", runbook.KindChoice, "that the sender speaks",
				"choices", strings.Fields("ymodem xmodem ymodem-g"), "default", "ymodem"))
	},
})

type takeBody struct {
	Into     string `yaml:"into" jsonschema:"required" jsonschema_description:"The folder"`
	As       string `yaml:"as" jsonschema_description:"Its name there; with YMODEM the sender says one"`
	Protocol string `yaml:"protocol" jsonschema:"required" jsonschema_description:"xmodem, xmodem-1k, ymodem or ymodem-g; may be the ${input} of a choice"`
}

type takeWork struct{ into, as, protocol *expression.Template }

// Compile implements runbook.Body.
func (b *takeBody) Compile(c *runbook.Compiler) runbook.Work {
	return &takeWork{
		c.Template("into", b.Into), c.Template("as", b.As),
		c.Protocol("protocol", b.Protocol, func(name string) error { _, err := xmodem.Parse(name); return err }),
	}
}

// Summary implements runbook.Summarizer.
func (w *takeWork) Summary(p *runbook.Planner, _ *runbook.PreparedStep) runbook.Summary {
	return runbook.Summary{
		Does: []string{"takes a file by " + w.protocol.Shown(p.Known) + " into " + w.into.Shown(p.Known)},
	}
}

// Do implements engine.Doer.
func (w *takeWork) Do(ctx context.Context, run *engine.Run, s *runbook.PreparedStep) error {
	into, as, variant, err := w.where(run)
	if err != nil {
		return err
	}
	run.Now(s, "Takes a file by "+variant.String(), "the sender", s.Timeout)
	var last *os.File
	var result xmodem.Result
	err = run.Console.Carry(ctx, func(ctx context.Context, port transfer.Duplex) (err error) {
		create := func(h xmodem.Header) (io.WriteCloser, error) {
			file, err := makeFile(into, as, h.Name)
			if err == nil {
				last = file
				run.Console.Emit(event.TransferBegin{
					File: filepath.Base(file.Name()), Size: max(h.Size, 0), Protocol: variant.String(), Receive: true,
				})
			}
			return file, err
		}
		result, err = xmodem.Receive(ctx, port, create, xmodem.Options{
			Variant:   variant,
			Clock:     run.Console.Clock(),
			Retries:   sendRetries,
			Answer:    sendAnswer,
			File:      as,
			Character: arithmetic.CharacterTime(run.Console.LineRate()),
			Progress:  transferProgress(run, 0, allowedRate(run, variant)),
		})
		return err
	})
	if err != nil && last != nil {
		err = transfer.KeepPart(last.Name(), err)
	}
	if last != nil {
		run.Console.Emit(transferEnd(result, err, ctx))
	}
	switch {
	case err != nil:
		return err
	case last == nil:
		return errors.New("the sender sent no file")
	}
	if !variant.Batch() {
		run.Console.Emit(event.Note{
			Level: event.Warning,
			Text:  "XMODEM does not say how long a file is: what was added to fill its last block is still at its end",
		})
	}
	return received(run, last.Name())
}

// where is what a file that comes is put into and called, and by what it comes.
func (w *takeWork) where(run *engine.Run) (into, as string, variant xmodem.Variant, err error) {
	if into, err = fill(run, w.into); err != nil {
		return
	}
	if as, err = fill(run, w.as); err != nil {
		return
	}
	name, err := w.protocol.Render(run.Env())
	if err != nil {
		return
	}
	if variant, err = xmodem.Parse(name); err != nil {
		return
	}
	info, wrong := os.Stat(into)
	switch {
	case wrong != nil:
		err = wrong
	case !info.IsDir():
		err = fmt.Errorf("%s is no folder", into)
	case as == "" && !variant.Batch():
		err = errors.New("XMODEM says no name: give the file one")
	case as != "" && filepath.Base(as) != as:
		err = fmt.Errorf("%q is no name of a file in a folder", as)
	default:
		if _, there := os.Lstat(filepath.Join(into, as)); as != "" && there == nil {
			err = fmt.Errorf("%s is there already, and is not written over", filepath.Join(into, as))
		}
	}
	return
}

// makeFile makes the file that comes, under the name that was given for it, or else that its sender says.
func makeFile(into, as, said string) (*os.File, error) {
	if as != "" {
		return transfer.Create(filepath.Join(into, as), "", false)
	}
	return transfer.Create(into, said, true)
}
