package main

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"pilotrix/app"
	"pilotrix/bench"
	"pilotrix/core/dialect"
	"pilotrix/core/inventory"
	"pilotrix/core/line"
	"pilotrix/core/reach"
	"pilotrix/core/runbook"
	"pilotrix/core/secret"
	"pilotrix/core/session"
	"pilotrix/core/shipped"
	"pilotrix/demo"
)

// targetFlags are those of every command that opens a line.
type targetFlags struct {
	on      string
	dialect string
	sets    []string
	secrets []string
	shelf   []string
	watch   []string
	also    []string
	noLocks bool

	password string
	saved    *inventory.Device // the device that was named, nil for none
}

// target reads what a line is to be opened to: a target, or the name of a device that is kept.
func (f *targetFlags) target() (line.Target, error) {
	kept, broken := inventory.Load(inventory.Usual())
	if broken == nil {
		if d, found := kept.Find(f.on); found {
			f.saved = &d
			return line.ParseTarget(d.Target)
		}
	}
	target, err := line.ParseTarget(f.on)
	if err != nil && !strings.ContainsAny(f.on, ":/") {
		if err = fmt.Errorf("%w; nor is a device of that name kept", err); broken != nil {
			err = broken
		}
	}
	return target, err
}

// targetNames complete what can be opened: devices that are kept, and serial ports.
func targetNames(cmd *cobra.Command, args []string, typed string) ([]string, cobra.ShellCompDirective) {
	names, _ := deviceNames(cmd, args, typed)
	if ports, err := line.Ports(); err == nil {
		for _, p := range ports {
			names = append(names, p.Path)
		}
	}
	return names, cobra.ShellCompDirectiveDefault
}

// opening adds what is kept of the device that was named.
func (f *targetFlags) opening(with app.Opening) app.Opening {
	if f.saved != nil {
		with.Name, with.Where, with.Saved = f.saved.Device, f.saved.Place, f.saved
	}
	return with
}

func (f *targetFlags) add(cmd *cobra.Command) {
	cmd.Flags().StringVar(&f.on, "on", "",
		"the `target`: a kept device's name, serial:/dev/…?speed=9600, ssh://user@host, telnet://host, rfc2217://host:port, unix:/path, tcp:host:port, exec:COMMAND, bench:NAME, or none:NAME where there is no line")
	cmd.Flags().StringVar(&f.dialect, "dialect", "", "how the device talks: a `name`, a file, or none")
	_ = cmd.RegisterFlagCompletionFunc("on", targetNames)
	f.addPassword(cmd)
}

func (f *targetFlags) addPassword(cmd *cobra.Command) {
	cmd.Flags().StringVar(&f.password, "password", "",
		"the password of a shell session, from a `source`: "+secret.Sources("")+"; asked for unless said")
}

// given is the password of a shell session, where it was said.
func (f *targetFlags) given() (string, error) {
	source, whose := f.password, "--password"
	if source == "" && f.saved != nil {
		source, whose = f.saved.Password, "the password of "+f.saved.Device
	}
	if source == "" {
		return "", nil
	}
	value, err := secret.Read(source)
	if err != nil {
		err = fmt.Errorf("%s: %w", whose, err)
	}
	return value, err
}

// addWatches adds what a session does beside a runbook.
func (f *targetFlags) addWatches(cmd *cobra.Command) {
	cmd.Flags().StringArrayVar(&f.watch, "watch", nil,
		"watch whether an `address` answers: alone, tcp:ADDRESS:PORT or http://ADDRESS/")
	cmd.Flags().BoolVar(&f.noLocks, "no-interlocks", false, "hold no typed danger at its Enter; that is recorded")
}

// watched reads what is to be watched.
func (f *targetFlags) watched() (all []reach.Watched, err error) {
	for _, text := range f.watch {
		one, err := reach.ParseWatched(text)
		if err != nil {
			return nil, err
		}
		all = append(all, one)
	}
	return all, nil
}

// apply does to a session what the flags ask for, once it has begun.
func (f *targetFlags) apply(o *app.Opened, watched []reach.Watched) {
	for _, one := range watched {
		o.Watch(one)
	}
	if f.noLocks {
		o.SetInterlocks(false)
	}
}

// addSeconds adds the flag of second lines.
func (f *targetFlags) addSeconds(cmd *cobra.Command) {
	cmd.Flags().StringArrayVar(&f.also, "also", nil,
		"a second line to the same device, `NAME=TARGET`: it is watched and recorded beside the first")
}

// seconds reads the second lines, those among them that a runbook types on, nil for none.
func (f *targetFlags) seconds(prepared *runbook.Prepared) (all []app.Second, err error) {
	if all, err = app.ParseSeconds(f.also); err != nil {
		return nil, fmt.Errorf("--also %w", err)
	}
	if prepared != nil {
		err = session.LinesMissing(prepared.Book.Lines(), app.LineNames(all))
	}
	return all, err
}

