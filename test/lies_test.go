package test

import (
	"context"
	"flag"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"pilotrix/bench"
	"pilotrix/core/clock"
	"pilotrix/core/event"
	"pilotrix/core/line"
	"pilotrix/core/runbook/engine"
	"pilotrix/core/session"
	"pilotrix/core/shipped"
	"pilotrix/demo"
)

// liable is a shipped runbook with a device of the bench that can lie to it. A new runbook, or a new family, joins by
// a row here.
type liable struct {
	runbook string
	device  func(t *testing.T) *lying
	truth   func(l *lying) error // why it is not so what “done” would say
}

// lying is one device under such a runbook.
type lying struct {
	*rig
	gateway *gateway
	edge    *edge
	stack   *stack
	bridge  *wbridge
	board   *board
	holds   func() error // why it is not so what “done” would say
	run     func() engine.Result
	close   func()
}

func lyingGateway(opt gatewayOptions) func(t *testing.T) *lying {
	return func(t *testing.T) *lying {
		own := opt
		own.inputs = map[string]string{}
		for name, value := range opt.inputs {
			own.inputs[name] = value
		}
		if len(own.inputs) == 0 && own.book == "" {
			own.inputs = nil
		}
		g := newGateway(t, own)
		return &lying{rig: g.rig, gateway: g, run: g.run, close: g.close}
	}
}

func lyingEdge(opt edgeOptions) func(t *testing.T) *lying {
	return func(t *testing.T) *lying {
		x := newEdge(t, opt)
		return &lying{rig: x.rig, edge: x, run: x.run, close: x.close}
	}
}

func lyingStack(opt stackOptions) func(t *testing.T) *lying {
	return func(t *testing.T) *lying {
		x := newStack(t, opt)
		return &lying{rig: x.rig, stack: x, run: x.run, close: x.close}
	}
}

func lyingBridge(opt bridgeOptions) func(t *testing.T) *lying {
	return func(t *testing.T) *lying {
		x := newBridge(t, opt)
		return &lying{rig: x.rig, bridge: x, run: x.run, close: x.close}
	}
}

// lies has a family's device lie, which says itself whether it is so what “done” would say.
func lies[X underRunbook](made func(*testing.T) X, truth func(X) error) func(t *testing.T) *lying {
	return func(t *testing.T) *lying {
		x := made(t)
		return &lying{rig: x.under(), holds: func() error { return truth(x) }, run: x.run, close: x.close}
	}
}

// itself is the truth of one that says so itself.
func itself(l *lying) error { return l.holds() }

func burned(l *lying) error { return l.bridge.stands("2.6") }

func stands(runs, lasts string) func(*lying) error {
	return func(l *lying) error { return l.edge.stands(runs, lasts) }
}

func lyingRouter(t *testing.T) *lying {
	r := newRig(t, "R40-2", 9600, approveAll, nil)
	return &lying{rig: r, run: r.run, close: r.close}
}

func bookText(name string) string {
	text, err := shipped.RunbookText(name)
	if err != nil {
		panic(err)
	}
	return string(text)
}

func cardShelf(folder string) {
	_ = os.WriteFile(filepath.Join(folder, "card.cgo"), demo.CardFirmware("line", "3.4"), 0o600)
}

func runs(release, bank string) func(*lying) error {
	return func(l *lying) error {
		r, b := l.gateway.device.Runs()
		if r != release || b != bank || l.gateway.device.Starts() != bank {
			return fmt.Errorf("it runs %s from bank %s, and starts %s next", r, b, l.gateway.device.Starts())
		}
		return nil
	}
}

