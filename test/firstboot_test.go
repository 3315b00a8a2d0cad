package test

import (
	"context"
	"fmt"
	"net/netip"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"pilotrix/bench"
	"pilotrix/bench/maskel"
	"pilotrix/core/clock"
	"pilotrix/core/event"
	"pilotrix/core/provision"
	"pilotrix/core/runbook/engine"
	"pilotrix/demo"
)

// newDevice is the scenario's new switch.
type newDevice struct{ onDevice[*maskel.NewSwitch] }

// newDeviceOptions are what a test wants different.
type newDeviceOptions = deviceOptions[*newDevice, *maskel.NewSwitch]

const newDeviceMAC = "02:00:5e:10:00:01"

func newNewDevice(t *testing.T, opt newDeviceOptions) *newDevice {
	t.Helper()
	x := &newDevice{}
	return start(t, x, &x.onDevice, family{
		name:    "tangle-sw2",
		dialect: "maskel-s8",
		book:    "first-boot",
		inputs: map[string]string{
			"image":         "strand-s8-3.2.msl",
			"configuration": "tangle-sw2.setup",
			"name":          "tangle-sw2",
			"model":         "S8",
			"console":       "yes",
		},
		shelf: func(folder string) error { return demo.NewSwitchShelf(folder, smallImage) },
	}, opt, demo.NewSwitch)
}

func inNewDevice(t *testing.T, opt newDeviceOptions, use func(*testing.T, *newDevice)) {
	inTime(t, func(t *testing.T) *newDevice { return newNewDevice(t, opt) }, use)
}

// runs says why the switch does not run what was meant, with its own setup.
func (x *newDevice) runs(release string) error {
	runs, _, setup := x.device.Runs()
	if runs != release || setup != string(demo.NewSwitchSetup()) {
		return fmt.Errorf("it runs %s, with the setup %q", runs, setup)
	}
	return nil
}

func TestANewSwitchProvisionsItself(t *testing.T) {
	t.Parallel()
	for name, inputs := range map[string]map[string]string{
		"asked about":              {},
		"by its label":             {"mac": "02-00-5E-10-00-01", "gives": "192.0.2.77", "router": "192.0.2.1"},
		"image by HTTP":            {"protocol": "http"},
		"without its console":      {"console": "no"},
		"its address on a network": {"address": "192.0.2.10"},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			inNewDevice(t, newDeviceOptions{lanOptions: lanOptions{inputs: inputs}}, func(t *testing.T, x *newDevice) {
				result := x.run()
				require.Equal(t, event.Done, result.Outcome, "%s\n%s", result.Message, x.story())
				require.NoError(t, x.runs("3.2"))
				assert.Contains(t, result.Proved,
					"tangle-sw2 has the configuration that was staged for it (as tangle-sw2-100001.setup)")
				if gives := inputs["gives"]; gives != "" {
					assert.Equal(t, gives, x.device.Address().String())
				}
				protocols := map[string]int{}
				for _, r := range find[event.Rung](x.rig) {
					protocols[r.Protocol]++
				}
				assert.NotZero(t, protocols["DHCP"])
				assert.NotZero(t, protocols["TFTP"])
				assert.Equal(t, inputs["protocol"] == "http", protocols["HTTP"] > 0, "%v", protocols)
				var steps []string
				for _, n := range find[event.NewDevice](x.rig) {
					steps = append(steps, n.Stage)
				}
				assert.Contains(t, steps, "restarted")
				assert.NotContains(t, x.story(), "lamp-and-tide")
			})
		})
	}
}

