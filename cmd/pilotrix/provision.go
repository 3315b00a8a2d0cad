package main

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"maps"
	"net"
	"net/netip"
	"os"
	"slices"
	"strings"
	"text/tabwriter"
	"time"

	"github.com/spf13/cobra"

	"pilotrix/core/carrier"
	"pilotrix/core/clock"
	"pilotrix/core/event"
	"pilotrix/core/image"
	"pilotrix/core/network"
	"pilotrix/core/preflight"
	"pilotrix/core/provision"
	"pilotrix/core/runbook/engine"
	"pilotrix/core/serve"
	"pilotrix/core/units"
	"pilotrix/tui"
)

// provisionOptions are what the command is reported.
type provisionOptions struct {
	at, addresses, router, vendor, boot string
	only                                []string
	reserved                            map[string]string
	lease, within                       time.Duration
	protocols                           []string
	ask                                 bool
	file, proof                         string
	expect                              int

	devices *provision.Devices // those of the file, nil for none
}

func (p *program) provisionCommand() *cobra.Command {
	var o provisionOptions
	cmd := &cobra.Command{
		Use:   "provision FOLDER",
		Short: "Give new devices an address and the files that they ask for, on one network",
		Long: `Answers the DHCP messages of new devices on one network of this laptop, and hands the files of a folder out to
them by TFTP or HTTP: their image first, their configuration when they have restarted and ask again. It answers only those
that it is meant for (--only, --vendor, or those that you say yes to with --ask), and does not begin where another DHCP server answers, whose address it tells. Every
message is told, what each device is waited for, and what may be the matter when that does not come.

A device is done when it has fetched its configuration, or its image where it gets no other file, and has come back and asked again;
with --proof, when it then answers, too. With --expect or --devices the command ends by itself once all are done, with a table of
them, and with the exit code 5 where some are not; else Ctrl-C ends it. Devices are told to fetch by the first --protocol.

DHCP and TFTP have ports that want root. Leases are kept, so that a device has its address again. Another server that turns up
ends nothing: new devices are not answered then, and those under way are brought to their end.

A file of devices is YAML: "boot-file" and "options" for all, and "devices", a list of "mac", "name", "address", "boot-file",
"configuration" and "options". Options go by their numbers (150: 192.0.2.10, 43: hex 01 04 c0, 67: a text).`,
		Example: `  pilotrix provision ~/new-switch --at 192.0.2.10 --only 02:00:5e:10:00:01 --boot-file strand-3.2.msl
  pilotrix provision ~/new-switch --at 192.0.2.10 --ask
  pilotrix provision ~/new-switch --at 192.0.2.10 --vendor '^Maskel' --range 192.0.2.100-192.0.2.119 --router 192.0.2.1
  pilotrix provision ~/new-switch --at 192.0.2.10 --only 02:00:5e:10:00:01 --reserve 02:00:5e:10:00:01=192.0.2.61
  pilotrix provision ~/new-switch --at 192.0.2.10 --devices new.yaml --boot-file strand-3.2.msl --proof ping --within 2h
  pilotrix provision ~/new-switch --at 192.0.2.10 --vendor '^Maskel' --expect 50 --range 192.0.2.100-192.0.2.199 --protocol http`,
		Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			shelf, err := p.openShelf(cmd.Context(), nil, args)
			if err != nil {
				return err
			}
			if o.file != "" {
				if o.devices, err = provision.LoadDevices(o.file); err != nil {
					return usage(err)
				}
			}
			wanted, err := o.wanted()
			if err != nil {
				return usage(err)
			}
			on, opt, err := o.options(shelf)
			if err != nil {
				return usage(err)
			}
			opt.Admit = wanted.Admit
			prove, err := provision.ParseProof(o.proof)
			if err != nil {
				return usage(err)
			}
			return p.provision(cmd.Context(), &provisioning{
				o:      o,
				shelf:  shelf,
				on:     on,
				opt:    opt,
				wanted: wanted,
				prove:  prove,
				all:    make(chan struct{}, 1),
			})
		},
	}
	cmd.Flags().StringVar(&o.at, "at", "",
		"this laptop's `address` on the network that is served; its only one unless said")
	cmd.Flags().StringVar(&o.addresses, "range", "",
		"the `addresses` that are given, such as 192.0.2.100-192.0.2.119; the last twenty of the network unless said")
	cmd.Flags().StringVar(&o.router, "router", "", "the `address` of the gateway that devices get")
	cmd.Flags().StringArrayVar(&o.only, "only", nil, "answer the device of this `MAC` address")
	cmd.Flags().StringVar(&o.vendor, "vendor", "", "answer devices whose vendor class this `pattern` finds")
	cmd.Flags().BoolVar(&o.ask, "ask", false, "ask about each other new device whether it is answered (y or n)")
	cmd.Flags().StringVar(&o.boot, "boot-file", "",
		"the `name` that devices are told to fetch; that of the only image in the folder unless said")
	cmd.Flags().StringToStringVar(&o.reserved, "reserve", nil, "keep an address for a device, `MAC=ADDRESS`")
	cmd.Flags().DurationVar(&o.lease, "lease", time.Hour, "how long an address is given for")
	cmd.Flags().StringArrayVar(&o.protocols, "protocol", []string{carrier.TFTP.Name, carrier.HTTP.Name},
		"a `protocol` that the files are handed out by: "+carrier.BootNames()+"; devices are told the first")
	cmd.Flags().StringVar(&o.file, "devices", "",
		"a `file` of the devices that are meant, with what is their own; it ends when all of them are done")
	cmd.Flags().IntVar(&o.expect, "expect", 0, "end when so `many` are done")
	cmd.Flags().DurationVar(&o.within, "within", 0, "end after that `time`, whoever is done; no limit unless said")
	cmd.Flags().StringVar(&o.proof, "proof", "",
		"what a device has to answer before it is done: `ping`, tcp:PORT or http:/PATH")
	return cmd
}

