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
	"sync"
	"time"

	"github.com/adrg/xdg"
	"github.com/spf13/cobra"

	"pilotrix/core/clock"
	"pilotrix/core/event"
	"pilotrix/core/image"
	"pilotrix/core/network"
	"pilotrix/core/provision"
	"pilotrix/core/serve"
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

// usualAddresses is how many are given where it is not said which.
const usualAddresses = 20

func rangeOf(text string, own netip.Prefix) (first, last netip.Addr, err error) {
	if text == "" {
		first, last = provision.LastOf(own, usualAddresses)
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
		return "", fmt.Errorf("the folder has %d files: say which of them devices are told to fetch (--boot-file): %s", len(names), strings.Join(names, ", "))
	}
	return names[0], nil
}

// looksFor is how long another DHCP server is looked for before this one begins.
const looksFor = 3 * time.Second

func (p *program) provision(ctx context.Context, shelf *image.Shelf, on network.Interface, opt provision.Options, meant *provision.Meant, protocols []string) error {
	ctx, cancel := context.WithCancelCause(ctx)
	defer cancel(nil)
	if err := p.alone(ctx, on); err != nil {
		return err
	}
	conn, err := network.Host{}.ListenBroadcast(on, 67)
	if err != nil {
		return fmt.Errorf("DHCP on %s: %w; it wants root, and no other DHCP server on this laptop", on.Name, err)
	}
	defer conn.Close()
	kept := leaseFile(on)
	server, err := provision.New(opt, loadLeases(kept))
	if err != nil {
		return err
	}
	hub := event.NewHub(clock.Real())
	feed := hub.Subscribe()
	f := &follower{hub: hub, clock: clock.Real(), transfers: map[string]event.TransferBegin{}, waits: make(chan struct{}, 1), strangers: map[string]bool{}}
	dock := serve.NewDock(ctx, serve.Options{Network: network.Host{}, Emit: f.file})
	defer dock.Close()
	unpacker := &image.Unpacker{}
	defer unpacker.Close()
	serve.NewFolder(ctx, dock, strings.Join(protocols, " "), unpacker).Follow(shelf.Items())
	if _, err := listenAll(dock, protocols, on.Prefix.Addr(), nil); err != nil {
		return err
	}
	fmt.Fprintf(p.out, "answering on %s, %s; addresses %s to %s; Ctrl-C ends it\n", on.Name, on.Prefix, opt.First, opt.Last)
	served := make(chan error, 1)
	go func() {
		served <- server.Serve(ctx, conn, clock.Real(), provision.Tell{
			Message: f.message, Told: func(t provision.Told) { f.told(t, cancel) }, Leases: func(all []provision.Lease) { f.warn(saveLeases(kept, all)) },
		})
	}()
	go f.watch(ctx)
	if meant.Ask {
		go f.asks(ctx, meant, linesOf(ctx, os.Stdin))
	}
	err = p.tellServing(ctx, feed)
	if cause := context.Cause(ctx); errors.Is(cause, errAnotherServer) {
		err = cause
	}
	cancel(nil)
	return errors.Join(err, <-served)
}

var errAnotherServer = errors.New("another DHCP server is on the network")

// alone looks whether another server answers on the network already.
func (p *program) alone(ctx context.Context, on network.Interface) error {
	conn, err := network.Host{}.ListenBroadcast(on, 68)
	if err != nil {
		return fmt.Errorf("looking for another DHCP server on %s: %w; it wants root", on.Name, err)
	}
	defer conn.Close()
	fmt.Fprintf(p.err, "looking for another DHCP server on %s, %s\n", on.Name, looksFor)
	others, err := provision.Others(ctx, conn, [6]byte{2, 0x70, 0x69, 0x6c, 0x6f, 0x74}, clock.Real(), looksFor)
	if err == nil && len(others) > 0 {
		err = fmt.Errorf("%w: %s answers; nothing was begun", errAnotherServer, others[0])
	}
	return err
}

// follower tells what happens, and what each device is waited for.
type follower struct {
	hub   *event.Hub
	clock clock.Clock

	mu        sync.Mutex
	courses   provision.Courses
	transfers map[string]event.TransferBegin
	stalled   map[string]string // what was told of a device; only the goroutine that watches uses it
	loops     map[string]string
	rows      int
	strangers map[string]bool // that were told; only the goroutine that serves uses it
	waits     chan struct{}   // told to whoever asks about new devices
}

func (f *follower) warn(err error) {
	if err != nil {
		f.hub.Emit(event.Note{Level: event.Warning, Text: err.Error()})
	}
}