// TestOneThatWasOnAnotherNetworkIsReportedSo asks for the address that it had there first, and takes ours then.
func TestOneThatWasOnAnotherNetworkIsReportedSo(t *testing.T) {
	t.Parallel()
	opt := newDeviceOptions{
		lanOptions: lanOptions{inputs: map[string]string{"mac": newDeviceMAC}},
		device:     func(n *maskel.NewSwitch) { n.Fail(maskel.NewFaults{WasElsewhere: true}) },
	}
	inNewDevice(t, opt, func(t *testing.T, x *newDevice) {
		result := x.run()
		require.Equal(t, event.Done, result.Outcome, "%s\n%s", result.Message, x.story())
		var said []string
		for _, n := range find[event.Note](x.rig) {
			said = append(said, n.Text)
		}
		assert.Contains(t, said,
			newDeviceMAC+" asks for 198.51.100.9, which is on another network than 192.0.2.0/24: it was somewhere else before")
	})
}

// another has a second DHCP server on the LAN, from a time on.
func another(lan *bench.LAN, after time.Duration) (stop func()) {
	ctx, cancel := context.WithCancel(context.Background())
	done := make(chan struct{})
	go func() {
		defer close(done)
		if clock.Real().Wait(ctx, after) != nil {
			return
		}
		own := netip.MustParsePrefix("192.0.2.250/24")
		server, err := provision.New(provision.Options{
			Own:   own,
			First: netip.MustParseAddr("192.0.2.200"),
			Last:  netip.MustParseAddr("192.0.2.209"),
			Lease: time.Hour,
			Admit: func(provision.Client) provision.Verdict { return provision.Served },
		}, nil)
		if err != nil {
			panic(err)
		}
		conn := lan.Everybody(67)
		defer conn.Close()
		_ = server.Serve(ctx, provision.Wire{Conn: conn, Clock: clock.Real()}, provision.Report{})
	}()
	return func() { cancel(); <-done }
}

// newDeviceFaults are what goes wrong, and what the run, or what it reported meanwhile, says of it.
var newDeviceFaults = map[string]struct {
	opt   newDeviceOptions
	says  string
	notes []string
	fresh bool // the switch has got nothing
}{
	"it takes no offer": {
		newDeviceOptions{device: func(n *maskel.NewSwitch) { n.Fail(maskel.NewFaults{TakesNoOffer: true}) }},
		"it took no offer: another server may be on the network, or what is offered does not suit it",
		[]string{
			"02:00:5e:10:00:01 was offered an address since",
			"it took no offer: another server may be on the network",
		},
		true,
	},
	"it asks for its setup under another name": {
		newDeviceOptions{device: func(n *maskel.NewSwitch) { n.Fail(maskel.NewFaults{AsksOther: true}) }},
		"no any.cfg here; any.setup is staged (asked for as .cfg, not .setup)",
		[]string{"no tangle-sw2-100001.cfg here; tangle-sw2-100001.setup is staged"},
		false,
	},
	"it fetches from another server than it is told": {
		newDeviceOptions{device: func(n *maskel.NewSwitch) { n.Fail(maskel.NewFaults{Elsewhere: true}) }},
		"02:00:5e:10:00:01 began 3 times and fetched nothing: it may want another name or another server's address",
		nil,
		true,
	},
	"it does not like the image, and starts over": {
		newDeviceOptions{device: func(n *maskel.NewSwitch) { n.Fail(maskel.NewFaults{Restarts: true}) }},
		"02:00:5e:10:00:01 fetched strand-s8-3.2.msl 3 times and restarts again and again: it may not take what is in the file",
		nil,
		true,
	},
	"it runs its old release all the same": {
		newDeviceOptions{device: func(n *maskel.NewSwitch) { n.Fail(maskel.NewFaults{Forgets: true}) }},
		"does not show “3.2”", nil, false,
	},
	"the file is of another release than its name": {
		newDeviceOptions{lanOptions: lanOptions{inputs: map[string]string{"image": "strand-s8-3.3.msl"}}},
		"The name strand-s8-3.3.msl does not say 3.1, which is what the file says of itself", nil, true,
	},
	"the image is for another model": {
		newDeviceOptions{lanOptions: lanOptions{inputs: map[string]string{"image": "strand-3.2-s24.msl"}}},
		"is made for S24, and the label says S8. Nothing was begun.", nil, true,
	},
	"the address is none of this laptop": {
		newDeviceOptions{lanOptions: lanOptions{inputs: map[string]string{"address": "192.0.2.99"}}},
		"this laptop has no address 192.0.2.99; it has 192.0.2.10 on eth0", nil, true,
	},
	"the address that it is to get is on another subnet": {
		newDeviceOptions{lanOptions: lanOptions{inputs: map[string]string{"gives": "198.51.100.7"}}},
		"the first address 198.51.100.7 is not on the network 192.0.2.0/24", nil, true,
	},
	"the label was read wrong": {
		newDeviceOptions{lanOptions: lanOptions{inputs: map[string]string{"mac": "02:00:5e:10:00:02"}}},
		"02:00:5e:10:00:02 never asked for an address",
		[]string{"02:00:5e:10:00:01 is not meant"},
		true,
	},
	"it is another one": {
		newDeviceOptions{lanOptions: lanOptions{approve: func(ask event.Ask) string {
			if strings.Contains(ask.Text, "Is it the one that is meant?") {
				return engine.LeaveIt
			}
			return approveAll(ask)
		}}},
		"not within the timeout",
		[]string{
			"02:00:5e:10:00:01 is left alone; it is asked about again when this step is begun again",
			"new device 02:00:5e:10:00:01 is left alone, awaited nothing more",
		},
		true,
	},
}

