package main

import (
	"encoding/json"
	"fmt"

	"github.com/spf13/cobra"

	"pilotrix/app"
	"pilotrix/core/line"
	"pilotrix/core/sense"
)

func (p *program) huntCommand() *cobra.Command {
	var flags targetFlags
	var passive, asJSON bool
	var scale float64
	cmd := &cobra.Command{
		Use:   "hunt TARGET",
		Short: "Find the speed a device speaks",
		Long: `Tries the speeds that the dialect lists, then the usual ones: listens, presses a harmless key, and judges what comes back. Exits with 1
when no speed fits.`,
		Example: `  pilotrix hunt /dev/ttyUSB0
  pilotrix hunt /dev/ttyUSB0 --passive     presses nothing`,
		Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			target, err := line.ParseTarget(args[0])
			if err != nil {
				return usage(err)
			}
			d, err := flags.loadDialect(target)
			if err != nil {
				return usage(err)
			}
			o, err := p.begin(cmd.Context(), app.Opening{Target: target, Scale: scale, Dialect: d})
			if err != nil {
				return err
			}
			o.Begin()
			ours, _ := o.Speed()
			hunt := d.Hunt(ours)
			hunt.Passive = passive
			if !asJSON {
				hunt.Tried = p.printCandidate
			}
			found, err := o.Hunt(cmd.Context(), hunt)
			if closeErr := o.Close("the hunt ended"); err == nil {
				err = closeErr
			}
			if err != nil {
				return err
			}
			return p.printFound(found, asJSON)
		},
	}
	cmd.Flags().StringVar(&flags.dialect, "dialect", "", "how the device talks: a `name`, a file, or none")
	cmd.Flags().BoolVar(&passive, "passive", false, "only listen")
	cmd.Flags().BoolVar(&asJSON, "json", false, "print JSON")
	addTimeScale(cmd, &scale, 8)
	return cmd
}

func (p *program) printCandidate(c sense.Candidate) {
	what := fmt.Sprintf("%d bytes, %3.0f %% of sense", c.Bytes, 100*c.Score)
	if c.Prompt {
		what += ", a known prompt"
	}
	fmt.Fprintf(p.out, "%7d baud  %-40s %s\n", c.Speed, what, c.Sample)
}

func (p *program) printFound(found sense.Found, asJSON bool) error {
	if asJSON {
		if err := json.NewEncoder(p.out).Encode(struct {
			sense.Found
			Speed int `json:"speed"`
		}{found, found.Best()}); err != nil {
			return err
		}
	}
	if found.Best() == 0 {
		return fmt.Errorf(
			"no speed fits: is the device on, and the cable the right one? Switch it off and on while this runs")
	}
	if !asJSON {
		fmt.Fprintf(p.out, "%d baud, %.0f %% sure\n", found.Best(), 100*found.Sure)
	}
	return nil
}

func (p *program) portsCommand() *cobra.Command {
	var asJSON bool
	cmd := &cobra.Command{
		Use:   "ports",
		Short: "List the serial ports of this machine, and who holds them",
		Args:  cobra.NoArgs,
		RunE: func(*cobra.Command, []string) error {
			ports, err := line.Ports()
			if err != nil {
				return err
			}
			if asJSON {
				return json.NewEncoder(p.out).Encode(append([]line.Port{}, ports...))
			}
			if len(ports) == 0 {
				fmt.Fprintln(p.out, "no serial port on this machine; is the adapter plugged in?")
			}
			for _, port := range ports {
				used := ""
				if port.UsedBy != "" {
					used = "  in use by " + port.UsedBy
				}
				fmt.Fprintf(p.out, "%s%s\n", port, used)
			}
			return nil
		},
	}
	p.addJSON(cmd, &asJSON, []line.Port{})
	return cmd
}
