package main

import (
	"context"
	"fmt"
	"io"
	"net/netip"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"github.com/spf13/cobra"

	"pilotrix/core/carrier"
	"pilotrix/core/carrier/tftp"
	"pilotrix/core/clock"
	"pilotrix/core/event"
	"pilotrix/core/image"
	"pilotrix/core/network"
	"pilotrix/core/preflight"
	"pilotrix/core/serve"
	"pilotrix/tui"
)

func (p *program) serveCommand() *cobra.Command {
	var by []string
	var address string
	var ports map[string]int
	var into string
	var slots []string
	cmd := &cobra.Command{
		Use:   "serve FOLDER",
		Short: "Offer a folder's files by TFTP, HTTP or FTP, with a live view",
		Long: `Offers the files of a folder to devices, by their exact names and nothing else; images inside archives
are offered under their own names and unpacked when they are asked for. What comes into the folder is
offered too, what goes is withdrawn, and a file is not handed out while it changes. A device may leave a
file only under a name that --take opens, in the folder of --into, never over another. Ctrl-C ends it.`,
		Example: `  pilotrix serve ~/images --at 192.0.2.10
  pilotrix serve ~/images --at 192.0.2.10 --by tftp --by http --port http=8080
  pilotrix serve ~/images --at 127.0.0.1 --port tftp=6969 --take setup.txt --into ./kept`,
		Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			at, err := servingAddress(address)
			if err != nil {
				return usage(err)
			}
			for _, name := range by {
				if _, err := serve.Port(name); err != nil {
					return usage(err)
				}
			}
			for name, port := range ports {
				if _, err := serve.Port(name); err != nil || port < 1 || port > 65535 {
					return usage(fmt.Errorf("--port %s=%d: want a carrier and a port from 1 to 65535, such as tftp=6969", name, port))
				}
			}
			return p.serve(cmd.Context(), args[0], by, at, ports, into, slots)
		},
	}
	cmd.Flags().StringArrayVar(&by, "by", []string{"tftp"}, "a `carrier`: tftp, http or ftp")
	cmd.Flags().StringVar(&address, "at", "", "this laptop's `address` to serve on; its only one unless said")
	cmd.Flags().StringToIntVar(&ports, "port", nil, "another `port` than the carrier's own, such as tftp=6969")
	cmd.Flags().StringVar(&into, "into", ".", "the `folder` for files that devices leave")
	cmd.Flags().StringArrayVar(&slots, "take", nil, "let one file of this `name` be left here")
	return cmd
}

func servingAddress(text string) (netip.Addr, error) {
	if text == "" {
		return preflight.Choose(network.Host{}, netip.Prefix{})
	}
	return netip.ParseAddr(text)
}

const mostTaken = 64 << 20

func (p *program) serve(ctx context.Context, folder string, by []string, at netip.Addr, ports map[string]int, into string, slots []string) error {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	shelf, err := p.openShelf(ctx, nil, []string{folder})
	if err != nil {
		return err
	}
	hub := event.NewHub(clock.Real())
	feed := hub.Subscribe()
	dock := serve.NewDock(ctx, serve.Options{Network: network.Host{}, Emit: func(b event.Body) { hub.Emit(b) }})
	defer dock.Close()
	unpacker := &image.Unpacker{}
	defer unpacker.Close()
	offers := serve.NewFolder(ctx, dock, strings.Join(by, " "), unpacker)
	if offers.Follow(shelf.Items()) == 0 && len(slots) == 0 {
		return fmt.Errorf("%s holds no file to offer", folder)
	}
	for _, name := range slots {
		if _, err := dock.OpenSlot(carrier.Slot{Name: name, Folder: into, Limit: mostTaken}, strings.Join(by, " ")); err != nil {
			return err
		}
	}
	places, err := listenAll(dock, by, at, ports)
	if err != nil {
		return err
	}
	var watching sync.WaitGroup
	watching.Go(func() { followFolder(ctx, shelf, offers, hub) })
	defer watching.Wait()
	defer cancel()
	if onTerminal() {
		return tui.Carriers(ctx, tui.CarriersOptions{Theme: p.theme, Leader: p.leader, Feed: feed, Title: folder, Places: places})
	}
	fmt.Fprintf(p.out, "serving %s; Ctrl-C ends it\n", folder)
	for _, place := range places {
		fmt.Fprintln(p.out, place)
	}
	return p.tellServing(ctx, feed)
}