func TestFaultsOfAFirstBoot(t *testing.T) {
	t.Parallel()
	for name, f := range newDeviceFaults {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			inNewDevice(t, f.opt, func(t *testing.T, x *newDevice) {
				result := x.run()
				require.False(t, result.Outcome.Good(), "%s\n%s", result.Message, x.story())
				assert.Contains(t, result.Message, f.says)
				var said []string
				for _, n := range find[event.Note](x.rig) {
					said = append(said, n.Text)
				}
				for _, r := range find[event.Rung](x.rig) {
					said = append(said, r.What+" "+r.Text)
				}
				for _, n := range find[event.NewDevice](x.rig) {
					said = append(said, fmt.Sprintf("new device %s %s, awaited %s", n.MAC, n.Stage, n.Next))
				}
				report := strings.Join(said, "\n")
				for _, note := range f.notes {
					assert.Contains(t, report, note)
				}
				if f.fresh {
					_, _, setup := x.device.Runs()
					assert.Empty(t, setup)
				}
			})
		})
	}
}

// TestAnotherServerEndsIt finds it before anything is answered, and in the middle.
func TestAnotherServerEndsIt(t *testing.T) {
	t.Parallel()
	for name, after := range map[string]time.Duration{"before": 0, "in the middle": 12 * time.Second} {
		t.Run(name, func(t *testing.T) {
			// A switch that takes its time to like an offer leaves room for the other server's.
			inNewDevice(
				t,
				newDeviceOptions{
					device: func(n *maskel.NewSwitch) { n.Fail(maskel.NewFaults{TakesNoOffer: after > 0}) },
				},
				func(t *testing.T, x *newDevice) {
					defer another(x.lan, after)()
					if after > 0 {
						go func() {
							time.Sleep(after + 2*time.Second)
							x.device.Fail(maskel.NewFaults{TakesOther: true})
						}()
					}
					result := x.run()
					require.Equal(t, event.Failed, result.Outcome, "%s\n%s", result.Message, x.story())
					assert.Contains(t, result.Message, "another DHCP server is on the network: 192.0.2.250")
				},
			)
		})
	}
}

func TestTheFirstBootPassesOnAwkwardDevices(t *testing.T) {
	passesIn(t, awkwardWays(t), func(t *testing.T, way awkwardness) *newDevice {
		return newNewDevice(t, newDeviceOptions{lanOptions: lanOptions{awkward: way}})
	}, func(x *newDevice) error { return x.runs("3.2") })
}

