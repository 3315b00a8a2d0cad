package main

import (
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"

	"pilotrix/app"
	"pilotrix/core/inventory"
	"pilotrix/core/secret"
	"pilotrix/core/shipped"
	"pilotrix/core/source"
	"pilotrix/core/units"
	"pilotrix/tui/paint"
)

// inventoryPath is the file of the devices that are kept.
func (p *program) deviceCommand() *cobra.Command {
	cmd := &cobra.Command{
		Use:   "device",
		Short: "The devices that are kept: where each is reached and how it talks",
		Long: `Keeps devices by name in ` + inventory.Usual() + `, which may be edited by hand, too. A name stands for its
target wherever one is asked for. Passwords are never kept: only where they come from.`,
	}
	cmd.AddCommand(p.deviceAdd(), p.deviceEdit(), p.deviceList(), p.deviceShow(), p.deviceRemove(), p.deviceCheck())
	return cmd
}

func deviceNames(*cobra.Command, []string, string) ([]string, cobra.ShellCompDirective) {
	kept, err := inventory.Load(inventory.Usual())
	if err != nil {
		return nil, cobra.ShellCompDirectiveError
	}
	return kept.Names(), cobra.ShellCompDirectiveNoFileComp
}

// deviceFlags are the words of a device.
func deviceFlags(cmd *cobra.Command, d *inventory.Device) {
	cmd.Flags().StringVar(&d.Place, "place", "", "where it stands, in `words`")
	cmd.Flags().StringVar(&d.Dialect, "dialect", "", "how it talks: a `name` or a file")
	cmd.Flags().StringVar(&d.Password, "password", "",
		"the `source` of a shell session's password: "+secret.Sources(""))
	_ = cmd.RegisterFlagCompletionFunc(
		"dialect",
		func(*cobra.Command, []string, string) ([]string, cobra.ShellCompDirective) {
			return shipped.DialectNames(), cobra.ShellCompDirectiveDefault
		},
	)
}

func (p *program) deviceAdd() *cobra.Command {
	var d inventory.Device
	cmd := &cobra.Command{
		Use: "add NAME TARGET", Short: "Keep a device", Args: cobra.ExactArgs(2),
		Example: `  pilotrix device add mare-gw1 ssh://harbour@192.0.2.41 --place 'Grey Mare' --dialect cormel-g2
  pilotrix device add hollow-rtr1 'serial:/dev/ttyUSB0?speed=9600' --dialect brindle-r40`,
		RunE: func(_ *cobra.Command, args []string) error {
			d.Device, d.Target = args[0], args[1]
			if err := knownDialect(d.Dialect); err != nil {
				return usage(err)
			}
			kept, err := inventory.Load(inventory.Usual())
			if err == nil {
				err = kept.Put("", d)
			}
			if err != nil {
				return usage(err)
			}
			fmt.Fprintf(p.out, "%s is kept in %s\n", d.Device, kept.Path())
			return nil
		},
	}
	deviceFlags(cmd, &d)
	return cmd
}

// knownDialect holds a dialect's name to those that there are.
func knownDialect(name string) error {
	if name == "" {
		return nil
	}
	_, err := shipped.Dialect(name)
	return err
}

func (p *program) deviceEdit() *cobra.Command {
	var d inventory.Device
	var target, name string
	cmd := &cobra.Command{
		Use:               "edit [NAME]",
		Short:             "Change a kept device, or without a name the whole file in $EDITOR",
		Args:              cobra.MaximumNArgs(1),
		ValidArgsFunction: deviceNames,
		Example:           "  pilotrix device edit mare-gw1 --target ssh://harbour@192.0.2.42\n  pilotrix device edit",
		RunE: func(cmd *cobra.Command, args []string) error {
			if len(args) == 0 {
				return p.editInventory(cmd)
			}
			kept, now, err := keptDevice(args[0])
			if err != nil {
				return usage(err)
			}
			for flag, set := range map[string]struct {
				to   *string
				from string
			}{"place": {&now.Place, d.Place}, "dialect": {&now.Dialect, d.Dialect}, "password": {&now.Password, d.Password}, "target": {&now.Target, target}, "name": {&now.Device, name}} {
				if cmd.Flags().Changed(flag) {
					*set.to = set.from
				}
			}
			if now.Target != "" && cmd.Flags().Changed("target") {
				now.Identity = "" // another device may answer there: it is read again
			}
			if err := knownDialect(now.Dialect); err != nil {
				return usage(err)
			}
			if err := kept.Put(args[0], now); err != nil {
				return usage(err)
			}
			fmt.Fprintf(p.out, "%s is changed\n", now.Device)
			return nil
		},
	}
	deviceFlags(cmd, &d)
	cmd.Flags().StringVar(&target, "target", "", "the `target` it is reached at; its identity is read anew then")
	cmd.Flags().StringVar(&name, "name", "", "another `name`")
	return cmd
}

// editInventory opens the file in the user's editor, and checks it afterwards.
func (p *program) editInventory(cmd *cobra.Command) error {
	editor := os.Getenv("VISUAL")
	if editor == "" {
		editor = os.Getenv("EDITOR")
	}
	if editor == "" {
		return usage(fmt.Errorf("neither VISUAL nor EDITOR names an editor; the file is %s", inventory.Usual()))
	}
	if err := os.MkdirAll(filepath.Dir(inventory.Usual()), 0o700); err != nil {
		return err
	}
	run := exec.CommandContext(cmd.Context(), "sh", "-c", editor+` "$1"`, "sh", inventory.Usual())
	run.Stdin, run.Stdout, run.Stderr = os.Stdin, os.Stdout, os.Stderr // it draws on the terminal
	if err := run.Run(); err != nil {
		return fmt.Errorf("the editor: %w", err)
	}
	_, err := inventory.Load(inventory.Usual())
	return usage(err)
}

