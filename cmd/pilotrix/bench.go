package main

import (
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"pilotrix/bench"
	"pilotrix/core/clock"
	"pilotrix/demo"
)

func (p *program) benchCommand() *cobra.Command {
	var bitErrors, scale float64
	var awkward string
	var about strings.Builder
	for _, place := range demo.Places() {
		fmt.Fprintf(&about, "\n  %-12s %s, %s: %s", place.Name, place.Family, place.Where, place.About)
	}
	cmd := &cobra.Command{
		Use:   "bench NAME",
		Short: "Run a simulated device and print the path to open",
		Long:  "Runs a simulated device until it is interrupted and prints the path of its serial line.\n\nDevices:" + about.String(),
		Example: `  pilotrix bench hollow-rtr1 --time-scale 1
  pilotrix bench hollow-rtr1 --awkward                  with everything that real devices do
  pilotrix bench mare-gw1 --awkward=noise,pager,wrap
  pilotrix open PATH     in another terminal`,
		Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			ways, err := bench.ParseAwkward(awkward)
			if err != nil {
				return usage(fmt.Errorf("--awkward: %w", err))
			}
			machine, place, err := demo.Machine(args[0], clock.Scaled(scale), false, bench.NewLAN(false, 1), ways)
			if err != nil {
				return usage(err)
			}
			if err := machine.Start(); err != nil {
				return err
			}
			defer machine.Stop()
			if bitErrors > 0 {
				machine.Wire().BitErrors(bitErrors, 1)
			}
			fmt.Fprintf(p.out, "%s\n", machine.Path())
			fmt.Fprintf(p.err, "%s, %s: %s. Its line is at the path above, at %d baud. Ctrl-C ends it.\n", place.Family, place.Where, place.About, machine.Wire().Baud())
			<-cmd.Context().Done()
			return nil
		},
	}
	addTimeScale(cmd, &scale, 1)
	addAwkward(cmd, &awkward)
	cmd.Flags().Float64Var(&bitErrors, "bit-errors", 0, "flip bits at this `rate`, such as 1e-4")
	return cmd
}
