package main

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/adrg/xdg"
	"github.com/spf13/cobra"

	"pilotrix/core/clock"
	"pilotrix/core/event"
	"pilotrix/core/image"
	"pilotrix/core/network"
	"pilotrix/core/ownfile"
	"pilotrix/core/provision"
	"pilotrix/core/serve"
	"pilotrix/core/units"
	"pilotrix/tui"
)

// provisionOptions are what the command is told.
type provisionOptions struct {
	at, addresses, router, vendor, boot string
	only                                []string
	reserved                            map[string]string
	lease                               time.Duration
	protocols                           []string
	ask                                 bool
}

func (p *program) provisionCommand() *cobra.Command {
	var o provisionOptions
	cmd := &cobra.Command{
		Use:   "provision FOLDER",
		Short: "Give new devices an address and the files that they ask for, on one network",
		Long: `Answers the DHCP messages of new devices on one network of this laptop, and hands the files of a folder out to
them by TFTP or HTTP: their image first, their configuration when they have restarted and ask again. It answers only those
that it is meant for (--only, --vendor, or those that you say yes to with --ask), and does not begin where another DHCP server answers, whose address it tells. Every
message is told, what each device is waited for, and what may be the matter when that does not come. Ctrl-C ends it.

DHCP and TFTP have ports that want root. Leases are kept, so that a device has its address again.`,
		Example: `  pilotrix provision ~/new-switch --at 192.0.2.10 --only 02:00:5e:10:00:01 --boot-file strand-3.2.msl
  pilotrix provision ~/new-switch --at 192.0.2.10 --ask
  pilotrix provision ~/new-switch --at 192.0.2.10 --vendor '^Maskel' --range 192.0.2.100-192.0.2.119 --router 192.0.2.1
  pilotrix provision ~/new-switch --at 192.0.2.10 --only 02:00:5e:10:00:01 --reserve 02:00:5e:10:00:01=192.0.2.61`,
		Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			shelf, err := p.openShelf(cmd.Context(), nil, args)
			if err != nil {
				return err
			}
			meant, err := o.meant()
			if err != nil {
				return usage(err)
			}
			on, opt, err := o.options(shelf)
			if err != nil {
				return usage(err)
			}
			opt.Admit = meant.Admit
			return p.provision(cmd.Context(), shelf, on, opt, meant, o.protocols)
		},
	}
	cmd.Flags().StringVar(&o.at, "at", "", "this laptop's `address` on the network that is served; its only one unless said")
	cmd.Flags().StringVar(&o.addresses, "range", "", "the `addresses` that are given, such as 192.0.2.100-192.0.2.119; the last twenty of the network unless said")
	cmd.Flags().StringVar(&o.router, "router", "", "the `address` of the gateway that devices get")
	cmd.Flags().StringArrayVar(&o.only, "only", nil, "answer the device of this `MAC` address")
	cmd.Flags().StringVar(&o.vendor, "vendor", "", "answer devices whose vendor class this `pattern` finds")
	cmd.Flags().BoolVar(&o.ask, "ask", false, "ask about each other new device whether it is answered (y or n)")
	cmd.Flags().StringVar(&o.boot, "boot-file", "", "the `name` that devices are told to fetch; that of the only image in the folder unless said")
	cmd.Flags().StringToStringVar(&o.reserved, "reserve", nil, "keep an address for a device, `MAC=ADDRESS`")
	cmd.Flags().DurationVar(&o.lease, "lease", time.Hour, "how long an address is given for")
	cmd.Flags().StringArrayVar(&o.protocols, "protocol", []string{"tftp", "http"}, "a `protocol` that the files are handed out by: tftp or http")
	return cmd
}