// keptDevice finds a device that is kept, and what keeps it.
func keptDevice(name string) (*inventory.Inventory, inventory.Device, error) {
	kept, err := inventory.Load(inventory.Usual())
	if err != nil {
		return nil, inventory.Device{}, err
	}
	d, found := kept.Find(name)
	switch names := strings.Join(kept.Names(), ", "); {
	case found:
	case names == "":
		err = fmt.Errorf("%s keeps no device; device add keeps one", kept.Path())
	default:
		err = fmt.Errorf("no device %q is kept; there are %s", name, names)
	}
	return kept, d, err
}

func (p *program) deviceList() *cobra.Command {
	var asJSON bool
	cmd := &cobra.Command{
		Use: "list", Short: "List the devices that are kept", Args: cobra.NoArgs,
		RunE: func(*cobra.Command, []string) error {
			kept, err := inventory.Load(inventory.Usual())
			if err != nil {
				return usage(err)
			}
			if asJSON {
				return json.NewEncoder(p.out).Encode(append([]inventory.Device{}, kept.Devices...))
			}
			width := 0
			for _, d := range kept.Devices {
				width = max(width, paint.Width(d.Device))
			}
			for _, d := range kept.Devices {
				fmt.Fprintf(p.out, "%s%s  %s\n", d.Device, strings.Repeat(" ", width-paint.Width(d.Device)),
					strings.Join(about(d), " · "))
			}
			return nil
		},
	}
	p.addJSON(cmd, &asJSON, []inventory.Device{})
	return cmd
}

// about is what is kept of a device besides its name.
func about(d inventory.Device) (words []string) {
	for _, text := range []string{d.Target, d.Place, d.Dialect} {
		if text != "" {
			words = append(words, text)
		}
	}
	return words
}

func (p *program) deviceShow() *cobra.Command {
	return &cobra.Command{
		Use:               "show NAME",
		Short:             "Show what is kept of a device, and what the logbook knows of it",
		Args:              cobra.ExactArgs(1),
		ValidArgsFunction: deviceNames,
		RunE: func(_ *cobra.Command, args []string) error {
			_, d, err := keptDevice(args[0])
			if err != nil {
				return usage(err)
			}
			row := func(label, text string) {
				if text != "" {
					fmt.Fprintf(p.out, "%-10s %s\n", label, text)
				}
			}
			row("device", d.Device)
			row("place", d.Place)
			row("target", d.Target)
			row("dialect", d.Dialect)
			row("identity", d.Identity)
			row("password", d.Password)
			known, _, err := app.Known{Logbook: p.Logbook}.Book()
			one := known[d.Device]
			row("model", one.Facts["device.model"])
			row("release", one.Facts["running.release"])
			if one.Last != nil {
				row("last run",
					fmt.Sprintf("%s, %s: %s", one.Last.Title, one.Last.Began.Local().Format("2006-01-02 15:04"),
						one.Last.Outcome))
			}
			return err
		},
	}
}

func (p *program) deviceRemove() *cobra.Command {
	return &cobra.Command{
		Use:               "remove NAME",
		Short:             "Forget a device; the logbook keeps what happened on it",
		Args:              cobra.ExactArgs(1),
		ValidArgsFunction: deviceNames,
		RunE: func(_ *cobra.Command, args []string) error {
			kept, _, err := keptDevice(args[0])
			if err != nil {
				return usage(err)
			}
			if err := kept.Remove(args[0]); err != nil {
				return err
			}
			fmt.Fprintf(p.out, "%s is forgotten\n", args[0])
			return nil
		},
	}
}

func (p *program) deviceCheck() *cobra.Command {
	var schema bool
	cmd := &cobra.Command{
		Use:   "check [FILE]",
		Short: "Check the file of devices, or print its JSON Schema for editors",
		Args:  cobra.MaximumNArgs(1),
		RunE: func(_ *cobra.Command, args []string) error {
			if schema {
				encoder := json.NewEncoder(p.out)
				encoder.SetIndent("", "  ")
				return encoder.Encode(source.Schema(&inventory.Document{}))
			}
			path := inventory.Usual()
			if len(args) > 0 {
				path = args[0]
				if _, err := os.Stat(path); err != nil {
					return usage(err)
				}
			}
			kept, err := inventory.Load(path)
			if err != nil {
				return usage(err)
			}
			var wrong []error
			for _, d := range kept.Devices {
				if err := knownDialect(d.Dialect); err != nil {
					wrong = append(wrong, fmt.Errorf("device %s: %w", d.Device, err))
				}
			}
			if err := errors.Join(wrong...); err != nil {
				return usage(err)
			}
			fmt.Fprintf(p.out, "%s: %s, nothing to complain of\n", path, units.Many(len(kept.Devices), "device"))
			return nil
		},
	}
	cmd.Flags().BoolVar(&schema, "schema", false, "print the JSON Schema instead")
	return cmd
}
