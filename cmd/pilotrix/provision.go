package main

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"maps"
	"net"
	"net/netip"
	"os"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"pilotrix/app/newdevices"
	"pilotrix/core/carrier"
	"pilotrix/core/event"
	"pilotrix/core/image"
	"pilotrix/core/network"
	"pilotrix/core/preflight"
	"pilotrix/core/provision"
	"pilotrix/core/runbook/engine"
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
			opt, err := o.options(shelf)
			if err != nil {
				return usage(err)
			}
			return p.provision(cmd.Context(), opt)
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

// options makes what the service needs of what was said.
func (o *provisionOptions) options(shelf *image.Shelf) (opt newdevices.Options, err error) {
	if o.file != "" {
		if o.devices, err = provision.LoadDevices(o.file); err != nil {
			return opt, err
		}
	}
	opt = newdevices.Options{
		Shelf:     shelf,
		Protocols: o.protocols,
		Devices:   o.devices,
		Expect:    o.expect,
		Within:    o.within,
		Switches:  preflight.Switches{Address: "--at ADDRESS"},
	}
	if opt.Wanted, err = o.wanted(); err != nil {
		return opt, err
	}
	if opt.On, err = networkOf(o.at); err != nil {
		return opt, err
	}
	if opt.DHCP, err = o.addressing(opt.On.Prefix); err != nil {
		return opt, err
	}
	if opt.BootFile, err = newdevices.Check(shelf, o.devices, o.boot, o.file); err != nil {
		return opt, err
	}
	if err = opt.DHCP.Check(); err != nil {
		return opt, err
	}
	opt.Prove, err = provision.ParseProof(o.proof)
	return opt, err
}

// addressing is which addresses are given, to whom.
func (o *provisionOptions) addressing(own netip.Prefix) (opt provision.Options, err error) {
	opt = provision.Options{Own: own, Lease: o.lease, Reserved: map[string]netip.Addr{}}
	if opt.First, opt.Last, err = provision.ParseRange(o.addresses, own,
		max(o.expect, len(o.devices.All()))); err != nil {
		return opt, err
	}
	if o.router != "" {
		if opt.Router, err = netip.ParseAddr(o.router); err != nil {
			return opt, fmt.Errorf("--router: %w", err)
		}
	}
	for text, address := range o.reserved {
		mac, macErr := net.ParseMAC(text)
		addr, addrErr := netip.ParseAddr(address)
		if err := errors.Join(macErr, addrErr); err != nil {
			return opt, fmt.Errorf("--reserve %s=%s: %w", text, address, err)
		}
		opt.Reserved[mac.String()] = addr
	}
	for mac, d := range o.devices.All() {
		if d.Address.IsValid() {
			opt.Reserved[mac] = d.Address
		}
	}
	return opt, nil
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

func (p *program) provision(ctx context.Context, opt newdevices.Options) error {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	fmt.Fprintf(p.err, "looking for another DHCP server on %s, %s\n", opt.On.Name, provision.LooksFor)
	v, err := newdevices.Begin(ctx, opt)
	if err != nil {
		return err
	}
	defer v.Close()
	served := make(chan error, 1)
	go func() {
		defer cancel()
		served <- v.Serve(ctx)
	}()
	err = p.showProvisioning(ctx, v, opt)
	cancel()
	err = errors.Join(err, <-served)
	missing, reportErr := v.Report(p.out)
	if missing {
		err = errors.Join(err, exit{code: engine.ExitDoneBut})
	}
	return errors.Join(err, reportErr)
}

// showProvisioning shows what happens until the operator or the service ends it.
func (p *program) showProvisioning(ctx context.Context, v *newdevices.Service, opt newdevices.Options) error {
	answering := fmt.Sprintf("answering on %s, %s; addresses %s to %s", opt.On.Name, opt.On.Prefix, opt.DHCP.First,
		opt.DHCP.Last)
	if onTerminal() {
		answers := make(chan event.Answer)
		if opt.Wanted.Ask {
			go v.AskInView(ctx, answers)
		}
		return tui.Transfers(ctx, tui.TransfersOptions{
			Theme: p.theme, Leader: p.leader, Feed: v.Feed, Title: answering, Places: v.Places,
			Answer: func(id, answer string) { go sendAnswer(ctx, answers, id, answer) },
		})
	}
	fmt.Fprintln(p.out, answering+"; Ctrl-C ends it")
	for _, place := range v.Places {
		fmt.Fprintln(p.out, place)
	}
	if opt.Wanted.Ask {
		go v.AskLines(ctx, linesOf(ctx, os.Stdin))
	}
	return p.reportServing(ctx, v.Feed)
}

// linesOf reads what is typed, line after line, until there is nothing more or ctx ends.
func linesOf(ctx context.Context, in io.Reader) <-chan string {
	lines := make(chan string)
	go func() {
		defer close(lines)
		for read := bufio.NewScanner(in); read.Scan(); {
			select {
			case lines <- strings.ToLower(strings.TrimSpace(read.Text())):
			case <-ctx.Done():
				return
			}
		}
	}()
	return lines
}

func sendAnswer(ctx context.Context, answers chan<- event.Answer, id, answer string) {
	select {
	case answers <- event.Answer{ID: id, Answer: answer, Who: "operator"}:
	case <-ctx.Done():
	}
}