// options makes what the server needs of what was said.
func (o *provisionOptions) options(shelf *image.Shelf) (on network.Interface, opt provision.Options, err error) {
	if on, err = networkOf(o.at); err != nil {
		return on, opt, err
	}
	opt = provision.Options{Own: on.Prefix, Lease: o.lease, Reserved: map[string]netip.Addr{}}
	if opt.First, opt.Last, err = provision.ParseRange(o.addresses, on.Prefix,
		max(o.expect, len(o.devices.All()))); err != nil {
		return on, opt, err
	}
	if o.router != "" {
		if opt.Router, err = netip.ParseAddr(o.router); err != nil {
			return on, opt, fmt.Errorf("--router: %w", err)
		}
	}
	for text, address := range o.reserved {
		mac, macErr := net.ParseMAC(text)
		addr, addrErr := netip.ParseAddr(address)
		if err := errors.Join(macErr, addrErr); err != nil {
			return on, opt, fmt.Errorf("--reserve %s=%s: %w", text, address, err)
		}
		opt.Reserved[mac.String()] = addr
	}
	for mac, d := range o.devices.All() {
		if d.Address.IsValid() {
			opt.Reserved[mac] = d.Address
		}
	}
	return on, opt, cmp.Or(o.check(shelf), opt.Check())
}

// check holds the names of files to what is in the folder.
func (o *provisionOptions) check(shelf *image.Shelf) error {
	all, own := o.devices.All(), 0
	for _, mac := range slices.Sorted(maps.Keys(all)) {
		for what, name := range map[string]string{"boot-file": all[mac].BootFile, "configuration": all[mac].Configuration} {
			if name != "" && !slices.Contains(namesOf(shelf), name) {
				return fmt.Errorf("%s: %s of %s: the folder has no file %s; it has %s", o.file, what, mac, name,
					cmp.Or(strings.Join(namesOf(shelf), ", "), "none"))
			}
		}
		if all[mac].BootFile != "" {
			own++
		}
	}
	if o.boot == "" && len(all) > 0 && own == len(all) {
		return nil
	}
	var err error
	o.boot, err = bootFile(shelf, o.boot)
	return err
}

func namesOf(shelf *image.Shelf) (names []string) {
	for _, item := range shelf.Items() {
		names = append(names, item.Name)
	}
	return names
}

// networkOf is the laptop's network that an address is on.
func networkOf(at string) (network.Interface, error) {
	addr, err := servingAddress(at)
	if err != nil {
		return network.Interface{}, err
	}
	all, err := network.Host{}.Interfaces()
	if err != nil {
		return network.Interface{}, err
	}
	i := slices.IndexFunc(all, func(one network.Interface) bool { return one.Prefix.Addr() == addr })
	if i < 0 {
		return network.Interface{}, fmt.Errorf("--at %s: this laptop has no such address", addr)
	}
	return all[i], nil
}

// wanted makes who is answered of what was said. Nobody is answered by mistake: it has to be said.
func (o *provisionOptions) wanted() (*provision.Wanted, error) {
	m := &provision.Wanted{Ask: o.ask}
	for _, text := range o.only {
		mac, err := net.ParseMAC(text)
		if err != nil {
			return nil, fmt.Errorf("--only: %w", err)
		}
		m.Only = append(m.Only, mac.String())
	}
	m.Only = append(m.Only, slices.Sorted(maps.Keys(o.devices.All()))...)
	var err error
	if m.Vendor, err = patternOf("--vendor", o.vendor); err != nil {
		return nil, err
	}
	if len(m.Only) == 0 && m.Vendor == nil && !m.Ask {
		return nil, errors.New("say whom it is meant for: --only MAC, --devices FILE, or --vendor PATTERN, or --ask to be asked about each new one")
	}
	return m, nil
}