// listenAll starts carriers and returns in words what a device has to be told of them besides
// their addresses.
func listenAll(dock *serve.Dock, by []string, at netip.Addr, ports map[string]int) (places []string, err error) {
	for _, name := range by {
		port, err := serve.Port(name)
		if err != nil {
			return nil, err
		}
		if other, said := ports[name]; said {
			port = uint16(other)
		}
		place, err := dock.Listen(name, netip.AddrPortFrom(at, port))
		if err != nil {
			r := preflight.ListenWords(name, netip.AddrPortFrom(at, port), err)
			return nil, fmt.Errorf("%s; %s", r.Text, r.Remedy)
		}
		if place.Carrier != "tftp" { // its address says all
			places = append(places, placeText(place))
		}
	}
	return places, nil
}

func placeText(place serve.Place) string {
	if place.Carrier == "http" {
		return fmt.Sprintf("HTTP: http://%s%s", place.At, place.Path("NAME"))
	}
	return fmt.Sprintf("FTP: %s, user %s, password %s", place.At, place.User, place.Password)
}

// followFolder offers what comes into the folder and withdraws what goes, until ctx ends. A folder that
// cannot be watched is told: what it holds now is served all the same.
func followFolder(ctx context.Context, shelf *image.Shelf, offers *serve.Folder, hub *event.Hub) {
	warn := func(err error) {
		if err != nil {
			hub.Emit(event.Note{Level: event.Warn, Text: err.Error()})
		}
	}
	warn(shelf.Watch(ctx, func(err error) {
		warn(err)
		offers.Follow(shelf.Items())
	}))
}

// tellServing prints what happens, a line each.
func (p *program) tellServing(ctx context.Context, feed *event.Feed) error {
	view := newCoursePrinter(p.out)
	for {
		batch, err := feed.Next(ctx)
		if err != nil {
			return nil
		}
		for _, e := range batch {
			view.tell(e)
		}
	}
}

func (p *program) putCommand() *cobra.Command {
	var to, as string
	var limit time.Duration
	var block, window int
	cmd := &cobra.Command{
		Use:   "put FILE --to ADDRESS",
		Short: "Put a file to a TFTP server, again and again until its window opens",
		Long: `Sends a file to a TFTP server. A recovery loader listens for a few seconds only: the request is
repeated until it is answered, or the limit is over.`,
		Example: "  pilotrix put recovery.img --to 192.0.2.1 --limit 10m",
		Args:    cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			at, err := netip.ParseAddrPort(to)
			if err != nil {
				addr, addrErr := netip.ParseAddr(to)
				if addrErr != nil {
					return usage(fmt.Errorf("--to %q: want an address, or an address with a port", to))
				}
				at = netip.AddrPortFrom(addr, tftp.Port)
			}
			return p.put(cmd.Context(), args[0], at, as, limit, tftp.Client{Network: network.Host{}, Block: block, Window: window})
		},
	}
	cmd.Flags().StringVar(&to, "to", "", "the loader's `address`, with a port or without")
	cmd.Flags().StringVar(&as, "as", "", "the `name` it is put under; its own unless said")
	cmd.Flags().DurationVar(&limit, "limit", 10*time.Minute, "how `long` the window is waited for")
	cmd.Flags().IntVar(&block, "block", 0, "the block size to ask for, in `bytes`")
	cmd.Flags().IntVar(&window, "window", 0, "the window to ask for, in `blocks`")
	_ = cmd.MarkFlagRequired("to")
	return cmd
}

func (p *program) put(ctx context.Context, path string, to netip.AddrPort, as string, limit time.Duration, client tftp.Client) error {
	info, err := os.Stat(path)
	if err != nil {
		return usage(err)
	}
	if as == "" {
		as = filepath.Base(path)
	}
	limited, cancel := context.WithTimeout(ctx, limit)
	defer cancel()
	client.Progress = func(at carrier.Progress) {
		fmt.Fprintf(p.err, "\r%s", progressText(at, info.Size()))
	}
	result, err := client.PutWhenOpen(limited, to, as, knownSize(info), func() (io.ReadCloser, error) { return os.Open(path) }, func(tries int) {
		fmt.Fprintf(p.err, "\rwaiting for %s to take it, try %d   ", to, tries)
	})
	fmt.Fprintln(p.err)
	if err != nil {
		return err
	}
	fmt.Fprintf(p.out, "done: %d B in %s, %s, %d blocks again\n", result.Bytes, result.Took.Round(time.Millisecond), result.Terms, result.Again)
	return nil
}
