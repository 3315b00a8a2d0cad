package main

import (
	"encoding/json"
	"fmt"
	"os"
	"strings"

	"github.com/spf13/cobra"

	"pilotrix/app"
	"pilotrix/bench"
	"pilotrix/core/event"
	"pilotrix/core/image"
	"pilotrix/core/line"
	"pilotrix/core/runbook"
	"pilotrix/core/runbook/engine"
	"pilotrix/core/shipped"
	"pilotrix/demo"
)

func (p *program) demoCommand() *cobra.Command {
	var headless, stick, list, asJSON bool
	var scale float64
	var awkward, images string
	var about strings.Builder
	var names []string
	for _, scene := range demo.Scenes() {
		names = append(names, scene.Name)
		fmt.Fprintf(&about, "\n  %-15s %s", scene.Name, scene.Title)
	}
	cmd := &cobra.Command{
		Use:   "demo [NAME]",
		Short: "The whole job on a simulated device",
		Long: `Brings a simulated device up and carries a runbook out on it in the real interface. Without a
terminal it runs by itself, approves the holds and prints the course as it goes.

Demos:` + about.String(),
		Example: `  pilotrix demo                     the rescue, eight times as fast as in life
  pilotrix demo --list              all of them, with the kind of change that each shows
  pilotrix demo bank-upgrade        a release change over TFTP, with an upgrade on the way, restarts and the proof
  pilotrix demo trial               a new release on trial: dry run, restart, confirmed in time, made lasting
  pilotrix demo stack               three switches as one: every unit filled, restarted, proved
  pilotrix demo burn                a system tried from memory first, then burned into a flash, and started by itself
  pilotrix demo recovery-put        a file put into a recovery loader's window; the bench's own hand holds the button
  pilotrix demo over-the-shell      the next system fetched by HTTP and written by the device's own command
  pilotrix demo first-boot          a new switch: DHCP, image, restart, configuration, each message on one ladder
  pilotrix demo controller          a controller, then its access points as they go away and come back
  pilotrix demo downgrade           packages dropped by SFTP, a restart told to go down, then the board's firmware
  pilotrix demo one-store           the next image brought into the only store, beside the one that runs
  pilotrix demo bank-upgrade --stick           one of the images is on a stick in its port
  pilotrix demo rescue --time-scale 1
  pilotrix demo bank-upgrade --images /tmp/images    its images only; then: pilotrix, and bench:mare-gw1
  pilotrix demo --awkward           on a device with log lines everywhere, a pager, late echoes, noise on the line …
  pilotrix demo bank-upgrade --awkward=noise,pager`,
		Args:      cobra.MaximumNArgs(1),
		ValidArgs: names,
		RunE: func(cmd *cobra.Command, args []string) error {
			if list || asJSON {
				return p.demoList(asJSON)
			}
			name := "rescue"
			if len(args) > 0 {
				name = args[0]
			}
			var err error
			if p.Awkward, err = bench.ParseAwkward(awkward); err != nil {
				return usage(fmt.Errorf("--awkward: %w", err))
			}
			if images != "" {
				return p.demoImages(name, images)
			}
			return p.demo(cmd, name, scale, headless, stick)
		},
	}
	addTimeScale(cmd, &scale, 8)
	addAwkward(cmd, &awkward)
	cmd.Flags().StringVar(&images, "images", "",
		"only make the demo's images in a `folder`, to do it by hand on its simulated device")
	cmd.Flags().BoolVar(&stick, "stick", false,
		"the device has an image on a stick in its port, so that it is not transferred")
	cmd.Flags().BoolVar(&headless, "headless", false, "run without the interface, approving the holds")
	cmd.Flags().BoolVar(&list, "list", false, "list the demos, with the kind of change that each shows")
	p.addJSON(cmd, &asJSON, []demoRow{})
	return cmd
}

// demoRow is a demo, as it is listed.
type demoRow struct {
	Name    string `json:"name"`
	Shows   string `json:"shows"`
	Device  string `json:"device"`
	Dialect string `json:"dialect"`
	Runbook string `json:"runbook"`
	Title   string `json:"title"`
}

func (p *program) demoList(asJSON bool) error {
	var rows []demoRow
	for _, s := range demo.Scenes() {
		rows = append(rows, demoRow{s.Name, s.Shows, s.Place, demo.PlaceNamed(s.Place).Dialect, s.Runbook, s.Title})
	}
	if asJSON {
		return json.NewEncoder(p.out).Encode(rows)
	}
	for _, r := range rows {
		fmt.Fprintf(p.out, "%-15s %-34s %-12s %-21s %s\n", r.Name, r.Shows, r.Device, r.Runbook, r.Title)
	}
	return nil
}

// demoImages makes the images of a demo, and says what else is needed to do it by hand.
func (p *program) demoImages(name, folder string) error {
	if err := os.MkdirAll(folder, 0o755); err != nil {
		return err
	}
	scene, err := demo.FindScene(name, folder)
	if err != nil {
		return usage(err)
	}
	fmt.Fprintf(p.out,
		"The images are in %s. Put them on the shelf with\n  pilotrix shelf add %s\nand open bench:%s in pilotrix; ",
		scene.Shelf, scene.Shelf, scene.Place)
	fmt.Fprintf(p.out, "its user is %s, its password %s (both made up).\n", scene.Inputs["user"],
		scene.Inputs["password"])
	return nil
}

// approvesDemo approves all, and takes the bench's new device for the one that is meant.
func approvesDemo(prepared *runbook.Prepared) func(event.Ask) string {
	all := app.Approver(prepared, []string{"all"})
	return func(ask event.Ask) string {
		if ask.Form == event.FormNewDevice {
			return engine.Approve
		}
		return all(ask)
	}
}

func (p *program) demo(cmd *cobra.Command, name string, scale float64, headless, stick bool) error {
	folder, err := os.MkdirTemp("", "pilotrix-demo-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(folder)
	scene, err := demo.FindScene(name, folder)
	if err != nil {
		return usage(err)
	}
	if stick {
		if p.Stick = scene.Stick; p.Stick == "" {
			return usage(fmt.Errorf("--stick: the device of demo %s has no port for one", name))
		}
	}
	book, err := shipped.Runbook(scene.Runbook)
	if err != nil {
		return err
	}
	target := line.Target{Kind: line.Bench, Address: scene.Place, Speed: scene.Speed}
	d, err := (&targetFlags{}).loadDialect(target)
	if err != nil {
		return err
	}
	if p.Awkward[bench.Mute] {
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
		return p.runHeadless(cmd.Context(),
			app.Opening{Target: target, Scale: scale, Runbook: prepared, Approve: approvesDemo(prepared)}, false)
	}
	return p.interactive(cmd.Context(), app.Opening{Target: target, Scale: scale, Dialect: d, Runbook: prepared},
		func() (*image.Shelf, error) { return kit.Shelf, nil })
}