// bootFile is the name that devices are told to fetch.
func bootFile(shelf *image.Shelf, said string) (string, error) {
	names := namesOf(shelf)
	switch {
	case said != "" && !slices.Contains(names, said):
		return "", fmt.Errorf("--boot-file %s: the folder has no such file; it has %s", said,
			cmp.Or(strings.Join(names, ", "), "none"))
	case said != "":
		return said, nil
	case len(names) != 1:
		return "", fmt.Errorf("the folder has %s: say which of them devices are told to fetch (--boot-file): %s",
			units.Many(len(names), "file"), strings.Join(names, ", "))
	}
	return names[0], nil
}

// provisioning is one run of the command.
type provisioning struct {
	o      provisionOptions
	shelf  *image.Shelf
	on     network.Interface
	opt    provision.Options
	wanted *provision.Wanted
	prove  func(context.Context, provision.Course) error
	desk   *provision.Desk
	dock   *serve.Dock
	path   func(name string) string // of what devices are told to fetch
	all    chan struct{}            // somebody has come further
}

// given is what a device is told.
func (v *provisioning) given(c provision.Client) provision.Given {
	own, _ := v.o.devices.Of(c.MAC)
	return provision.Given{
		BootFile: v.path(cmp.Or(own.BootFile, v.o.boot)),
		Server:   v.on.Prefix.Addr(),
		HostName: own.Name,
		Custom:   own.Custom,
	}
}

// needs are what a device has to have had.
func (v *provisioning) needs(c provision.Client) provision.Needs {
	own, _ := v.o.devices.Of(c.MAC)
	n := provision.Needs{Image: cmp.Or(own.BootFile, v.o.boot)}
	if own.Configuration != "" {
		n.Configurations = []string{own.Configuration}
	}
	return n
}

func (p *program) provision(ctx context.Context, v *provisioning) error {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	v.path = func(name string) string { return name }
	v.opt.Give = v.given
	lookout := provision.NewLookout(network.Host{}, v.on, clock.Real())
	fmt.Fprintf(p.err, "looking for another DHCP server on %s, %s\n", v.on.Name, provision.LooksFor)
	if err := lookout.Alone(ctx); err != nil {
		return err
	}
	conn, err := network.Host{}.ListenBroadcast(v.on, 67)
	if err != nil {
		return fmt.Errorf("DHCP on %s: %w; it wants root, and no other DHCP server on this laptop", v.on.Name, err)
	}
	defer conn.Close()
	hub := event.NewHub(clock.Real())
	feed := hub.Subscribe()
	kept, waits := provision.LeaseFile(v.on), make(chan struct{}, 1)
	v.desk, err = provision.NewDesk(v.opt, provision.LoadLeases(kept), provision.DeskOptions{
		Clock:   clock.Real(),
		Emit:    hub.Emit,
		Keep:    func(all []provision.Lease) error { return provision.SaveLeases(kept, all) },
		Waits:   wakes(waits),
		Change:  wakes(v.all),
		Leased:  func(addr netip.Addr) { v.dock.Expect(addr) },
		Lookout: lookout,
		Probe:   provision.ProbeOn(network.Host{}, v.on),
		Needs:   v.needs,
		Prove:   v.prove,
	})
	if err != nil {
		return err
	}
	v.dock = serve.NewDock(ctx, serve.Options{Network: network.Host{}, Emit: v.desk.File})
	defer v.dock.Close()
	unpacker := &image.Unpacker{}
	defer unpacker.Close()
	serve.NewFolder(ctx, v.dock, strings.Join(v.o.protocols, " "), unpacker).Follow(v.shelf.Items())
	places, err := listenAll(v.dock, v.o.protocols, v.on.Prefix.Addr(), nil,
		preflight.Switches{Address: "--at ADDRESS"})
	if err != nil {
		return err
	}
	first, err := carrier.Named(v.o.protocols[0])
	if err != nil {
		return err
	}
	place, err := v.dock.Listen(first,
		netip.AddrPortFrom(v.on.Prefix.Addr(), first.Port)) // asked for once more, it is where it listens already
	if err != nil {
		return err
	}
	v.path = func(name string) string { return first.Boot(place, name) }
	served := make(chan error, 1)
	go func() {
		defer cancel()
		served <- v.desk.Serve(ctx, conn)
	}()
	go func() {
		defer cancel()
		v.awaitAll(ctx)
	}()
	answering := fmt.Sprintf("answering on %s, %s; addresses %s to %s", v.on.Name, v.on.Prefix, v.opt.First, v.opt.Last)
	if onTerminal() {
		answers := make(chan event.Answer)
		if v.wanted.Ask {
			go asksInView(ctx, hub, v.wanted, waits, answers)
		}
		err = tui.Transfers(ctx, tui.TransfersOptions{
			Theme: p.theme, Leader: p.leader, Feed: feed, Title: answering, Places: places,
			Answer: func(id, answer string) { go func() { sendAnswer(ctx, answers, id, answer) }() },
		})
	} else {
		fmt.Fprintln(p.out, answering+"; Ctrl-C ends it")
		for _, place := range places {
			fmt.Fprintln(p.out, place)
		}
		if v.wanted.Ask {
			go asks(ctx, hub, v.wanted, waits, linesOf(ctx, os.Stdin))
		}
		err = p.reportServing(ctx, feed)
	}
	cancel()
	return errors.Join(err, <-served, p.provisioned(v))
}

