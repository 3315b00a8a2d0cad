// Package brindle simulates the Brindle R40 router: a boot monitor named sill, one store for images
// and the saved configuration, and an operating system named tern. Maker, model and every word of its
// two command languages are invented.
//
// What it exists to show: a lost image; a console speed set by a command, or by a questionnaire that
// takes effect at the next restart; XMODEM receive; removing one file against emptying the store; a
// question asked at a release's first start. While it runs: one store that the next image shares with the
// running one, and a boot entry that is taken as it is typed, whether the store holds that or not.
package brindle

import (
	"cmp"
	"context"
	"crypto/sha256"
	"fmt"
	"net/netip"
	"strings"

	"pilotrix/bench"
	"pilotrix/core/transfer/tftp"
)

const (
	storeSize   = 8 << 20
	memorySize  = 16 << 20
	factoryBaud = 9600
	savedName   = "saved.conf"
	writeRate   = 600 << 10 // bytes a second into the store
	fetchRate   = 150_000   // the same while the image comes over the network
)

var bauds = []int{9600, 19200, 38400, 57600, 115200}

// Router is one R40. Its fields besides the store are kept without power, too.
type Router struct {
	bench.Warmth
	Model     string
	HostName  string
	Login     string
	Password  string
	Store     bench.Store
	savedBaud int
	byItself  bool   // boots without being asked
	started   string // the last release that was started, so that a first start is known
	entry     string // what it begins with next, kept or not
	faults    Faults
	fibs      bench.Fibs // what it lies about from its next start on

	lan     *bench.LAN // nil where its network is not plugged in
	address netip.Prefix
	net     bench.Client
}

// Faults are what can go wrong on purpose.
type Faults struct {
	Misnames  string // the image that it says it runs, empty for the one that it does
	CutsNames int    // it keeps only so many letters of a name that it is reported, 0 for all
}

// Fail switches faults on.
func (r *Router) Fail(f Faults) { r.faults = f }

// Join plugs its network in.
func (r *Router) Join(lan *bench.LAN, address netip.Prefix) {
	r.lan, r.address = lan, address
	r.net = bench.Client{Host: lan.Host("lan", address), Options: tftp.Client{Block: 1024, Window: 8}}
	lan.SetUp(address.Addr(), false)
}

// New makes a router with an empty store and its factory settings.
func New(model, hostName, login, password string) *Router {
	return &Router{
		Model: model, HostName: hostName, Login: login, Password: password,
		Store: bench.Store{Capacity: storeSize}, savedBaud: factoryBaud, byItself: true,
	}
}

const entryLine = "begin with "

// SaveConfiguration writes a configuration as the operating system would, without a boot entry.
func (r *Router) SaveConfiguration(day string) { r.Begin(day, "") }

// Begin does the same with an entry: the name of the image that it begins with.
func (r *Router) Begin(day, entry string) {
	text := fmt.Sprintf("# saved %s\nname %s\nuplink quay 192.0.2.1\nlan 198.51.100.0/25\ntide gauge poll 60\n", day,
		r.HostName)
	if entry != "" {
		text += entryLine + entry + "\n"
	}
	_ = r.Store.Put(bench.File{Name: savedName, Data: []byte(text)})
}

// Entry is the name of the image that its saved configuration has it begin with, empty for the first one that there is.
func (r *Router) Entry() string {
	saved, _ := r.Store.Get(savedName)
	for line := range strings.Lines(string(saved.Data)) {
		if name, ok := strings.CutPrefix(strings.TrimSpace(line), entryLine); ok {
			return name
		}
	}
	return ""
}

// Install keeps an image; a broken one is what a power cut while writing leaves.
func (r *Router) Install(name string, image []byte, broken bool) {
	if broken {
		image = image[:len(image)/3]
	}
	_ = r.Store.Put(bench.File{Name: name, Data: image, Broken: broken})
}

// Ran says that a release has been started before, so that its next start is not its first.
func (r *Router) Ran(release string) { r.started = release }

// Started is the release that was started last, empty when none ever was.
func (r *Router) Started() string { return r.started }

// Baud implements bench.Device.
func (r *Router) Baud() int { return r.savedBaud }

// PowerOn implements bench.Device: the monitor, then the operating system, until the power goes.
func (r *Router) PowerOn(ctx context.Context, w *bench.Wire) {
	r.net.Clock = w.Clock()
	for ctx.Err() == nil {
		r.reach(false)
		w.Retune(r.savedBaud)
		image := r.monitor(ctx, w)
		if image == nil {
			continue // restarted, or the power is gone
		}
		if r.fibs.StaysOld {
			image.Release = "4.0.7"
		}
		t := &tern{Router: r, Shell: bench.NewShell(ctx, w), image: *image, since: w.Clock().Now()}
		t.run()
	}
	r.reach(false)
}

// monitor runs what runs first, and returns the image to start.
func (r *Router) monitor(ctx context.Context, w *bench.Wire) *running {
	if name, _ := r.begins(); r.IsWarm() && name != "" {
		image, _ := r.imageOf(name)
		return image
	}
	r.Cold()
	m := &monitor{Router: r, Shell: bench.NewShell(ctx, w)}
	if image := m.run(); m.OK() {
		return image
	}
	return nil
}

// reach says whether it answers on its network.
func (r *Router) reach(up bool) {
	if r.lan != nil {
		r.lan.SetUp(r.address.Addr(), up)
	}
}

// begins is the image that starts by itself: the boot entry's, or the first one that there is. Why says why there is
// none.
func (r *Router) begins() (name, why string) {
	entry, there := r.Entry(), r.bootable()
	if r.fibs.LosesChoice {
		entry = ""
	}
	for _, name := range there {
		if name == cmp.Or(entry, name) {
			return name, ""
		}
	}
	if len(there) > 0 {
		return "", "no whole image " + entry + " in the store, staying here\r\n"
	}
	return "", noImage
}

// bootable lists the whole images for this model.
func (r *Router) bootable() (names []string) {
	for _, f := range r.Store.Files() {
		if _, err := r.imageOf(f.Name); err == nil {
			names = append(names, f.Name)
		}
	}
	return names
}

// running is an image that was checked.
type running struct {
	ImageInfo
	name   string
	digest [sha256.Size]byte
}

func (r *Router) imageOf(name string) (*running, error) {
	f, found := r.Store.Get(name)
	switch {
	case !found:
		return nil, fmt.Errorf("no file %s", name)
	case f.Broken:
		return nil, fmt.Errorf("%s is broken", name)
	}
	info, _, err := parseImage(f.Data)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", name, err)
	}
	for _, model := range info.Models {
		if model == r.Model {
			return &running{info, name, sha256.Sum256(f.Data)}, nil
		}
	}
	return nil, fmt.Errorf("%s is not for %s", name, r.Model)
}
