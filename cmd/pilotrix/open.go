package main

import (
	"context"
	"errors"
	"io"

	"github.com/spf13/cobra"

	"pilotrix/core/dialect"
	"pilotrix/core/event"
	"pilotrix/core/line"
	"pilotrix/core/runbook"
	"pilotrix/core/session"
	"pilotrix/tui"
)

func (p *program) openCommand() *cobra.Command {
	var flags targetFlags
	var book string
	var scale float64
	cmd := &cobra.Command{
		Use:   "open TARGET",
		Short: "Open a console in the interface",
		Example: `  pilotrix open serial:/dev/ttyUSB0?speed=115200
  pilotrix open bench:mare-rtr1
  pilotrix open /dev/ttyUSB0 --dialect brindle-r40 --run rescue-over-serial --set image=tern-4.2.1.brm \
      --set user=harbour --secret password=env:PASS`,
		Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			if !onTerminal() {
				return usage(errors.New("open needs a terminal; without one use run, send, receive or hunt"))
			}
			flags.on = args[0]
			target, err := line.ParseTarget(args[0])
			if err != nil {
				return usage(err)
			}
			var prepared *runbook.Prepared
			d, err := flags.loadDialect(target)
			if err == nil && book != "" {
				_, prepared, err = p.prepare(cmd.Context(), &flags, book)
			}
			if err != nil {
				return usage(err)
			}
			targets, err := flags.targets()
			if err != nil {
				return usage(err)
			}
			return p.interactive(cmd.Context(), target, scale, d, prepared, func(o *open) {
				flags.apply(o, targets)
				p.showShelf(cmd.Context(), o, d, flags.shelf)
			})
		},
	}
	cmd.Flags().StringVar(&flags.dialect, "dialect", "", "how the device talks: a `name` or a file")
	cmd.Flags().StringVar(&book, "run", "", "a `runbook` to carry out")
	flags.addInputs(cmd)
	flags.addWatches(cmd)
	addTimeScale(cmd, &scale, 8)
	return cmd
}

// showShelf tells the session what is on the shelf, now and whenever a folder changes, until ctx ends.
func (p *program) showShelf(ctx context.Context, o *open, d *dialect.Dialect, folders []string) {
	if r, err := loadRegister(); len(folders) == 0 && err == nil && len(r.Folders) == 0 {
		return
	}
	quiet := *p
	quiet.err = io.Discard // the screen is the interface's
	go func() {
		shelf, err := quiet.openShelf(ctx, d, folders)
		if err != nil {
			o.Emit(event.Note{Level: event.Warn, Text: err.Error()})
		}
		if shelf == nil || len(shelf.Folders()) == 0 {
			return
		}
		tell := func() { o.Emit(runbook.ShelfEvent(shelf, o.Facts())) }
		tell()
		if err := shelf.Watch(ctx, tell); err != nil {
			o.Emit(event.Note{Level: event.Warn, Text: err.Error()})
		}
	}()
}

// interactive opens a session in the interface, with a runbook or without.
func (p *program) interactive(ctx context.Context, target line.Target, scale float64, d *dialect.Dialect, prepared *runbook.Prepared, begun func(*open)) error {
	var secrets []string
	if prepared != nil {
		secrets = prepared.Secrets()
	}
	o, err := p.begin(ctx, target, scale, d, nil, secrets)
	if err != nil {
		return err
	}
	if prepared != nil {
		prepared.Kit.Network = o.host
	}
	err = tui.Run(ctx, tui.Options{
		Begun:   func() { begun(o) },
		Session: o.Session, Runbook: prepared, Dialect: d, Theme: p.theme, Leader: p.leader, Notices: o.notices,
		Device: o.place.Name, About: o.place.Words(), Line: session.LineState(target),
	})
	return errors.Join(err, o.close("the operator left"))
}