var liables = []liable{
	{"standby-bank-upgrade", lyingGateway(gatewayOptions{}), runs("8.1.0", "A")},
	{
		"back-to-the-other-bank",
		lyingGateway(gatewayOptions{book: bookText("back-to-the-other-bank")}),
		runs("7.2.0", "B"),
	},
	{
		"keep-configuration",
		lyingGateway(gatewayOptions{book: bookText("keep-configuration"), inputs: map[string]string{"into": "."}}),
		func(l *lying) error {
			kept, err := filepath.Glob(filepath.Join(l.gateway.book.Inputs["into"], "*.txt"))
			if err == nil && len(kept) == 0 {
				err = fmt.Errorf("nothing was kept")
			}
			return err
		},
	},
	{
		"module-firmware",
		lyingGateway(gatewayOptions{
			book:   bookText("module-firmware"),
			inputs: map[string]string{"firmware": "card.cgo"},
			shelf:  cardShelf,
		}),
		func(l *lying) error {
			for _, slot := range []int{2, 3} {
				if has := l.gateway.device.Firmware(slot); has != "3.4" {
					return fmt.Errorf("the card in slot %d has %s", slot, has)
				}
			}
			return nil
		},
	},
	{"rescue-over-serial", lyingRouter, func(l *lying) error {
		if started := l.router.Started(); started != "4.2.1" {
			return fmt.Errorf("it started %q", started)
		}
		return nil
	}},
	{
		"install-and-confirm",
		lyingEdge(edgeOptions{lanOptions: lanOptions{inputs: map[string]string{"tidy": "yes"}}}),
		func(l *lying) error {
			if files := l.edge.device.Hold().Files(); len(files) > 0 {
				return fmt.Errorf("its hold has %d parcels", len(files))
			}
			return l.edge.stands("5.4", "5.4")
		},
	},
	{
		"back-to-the-previous",
		lyingEdge(edgeOptions{lanOptions: lanOptions{book: "back-to-the-previous"}, device: newer}),
		stands("5.2", "5.2"),
	},
	{
		"let-the-trial-run-out",
		lyingEdge(edgeOptions{lanOptions: lanOptions{book: "let-the-trial-run-out"}, device: onTrial(12)}),
		stands("5.2", "5.2"),
	},
	{"stack-upgrade", lyingStack(stackOptions{}), func(l *lying) error { return l.stack.allRun("3.2") }},
	{
		"stack-one-unit",
		lyingStack(stackOptions{lanOptions: oneUnit, made: replaced}),
		func(l *lying) error { return l.stack.allRun("3.1") },
	},
	{"try-then-burn", lyingBridge(bridgeOptions{device: startsElsewhere}), burned},
	{"recovery-put", lyingBridge(bridgeOptions{lanOptions: lanOptions{book: "recovery-put"}}), burned},
	{
		"write-over-the-shell",
		lyingBridge(bridgeOptions{whole: true, lanOptions: lanOptions{book: "write-over-the-shell"}}),
		burned,
	},
	{"one-store-upgrade", lies(func(t *testing.T) *store {
		return newStore(t, storeOptions{lanOptions: lanOptions{inputs: map[string]string{"tidy": "yes"}}})
	}, func(x *store) error { return x.begins("4.2.1") }), itself},
	{
		"packages-and-board",
		lies(func(t *testing.T) *parts { return newParts(t, partsOptions{}) },
			func(x *parts) error { return x.agree("6.2") }),
		itself,
	},
	{
		"controller-and-points",
		lies(func(t *testing.T) *wireless { return newWireless(t, wirelessOptions{}) },
			func(x *wireless) error { return x.followed("3.6") }),
		itself,
	},
	{
		"first-boot",
		lies(func(t *testing.T) *newDevice { return newNewDevice(t, newDeviceOptions{}) },
			func(x *newDevice) error { return x.runs("3.2") }),
		itself,
	},
	{"prove-in-memory", lyingBoard, func(l *lying) error { return l.board.holds(l.book.Images["image"]) }},
}

// TestEveryShippedRunbookIsLiedTo holds that the table has them all.
func TestEveryShippedRunbookIsLiedTo(t *testing.T) {
	var have []string
	for _, l := range liables {
		have = append(have, l.runbook)
	}
	assert.ElementsMatch(t, shipped.RunbookNames(), have)
}

// TestNoRunEndsDoneOnALie has the device say the truth once, to learn what it is reported; then it lies from each
// command on, in each way. No run may end “done”.
func TestNoRunEndsDoneOnALie(t *testing.T) {
	t.Parallel()
	for _, one := range liables {
		t.Run(one.runbook, func(t *testing.T) {
			t.Parallel()
			report, changes := learn(t, one)
			require.NotEmpty(t, report)
			for i, command := range report {
				if !sampled(i) {
					continue
				}
				if !*everyLie && !slices.Contains(changes, command) && slices.Contains(report[:i], command) {
					continue // it was lied to about that
				}
				for _, lie := range liesTo(command, i, changes) {
					t.Run(fmt.Sprintf("%d %s %s", i, command, called(lie)), func(t *testing.T) {
						t.Parallel()
						synctest.Test(t, func(t *testing.T) { lieAt(t, one, i, command, lie) })
					})
				}
			}
		})
	}
}

