package main

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"

	"github.com/spf13/cobra"

	"pilotrix/app"
	"pilotrix/core/event"
	"pilotrix/core/runbook"
	"pilotrix/core/runbook/engine"
	"pilotrix/core/transcript"
)

func (p *program) runCommand() *cobra.Command {
	var flags targetFlags
	var approvals []string
	var part runPart
	var asJSON bool
	var scale float64
	cmd := &cobra.Command{
		Use:   "run RUNBOOK --on TARGET",
		Short: "Carry out a runbook without the interface",
		Long: `Carries out a runbook without the interface, printing the course as it goes.

Exit codes: 0 done, or so already; 5 done, but over steps that failed; 1 failed; 4 failed and rolled back;
3 stopped; 6 not recorded, or stopped for that; 2 wrong usage; 70 a fault of the program.`,
		Example: `  pilotrix run rescue-over-serial --on bench:hollow-rtr1 --set image=tern-4.2.1.brm \
      --set user=harbour --secret password=env:PASS --approve all
  pilotrix run prove-in-memory --on unix:/run/board.sock --dialect u-boot \
      --set image=kernel.img --set address=40400000 --approve all --json
  pilotrix run try-then-burn --on /dev/ttyUSB0 --dialect pellow-w3 --set image=skua-2.6.pws --set address=192.0.2.45 \
      --set user=harbour --secret password=env:PASS --rehearse --approve all`,
		Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			if flags.on == "" {
				return usage(errors.New("say where the device is: --on TARGET"))
			}
			target, prepared, err := p.prepare(cmd.Context(), &flags, args[0])
			if err != nil {
				return usage(err)
			}
			if err := part.choose(prepared); err != nil {
				return usage(err)
			}
			if err := app.CheckApprovals(prepared, approvals); err != nil {
				return usage(fmt.Errorf("--approve %w", err))
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
			return p.runHeadless(cmd.Context(), flags.opening(app.Opening{
				Target:  target,
				Scale:   scale,
				Runbook: prepared,
				Given:   given,
				Seconds: seconds,
				Approve: app.Approver(prepared, approvals),
				Begun:   func(o *app.Opened) { flags.apply(o, watched) },
			}), asJSON)
		},
	}
	flags.add(cmd)
	flags.addInputs(cmd)
	flags.addWatches(cmd)
	flags.addSeconds(cmd)
	addTimeScale(cmd, &scale, 8)
	cmd.Flags().StringArrayVar(&approvals, "approve", nil,
		"approve a hold: all, or a step's number or `name`; identity goes on where it cannot be read whether it is still the same device, unrecorded where nothing can be recorded")
	part.add(cmd)
	cmd.Flags().BoolVar(&asJSON, "json", false, "print every event as a line of JSON")
	return cmd
}

// runPart is the part of a runbook that is carried out.
type runPart struct {
	from     string // a phase, empty for the first
	rehearse bool
}

func (r *runPart) add(cmd *cobra.Command) {
	cmd.Flags().StringVar(&r.from, "from", "",
		"begin at a `phase`; of those before it only what reads the device and prepares this laptop is done")
	cmd.Flags().BoolVar(&r.rehearse, "rehearse", false, "end behind the phases that change nothing that lasts")
}

// choose makes a run of that part. Without a runbook there is nothing to choose of.
func (r *runPart) choose(prepared *runbook.Prepared) error {
	if prepared == nil {
		if r.from != "" || r.rehearse {
			return errors.New("--from and --rehearse go with a runbook: --run RUNBOOK")
		}
		return nil
	}
	if r.from != "" {
		if err := prepared.From(r.from); err != nil {
			return err
		}
	}
	if r.rehearse {
		return prepared.Rehearse()
	}
	return nil
}

// runHeadless runs a prepared runbook and prints its events.
func (p *program) runHeadless(ctx context.Context, with app.Opening, asJSON bool) error {
	prepared := with.Runbook
	with.Dialect = prepared.Dialect
	o, err := p.begin(ctx, with)
	if err != nil {
		return err
	}
	feed := o.Subscribe()
	o.Begin()
	for _, one := range o.Seconds() {
		one.Begin()
	}
	if with.Begun != nil {
		with.Begun(o)
	}
	printed := make(chan error, 1)
	go func() { printed <- p.print(feed, asJSON) }()
	result, runErr := o.Run(ctx, prepared)
	closeErr := o.Close("the runbook ended")
	printErr := <-printed
	if err := errors.Join(runErr, closeErr, printErr); err != nil {
		fmt.Fprintln(p.err, "pilotrix:", err)
	}
	code := result.Exit
	if result.Outcome.Good() && closeErr != nil {
		code = engine.ExitUnrecorded
	}
	if code != 0 {
		return exit{code: code}
	}
	return runErr
}

// print writes events until the feed ends: JSON Lines, or the course in words.
func (p *program) print(feed *event.Feed, asJSON bool) error {
	view := transcript.New(p.out)
	encoder := json.NewEncoder(p.out)
	var failed error
	for {
		batch, err := feed.Next(context.Background())
		if errors.Is(err, io.EOF) {
			return failed
		}
		for _, e := range batch {
			if !asJSON {
				view.Report(e)
			} else if err := encoder.Encode(e); err != nil {
				failed = err
			}
		}
	}
}

func (p *program) planCommand() *cobra.Command {
	var flags targetFlags
	var asJSON bool
	var format string
	var facts []string
	cmd := &cobra.Command{
		Use:   "plan RUNBOOK",
		Short: "Print every command that would be typed; sends nothing",
		Long: `Prints every command that would be typed, every hold, the expected times and the rollback. What only
the device can tell stays as ${…}, unless it is assumed with --fact.`,
		Example: `  pilotrix plan rescue-over-serial --dialect brindle-r40 --set image=tern-4.2.1.brm \
      --set user=harbour --secret password=env:PASS
  pilotrix plan standby-bank-upgrade --dialect cormel-g2 --set image=lark-8.1.0.cgo --set upgrade_paths=cormel-g2 \
      --set user=harbour --secret password=env:PASS --fact running.release=7.4.2 --format markdown`,
		Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			if asJSON {
				format = "json"
			}
			assumed, err := app.Assume(facts)
			if err != nil {
				return usage(fmt.Errorf("--fact %w", err))
			}
			_, prepared, err := p.prepare(cmd.Context(), &flags, args[0])
			if err != nil {
				return usage(err)
			}
			return p.printPlan(prepared.Plan(assumed), format)
		},
	}
	flags.add(cmd)
	flags.addInputs(cmd)
	cmd.Flags().BoolVar(&asJSON, "json", false, "the same as --format json")
	cmd.Flags().StringVar(&format, "format", "text", "text, markdown or json")
	cmd.Flags().StringArrayVar(&facts, "fact", nil, "what is assumed of the device, `name=value`")
	return cmd
}

func (p *program) printPlan(plan runbook.Plan, format string) error {
	switch format {
	case "text":
		plan.Write(p.out)
	case "markdown":
		plan.WriteMarkdown(p.out)
	case "json":
		encoder := json.NewEncoder(p.out)
		encoder.SetIndent("", "  ")
		return encoder.Encode(plan)
	default:
		return usage(fmt.Errorf("no format %q; there are text, markdown and json", format))
	}
	return nil
}