// message tells one of DHCP as a rung of the ladder.
func (f *follower) message(m provision.Message) {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.rows++
	text := m.Client.MAC
	if m.Addr.IsValid() {
		text += "  " + m.Addr.String()
	}
	if m.BootFile != "" {
		text += "  " + m.BootFile
	}
	f.hub.Emit(event.Rung{Transfer: "dhcp", Row: f.rows, Protocol: "DHCP", Peer: m.Client.MAC, FromDevice: m.FromClient, What: m.Kind, Text: text})
	direction := "⇠ "
	if m.FromClient {
		direction = "⇢ "
	}
	f.hub.Emit(event.Note{Level: event.Info, Text: "DHCP " + direction + m.Kind + "  " + text})
}

func (f *follower) told(t provision.Told, cancel context.CancelCauseFunc) {
	f.mu.Lock()
	f.courses.Told(t, f.clock.Now())
	f.mu.Unlock()
	switch t.Kind {
	case provision.Asked:
	case provision.Another:
		f.hub.Emit(event.Note{Level: event.Error, Text: t.Text})
		cancel(fmt.Errorf("%w: %s", errAnotherServer, t.Addr))
	case provision.Stranger:
		f.stranger(t)
	case provision.Waits:
		select {
		case f.waits <- struct{}{}:
		default: // it is told already
		}
	case provision.Refused, provision.Conflict, provision.Left:
		f.hub.Emit(event.Note{Level: event.Warning, Text: t.Text})
	default:
		f.hub.Emit(event.Note{Level: event.Info, Text: t.Text})
	}
}

// mostStrangers bounds how many devices are told of that are not meant: a busy network has more.
const mostStrangers = 64

// stranger tells of one that is not meant, once: it asks on, for as long as it has no address.
func (f *follower) stranger(t provision.Told) {
	switch {
	case f.strangers[t.Client.MAC] || len(f.strangers) > mostStrangers:
		return
	case len(f.strangers) == mostStrangers:
		t.Text = "others that are not meant are told of no more"
	}
	f.strangers[t.Client.MAC] = true
	f.hub.Emit(event.Note{Level: event.Warning, Text: t.Text})
}

// file passes on what the file servers tell, and follows who fetches.
func (f *follower) file(body event.Body) {
	now := f.clock.Now()
	f.mu.Lock()
	switch b := body.(type) {
	case event.TransferBegin:
		f.transfers[b.ID] = b
		f.courses.Asks(addrOf(b.Peer), b.File, "", now)
	case event.TransferEnd:
		if began, known := f.transfers[b.ID]; known {
			delete(f.transfers, b.ID)
			var failure error
			if b.Outcome != event.Done {
				failure = errors.New(cmp.Or(b.Message, string(b.Outcome)))
			}
			f.courses.Got(addrOf(began.Peer), began.File, failure, now)
		}
	case event.Rung:
		if b.FromDevice && b.What == "refused" {
			f.courses.Asks(addrOf(b.Peer), "", b.Text, now)
		}
	}
	f.mu.Unlock()
	f.hub.Emit(body)
}

func addrOf(peer string) netip.Addr {
	at, err := netip.ParseAddrPort(peer)
	if err != nil {
		addr, _ := netip.ParseAddr(peer)
		return addr
	}
	return at.Addr()
}

// looksEvery is how often devices are looked at that are waited for.
const looksEvery = 5 * time.Second

// watch tells once of each device that is waited for longer than usual.
func (f *follower) watch(ctx context.Context) {
	f.stalled, f.loops = map[string]string{}, map[string]string{}
	for f.clock.Wait(ctx, looksEvery) == nil {
		f.mu.Lock()
		all, now := f.courses.All(), f.clock.Now()
		f.mu.Unlock()
		for _, c := range all {
			if loops := c.Loops(); loops != "" && f.loops[c.Client.MAC] != loops {
				f.loops[c.Client.MAC] = loops
				f.hub.Emit(event.Note{Level: event.Warning, Text: loops})
			}
			stall, stage := c.Stalls(now), fmt.Sprint(c.Stage, c.Since)
			if stall == "" || f.stalled[c.Client.MAC] == stage {
				continue
			}
			f.stalled[c.Client.MAC] = stage
			f.hub.Emit(event.Note{Level: event.Warning, Text: stall})
		}
	}
}

// leaseFile is where the leases of a network are kept.
func leaseFile(on network.Interface) string {
	name := strings.NewReplacer("/", "-", ":", "-").Replace(on.Prefix.Masked().String())
	return filepath.Join(xdg.StateHome, "pilotrix", "leases-"+name+".json")
}

// loadLeases reads those that were kept; a file that cannot be read is as good as none: devices ask again.
func loadLeases(path string) (all []provision.Lease) {
	data, err := os.ReadFile(path)
	if err != nil || json.Unmarshal(data, &all) != nil {
		return nil
	}
	return all
}

// saveLeases keeps them, whole or not at all.
func saveLeases(path string, all []provision.Lease) error {
	data, err := json.MarshalIndent(all, "", "  ")
	if err == nil {
		err = image.ReplaceFile(path, data)
	}
	if err != nil {
		return fmt.Errorf("the leases are not kept: %w", err)
	}
	return nil
}
