package main

import (
	"context"
	"fmt"
	"net/netip"
	"strings"
	"sync"

	"github.com/spf13/cobra"

	"pilotrix/core/carrier"
	"pilotrix/core/clock"
	"pilotrix/core/event"
	"pilotrix/core/image"
	"pilotrix/core/network"
	"pilotrix/core/offer"
	"pilotrix/core/preflight"
	"pilotrix/core/serve"
	"pilotrix/core/transcript"
	"pilotrix/tui"
)

func (p *program) serveCommand() *cobra.Command {
	var protocols []string
	var address string
	var ports map[string]int
	var into string
	var slots []string
	var old bool
	cmd := &cobra.Command{
		Use:   "serve FOLDER",
		Short: "Offer a folder's files by TFTP, HTTP, FTP, SFTP or SCP, with a live view",
		Long: `Offers the files of a folder to devices, by their exact names and nothing else; images inside archives
are offered under their own names and unpacked when they are asked for. What comes into the folder is
offered too, what goes is withdrawn, and a file is not handed out while it changes. A device may leave a
file only under a name that --receive opens, in the folder of --into, never over another. Ctrl-C ends it.`,
		Example: `  pilotrix serve ~/images --at 192.0.2.10
  pilotrix serve ~/images --at 192.0.2.10 --protocol tftp --protocol http --port http=8080
  pilotrix serve ~/images --at 192.0.2.10 --protocol sftp --port sftp=2222
  pilotrix serve ~/images --at 192.0.2.10 --protocol scp --legacy
  pilotrix serve ~/images --at 127.0.0.1 --port tftp=6969 --receive setup.txt --into ./kept`,
		Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			at, err := servingAddress(address)
			if err != nil {
				return usage(err)
			}
			for _, name := range protocols {
				if _, err := carrier.Named(name); err != nil {
					return usage(err)
				}
			}
			for name, port := range ports {
				if _, err := carrier.Named(name); err != nil || port < 1 || port > 65535 {
					return usage(fmt.Errorf("--port %s=%d: want a protocol and a port from 1 to 65535, such as tftp=6969", name, port))
				}
			}
			return p.serve(cmd.Context(), args[0], protocols, at, ports, into, slots, old)
		},
	}
	cmd.Flags().StringArrayVar(&protocols, "protocol", []string{carrier.TFTP.Name},
		"a `protocol`: "+carrier.Names(" or "))
	cmd.Flags().StringVar(&address, "at", "", "this laptop's `address` to serve on; its only one unless said")
	cmd.Flags().StringToIntVar(&ports, "port", nil, "another `port` than the protocol's own, such as tftp=6969")
	cmd.Flags().BoolVar(&old, "legacy", false,
		"let clients in over SSH that know only old algorithms, which are not safe any more")
	cmd.Flags().StringVar(&into, "into", ".", "the `folder` for files that devices leave")
	cmd.Flags().StringArrayVar(&slots, "receive", nil, "let one file of this `name` be left here")
	return cmd
}

func servingAddress(text string) (netip.Addr, error) {
	if text == "" {
		return preflight.Choose(network.Host{}, netip.Prefix{}, preflight.Switches{Address: "--at ADDRESS"})
	}
	addr, err := netip.ParseAddr(text)
	if err != nil {
		err = fmt.Errorf("--at %s: want an address of this laptop, such as 192.0.2.10", text)
	}
	return addr, err
}

// everywhere says on which networks an address listens that is every one of this laptop's; empty for any other.
func everywhere(at netip.Addr) string {
	if !at.IsUnspecified() {
		return ""
	}
	all, err := network.Host{}.Interfaces()
	if err != nil {
		return fmt.Sprintf("%s is every network of this laptop, which could not be listed: %v", at, err)
	}
	var some []string
	for _, one := range all {
		if one.Prefix.Addr().Is4() || at.Is6() {
			some = append(some, one.Prefix.String()+" on "+one.Name)
		}
	}
	return fmt.Sprintf("%s is every network of this laptop: %s", at, strings.Join(some, ", "))
}

const maxReceived = 64 << 20

