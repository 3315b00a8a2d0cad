package main

import (
	"fmt"
	"os"
	"strings"

	"github.com/spf13/cobra"

	"pilotrix/bench"
	"pilotrix/core/image"
	"pilotrix/core/line"
	"pilotrix/demo"
)

func (p *program) demoCommand() *cobra.Command {
	var headless bool
	var scale float64
	var awkward string
	var about strings.Builder
	for _, scene := range demo.Scenes() {
		fmt.Fprintf(&about, "\n  %-14s %s", scene.Name, scene.Title)
	}
	cmd := &cobra.Command{
		Use:   "demo [NAME]",
		Short: "The whole job on a simulated device",
		Long: `Brings a simulated device up and carries a runbook out on it in the real interface. Without a
terminal it runs by itself, approves the holds and prints the course as it goes.

Demos:` + about.String(),
		Example: `  pilotrix demo                     the rescue, eight times as fast as in life
  pilotrix demo bank-upgrade        a release change over TFTP, with a upgrade, a restart and the proof
  pilotrix demo rescue --time-scale 1
  pilotrix demo --awkward           on a device with log lines everywhere, a pager, late echoes, noise on the line …
  pilotrix demo bank-upgrade --awkward=noise,pager`,
		Args:      cobra.MaximumNArgs(1),
		ValidArgs: []string{"rescue", "bank-upgrade"},
		RunE: func(cmd *cobra.Command, args []string) error {
			name := "rescue"
			if len(args) > 0 {
				name = args[0]
			}
			var err error
			if p.awkward, err = bench.ParseAwkward(awkward); err != nil {
				return usage(fmt.Errorf("--awkward: %w", err))
			}
			return p.demo(cmd, name, scale, headless)
		},
	}
	addTimeScale(cmd, &scale, 8)
	addAwkward(cmd, &awkward)
	cmd.Flags().BoolVar(&headless, "headless", false, "run without the interface, approving the holds")
	return cmd
}

func (p *program) demo(cmd *cobra.Command, name string, scale float64, headless bool) error {
	folder, err := os.MkdirTemp("", "pilotrix-demo-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(folder)
	scene, err := demo.FindScene(name, folder)
	if err != nil {
		return usage(err)
	}
	book, err := demo.LoadRunbook(scene.Runbook)
	if err != nil {
		return err
	}
	target := line.Target{Kind: line.Bench, Address: scene.Place, Speed: scene.Speed}
	d, err := (&targetFlags{}).loadDialect(target)
	if err != nil {
		return err
	}
	if p.awkward[bench.Mute] {
		d.Line.Echo = "none"
	}
	kit, err := p.kit(cmd.Context(), d, []string{scene.Shelf}, book, scene.Inputs)
	if err != nil {
		return err
	}
	prepared, err := book.Prepare(d, scene.Inputs, kit)
	if err != nil {
		return err
	}
	if headless || !onTerminal() {
		return p.runHeadless(cmd.Context(), opening{target: target, scale: scale, runbook: prepared, approve: approver([]string{"all"})}, false)
	}
	return p.interactive(cmd.Context(), opening{target: target, scale: scale, dialect: d, runbook: prepared}, func() (*image.Shelf, error) { return kit.Shelf, nil })
}