// learn runs a runbook on a device that says the truth, and returns the commands that it was given and those of
// them that change it.
func learn(t *testing.T, one liable) (report, changes []string) {
	synctest.Test(t, func(t *testing.T) {
		l := one.device(t)
		defer l.close()
		var mu sync.Mutex
		l.machine.Lie(func(command string) bench.Lie {
			mu.Lock()
			defer mu.Unlock()
			report = append(report, command)
			return bench.Truth
		})
		result := l.run()
		mu.Lock()
		defer mu.Unlock()
		require.Equal(t, event.Done, result.Outcome, "%s\n%s", result.Message, l.story())
		require.NoError(t, one.truth(l))
		for _, change := range find[event.Change](l.rig) {
			changes = append(changes, change.Command)
		}
	})
	return report, changes
}

// cutsPower stands for a power cut in the middle of a command, which is no lie.
const cutsPower bench.Lie = -1

func called(lie bench.Lie) string {
	if lie == cutsPower {
		return "power cut"
	}
	return lie.String()
}

var everyLie = flag.Bool("lies.all", false,
	"tell every lie at every command, and not some of those that are much alike")

// harmless are commands whose answers save work at best: with another answer, or none, all of it is done.
var harmless = map[string]bool{"look stick": true, "view stick": true, "report stick": true}

// liesTo are the lies that a command can be met with. Of those that do nothing one is reported, another each time, to
// what changes the device and to every third reading; the others only make sense for a change.
func liesTo(command string, i int, changes []string) []bench.Lie {
	idle := []bench.Lie{bench.Refuses, bench.SaysNothing, bench.Hangs, bench.IsLate}
	changed := slices.Contains(changes, command)
	if !*everyLie {
		idle = idle[i%4 : i%4+1]
	}
	if !changed {
		if i%3 > 0 && !*everyLie {
			return nil
		}
		return idle
	}
	lies := append(slices.Clone(idle), bench.Pretends, cutsPower)
	switch {
	case command == "recommence",
		command == "restart",
		command == "tumble all",
		strings.HasPrefix(command, "turn over"),
		strings.HasPrefix(command, "swing "):
		lies = append(lies, bench.StaysOld, bench.LosesChoice, bench.IsAnother)
	case strings.HasPrefix(command, "renew "), command == "reset", command == "install":
		lies = append(lies, bench.StaysOld, bench.IsAnother)
	case strings.HasPrefix(command, "start "):
		lies = append(lies, bench.StaysOld)
	}
	return lies
}

func lieAt(t *testing.T, one liable, at int, command string, lie bench.Lie) {
	l := one.device(t)
	defer l.close()
	var begun atomic.Bool
	n, cut, report := 0, false, ""             // the device's own
	l.machine.Lie(func(now string) bench.Lie { // one line after the other: the device's own
		if n == at { // a path that is good once is another each time
			begun.Store(true)
			report = now
		}
		n++
		switch {
		case !begun.Load() || now != report:
			return bench.Truth
		case lie == cutsPower:
			if cut {
				return bench.Truth
			}
			cut = true
			l.machine.PowerCut(30 * time.Second)
			return bench.Hangs
		}
		return lie
	})
	result := l.run()
	require.True(t, begun.Load(), "it was never told that: %s", result.Message)
	if harmless[command] && result.Outcome.Good() {
		assert.NoError(t, one.truth(l), "what could have been left out was done")
		return
	}
	if lie == cutsPower && result.Outcome.Good() {
		assert.NoError(t, one.truth(l), "a power cut may be survived, but not passed over")
		return
	}
	assert.False(t, result.Outcome.Good(), "%s: %s\n%s", result.Outcome, result.Message, l.story())
}

// lyingBoard is a board with a bootloader, and prove-in-memory for it.
func lyingBoard(t *testing.T) *lying {
	r := &rig{t: t, done: make(chan struct{})}
	b := &board{}
	r.machine = bench.New("board", b, clock.Real(), true)
	require.NoError(t, r.machine.Start())
	d, book := prepared(t, "u-boot", "prove-in-memory",
		map[string]string{"image": randomFile(t, 20_000), "address": "40400000"})
	r.book = book
	opener := line.NewOpener(clock.Real())
	opener.Register(line.Bench, func(ctx context.Context, target line.Target) (line.Line, error) {
		return r.machine.Open(ctx, opener, target)
	})
	target, err := line.ParseTarget("bench:board")
	require.NoError(t, err)
	r.session, err = session.Open(t.Context(),
		session.Options{Target: target, Dialect: d, Opener: opener, Approve: approveAll})
	require.NoError(t, err)
	r.listen(nil)
	return &lying{rig: r, board: b, run: r.run, close: r.close}
}
