package test

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"pilotrix/bench"
	"pilotrix/bench/dunlin"
	"pilotrix/core/event"
	"pilotrix/core/shipped"
	"pilotrix/demo"
)

// parts is the scenario's small router, whose system comes in packages and whose board has firmware of its own.
type parts struct{ onDevice[*dunlin.Router] }

// partsOptions are what a test wants different.
type partsOptions = deviceOptions[*parts, *dunlin.Router]

func coreOf(release string) string { return demo.PackageName("core", release, "oak64") }

func newParts(t *testing.T, opt partsOptions) *parts {
	t.Helper()
	x := &parts{}
	return start(t, x, &x.onDevice, family{
		name:    "ness-rt1",
		dialect: "dunlin-n1",
		book:    "packages-and-board",
		inputs:  map[string]string{"image": coreOf("6.2")},
		shelf:   func(folder string) error { return demo.PackagesShelf(folder, smallImage) },
	}, opt, demo.Packages)
}

func inParts(t *testing.T, opt partsOptions, use func(*testing.T, *parts)) {
	inTime(t, func(t *testing.T) *parts { return newParts(t, opt) }, use)
}

// agree says why not all layers have that release.
func (x *parts) agree(release string) error {
	layers, board := x.device.Layers()
	for _, part := range []string{"core", "gauges", "mesh"} {
		if layers[part] != release {
			return fmt.Errorf("%s has %s", part, layers[part])
		}
	}
	if board != release {
		return fmt.Errorf("the board has %s", board)
	}
	return nil
}

func TestPackagesAndBoardGoDownAndUpAgain(t *testing.T) {
	t.Parallel()
	var holds []string
	opt := partsOptions{
		lanOptions: lanOptions{inputs: map[string]string{"into": "."}, approve: func(ask event.Ask) string {
			holds = append(holds, ask.Text)
			return approveAll(ask)
		}},
	}
	inParts(t, opt, func(t *testing.T, x *parts) {
		result := x.run()
		require.Equal(t, event.Done, result.Outcome, "%s\n%s", result.Message, x.story())
		require.NoError(t, x.agree("6.2"))
		assert.Contains(t, result.Proved, "all layers agree: 3 parts and the board have 6.2")
		require.NotEmpty(t, holds)
		assert.Contains(t, holds[0], "6.2 is older than 6.4 and lacks what is used now: fast-lanes (since 6.4).")
		assert.Empty(t, x.device.Drop().Files(), "nothing is left in the tray")
		kept, err := os.ReadFile(filepath.Join(x.folder, "ness-rt1-6.4-2000-01-01.txt"))
		require.NoError(t, err)
		assert.Contains(t, string(kept), "uses two-uplinks fast-lanes")
		d, err := shipped.Dialect("dunlin-n1")
		require.NoError(t, err)
		x.prepare(d, "packages-and-board", map[string]string{"image": coreOf("6.4")})
		result = x.run()
		require.Equal(t, event.Done, result.Outcome, "%s\n%s", result.Message, x.story())
		require.NoError(t, x.agree("6.4"))
		result = x.run()
		assert.Equal(t, event.Already, result.Outcome, "%s", result.Message)
	})
}

// partsFaults are what goes wrong, how the run ends, and whether nothing was applied.
var partsFaults = map[string]struct {
	opt  partsOptions
	says []string
	safe bool
}{
	"built for another architecture": {
		partsOptions{
			lanOptions: lanOptions{inputs: map[string]string{"image": demo.PackageName("core", "6.2", "elm32")}},
		},
		[]string{
			"reed-core-6.2-elm32.dnp is the core for elm32; the router needs the core for oak64. It would lie in the tray and not be applied, without a word. Nothing was changed.",
		},
		true,
	},
	"not the core's": {
		partsOptions{
			lanOptions: lanOptions{inputs: map[string]string{"image": demo.PackageName("mesh", "6.2", "oak64")}},
		},
		[]string{"is the mesh for oak64; the router needs the core for oak64"},
		true,
	},
	"a part's package is not on the shelf": {
		partsOptions{lanOptions: lanOptions{inputs: map[string]string{"image": coreOf("6.3")}}},
		[]string{
			"the shelf has not all that has to go along with reed-core-6.3-oak64.dnp: no file of part mesh with release 6.3, architecture oak64; there is ",
			"reed-mesh-6.3-elm32.dnp (architecture elm32)", "reed-mesh-6.2-oak64.dnp (release 6.2)",
			"nothing was changed on the device",
		},
		true,
	},
	"no room in the tray": {
		partsOptions{device: func(r *dunlin.Router) { r.Drop().Capacity = smallImage }},
		[]string{
			"The packages have 450",
			"B together, the tray has room for 300000 B.",
			"nothing was changed on the device",
		},
		true,
	},
	"what is lost is not approved": {
		partsOptions{lanOptions: lanOptions{approve: func(ask event.Ask) string { return "stop" }}},
		[]string{"stopped"},
		true,
	},
	"a package is not applied, without a word": {
		partsOptions{device: func(r *dunlin.Router) { r.Fail(dunlin.Faults{Skips: "mesh"}) }},
		[]string{"the units do not agree on release of the parts", "mesh", "6.4"},
		false,
	},
	"the board does not follow": {
		partsOptions{device: func(r *dunlin.Router) { r.Fail(dunlin.Faults{BoardOld: true}) }},
		[]string{"firmware of the board: want 6.2, the device says 6.4"},
		false,
	},
}

