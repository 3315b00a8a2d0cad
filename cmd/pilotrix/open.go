package main

import (
	"errors"
	"sync"

	"github.com/spf13/cobra"

	"pilotrix/app"
	"pilotrix/core/image"
	"pilotrix/core/runbook"
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
			shelf := sync.OnceValues(func() (*image.Shelf, error) { return app.ShelfFor(prepared, d, flags.shelf) })
			return p.interactive(cmd.Context(), flags.opening(app.Opening{
				Target:  target,
				Scale:   scale,
				Dialect: d,
				Runbook: prepared,
				Given:   given,
				Seconds: seconds,
				Begun:   func(o *app.Opened) { flags.apply(o, watched) },
			}), shelf)
		},
	}
	cmd.Flags().StringVar(&flags.dialect, "dialect", "", "how the device talks: a `name`, a file, or none")
	flags.addPassword(cmd)
	cmd.Flags().StringVar(&book, "run", "", "a `runbook` to carry out")
	part.add(cmd)
	flags.addInputs(cmd)
	flags.addWatches(cmd)
	flags.addSeconds(cmd)
	addTimeScale(cmd, &scale, usualScale)
	return cmd
}
