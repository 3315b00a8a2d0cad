package main

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"sync"

	"github.com/adrg/xdg"
	"github.com/spf13/cobra"

	"pilotrix/core/dialect"
	"pilotrix/core/event"
	"pilotrix/core/image"
	"pilotrix/core/runbook"
	"pilotrix/core/shelves"
)

func (p *program) openCommand() *cobra.Command {
	var flags targetFlags
	var book string
	var part runPart
	var scale float64
	cmd := &cobra.Command{
		Use:   "open TARGET",
		Short: "Open a console in the interface",
		Example: `  pilotrix open serial:/dev/ttyUSB0?speed=115200
  pilotrix open bench:mare-rtr1
  pilotrix open ssh://harbour@192.0.2.41 --also console=/dev/ttyUSB0     its console beside the shell session
  pilotrix open mare-gw1                        a device that is kept: see device add
  pilotrix open /dev/ttyUSB0 --dialect brindle-r40 --run rescue-over-serial --set image=tern-4.2.1.brm \
      --set user=harbour --secret password=env:PASS`,
		Args: cobra.ExactArgs(1), ValidArgsFunction: targetNames,
		RunE: func(cmd *cobra.Command, args []string) error {
			if !onTerminal() {
				return usage(errors.New("open needs a terminal; without one use run, send, receive or hunt"))
			}
			flags.on = args[0]
			target, err := flags.target()
			if err != nil {
				return usage(err)
			}
			var prepared *runbook.Prepared
			d, err := flags.loadDialect(target)
			if err == nil && book != "" {
				_, prepared, err = p.prepare(cmd.Context(), &flags, book)
			}
			if err == nil {
				err = part.choose(prepared)
			}
			if err != nil {
				return usage(err)
			}
			watched, err := flags.watched()
			if err != nil {
				return usage(err)
			}
			given, err := flags.given()
			if err != nil {
				return usage(err)
			}
			seconds, err := flags.seconds(prepared)
			if err != nil {
				return usage(err)
			}
			shelf := sync.OnceValues(func() (*image.Shelf, error) { return shelfFor(prepared, d, flags.shelf) })
			return p.interactive(cmd.Context(), flags.opening(opening{
				target:  target,
				scale:   scale,
				dialect: d,
				runbook: prepared,
				given:   given,
				also:    seconds,
				begun:   func(o *opened) { flags.apply(o, watched) },
			}), shelf)
		},
	}
	cmd.Flags().StringVar(&flags.dialect, "dialect", "", "how the device talks: a `name`, a file, or none")
	flags.addPassword(cmd)
	cmd.Flags().StringVar(&book, "run", "", "a `runbook` to carry out")
	part.add(cmd)
	flags.addInputs(cmd)
	flags.addWatches(cmd)
	flags.addAlso(cmd)
	addTimeScale(cmd, &scale, usualScale)
	return cmd
}

// warn says what went wrong without being a reason to end the session.
func (o *opened) warn(err error) {
	if err != nil {
		o.Emit(event.Note{Level: event.Warning, Text: err.Error()})
	}
}

// shelfFor is a runbook's shelf, so that both look at the same images, or else one of the folders said or
// registered. Where the register or a pattern is broken the shelf is empty: a console is worth more.
func shelfFor(prepared *runbook.Prepared, d *dialect.Dialect, folders []string) (*image.Shelf, error) {
	if prepared != nil && prepared.Kit.Shelf != nil {
		return prepared.Kit.Shelf, nil
	}
	shelf, err := shelves.New(d, folders)
	if err != nil {
		shelf = image.NewShelf(image.ShelfOptions{})
	}
	return shelf, err
}

// showShelf tells the session what is on the shelf, now and whenever a folder changes, until ctx ends.
func showShelf(ctx context.Context, o *opened, made func() (*image.Shelf, error)) {
	shelf, err := made()
	o.warn(err)
	last := ""
	report := func(err error) {
		if text := fmt.Sprint(err); text != last { // what goes on being wrong is said once
			last = text
			o.warn(err)
		}
		if len(shelf.Folders()) > 0 {
			o.Emit(runbook.ShelfEvent(shelf, o.Dialect(), o.Facts()))
		}
	}
	if err := shelf.Scan(ctx, nil); ctx.Err() == nil {
		report(err)
	}
	o.warn(shelf.Watch(ctx, report))
}

// addToShelf puts a folder on the shelf of this session and of those to come.
func addToShelf(made func() (*image.Shelf, error), folder string) error {
	if rest, found := strings.CutPrefix(folder, "~"); found {
		folder = xdg.Home + rest
	}
	place, err := shelves.Add(folder)
	if err != nil {
		return err
	}
	shelf, _ := made() // what was wrong with it is reported already
	shelf.Add(place)
	return nil
}