func TestFaultsOfPackagesAndBoard(t *testing.T) {
	t.Parallel()
	for name, f := range some(partsFaults) {
		t.Run(name, func(t *testing.T) {
			inParts(t, f.opt, func(t *testing.T, x *parts) {
				result := x.run()
				require.False(t, result.Outcome.Good(), "%s\n%s", result.Message, x.story())
				for _, want := range f.says {
					assert.Contains(t, result.Message, want)
				}
				if f.safe {
					assert.NoError(t, x.agree("6.4"))
					assert.Empty(t, x.device.Drop().Files())
				}
			})
		})
	}
}

// TestWhatLiesInTheTrayIsTakenOut has a package there that would be applied at the restart, too.
func TestWhatLiesInTheTrayIsTakenOut(t *testing.T) {
	t.Parallel()
	left := demo.PackageName("core", "6.3", "oak64")
	opt := partsOptions{device: func(r *dunlin.Router) {
		_ = r.Drop().Put(bench.File{Name: left, Data: demo.Package("core", "6.3", "oak64", smallImage)})
	}}
	inParts(t, opt, func(t *testing.T, x *parts) {
		result := x.run()
		require.Equal(t, event.Done, result.Outcome, "%s\n%s", result.Message, x.story())
		require.NoError(t, x.agree("6.2"))
		assert.Contains(t, reallyTyped(x.kept()), "toss "+left)
	})
}

// TestTheSessionDiesWhileItIsDropped has the device lose its power in the middle of the first package.
func TestTheSessionDiesWhileItIsDropped(t *testing.T) {
	t.Parallel()
	var cut atomic.Bool
	opt := partsOptions{on: func(x *parts, e event.Event) {
		if p, ok := e.Body.(event.TransferBegin); ok && p.Protocol == "SFTP" && cut.CompareAndSwap(false, true) {
			x.machine.PowerCut(20 * time.Second)
		}
	}}
	inParts(t, opt, func(t *testing.T, x *parts) {
		result := x.run()
		time.Sleep(time.Minute) // it has power again
		require.Equal(t, event.Done, result.Outcome, "%s\n%s", result.Message, x.story())
		require.NoError(t, x.agree("6.2"))
	})
}

// TestAWrongArchitectureStaysInTheTray holds that the bench is honest: the device says nothing, and does nothing.
func TestAWrongArchitectureStaysInTheTray(t *testing.T) {
	t.Parallel()
	name := demo.PackageName("core", "6.5", "elm32")
	opt := partsOptions{device: func(r *dunlin.Router) {
		_ = r.Drop().Put(bench.File{Name: name, Data: demo.Package("core", "6.5", "elm32", smallImage)})
	}}
	inParts(t, opt, func(t *testing.T, x *parts) {
		time.Sleep(2 * time.Second)
		x.typeAt("")
		x.typeAt("turn over")
		require.True(t, x.session.SendHeld())
		time.Sleep(3 * time.Second)
		x.typeAt("y")
		time.Sleep(2 * time.Minute)
		require.NoError(t, x.agree("6.4"))
		require.Len(t, x.device.Drop().Files(), 1)
	})
}

func TestThePackagesPassOnAwkwardDevices(t *testing.T) {
	passesIn(t, awkwardWays(t), func(t *testing.T, way awkwardness) *parts {
		return newParts(t, partsOptions{lanOptions: lanOptions{awkward: way, inputs: map[string]string{"into": "."}}})
	}, func(x *parts) error { return x.agree("6.2") })
}

// TestOthersDropFilesThere has OpenSSH's own client drop a package on the simulated router, which is reached by SSH and
// nothing else, then carries the change out over a real session.
func TestOthersDropFilesThere(t *testing.T) {
	t.Parallel()
	folder := tempDir(t)
	require.NoError(t, demo.PackagesShelf(folder, smallImage))
	target := benchAt(t, "ness-rt1", "--at", "ssh", "--time-scale", "16")
	isKnown(t, folder, target)
	at := strings.TrimPrefix(target, "ssh://harbour@")
	_, port, _ := strings.Cut(at, ":")
	askpass := filepath.Join(folder, "askpass")
	require.NoError(t, os.WriteFile(askpass, []byte("#!/bin/sh\necho \"$DEVICE_PASSWORD\"\n"), 0o700))
	left := filepath.Join(folder, "shelf", coreOf("6.3"))
	dropped := exec.Command("sftp", "-P", port, "-o",
		`UserKnownHostsFile="`+filepath.Join(folder, ".ssh", "known_hosts")+`"`, "-o", "PubkeyAuthentication=no",
		"harbour@127.0.0.1")
	dropped.Stdin = strings.NewReader(
		`put "` + left + "\" left.dnp\nls -l\nrename left.dnp " + coreOf("6.3") + "\nbye\n")
	dropped.Env = append(os.Environ(), "SSH_ASKPASS="+askpass, "SSH_ASKPASS_REQUIRE=force", "DISPLAY=:0",
		"DEVICE_PASSWORD=lamp-and-tide")
	out, err := dropped.CombinedOutput()
	require.NoError(t, err, "%s", out)
	assert.Contains(t, string(out), "left.dnp")
	said := carriedOut(t, folder, "packages-and-board", "--on", target, "--dialect", "dunlin-n1", "--password",
		"env:DEVICE_PASSWORD", "--set", "image="+coreOf("6.2"))
	assert.Contains(t, said, "Removes "+coreOf("6.3")+" from the tray")
	assert.Contains(t, said, "proved  all layers agree: 3 parts and the board have 6.2")
}

func TestAPlanOfPackagesIsWhatARunTypes(t *testing.T) {
	t.Parallel()
	inParts(t, partsOptions{}, func(t *testing.T, x *parts) { holdsToItsPlan(t, x) })
}
