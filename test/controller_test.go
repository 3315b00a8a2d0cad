package test

import (
	"cmp"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"pilotrix/bench"
	"pilotrix/bench/orsel"
	"pilotrix/core/event"
	"pilotrix/core/runbook/engine"
	"pilotrix/demo"
)

// wireless is the scenario's controller with its access points.
type wireless struct{ onDevice[*orsel.Controller] }

type controllerWith = deviceOptions[*wireless, *orsel.Controller]

// wirelessOptions are what a test wants different.
type wirelessOptions struct {
	deviceOptions controllerWith
	release       string // that it runs; 3.4 unless said
}

func newWireless(t *testing.T, opt wirelessOptions) *wireless {
	t.Helper()
	x := &wireless{}
	return start(t, x, &x.onDevice, family{
		name: "quay-wc1", dialect: "orsel-c1", book: "controller-and-points",
		inputs: map[string]string{"image": "linnet-3.6.orl", "upgrade_paths": "orsel-c1", "into": "."},
		shelf:  func(folder string) error { return demo.ControllerShelf(folder, smallImage) },
	}, opt.deviceOptions, func(lan *bench.LAN) *orsel.Controller {
		return demo.Controller(lan,
			cmp.Or(opt.release, "3.4"))
	})
}

func inWireless(t *testing.T, opt wirelessOptions, use func(*testing.T, *wireless)) {
	inTime(t, func(t *testing.T) *wireless { return newWireless(t, opt) }, use)
}

// followed says why not the controller and all access points that can have it have that release.
func (x *wireless) followed(release string) error {
	if runs := x.device.Runs(); runs != release {
		return fmt.Errorf("it runs %s", runs)
	}
	for _, point := range x.device.Points(time.Now()) {
		if !strings.HasSuffix(point, release+" here") && !strings.HasPrefix(point, "ap-shed-02 ") {
			return fmt.Errorf("%s", point)
		}
	}
	return nil
}

func TestAControllerAndItsAccessPoints(t *testing.T) {
	t.Parallel()
	var holds []string
	opt := wirelessOptions{deviceOptions: controllerWith{lanOptions: lanOptions{approve: func(ask event.Ask) string {
		holds = append(holds, ask.Text)
		return approveAll(ask)
	}}}}
	inWireless(t, opt, func(t *testing.T, x *wireless) {
		result := x.run()
		require.Equal(t, event.Done, result.Outcome, "%s\n%s", result.Message, x.story())
		require.NoError(t, x.followed("3.6"))
		assert.Contains(t, result.Proved,
			"11 of 12 access points are here with 3.6, all but those it was approved without: ap-shed-02 (P1)")
		assert.Contains(t, result.Proved, "its web page tells 3.6")
		require.Len(t, holds, 3)
		assert.Equal(t,
			"linnet 3.6 has no firmware for ap-shed-02 (P1). They go on with what they have, or do not join any more.",
			holds[0])
		assert.Contains(t, holds[1], "Switches the service on")
		assert.NotEmpty(t, find[event.Reach](x.rig), "reach beside it")
		kept, err := os.ReadFile(filepath.Join(x.folder, "quay-wc1-3.4-2000-01-01.txt"))
		require.NoError(t, err)
		assert.Contains(t, string(kept), "point ap-shed-02 P1")
	})
}

// TestAControllerGoesByWayOfAnotherRelease follows the access points twice.
func TestAControllerGoesByWayOfAnotherRelease(t *testing.T) {
	t.Parallel()
	inWireless(t, wirelessOptions{release: "3.2"}, func(t *testing.T, x *wireless) {
		result := x.run()
		require.Equal(t, event.Done, result.Outcome, "%s\n%s", result.Message, x.story())
		require.NoError(t, x.followed("3.6"))
		assert.Contains(t, result.Proved, "linnet 3.4 runs on quay-wc1")
		assert.Contains(t, result.Proved, "linnet 3.6 runs on quay-wc1")
	})
}

// TestStragglersAreNamed holds that the run goes to its end, and says what is not as it was meant.
func TestStragglersAreNamed(t *testing.T) {
	t.Parallel()
	for name, c := range map[string]struct {
		faults orsel.Faults
		says   string
		waits  bool
	}{
		"one does not come back": {
			orsel.Faults{Straggles: "ap-ramp-02"}, "done but for ap-ramp-02 (P3, 3.4, away; look at its power and its cable)", true,
		},
		"one breaks off": {
			orsel.Faults{Breaks: "ap-hollow-01"},
			"done but for ap-hollow-01 (P2, 3.4, failed: broken off at 60 percent; look at its way to the controller, and have it load again)", false,
		},
	} {
		t.Run(name, func(t *testing.T) {
			inWireless(
				t,
				wirelessOptions{
					deviceOptions: controllerWith{device: func(c2 *orsel.Controller) { c2.Fail(c.faults) }},
				},
				func(t *testing.T, x *wireless) {
					began := time.Now()
					result := x.run()
					require.Equal(t, event.DoneBut, result.Outcome, "%s\n%s", result.Message, x.story())
					assert.Equal(t, engine.ExitDoneBut, result.Exit)
					assert.Equal(t, c.says, result.Message)
					assert.Equal(t, c.waits, time.Since(began) > 30*time.Minute,
						"one that has failed is not waited for")
					assert.NotContains(t, strings.Join(result.Proved, "\n"), "access points are here")
				},
			)
		})
	}
}