func (f *targetFlags) addInputs(cmd *cobra.Command) {
	cmd.Flags().StringArrayVar(&f.sets, "set", nil, "an input of the runbook, `k=v`")
	cmd.Flags().StringArrayVar(&f.shelf, "shelf", nil,
		"a `folder` of images, instead of those that were added to the shelf")
	cmd.Flags().StringArrayVar(&f.secrets, "secret", nil, "a secret input from its `k=SOURCE`: "+secret.Sources("k="))
}

func addTimeScale(cmd *cobra.Command, scale *float64, usual float64) {
	cmd.Flags().Float64Var(scale, "time-scale", usual,
		"how many `times` faster than real time simulated devices live; 1 is real time")
}

// begin opens a session and says on standard error what has to be known of it.
func (p *program) begin(ctx context.Context, with app.Opening) (*app.Opened, error) {
	o, err := p.Begin(ctx, with)
	if err != nil {
		return nil, benchUsage(err)
	}
	for _, notice := range o.Notices() {
		fmt.Fprintln(p.err, "pilotrix:", notice)
	}
	return o, nil
}

// benchUsage marks what was asked of the bench and is not to be had as an error of usage.
func benchUsage(err error) error {
	if errors.As(err, new(app.BenchError)) {
		return usage(err)
	}
	return err
}

// loadDialect finds the dialect by the flag, or by the bench's device.
func (f *targetFlags) loadDialect(target line.Target) (*dialect.Dialect, error) {
	name := f.dialect
	if name == "" && f.saved != nil {
		name = f.saved.Dialect
	}
	if name == "" && target.Kind == line.Bench {
		for _, place := range demo.Places() {
			if place.Name == target.Address {
				name = place.Dialect
			}
		}
	}
	if name == "" || name == "none" {
		return nil, nil
	}
	return shipped.Dialect(name)
}

// addAwkward adds the switches of a simulated device.
func addAwkward(cmd *cobra.Command, text *string) {
	cmd.Flags().StringVar(text, "awkward", "",
		"make the simulated device awkward: all, or `switches` such as noise,pager ("+strings.Join(append(bench.Switches, bench.Mute), ", ")+")")
	cmd.Flags().Lookup("awkward").NoOptDefVal = "all"
}

// inputs reads --set and --secret. Secrets given as arguments would be on show in the process list.
func (f *targetFlags) inputs(book *runbook.Runbook) (map[string]string, error) {
	values := map[string]string{}
	for _, set := range f.sets {
		key, value, found := strings.Cut(set, "=")
		if !found {
			return nil, fmt.Errorf("--set %s: want k=v", set)
		}
		if input, known := book.Input(key); known && input.Kind == runbook.KindSecret {
			return nil, fmt.Errorf("--set %s: it is a secret and would be on show in the process list; use --secret %s=env:VARIABLE or --secret %s=file:PATH",
				key, key, key)
		}
		values[key] = value
	}
	for _, set := range f.secrets {
		key, source, _ := strings.Cut(set, "=")
		value, err := secret.Read(source)
		if err != nil {
			return nil, fmt.Errorf("--secret %s: %w", key, err)
		}
		values[key] = value
	}
	return values, nil
}

// prepare checks everything that can be checked before a line is opened.
func (p *program) prepare(
	ctx context.Context, f *targetFlags, name string,
) (target line.Target, prepared *runbook.Prepared, err error) {
	book, err := shipped.Runbook(name)
	if err != nil {
		return target, nil, err
	}
	if f.on != "" {
		if target, err = f.target(); err != nil {
			return target, nil, err
		}
	}
	d, err := f.loadDialect(target)
	if err != nil {
		return target, nil, err
	}
	if d == nil {
		return target, nil, fmt.Errorf("say how the device talks: --dialect NAME or --dialect FILE; there are %s",
			strings.Join(shipped.DialectNames(), ", "))
	}
	values, err := f.inputs(book)
	if err != nil {
		return target, nil, err
	}
	kit, err := p.kit(ctx, d, f.shelf, book, values)
	if err != nil {
		return target, nil, err
	}
	prepared, err = book.Prepare(d, values, kit)
	return target, prepared, err
}

// kit is what a runbook works with: the shelf in the folders said, in those added, or else in the folders
// of the images that it is given.
func (p *program) kit(
	ctx context.Context, d *dialect.Dialect, folders []string, book *runbook.Runbook, values map[string]string,
) (runbook.Kit, error) {
	folders, some, err := app.KitFolders(book, values, folders)
	if err != nil || !some {
		return app.Kit(nil), err
	}
	shelf, err := p.openShelf(ctx, d, folders)
	if shelf != nil && ctx.Err() == nil { // what is not there is in the way only of what needs it
		p.caution(err)
		err = nil
	}
	return app.Kit(shelf), err
}
