package app

import (
	"context"
	"errors"
	"fmt"
	"net/netip"
	"strings"

	"pilotrix/core/carrier"
	"pilotrix/core/event"
	"pilotrix/core/image"
	"pilotrix/core/network"
	"pilotrix/core/offer"
	"pilotrix/core/preflight"
	"pilotrix/core/serve"
)

// ServedFolder is a folder whose files are handed out by servers of this laptop's.
type ServedFolder struct {
	Dock   *serve.Dock
	Places []string // what a device needs to use the servers besides their addresses, in words

	shelf    *image.Shelf
	offers   *serve.Folder
	unpacker *image.Unpacker
}

// Serving is how a folder is served.
type Serving struct {
	Shelf     *image.Shelf
	Protocols []string
	At        netip.Addr
	Ports     map[string]int // other ports than the protocols' own
	Slots     []offer.Slot   // what may be left here
	Dock      serve.Options
	Switches  preflight.Switches // by which switches the operator says otherwise
}

// ErrNothingToOffer is that of a folder without files.
var ErrNothingToOffer = errors.New("it holds no file to offer")

// Serve begins to serve a folder. It ends with Close.
func Serve(ctx context.Context, with Serving) (*ServedFolder, error) {
	f := &ServedFolder{Dock: serve.NewDock(ctx, with.Dock), shelf: with.Shelf, unpacker: &image.Unpacker{}}
	err := f.begin(ctx, with)
	if err != nil {
		f.Close()
	}
	return f, err
}

func (f *ServedFolder) begin(ctx context.Context, with Serving) error {
	protocols := strings.Join(with.Protocols, " ")
	f.offers = serve.NewFolder(ctx, f.Dock, protocols, f.unpacker)
	if f.offers.Follow(f.shelf.Items()) == 0 && len(with.Slots) == 0 {
		return ErrNothingToOffer
	}
	for _, slot := range with.Slots {
		if _, err := f.Dock.OpenSlot(slot, protocols); err != nil {
			return err
		}
	}
	if all := everywhere(with.At); all != "" {
		f.Places = append(f.Places, all)
	}
	for _, name := range with.Protocols {
		if err := f.listen(name, with); err != nil {
			return err
		}
	}
	return nil
}

// listen starts one of the servers.
func (f *ServedFolder) listen(name string, with Serving) error {
	c, err := carrier.Named(name)
	if err != nil {
		return err
	}
	at := netip.AddrPortFrom(with.At, c.Port)
	if other, said := with.Ports[name]; said {
		at = netip.AddrPortFrom(with.At, uint16(other))
	}
	place, err := f.Dock.Listen(c, at)
	if err != nil {
		r := preflight.ListenText(c, at, err, with.Switches)
		return fmt.Errorf("%s: %s", r.Text, r.Remedy)
	}
	if c.Text != nil { // else its address says all
		f.Places = append(f.Places, placeTexts(c, place)...)
	}
	return nil
}

// Close ends the servers.
func (f *ServedFolder) Close() {
	f.Dock.Close()
	f.unpacker.Close()
}

// Follow offers what comes into the folder and withdraws what goes, until ctx ends. A folder that
// cannot be watched is reported: what it holds now is served all the same.
func (f *ServedFolder) Follow(ctx context.Context, emit func(event.Body)) {
	warn := func(err error) {
		if err != nil {
			emit(event.Note{Level: event.Warning, Text: err.Error()})
		}
	}
	warn(f.shelf.Watch(ctx, func(err error) {
		warn(err)
		f.offers.Follow(f.shelf.Items())
	}))
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

// placeTexts are what a device needs to use a server: of one on every network once for each that it may be on.
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