// wirelessFaults are what goes wrong before the restart.
var wirelessFaults = map[string]struct {
	opt  wirelessOptions
	says []string
}{
	"made for another model": {
		wirelessOptions{
			deviceOptions: controllerWith{
				lanOptions: lanOptions{inputs: map[string]string{"image": "linnet-3.6-c4.orl"}},
			},
		},
		[]string{
			"This image is for C4; the controller is a C1-12. Nothing was changed.",
			"nothing was changed on the device",
		},
	},
	"what is left behind is not approved": {
		wirelessOptions{
			deviceOptions: controllerWith{lanOptions: lanOptions{approve: func(event.Ask) string { return "stop" }}},
		},
		[]string{"stopped", "nothing was changed on the device"},
	},
	"no upgrade step leads there": {
		wirelessOptions{release: "3.0"},
		[]string{"3.0"},
	},
	"the time is no time": {
		wirelessOptions{
			deviceOptions: controllerWith{lanOptions: lanOptions{inputs: map[string]string{"within": "soon"}}},
		},
		[]string{`within: "soon" is no time such as 30m`},
	},
}

func TestFaultsOfAController(t *testing.T) {
	t.Parallel()
	for name, f := range some(wirelessFaults) {
		t.Run(name, func(t *testing.T) {
			inWireless(t, f.opt, func(t *testing.T, x *wireless) {
				result := x.run()
				require.False(t, result.Outcome.Good(), "%s\n%s", result.Message, x.story())
				for _, want := range f.says {
					assert.Contains(t, result.Message, want)
				}
			})
		})
	}
}

// TestWithoutTheServiceNothingFollows holds that the bench is honest: the access points stay with what they have.
func TestWithoutTheServiceNothingFollows(t *testing.T) {
	t.Parallel()
	const book = `
runbook: without
title: Without the service
inputs:
  - {input: user, kind: text, about: who logs in}
  - {input: password, kind: secret, about: the password of that user}
  - {input: image, kind: image, about: the image}
phases:
  - phase: install it
    steps:
      - {step: Find it, catch: {mode: shell}}
      - {step: Read it, read: [about]}
      - {step: Stage it, serve: {file: image, protocol: tftp, device: '${device.address}'}}
      - {step: Collect it, act: {action: collect, with: {server: '${serve.address}', name: '${serve.name}'}}}
      - {step: Wait, poll: {read: [image], every: 3s, until: 'collected.state == "ready"'}}
      - {step: Verify it, act: {action: verify}}
      - {step: Install it, restart: {action: install, watch: 'icmp:${device.address}', mode: [shell, login], then: shell}}
      - step: Follow
        follow: {each: point, in: attached, read: [points], every: 30s, within: 20m, until: 'point.release == image.release', look: 'it has ${point.release}'}
`
	inWireless(
		t,
		wirelessOptions{
			deviceOptions: controllerWith{
				lanOptions: lanOptions{book: book, inputs: map[string]string{"image": "linnet-3.6.orl"}},
			},
		},
		func(t *testing.T, x *wireless) {
			result := x.run()
			require.Equal(t, event.DoneBut, result.Outcome, "%s\n%s", result.Message, x.story())
			assert.Contains(t, result.Message, "ap-quay-01 (it has 3.4)")
			assert.Contains(t, result.Message, "ap-mare-01 (it has 3.4)")
			for _, point := range x.device.Points(time.Now()) {
				assert.Contains(t, point, " 3.4 ")
			}
		},
	)
}

func TestTheControllerPassesOnAwkwardDevices(t *testing.T) {
	passesIn(t, awkwardWays(t), func(t *testing.T, way awkwardness) *wireless {
		return newWireless(t, wirelessOptions{deviceOptions: controllerWith{lanOptions: lanOptions{awkward: way}}})
	}, func(x *wireless) error { return x.followed("3.6") })
}

func TestAPlanOfAControllerIsWhatARunTypes(t *testing.T) {
	t.Parallel()
	inWireless(t, wirelessOptions{}, func(t *testing.T, x *wireless) { holdsToItsPlan(t, x) })
}

// TestAPowerCutWhileTheyAreFollowed has the controller go away in the middle: the line is waited for, and the limit is
// not made longer.
func TestAPowerCutWhileTheyAreFollowed(t *testing.T) {
	t.Parallel()
	opt := wirelessOptions{
		deviceOptions: controllerWith{
			device: func(c *orsel.Controller) { c.Fail(orsel.Faults{Straggles: "ap-ramp-02"}) },
		},
	}
	inWireless(t, opt, func(t *testing.T, x *wireless) {
		began := time.Now()
		go func() {
			time.Sleep(4 * time.Minute)
			x.machine.PowerCut(20 * time.Second)
		}()
		result := x.run()
		require.Equal(t, event.DoneBut, result.Outcome, "%s\n%s", result.Message, x.story())
		assert.Contains(t, result.Message, "done but for ap-ramp-02")
		assert.Less(t, time.Since(began), 34*time.Minute, "in virtual time")
	})
}
