package main

import (
	"context"
	"errors"
	"fmt"
	"net/netip"
	"sync"

	"github.com/spf13/cobra"

	"pilotrix/app"
	"pilotrix/core/carrier"
	"pilotrix/core/clock"
	"pilotrix/core/event"
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
	var open []offer.Slot
	for _, name := range slots {
		open = append(open, offer.Slot{Name: name, Folder: into, Most: maxReceived})
	}
	served, err := app.Serve(ctx, app.Serving{
		Shelf:     shelf,
		Protocols: protocols,
		At:        at,
		Ports:     ports,
		Slots:     open,
		Dock: serve.Options{
			Network: network.Host{},
			Emit:    func(b event.Body) { hub.Emit(b) },
			Old:     old,
			OldBy:   "--legacy",
		},
		Switches: preflight.Switches{Address: "--at ADDRESS", Port: "--port PROTOCOL=PORT"},
	})
	if errors.Is(err, app.ErrNothingToOffer) {
		err = fmt.Errorf("%s: %w", folder, err)
	}
	if err != nil {
		return err
	}
	defer served.Close()
	var watching sync.WaitGroup
	watching.Go(func() { served.Follow(ctx, func(b event.Body) { hub.Emit(b) }) })
	defer watching.Wait()
	defer cancel()
	if onTerminal() {
		return tui.Transfers(ctx,
			tui.TransfersOptions{Theme: p.theme, Leader: p.leader, Feed: feed, Title: folder, Places: served.Places})
	}
	fmt.Fprintf(p.out, "serving %s; Ctrl-C ends it\n", folder)
	for _, place := range served.Places {
		fmt.Fprintln(p.out, place)
	}
	return p.reportServing(ctx, feed)
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
