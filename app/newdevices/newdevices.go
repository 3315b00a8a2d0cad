// Package newdevices gives new devices an address and their files, and knows when all that are expected are done.
package newdevices

import (
	"cmp"
	"context"
	"fmt"
	"maps"
	"net/netip"
	"slices"
	"strings"
	"time"

	"pilotrix/app"
	"pilotrix/core/carrier"
	"pilotrix/core/clock"
	"pilotrix/core/event"
	"pilotrix/core/image"
	"pilotrix/core/network"
	"pilotrix/core/preflight"
	"pilotrix/core/provision"
	"pilotrix/core/serve"
	"pilotrix/core/units"
)

// Options are for whom it is, and what they get.
type Options struct {
	On        network.Interface
	DHCP      provision.Options // what is given of addresses; who is admitted, and what they get, is filled in here
	Wanted    *provision.Wanted
	Shelf     *image.Shelf
	BootFile  string             // what devices are told to fetch where they have nothing of their own; see BootFile
	Protocols []string           // the files are handed out by these; devices are told the first
	Devices   *provision.Devices // those that are meant, with what is their own; nil for none
	Expect    int                // how many are expected besides; 0 for as many as come
	Within    time.Duration      // the end, whoever is done; 0 for none
	Prove     func(context.Context, provision.Course) error
	Switches  preflight.Switches
}