func TestAPlanOfAFirstBootIsWhatARunTypes(t *testing.T) {
	t.Parallel()
	inNewDevice(t, newDeviceOptions{}, func(t *testing.T, x *newDevice) { holdsToItsPlan(t, x) })
}

// TestAnotherServerEndsItWhileItIsAsked, too: the question is taken back, and nobody is taken for the one that is
// meant.
func TestAnotherServerEndsItWhileItIsAsked(t *testing.T) {
	t.Parallel()
	opt := newDeviceOptions{lanOptions: lanOptions{present: true}, on: func(x *newDevice, e event.Event) {
		if ask, ok := e.Body.(event.Ask); ok && ask.Form != event.FormNewDevice {
			x.session.Answer(ask.ID, map[event.Form]string{event.FormHold: engine.Approve}[ask.Form], "operator")
			x.session.Answer(ask.ID, engine.StopHere, "operator")
		}
	}}
	inNewDevice(t, opt, func(t *testing.T, x *newDevice) {
		defer another(x.lan, 20*time.Second)()
		go func() {
			time.Sleep(25 * time.Second)
			other := bench.NewDevice{LAN: x.lan, Clock: clock.Real(), MAC: [6]byte{2, 0, 0x5e, 0x10, 0, 9}}
			_, _ = other.Ask(context.Background(), 3)
		}()
		began := time.Now()
		result := x.run()
		assert.Less(t, time.Since(began), 2*time.Minute, "in virtual time")
		require.False(t, result.Outcome.Good(), "%s", result.Message)
		assert.Contains(t, result.Message, "another DHCP server is on the network: 192.0.2.250")
		_, _, setup := x.device.Runs()
		assert.Empty(t, setup)
	})
}

// TestTheHandMayTakeTheHelmMeanwhile at any moment: the device is answered on, and the run goes on where it is given
// back.
func TestTheHandMayTakeTheHelmMeanwhile(t *testing.T) {
	t.Parallel()
	for _, at := range []time.Duration{time.Second, 16 * time.Second, 22 * time.Second, 28 * time.Second} {
		t.Run(at.String(), func(t *testing.T) {
			inNewDevice(t, newDeviceOptions{}, func(t *testing.T, x *newDevice) {
				go func() {
					time.Sleep(at)
					x.session.TakeHelm()
					time.Sleep(20 * time.Second)
					x.session.GiveHelm(engine.Resume)
				}()
				result := x.run()
				require.Equal(t, event.Done, result.Outcome, "%s\n%s", result.Message, x.story())
				require.NoError(t, x.runs("3.2"))
			})
		})
	}
}

// TestASecondDeviceOfTheKindIsLeftAlone has another new switch ask first: it is not the one, and gets nothing.
func TestASecondDeviceOfTheKindIsLeftAlone(t *testing.T) {
	t.Parallel()
	opt := newDeviceOptions{lanOptions: lanOptions{approve: func(ask event.Ask) string {
		if ask.Form == event.FormNewDevice && !strings.Contains(ask.Text, newDeviceMAC) {
			return engine.LeaveIt
		}
		return approveAll(ask)
	}}}
	inNewDevice(t, opt, func(t *testing.T, x *newDevice) {
		other := bench.NewDevice{
			LAN:    x.lan,
			Clock:  clock.Real(),
			MAC:    [6]byte{2, 0, 0x5e, 0x10, 0, 9},
			Vendor: "Maskel S8",
		}
		got := make(chan error)
		go func() {
			_, err := other.Ask(context.Background(), 20)
			got <- err
		}()
		result := x.run()
		require.Equal(t, event.Done, result.Outcome, "%s\n%s", result.Message, x.story())
		require.NoError(t, x.runs("3.2"))
		require.ErrorIs(t, <-got, bench.ErrNoOffer)
	})
}