func (p *program) serve(
	ctx context.Context, folder string, protocols []string, at netip.Addr, ports map[string]int, into string,
	slots []string, old bool,
) error {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	shelf, err := p.openShelf(ctx, nil, []string{folder})
	if err != nil {
		return err
	}
	hub := event.NewHub(clock.Real())
	feed := hub.Subscribe()
	dock := serve.NewDock(ctx,
		serve.Options{Network: network.Host{}, Emit: func(b event.Body) { hub.Emit(b) }, Old: old, OldBy: "--legacy"})
	defer dock.Close()
	unpacker := &image.Unpacker{}
	defer unpacker.Close()
	offers := serve.NewFolder(ctx, dock, strings.Join(protocols, " "), unpacker)
	if offers.Follow(shelf.Items()) == 0 && len(slots) == 0 {
		return fmt.Errorf("%s holds no file to offer", folder)
	}
	for _, name := range slots {
		if _, err := dock.OpenSlot(offer.Slot{Name: name, Folder: into, Most: maxReceived},
			strings.Join(protocols, " ")); err != nil {
			return err
		}
	}
	places, err := listenAll(dock, protocols, at, ports,
		preflight.Switches{Address: "--at ADDRESS", Port: "--port PROTOCOL=PORT"})
	if err != nil {
		return err
	}
	if all := everywhere(at); all != "" {
		places = append([]string{all}, places...)
	}
	var watching sync.WaitGroup
	watching.Go(func() { followFolder(ctx, shelf, offers, hub) })
	defer watching.Wait()
	defer cancel()
	if onTerminal() {
		return tui.Transfers(ctx,
			tui.TransfersOptions{Theme: p.theme, Leader: p.leader, Feed: feed, Title: folder, Places: places})
	}
	fmt.Fprintf(p.out, "serving %s; Ctrl-C ends it\n", folder)
	for _, place := range places {
		fmt.Fprintln(p.out, place)
	}
	return p.reportServing(ctx, feed)
}

// listenAll starts servers and returns in words what a device has to be told of them besides
// their addresses.
func listenAll(
	dock *serve.Dock, protocols []string, at netip.Addr, ports map[string]int, by preflight.Switches,
) (places []string, err error) {
	for _, name := range protocols {
		c, err := carrier.Named(name)
		if err != nil {
			return nil, err
		}
		port := c.Port
		if other, said := ports[name]; said {
			port = uint16(other)
		}
		place, err := dock.Listen(c, netip.AddrPortFrom(at, port))
		if err != nil {
			r := preflight.ListenText(c, netip.AddrPortFrom(at, port), err, by)
			return nil, fmt.Errorf("%s: %s", r.Text, r.Remedy)
		}
		if c.Text != nil { // else its address says all
			places = append(places, placeTexts(c, place)...)
		}
	}
	return places, nil
}

// placeTexts are what a device has to be told: of a server on every network once for each that it may be on.
func placeTexts(c *carrier.Carrier, place carrier.Endpoint) (texts []string) {
	if !place.At.Addr().IsUnspecified() {
		return []string{c.Text(place)}
	}
	all, err := network.Host{}.Interfaces()
	if err != nil {
		return []string{c.Text(place)}
	}
	for _, one := range all {
		if addr := one.Prefix.Addr(); addr.Is4() && !addr.IsLoopback() {
			place.At = netip.AddrPortFrom(addr, place.At.Port())
			texts = append(texts, c.Text(place))
		}
	}
	return texts
}

// followFolder offers what comes into the folder and withdraws what goes, until ctx ends. A folder that
// cannot be watched is reported: what it holds now is served all the same.
func followFolder(ctx context.Context, shelf *image.Shelf, offers *serve.Folder, hub *event.Hub) {
	warn := func(err error) {
		if err != nil {
			hub.Emit(event.Note{Level: event.Warning, Text: err.Error()})
		}
	}
	warn(shelf.Watch(ctx, func(err error) {
		warn(err)
		offers.Follow(shelf.Items())
	}))
}

// reportServing prints what happens, a line each.
func (p *program) reportServing(ctx context.Context, feed *event.Feed) error {
	view := transcript.New(p.out)
	for {
		batch, err := feed.Next(ctx)
		if err != nil {
			return nil
		}
		for _, e := range batch {
			view.Report(e)
		}
	}
}
