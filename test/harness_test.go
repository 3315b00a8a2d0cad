package test

import (
	"cmp"
	"context"
	"maps"
	"path/filepath"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/require"

	"pilotrix/bench"
	"pilotrix/core/clock"
	"pilotrix/core/dialect"
	"pilotrix/core/event"
	"pilotrix/core/image"
	"pilotrix/core/line"
	"pilotrix/core/runbook"
	"pilotrix/core/runbook/engine"
	"pilotrix/core/session"
	"pilotrix/core/shipped"
	"pilotrix/demo"
)

// onLAN is a device of the bench's network in memory, in virtual time, with a shelf on the disk.
type onLAN struct {
	*rig
	lan    *bench.LAN
	folder string
	kit    runbook.Kit
}

// lanOptions are what a test wants different.
type lanOptions struct {
	approve func(event.Ask) string
	present bool // somebody is there: questions are left to whoever answers them
	shelf   func(folder string)
	book    string // text of another runbook, or the name of one that ships
	inputs  map[string]string
	awkward awkwardness
	tap     func(line.Line) line.Line // around the line, as it is opened
}

// family is what a test of one family is made with.
type family struct {
	name, dialect, book string
	inputs              map[string]string // of its own runbook, where the test names no other
	device              func(*bench.LAN) bench.Device
	shelf               func(folder string) error
}

// newOnLAN makes one. Into is set before on is reported the first event.
func newOnLAN(t *testing.T, f family, opt lanOptions, into **onLAN, on func(event.Event)) {
	t.Helper()
	n := &onLAN{rig: &rig{t: t, done: make(chan struct{})}, lan: bench.NewLAN(true, 7), folder: tempDir(t)}
	*into = n
	n.machine = bench.New(f.name, f.device(n.lan), clock.Real(), true)
	n.machine.Be(opt.awkward.on, opt.awkward.seed)
	require.NoError(t, n.machine.Start())
	require.NoError(t, f.shelf(n.folder))
	if opt.shelf != nil {
		opt.shelf(filepath.Join(n.folder, "shelf"))
	}
	d, err := shipped.Dialect(f.dialect)
	require.NoError(t, err)
	if opt.awkward.on[bench.Mute] {
		d.Line.Echo = "none"
	}
	laptop := demo.Laptop(n.lan)
	shelf := image.NewShelf(
		image.ShelfOptions{Folders: []string{filepath.Join(n.folder, "shelf")}, Headers: d.Headers()})
	require.NoError(t, shelf.Scan(t.Context(), nil))
	n.kit = runbook.Kit{Shelf: shelf, UpgradePaths: shipped.UpgradePaths, Network: laptop, Folder: n.folder}
	if opt.approve == nil && !opt.present {
		opt.approve = approveAll
	}
	n.open(d, laptop, f.name, opt, on)
	inputs := maps.Clone(opt.inputs)
	if opt.book == "" && f.inputs != nil {
		inputs = maps.Clone(f.inputs)
		maps.Copy(inputs, opt.inputs)
	}
	n.prepare(d, cmp.Or(opt.book, f.book), inputs)
}

func (n *onLAN) open(d *dialect.Dialect, laptop bench.LANHost, name string, opt lanOptions, on func(event.Event)) {
	opener := line.NewOpener(clock.Real())
	opener.Register(line.Bench, func(ctx context.Context, target line.Target) (line.Line, error) {
		wire, err := n.machine.Open(ctx, opener, target)
		if err == nil && opt.tap != nil {
			wire = opt.tap(wire)
		}
		return wire, err
	})
	target, err := line.ParseTarget("bench:" + name)
	require.NoError(n.t, err)
	n.session, err = session.Open(n.t.Context(),
		session.Options{Target: target, Dialect: d, Opener: opener, Approve: opt.approve, Reach: laptop})
	require.NoError(n.t, err)
	n.listen(func(_ *rig, e event.Event) {
		if on != nil {
			on(e)
		}
	})
}

// prepare takes a runbook that ships, or the text of another.
func (n *onLAN) prepare(d *dialect.Dialect, text string, inputs map[string]string) {
	book, err := shipped.Runbook(text)
	if strings.Contains(text, "\n") {
		book, err = runbook.Parse("test.yaml", []byte(text))
	}
	require.NoError(n.t, err)
	given := map[string]string{"user": "harbour", "password": "lamp-and-tide"}
	maps.Copy(given, inputs)
	if given["into"] == "." {
		given["into"] = n.folder
	}
	n.book, err = book.Prepare(d, given, n.kit)
	require.NoError(n.t, err)
}

// run carries the runbook out, and returns once everything that happened is collected.
func (n *onLAN) run() engine.Result {
	result := n.rig.run()
	synctest.Wait()
	return result
}

// under is what it is built on.
func (n *onLAN) under() *rig { return n.rig }

func (n *onLAN) close() {
	n.rig.close()
	time.Sleep(10 * time.Minute) // what lingers of transfers ends
}

// onDevice is a family's device under a runbook.
type onDevice[D bench.Device] struct {
	*onLAN
	device D
}

// deviceOptions are what a test wants different of X, which is D under a runbook.
type deviceOptions[X any, D bench.Device] struct {
	lanOptions
	device func(D) // as it stands when the test begins
	on     func(X, event.Event)
}

// start puts a device of a family under a runbook.
func start[X any, D bench.Device](
	t *testing.T, x X, at *onDevice[D], f family, opt deviceOptions[X, D], build func(*bench.LAN) D,
) X {
	t.Helper()
	f.device = func(lan *bench.LAN) bench.Device {
		if at.device = build(lan); opt.device != nil {
			opt.device(at.device)
		}
		return at.device
	}
	newOnLAN(t, f, opt.lanOptions, &at.onLAN, func(e event.Event) {
		if opt.on != nil {
			opt.on(x, e)
		}
	})
	return x
}

// underRunbook is what every family's device is under one.
type underRunbook interface {
	run() engine.Result
	close()
	under() *rig
}

// inTime has a test use what it makes in virtual time, and close it.
func inTime[X interface{ close() }](t *testing.T, made func(*testing.T) X, use func(*testing.T, X)) {
	synctest.Test(t, func(t *testing.T) {
		x := made(t)
		defer x.close()
		use(t, x)
	})
}

const smallImage = 300_000
