// Package brindle simulates the Brindle R40 router: a boot monitor named sill, one store for images
// and the saved configuration, and an operating system named tern. Maker, model and every word of its
// two command languages are invented.
//
// What it exists to show: a lost image; a console speed set by a command, or by a questionnaire that
// takes effect at the next restart; XMODEM receive; removing one file against emptying the store; a
// question asked at a release's first start.
package brindle

import (
	"context"
	"fmt"

	"pilotrix/bench"
)

const (
	storeSize   = 8 << 20
	memorySize  = 16 << 20
	factoryBaud = 9600
	savedName   = "saved.conf"
	writeRate   = 600 << 10 // bytes a second into the store
)

var bauds = []int{9600, 19200, 38400, 57600, 115200}

// Router is one R40. Its fields besides the store are kept without power, too.
type Router struct {
	Model     string
	HostName  string
	Login     string
	Password  string
	Store     bench.Store
	savedBaud int
	byItself  bool   // boots without being asked
	staysOld  bool   // it lies when it starts an image
	started   string // the last release that was started, so that a first start is known
}

// New makes a router with an empty store and its factory settings.
func New(model, hostName, login, password string) *Router {
	return &Router{
		Model: model, HostName: hostName, Login: login, Password: password,
		Store: bench.Store{Capacity: storeSize}, savedBaud: factoryBaud, byItself: true,
	}
}

// SaveConfiguration writes a configuration as the operating system would.
func (r *Router) SaveConfiguration(day string) {
	text := fmt.Sprintf("# saved %s\nname %s\nuplink quay 192.0.2.1\nlan 198.51.100.0/25\ntide gauge poll 60\n", day, r.HostName)
	_ = r.Store.Put(bench.File{Name: savedName, Data: []byte(text)})
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
	for ctx.Err() == nil {
		w.Retune(r.savedBaud)
		m := &monitor{Router: r, Shell: bench.NewShell(ctx, w)}
		image := m.run()
		if image == nil || !m.OK() {
			continue // restarted, or the power is gone
		}
		if r.staysOld {
			image.Release = "4.0.7"
		}
		t := &tern{Router: r, Shell: bench.NewShell(ctx, w), image: *image, since: w.Clock().Now()}
		t.run()
	}
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
	name string
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
			return &running{info, name}, nil
		}
	}
	return nil, fmt.Errorf("%s is not for %s", name, r.Model)
}