// wakes tells a channel that holds one word, and does not wait.
func wakes(to chan<- struct{}) func() {
	return func() {
		select {
		case to <- struct{}{}:
		default: // it is reported already
		}
	}
}

// awaitAll waits until all that are expected are done, or the time is over; for ever where nobody is.
func (v *provisioning) awaitAll(ctx context.Context) {
	var over <-chan time.Time
	if v.o.within > 0 {
		timer := time.NewTimer(v.o.within)
		defer timer.Stop()
		over = timer.C
	}
	for {
		var quiet <-chan time.Time
		if left, expected := v.left(); expected && left == 0 && !v.fetches() {
			quiet = time.After(lull)
		}
		select {
		case <-ctx.Done():
			return
		case <-over:
			return
		case <-quiet:
			return
		case <-v.all:
		}
	}
}

// lull is how long nothing is to happen before the end: a device that is back may go on with files that nobody named.
const lull = 5 * time.Second

// fetches reports whether a device fetches something now: nobody is cut off because all that are expected are done.
func (v *provisioning) fetches() bool {
	return slices.ContainsFunc(v.desk.All(), func(c provision.Course) bool { return c.Stage == provision.Fetching })
}

// left is how many that are expected are not done; expected is whether it was said who or how many are.
func (v *provisioning) left() (n int, expected bool) {
	done := map[string]bool{}
	for _, c := range v.desk.All() {
		if c.Done {
			done[c.Client.MAC] = true
		}
	}
	for mac := range v.o.devices.All() {
		if !done[mac] {
			n++
		}
	}
	return max(n, v.o.expect-len(done)), v.o.expect > 0 || v.o.devices != nil
}

// provisioned prints how far each device has come, and says by the exit code whether all are done.
func (p *program) provisioned(v *provisioning) error {
	out := tabwriter.NewWriter(p.out, 0, 0, 2, ' ', 0)
	row := func(mac, addr, name, state string) {
		fmt.Fprintln(out, strings.TrimRight(fmt.Sprintf("%s\t%s\t%s\t%s", mac, addr, name, state), "\t "))
	}
	seen, done, some := map[string]bool{}, 0, false
	for _, c := range v.desk.All() {
		if c.Alone || c.Waits && !c.Done {
			continue
		}
		if !some {
			row("MAC", "ADDRESS", "NAME", "STATE")
		}
		some, seen[c.Client.MAC] = true, true
		if c.Done {
			done++
		}
		addr, own := "-", provision.Device{}
		if c.Addr.IsValid() {
			addr = c.Addr.String()
		}
		own, _ = v.o.devices.Of(c.Client.MAC)
		row(c.Client.MAC, addr, cmp.Or(own.Name, c.Client.HostName, "-"), c.Text())
	}
	if v.o.devices != nil {
		for _, mac := range v.o.devices.Order {
			if !seen[mac] {
				own, _ := v.o.devices.Of(mac)
				row(mac, "-", cmp.Or(own.Name, "-"), "never asked")
			}
		}
	}
	if err := out.Flush(); err != nil {
		return err
	}
	left, expected := v.left()
	if !expected {
		left = len(seen) - done
	}
	if some || expected {
		fmt.Fprintf(p.out, "%d done, %d not\n", done, left)
	}
	if expected && left > 0 {
		return exit{code: engine.ExitDoneBut}
	}
	return nil
}

func sendAnswer(ctx context.Context, answers chan<- event.Answer, id, answer string) {
	select {
	case answers <- event.Answer{ID: id, Answer: answer, Who: "operator"}:
	case <-ctx.Done():
	}
}