// TestAPowerCutInTheMiddleOfItsFirstStart has it start again, wherever it was.
func TestAPowerCutInTheMiddleOfItsFirstStart(t *testing.T) {
	t.Parallel()
	for _, at := range []time.Duration{14 * time.Second, 19 * time.Second, 23 * time.Second, 30 * time.Second, 45 * time.Second} {
		t.Run(at.String(), func(t *testing.T) {
			inNewDevice(t, newDeviceOptions{}, func(t *testing.T, x *newDevice) {
				go func() {
					time.Sleep(at)
					x.machine.PowerCut(10 * time.Second)
				}()
				result := x.run()
				time.Sleep(2 * time.Minute) // it has power again
				require.Equal(t, event.Done, result.Outcome, "%s\n%s", result.Message, x.story())
				require.NoError(t, x.runs("3.2"))
			})
		})
	}
}

// TestANewDeviceIsGivenAnAddress by the program's own server, over a LAN in memory, with real packets; one that likes
// no offer asks on.
func TestANewDeviceIsGivenAnAddress(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		lan := bench.NewLAN(true, 1)
		own := netip.MustParsePrefix("192.0.2.10/24")
		server, err := provision.New(provision.Options{
			Own:   own,
			First: netip.MustParseAddr("192.0.2.61"),
			Last:  netip.MustParseAddr("192.0.2.61"),
			Lease: time.Hour,
			Admit: func(c provision.Client) provision.Verdict {
				return map[bool]provision.Verdict{true: provision.Served}[strings.HasPrefix(c.Vendor, "Maskel")]
			},
			Give: func(provision.Client) provision.Given {
				return provision.Given{BootFile: "a.msl", Server: own.Addr(), HostName: "tangle-sw2"}
			},
		}, nil)
		require.NoError(t, err)
		ctx, cancel := context.WithCancel(t.Context())
		conn, served := lan.Everybody(67), make(chan error)
		go func() {
			served <- server.Serve(ctx, provision.Wire{Conn: conn, Clock: clock.Real()}, provision.Report{})
		}()
		n := bench.NewDevice{LAN: lan, Clock: clock.Real(), MAC: [6]byte{2, 0, 0x5e, 0x10, 0, 1}, Vendor: "Maskel S8"}
		offer, err := n.Ask(t.Context(), 1)
		require.NoError(t, err)
		assert.Equal(t, bench.Offer{
			Address:  netip.MustParsePrefix("192.0.2.61/24"),
			By:       own.Addr(),
			Server:   own.Addr(),
			BootFile: "a.msl",
			HostName: "tangle-sw2",
			Lease:    time.Hour,
		}, offer)
		n.Takes = func(bench.Offer) bool { return false }
		_, err = n.Ask(t.Context(), 3)
		require.ErrorIs(t, err, bench.ErrNoOffer)
		n.Vendor = "another"
		_, err = n.Ask(t.Context(), 2)
		require.ErrorIs(t, err, bench.ErrNoOffer, "who is not meant gets nothing")
		cancel()
		require.NoError(t, <-served)
	})
}

// TestARunbookThatTypesEndsAtOnceWithoutALine, with why.
func TestARunbookThatTypesEndsAtOnceWithoutALine(t *testing.T) {
	t.Parallel()
	folder := tempDir(t)
	require.NoError(t, demo.PackagesShelf(folder, smallImage))
	run := exec.Command(program, "run", "packages-and-board", "--on", "none:ness-rt1", "--dialect", "dunlin-n1",
		"--shelf", filepath.Join(folder, "shelf"), "--set", "image="+coreOf("6.2"), "--set", "user=harbour", "--secret",
		"password=env:DEVICE_PASSWORD", "--approve", "all", "--logbook", "none")
	run.Env = append(os.Environ(), append(homeAt(folder), "DEVICE_PASSWORD=lamp-and-tide")...)
	out, err := run.CombinedOutput()
	require.Error(t, err)
	assert.Contains(t, string(out),
		"none:ness-rt1 cannot do that: the device has no line here, so that nothing can be typed")
}
