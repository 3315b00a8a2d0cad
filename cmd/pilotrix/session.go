package main

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"pilotrix/bench"
	"pilotrix/core/clock"
	"pilotrix/core/dialect"
	"pilotrix/core/event"
	"pilotrix/core/inventory"
	"pilotrix/core/line"
	"pilotrix/core/logbook"
	"pilotrix/core/network"
	"pilotrix/core/reach"
	"pilotrix/core/runbook"
	"pilotrix/core/runbook/engine"
	"pilotrix/core/secret"
	"pilotrix/core/session"
	"pilotrix/core/shelves"
	"pilotrix/core/shipped"
	"pilotrix/demo"
	"pilotrix/tui"
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
	kept, broken := inventory.Load(inventoryPath())
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
func (f *targetFlags) opening(with opening) opening {
	if f.saved != nil {
		with.name, with.where, with.saved = f.saved.Device, f.saved.Place, f.saved
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
func (f *targetFlags) apply(o *opened, watched []reach.Watched) {
	for _, one := range watched {
		o.Watch(one)
	}
	if f.noLocks {
		o.SetInterlocks(false)
	}
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

// open is a session with all that has to be closed after it.
type opened struct {
	*session.Session
	place   demo.Place
	book    *logbook.Logbook
	keeper  *logbook.Keeper
	machine *bench.Machine
	host    host
	notices []string
	also    []*alsoOpened
	cutOff  string // how an earlier run on this device was cut off, in words
}

// opening is what a session is opened with.
type opening struct {
	target  line.Target
	scale   float64 // how many times as fast as the wall a bench device lives
	dialect *dialect.Dialect
	runbook *runbook.Prepared      // to be carried out in it; may be nil
	given   string                 // the password of a shell session, where it was said
	approve func(event.Ask) string // answers holds where no operator is; may be nil
	begun   func(*opened)          // what is done once it has begun; may be nil
	also    []also                 // second lines beside it
	ask     tui.Ask                // asks what the line wants to know, in the interface; nil for the terminal

	name, where string            // what the device is called, and where it stands; as the bench says unless said
	saved       *inventory.Device // as it is kept, nil where it is not
}

// host is the network that servers, checks and watches use.
type host interface {
	network.Network
	reach.Network
}

// begin opens a line and the logbook. Bench targets get a clock of their own.
func (p *program) begin(ctx context.Context, with opening) (*opened, error) {
	o := &opened{host: reach.NewHost()}
	c := clock.Real()
	if with.target.Kind == line.Bench {
		c = clock.Scaled(with.scale)
	}
	opener := line.NewOpener(c)
	if err := p.addBench(o, opener, with.target, c); err != nil {
		return nil, usage(err)
	}
	o.place = with.nameOr(o.place)
	p.asksBy(opener, with.ask)
	if with.given != "" {
		opener.Shells.Give(with.given)
	}
	var secrets []string
	if with.runbook != nil {
		secrets = with.runbook.Secrets()
	}
	s, err := session.Open(ctx, session.Options{
		Secrets:  secrets,
		Target:   with.target,
		Dialect:  with.dialect,
		Clock:    c,
		Opener:   opener,
		Approve:  with.approve,
		Device:   o.place.Name,
		Identity: with.identity(),
		Reach:    o.host,
	})
	if err != nil {
		o.close("the line did not open")
		return nil, err
	}
	o.Session = s
	o.lendHand()
	p.keep(o, with.target)
	if err := p.openAlso(ctx, o, with, append(secrets, opener.Shells.Secrets()...)); err != nil {
		return nil, errors.Join(err, o.close("a second line did not open"))
	}
	if with.saved != nil {
		p.watchIdentity(o, *with.saved)
	}
	if with.runbook != nil {
		with.runbook.Kit.Network, with.runbook.Kit.CutOff = o.host, o.cutOff
	}
	return o, nil
}

// asksBy has what the lines of an opener want to know asked: in the interface, or else on the terminal.
func (p *program) asksBy(opener *line.Opener, ask tui.Ask) {
	switch {
	case ask != nil:
		opener.Shells.SetAsk(line.Asker(ask))
	case onTerminal():
		opener.Shells.SetAsk(p.askTerminal)
	}
}

// beginHeadless is begin for commands without the interface: notices go to standard error.
func (p *program) beginHeadless(ctx context.Context, with opening) (*opened, error) {
	o, err := p.begin(ctx, with)
	if err != nil {
		return nil, err
	}
	for _, notice := range o.notices {
		fmt.Fprintln(p.err, "pilotrix:", notice)
	}
	return o, nil
}

// addBench brings the device up when the target is one of the bench's.
func (p *program) addBench(o *opened, opener *line.Opener, target line.Target, c clock.Clock) (err error) {
	if target.Kind != line.Bench {
		return nil
	}
	lan := bench.NewLAN(false, 1)
	o.host = demo.Laptop(lan)
	o.machine, o.place, err = demo.Machine(target.Address, c, !bench.HasTerminals, lan, p.awkward)
	if err != nil {
		return err
	}
	if p.stick != "" {
		if err := o.machine.Stick(p.stick); err != nil {
			return err
		}
	}
	if err := o.machine.Start(); err != nil {
		return err
	}
	opener.Register(line.Bench,
		func(ctx context.Context, t line.Target) (line.Line, error) { return o.machine.Open(ctx, opener, t) })
	return nil
}

// keep writes the session into the logbook. Where that is not possible now the session goes on, says so, and is written
// as soon as it is.
func (p *program) keep(o *opened, target line.Target) {
	if p.logbookPath == "none" {
		return
	}
	var err error
	if o.keeper, err = p.keeperOf(o, o.Session); err != nil {
		o.notices = append(o.notices, "nothing is recorded for now: "+err.Error())
	}
	if o.book != nil {
		o.sayCutOff(target)
	}
}

// keeperOf keeps the events of a session. Its error is why nothing can be kept now.
func (p *program) keeperOf(o *opened, s *session.Session) (keeper *logbook.Keeper, err error) {
	feed := s.Subscribe()
	open := func() (*logbook.Logbook, error) { return logbook.Open(p.logbookPath) }
	if o.book == nil {
		o.book, err = open()
	}
	if err == nil {
		keeper, err = o.book.Keep(feed)
	}
	if err != nil {
		keeper = logbook.KeepWhenPossible(feed, open, err)
	}
	go reportRecording(s, keeper)
	return keeper, err
}

// sayCutOff says what is known of sessions that were cut off.
func (o *opened) sayCutOff(target line.Target) {
	cut, err := o.book.CutOff(o.place.Name, target.String())
	if err != nil {
		o.notices = append(o.notices, "whether an earlier session was cut off is not known: "+err.Error())
	}
	for _, last := range cut {
		o.notices = append(o.notices, last.String())
		if last.Step != "" && last.On(o.place.Name, target.String()) && o.cutOff == "" {
			o.cutOff = last.String()
		}
	}
}

// reportRecording says how the keeping of a session goes, until its entry is closed.
func reportRecording(s *session.Session, keeper *logbook.Keeper) {
	for now := range keeper.Changes() {
		report := event.Recording{Lost: now.Lost}
		if now.Problem != nil {
			report.Problem = now.Problem.Error()
		}
		s.Emit(report)
	}
}

// unrecorded makes what could not be kept an end of its own.
func unrecorded(err error) error {
	if err == nil {
		return nil
	}
	return exit{engine.ExitUnrecorded, "not recorded: " + err.Error()}
}

// watchFacts says each fact that is read, until the session ends.
func (o *opened) watchFacts(report func(name, value string)) {
	feed := o.Subscribe()
	for {
		batch, err := feed.Next(context.Background())
		if err != nil {
			return
		}
		for _, e := range batch {
			if fact, ok := e.Body.(event.Fact); ok {
				report(fact.Name, fact.Value)
			}
		}
	}
}

// close ends the session and says what could not be kept.
func (o *opened) close(why string) (err error) {
	for _, one := range o.also {
		err = errors.Join(err, one.close(why))
	}
	if o.Session != nil {
		o.Close(why)
	}
	if o.keeper != nil {
		err = errors.Join(err, unrecorded(o.keeper.Wait()))
	}
	if o.book != nil {
		err = errors.Join(err, o.book.Close())
	}
	if o.machine != nil {
		o.machine.Stop()
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
	kit := runbook.Kit{UpgradePaths: shipped.UpgradePaths, UpgradePathNames: shipped.UpgradePathsNames()}
	register, err := shelves.Load()
	if err != nil {
		return kit, err
	}
	if len(folders) == 0 && len(register.Folders) == 0 {
		for _, input := range book.Inputs {
			folder := filepath.Dir(values[input.Input])
			_, err := os.Stat(folder) // one that is not there is reported with the input
			if input.Kind == runbook.KindImage && values[input.Input] != "" && err == nil &&
				!slices.Contains(folders, folder) {
				folders = append(folders, folder)
			}
		}
	}
	if len(folders)+len(register.Folders) > 0 {
		kit.Shelf, err = p.openShelf(ctx, d, folders)
		if kit.Shelf != nil && ctx.Err() == nil { // what is not there is in the way only of what needs it
			p.caution(err)
			err = nil
		}
	}
	return kit, err
}

// identity is what the device that was named was known by before, empty for none.
func (w opening) identity() string {
	if w.saved == nil {
		return ""
	}
	return w.saved.Identity
}
