package main

import (
	"fmt"
	"net"
	"strings"

	"github.com/spf13/cobra"

	"pilotrix/bench"
	"pilotrix/core/clock"
	"pilotrix/demo"
)

func (p *program) benchCommand() *cobra.Command {
	var bitErrors, scale float64
	var awkward, at, stick string
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
  pilotrix bench mare-gw1 --at ssh
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
			if stick != "" {
				if err := machine.Stick(stick); err != nil {
					return usage(fmt.Errorf("--stick: %w", err))
				}
			}
			path := machine.Path()
			if at != "" {
				if path, err = reachedBy(machine, at); err != nil {
					return usage(err)
				}
				if bench.HasTerminals {
					machine.ConsoleExtra()
				}
			}
			if err := machine.Start(); err != nil {
				return err
			}
			defer machine.Stop()
			if bitErrors > 0 {
				machine.Wire().BitErrors(bitErrors, 1)
			}
			fmt.Fprintf(p.out, "%s\n", path)
			where := fmt.Sprintf("Its line is at the path above, at %d baud", machine.Wire().Baud())
			if at != "" {
				where = "It is reached at the target above"
				if bench.HasTerminals {
					fmt.Fprintf(p.out, "%s\n", machine.Path())
					where = fmt.Sprintf("It is reached at the target above, and its console is at the path below it (%d baud): it shows there what no session sees, such as its start",
						machine.Baud())
				}
			}
			fmt.Fprintf(p.err, "%s, %s: %s. %s. Ctrl-C ends it.\n", place.Family, place.Where, place.About, where)
			<-cmd.Context().Done()
			return nil
		},
	}
	addTimeScale(cmd, &scale, 1)
	addAwkward(cmd, &awkward)
	cmd.Flags().StringVar(&at, "at", "",
		"reach it by `telnet or ssh` on loopback instead of by a serial line; its sessions end when it restarts")
	cmd.Flags().StringVar(&stick, "stick", "", "the files of a `folder` are on a stick in its port")
	cmd.Flags().Float64Var(&bitErrors, "bit-errors", 0, "flip bits at this `rate`, such as 1e-4")
	return cmd
}

// reachedBy has a machine reached by telnet or ssh, and returns the target that reaches it.
func reachedBy(machine *bench.Machine, kind string) (target string, err error) {
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return "", err
	}
	if err := machine.At(kind, listener); err != nil {
		_ = listener.Close()
		return "", fmt.Errorf("--at %s: %w", kind, err)
	}
	target = kind + "://"
	if login := machine.Login(); kind == "ssh" && login != "" {
		target += login + "@"
	}
	return target + listener.Addr().String(), nil
}