// options makes what the server needs of what was said.
func (o provisionOptions) options(shelf *image.Shelf) (on network.Interface, opt provision.Options, err error) {
	if on, err = networkOf(o.at); err != nil {
		return on, opt, err
	}
	opt = provision.Options{Own: on.Prefix, Lease: o.lease, Reserved: map[string]netip.Addr{}}
	if opt.First, opt.Last, err = rangeOf(o.addresses, on.Prefix); err != nil {
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
	boot, err := bootFile(shelf, o.boot)
	opt.Give = func(provision.Client) provision.Given {
		return provision.Given{BootFile: boot, Server: on.Prefix.Addr()}
	}
	return on, opt, cmp.Or(err, opt.Check())
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

func rangeOf(text string, own netip.Prefix) (first, last netip.Addr, err error) {
	if text == "" {
		first, last = provision.LastOf(own, provision.UsualAddresses)
		return first, last, nil
	}
	from, to, found := strings.Cut(text, "-")
	first, firstErr := netip.ParseAddr(strings.TrimSpace(from))
	last, lastErr := netip.ParseAddr(strings.TrimSpace(to))
	if !found || firstErr != nil || lastErr != nil {
		return first, last, fmt.Errorf("--range %q: want two addresses, such as 192.0.2.100-192.0.2.119", text)
	}
	return first, last, nil
}

// meant makes who is answered of what was said. Nobody is answered by mistake: it has to be said.
func (o provisionOptions) meant() (*provision.Meant, error) {
	m := &provision.Meant{Ask: o.ask}
	for _, text := range o.only {
		mac, err := net.ParseMAC(text)
		if err != nil {
			return nil, fmt.Errorf("--only: %w", err)
		}
		m.Only = append(m.Only, mac.String())
	}
	var err error
	if m.Vendor, err = patternOf("--vendor", o.vendor); err != nil {
		return nil, err
	}
	if len(m.Only) == 0 && m.Vendor == nil && !m.Ask {
		return nil, errors.New("say whom it is meant for: --only MAC, or --vendor PATTERN, or --ask to be asked about each new one")
	}
	return m, nil
}

// bootFile is the name that devices are told to fetch.
func bootFile(shelf *image.Shelf, said string) (string, error) {
	var names []string
	for _, item := range shelf.Items() {
		names = append(names, item.Name)
	}
	switch {
	case said != "" && !slices.Contains(names, said):
		return "", fmt.Errorf("--boot-file %s: the folder has no such file; it has %s", said, cmp.Or(strings.Join(names, ", "), "none"))
	case said != "":
		return said, nil
	case len(names) != 1:
		return "", fmt.Errorf("the folder has %s: say which of them devices are told to fetch (--boot-file): %s", units.Many(len(names), "file"), strings.Join(names, ", "))
	}
	return names[0], nil
}

func (p *program) provision(ctx context.Context, shelf *image.Shelf, on network.Interface, opt provision.Options, meant *provision.Meant, protocols []string) error {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	fmt.Fprintf(p.err, "looking for another DHCP server on %s, %s\n", on.Name, provision.LooksFor)
	if err := provision.Alone(ctx, network.Host{}, on, clock.Real()); err != nil {
		return err
	}
	conn, err := network.Host{}.ListenBroadcast(on, 67)
	if err != nil {
		return fmt.Errorf("DHCP on %s: %w; it wants root, and no other DHCP server on this laptop", on.Name, err)
	}
	defer conn.Close()
	hub := event.NewHub(clock.Real())
	feed := hub.Subscribe()
	kept, waits := leaseFile(on), make(chan struct{}, 1)
	desk, err := provision.NewDesk(opt, loadLeases(kept), provision.DeskOptions{
		Clock: clock.Real(), Emit: hub.Emit, Keep: func(all []provision.Lease) error { return saveLeases(kept, all) },
		Waits: func() {
			select {
			case waits <- struct{}{}:
			default: // it is told already
			}
		},
	})
	if err != nil {
		return err
	}
	dock := serve.NewDock(ctx, serve.Options{Network: network.Host{}, Emit: desk.File})
	defer dock.Close()
	unpacker := &image.Unpacker{}
	defer unpacker.Close()
	serve.NewFolder(ctx, dock, strings.Join(protocols, " "), unpacker).Follow(shelf.Items())
	places, err := listenAll(dock, protocols, on.Prefix.Addr(), nil)
	if err != nil {
		return err
	}
	served := make(chan error, 1)
	go func() {
		defer cancel()
		served <- desk.Serve(ctx, conn)
	}()
	answering := fmt.Sprintf("answering on %s, %s; addresses %s to %s", on.Name, on.Prefix, opt.First, opt.Last)
	if onTerminal() {
		answers := make(chan event.Answer)
		if meant.Ask {
			go asksInView(ctx, hub, meant, waits, answers)
		}
		err = tui.Transfers(ctx, tui.TransfersOptions{
			Theme: p.theme, Leader: p.leader, Feed: feed, Title: answering, Places: places,
			Answer: func(id, answer string) { go func() { sendAnswer(ctx, answers, id, answer) }() },
		})
	} else {
		fmt.Fprintln(p.out, answering+"; Ctrl-C ends it")
		if meant.Ask {
			go asks(ctx, hub, meant, waits, linesOf(ctx, os.Stdin))
		}
		err = p.tellServing(ctx, feed)
	}
	cancel()
	return errors.Join(err, <-served)
}

func sendAnswer(ctx context.Context, answers chan<- event.Answer, id, answer string) {
	select {
	case answers <- event.Answer{ID: id, Answer: answer, Who: "operator"}:
	case <-ctx.Done():
	}
}

// leaseFile is where the leases of a network are kept.
func leaseFile(on network.Interface) string {
	name := strings.NewReplacer("/", "-", ":", "-").Replace(on.Prefix.Masked().String())
	return filepath.Join(xdg.StateHome, "pilotrix", "leases-"+name+".json")
}

// loadLeases reads those that were kept; a file that cannot be read is as good as none: devices ask again.
func loadLeases(path string) (all []provision.Lease) {
	data, err := ownfile.Read(path)
	if err != nil || json.Unmarshal(data, &all) != nil {
		return nil
	}
	return all
}

// saveLeases keeps them, whole or not at all.
func saveLeases(path string, all []provision.Lease) error {
	data, err := json.MarshalIndent(all, "", "  ")
	if err == nil {
		err = ownfile.Replace(path, data)
	}
	if err != nil {
		return fmt.Errorf("the leases are not kept: %w", err)
	}
	return nil
}