// Check holds the names of files that devices are to fetch to what is in the folder, and gives the one that those
// without any of their own are told to fetch. said names that, and file is that of the devices.
func Check(shelf *image.Shelf, devices *provision.Devices, said, file string) (bootFile string, err error) {
	all, own := devices.All(), 0
	for _, mac := range slices.Sorted(maps.Keys(all)) {
		for what, name := range map[string]string{"boot-file": all[mac].BootFile, "configuration": all[mac].Configuration} {
			if name != "" && !slices.Contains(namesOf(shelf), name) {
				return "", fmt.Errorf("%s: %s of %s: the folder has no file %s; it has %s", file, what, mac, name,
					cmp.Or(strings.Join(namesOf(shelf), ", "), "none"))
			}
		}
		if all[mac].BootFile != "" {
			own++
		}
	}
	if said == "" && len(all) > 0 && own == len(all) {
		return "", nil
	}
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

func namesOf(shelf *image.Shelf) (names []string) {
	for _, item := range shelf.Items() {
		names = append(names, item.Name)
	}
	return names
}

// Service answers new devices until its context ends.
type Service struct {
	Feed   *event.Feed // what happens, from the beginning
	Places []string    // where the servers are, in words

	opt    Options
	hub    *event.Hub
	desk   *provision.Desk
	folder *app.ServedFolder
	conn   network.PacketConn
	path   func(name string) string // of what devices are told to fetch
	change chan struct{}            // somebody has come further
	waits  chan struct{}            // somebody waits until it is said whether it is answered
}

// Begin looks whether this is the only DHCP server there, and listens. Close ends it.
func Begin(ctx context.Context, opt Options) (*Service, error) {
	v := &Service{
		opt:    opt,
		hub:    event.NewHub(clock.Real()),
		change: make(chan struct{}, 1),
		waits:  make(chan struct{}, 1),
	}
	v.Feed = v.hub.Subscribe()
	err := v.begin(ctx)
	if err != nil {
		v.Close()
	}
	return v, err
}

func (v *Service) begin(ctx context.Context) (err error) {
	lookout := provision.NewLookout(network.Host{}, v.opt.On, clock.Real())
	if err := lookout.Alone(ctx); err != nil {
		return err
	}
	if v.conn, err = (network.Host{}).ListenBroadcast(v.opt.On, 67); err != nil {
		return fmt.Errorf("DHCP on %s: %w; it wants root, and no other DHCP server on this laptop", v.opt.On.Name, err)
	}
	dhcp, kept := v.opt.DHCP, provision.LeaseFile(v.opt.On)
	dhcp.Admit, dhcp.Give = v.opt.Wanted.Admit, v.given
	v.desk, err = provision.NewDesk(dhcp, provision.LoadLeases(kept), provision.DeskOptions{
		Clock:   clock.Real(),
		Emit:    v.hub.Emit,
		Keep:    func(all []provision.Lease) error { return provision.SaveLeases(kept, all) },
		Waits:   wakes(v.waits),
		Change:  wakes(v.change),
		Leased:  func(addr netip.Addr) { v.folder.Dock.Expect(addr) },
		Lookout: lookout,
		Probe:   provision.ProbeOn(network.Host{}, v.opt.On),
		Needs:   v.needs,
		Prove:   v.opt.Prove,
	})
	if err != nil {
		return err
	}
	v.folder, err = app.Serve(ctx, app.Serving{
		Shelf:     v.opt.Shelf,
		Protocols: v.opt.Protocols,
		At:        v.opt.On.Prefix.Addr(),
		Dock:      serve.Options{Network: network.Host{}, Emit: v.desk.File},
		Switches:  v.opt.Switches,
	})
	if err != nil {
		return err
	}
	v.Places = v.folder.Places
	first, err := carrier.Named(v.opt.Protocols[0])
	if err != nil {
		return err
	}
	// Asked for once more, it is where it listens already.
	place, err := v.folder.Dock.Listen(first, netip.AddrPortFrom(v.opt.On.Prefix.Addr(), first.Port))
	v.path = func(name string) string { return first.Boot(place, name) }
	return err
}

// Close ends the servers.
func (v *Service) Close() {
	if v.folder != nil {
		v.folder.Close()
	}
	if v.conn != nil {
		_ = v.conn.Close()
	}
}

// Serve answers until ctx ends, all that are expected are done, or the time is over.
func (v *Service) Serve(ctx context.Context) error {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	go func() {
		defer cancel()
		v.awaitAll(ctx)
	}()
	return v.desk.Serve(ctx, v.conn)
}

// given is what a device gets with its address.
func (v *Service) given(c provision.Client) provision.Given {
	own, _ := v.opt.Devices.Of(c.MAC)
	return provision.Given{
		BootFile: v.path(cmp.Or(own.BootFile, v.opt.BootFile)),
		Server:   v.opt.On.Prefix.Addr(),
		HostName: own.Name,
		Custom:   own.Custom,
	}
}

// needs are what a device has to have had.
func (v *Service) needs(c provision.Client) provision.Needs {
	own, _ := v.opt.Devices.Of(c.MAC)
	n := provision.Needs{Image: cmp.Or(own.BootFile, v.opt.BootFile)}
	if own.Configuration != "" {
		n.Configurations = []string{own.Configuration}
	}
	return n
}

// wakes sends to a channel that holds one word, and does not wait.
func wakes(to chan<- struct{}) func() {
	return func() {
		select {
		case to <- struct{}{}:
		default: // it is reported already
		}
	}
}

// lull is how long nothing is to happen before the end: a device that is back may go on with files that nobody named.
const lull = 5 * time.Second

// awaitAll waits until all that are expected are done, or the time is over; for ever where nobody is.
func (v *Service) awaitAll(ctx context.Context) {
	var over <-chan time.Time
	if v.opt.Within > 0 {
		timer := time.NewTimer(v.opt.Within)
		defer timer.Stop()
		over = timer.C
	}
	for {
		var quiet <-chan time.Time
		if all := v.desk.All(); v.opt.expects() && v.opt.left(all) == 0 && !fetches(all) {
			quiet = time.After(lull)
		}
		select {
		case <-ctx.Done():
			return
		case <-over:
			return
		case <-quiet:
			return
		case <-v.change:
		}
	}
}

// fetches reports whether a device fetches something now: nobody is cut off because all that are expected are done.
func fetches(all []provision.Course) bool {
	return slices.ContainsFunc(all, func(c provision.Course) bool { return c.Stage == provision.Fetching })
}
