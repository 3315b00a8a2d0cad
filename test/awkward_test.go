package test

import (
	"flag"
	"fmt"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"pilotrix/bench"
	"pilotrix/core/event"
	"pilotrix/core/runbook/engine"
)

var awkwardSeeds = flag.Int("awkward.seeds", 1, "how often all of the awkwardness is drawn anew")

// awkwardWays are each switch alone, all together, and all of it drawn otherwise.
func awkwardWays(t *testing.T) map[string]awkwardness {
	t.Helper()
	ways := map[string]awkwardness{}
	for n, name := range append([]string{"all", bench.Mute}, bench.Switches...) {
		if !sampled(n) {
			continue
		}
		on, err := bench.ParseAwkward(name)
		require.NoError(t, err)
		ways[name] = awkwardness{on, 1}
	}
	for seed := range *awkwardSeeds {
		ways[fmt.Sprint("all, seed ", 100+seed)] = awkwardness{ways["all"].on, uint64(100 + seed)}
	}
	return ways
}

// passesIn has a runbook pass in each of these ways, to its end, its proof and the truth.
func passesIn[X underRunbook](
	t *testing.T, ways map[string]awkwardness, made func(*testing.T, awkwardness) X, truth func(X) error,
) {
	t.Parallel()
	for name, way := range ways {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			inTime(t, func(t *testing.T) X { return made(t, way) }, func(t *testing.T, x X) {
				result := x.run()
				require.Equal(t, event.Done, result.Outcome, "%s\n%s", result.Message, x.under().story())
				require.NoError(t, truth(x))
				assert.NotEmpty(t, result.Proved)
			})
		})
	}
}

var everyWay = flag.Bool("awkward.every", false,
	"try every switch alone with every runbook, and not only with the first of a family")

// together are the ways in which all is on: what a family's further runbooks are tried in, since its first has had each
// alone.
func together(ways map[string]awkwardness) map[string]awkwardness {
	if *everyWay {
		return ways
	}
	some := map[string]awkwardness{}
	for name, way := range ways {
		if strings.HasPrefix(name, "all") {
			some[name] = way
		}
	}
	return some
}

// TestTheRescuePassesOnAwkwardDevices carries the shipped runbook out, to its end and its proof.
func TestTheRescuePassesOnAwkwardDevices(t *testing.T) {
	t.Parallel()
	for name, way := range awkwardWays(t) {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			synctest.Test(t, func(t *testing.T) {
				r := newAwkwardRig(t, "R40-2", 38400, way, approveAll, nil)
				defer r.close()
				result := r.run()
				require.Equal(t, event.Done, result.Outcome, "%s\n%s", result.Message, r.story())
				assert.Equal(t, "4.2.1", r.router.Started())
				assert.NotEmpty(t, result.Proved)
			})
		})
	}
}

func TestTheBankUpgradePassesOnAwkwardDevices(t *testing.T) {
	t.Parallel()
	for name, way := range awkwardWays(t) {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			inGateway(t, gatewayOptions{awkward: way}, func(t *testing.T, g *gateway) {
				result := g.run()
				require.Equal(t, event.Done, result.Outcome, "%s\n%s", result.Message, g.story())
				release, _ := g.device.Runs()
				assert.Equal(t, "8.1.0", release)
				assert.NotEmpty(t, result.Proved)
			})
		})
	}
}

func TestTheTrialPassesOnAwkwardDevices(t *testing.T) {
	t.Parallel()
	for name, way := range awkwardWays(t) {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			inEdge(
				t,
				edgeOptions{
					lanOptions: lanOptions{awkward: way, inputs: map[string]string{"into": ".", "tidy": "yes"}},
				},
				func(t *testing.T, x *edge) {
					result := x.run()
					require.Equal(t, event.Done, result.Outcome, "%s\n%s", result.Message, x.story())
					require.NoError(t, x.stands("5.4", "5.4"))
					assert.NotEmpty(t, result.Proved)
				},
			)
		})
	}
	for name, way := range together(awkwardWays(t)) {
		t.Run("run out, "+name, func(t *testing.T) {
			t.Parallel()
			inEdge(
				t,
				edgeOptions{lanOptions: lanOptions{awkward: way, book: "let-the-trial-run-out"}, device: onTrial(9)},
				func(t *testing.T, x *edge) {
					result := x.run()
					require.Equal(t, event.Done, result.Outcome, "%s\n%s", result.Message, x.story())
					require.NoError(t, x.stands("5.2", "5.2"))
				},
			)
		})
		t.Run("back, "+name, func(t *testing.T) {
			t.Parallel()
			inEdge(
				t,
				edgeOptions{lanOptions: lanOptions{awkward: way, book: "back-to-the-previous"}, device: newer},
				func(t *testing.T, x *edge) {
					result := x.run()
					require.Equal(t, event.Done, result.Outcome, "%s\n%s", result.Message, x.story())
					require.NoError(t, x.stands("5.2", "5.2"))
				},
			)
		})
	}
}

func TestTheStackPassesOnAwkwardDevices(t *testing.T) {
	t.Parallel()
	for name, way := range awkwardWays(t) {
		for kind, opt := range map[string]stackOptions{
			"now":      {},
			"later":    {lanOptions: lanOptions{inputs: map[string]string{"minutes": "15"}}},
			"one unit": {lanOptions: oneUnit, made: replaced},
		} {
			if _, all := together(map[string]awkwardness{name: way})[name]; kind != "now" && !all {
				continue
			}
			t.Run(kind+", "+name, func(t *testing.T) {
				t.Parallel()
				opt.awkward = way
				inStack(t, opt, func(t *testing.T, x *stack) {
					result := x.run()
					require.Equal(t, event.Done, result.Outcome, "%s\n%s", result.Message, x.story())
					require.NoError(t, x.allRun(map[bool]string{true: "3.1", false: "3.2"}[kind == "one unit"]))
				})
			})
		}
	}
}

func TestTheBridgePassesOnAwkwardDevices(t *testing.T) {
	t.Parallel()
	for name, way := range awkwardWays(t) {
		for book, whole := range map[string]bool{"try-then-burn": false, "recovery-put": false, "write-over-the-shell": true} {
			if _, all := together(map[string]awkwardness{name: way})[name]; book != "try-then-burn" && !all {
				continue
			}
			t.Run(book+", "+name, func(t *testing.T) {
				t.Parallel()
				inBridge(
					t,
					bridgeOptions{whole: whole, lanOptions: lanOptions{awkward: way, book: book}},
					func(t *testing.T, x *wbridge) {
						result := x.run()
						require.Equal(t, event.Done, result.Outcome, "%s\n%s", result.Message, x.story())
						require.NoError(t, x.stands("2.6"))
					},
				)
			})
		}
	}
}

// TestAnOperatorWhoTakesTime leaves the awkward devices alone at each hold, and takes the helm in mid-transfer for a
// while: log lines, bursts and time-outs fall on a line on which nobody types.
func TestAnOperatorWhoTakesTime(t *testing.T) {
	t.Parallel()
	all := awkwardWays(t)["all"]
	for n := range 2 + 2**awkwardSeeds {
		way := awkwardness{all.on, uint64(500 + n)}
		thinks := func(t *testing.T) func(event.Ask) string {
			failures := 0
			return func(ask event.Ask) string {
				time.Sleep(time.Duration(11+17*n) * time.Second)
				if ask.Form == "failure" { // a byte of the prompt may get lost: what fails is reported, and may be repeated
					if failures++; failures > 2 {
						return engine.StopHere
					}
					return engine.TryAgain
				}
				return engine.Approve
			}
		}
		t.Run(fmt.Sprint("rescue, seed ", way.seed), func(t *testing.T) {
			t.Parallel()
			synctest.Test(t, func(t *testing.T) {
				r := newAwkwardRig(t, "R40-2", 38400, way, thinks(t), onceAt(100_000, func(r *rig) {
					go func() {
						r.session.Press([]byte("abc"))
						time.Sleep(time.Duration(20+n) * time.Second)
						if n%2 == 0 { // else it is left there
							r.session.Press([]byte("\x15"))
						}
						time.Sleep(3 * time.Second)
						r.session.GiveHelm(engine.Repeat)
					}()
				}))
				defer r.close()
				result := r.run()
				require.Equal(t, event.Done, result.Outcome, "%s\n%s", result.Message, r.story())
				assert.Equal(t, "4.2.1", r.router.Started())
			})
		})
		t.Run(fmt.Sprint("bank upgrade, seed ", way.seed), func(t *testing.T) {
			t.Parallel()
			inGateway(t, gatewayOptions{awkward: way, approve: thinks(t)}, func(t *testing.T, g *gateway) {
				result := g.run()
				require.Equal(t, event.Done, result.Outcome, "%s\n%s", result.Message, g.story())
				release, _ := g.device.Runs()
				assert.Equal(t, "8.1.0", release)
			})
		})
	}
}

// awkwardFaults are what goes wrong on top, and how the rescue has to end then.
var awkwardFaults = map[string]struct {
	model   string
	approve func(event.Ask) string
	on      func() func(*rig, event.Event)
	outcome event.Outcome
	holds   func(t *testing.T, r *rig, result engine.Result)
}{
	"a power cut in mid-transfer": {"R40-2", approveAll, func() func(*rig, event.Event) {
		return onceAt(100_000, func(r *rig) { r.machine.PowerCut(3 * time.Second) })
	}, event.Done, func(t *testing.T, r *rig, _ engine.Result) { assert.Equal(t, "4.2.1", r.router.Started()) }},
	"the cable pulled in mid-transfer": {"R40-2", approveAll, func() func(*rig, event.Event) {
		return onceAt(100_000, func(r *rig) {
			go func() {
				r.machine.Unplug()
				time.Sleep(4 * time.Second)
				_ = r.machine.Plug()
			}()
		})
	}, event.Done, func(t *testing.T, r *rig, _ engine.Result) { assert.Equal(t, "4.2.1", r.router.Started()) }},
	"bit errors in the transfer": {"R40-2", approveAll, func() func(*rig, event.Event) {
		return func(r *rig, e event.Event) {
			switch e.Body.(type) {
			case event.TransferBegin:
				r.machine.Wire().BitErrors(1e-4, 42)
			case event.TransferEnd:
				r.machine.Wire().BitErrors(0, 0)
			}
		}
	}, event.Done, func(t *testing.T, r *rig, _ engine.Result) { assert.Equal(t, "4.2.1", r.router.Started()) }},
	"an image for another model": {
		"R40-9",
		stopAll,
		nil,
		event.Failed,
		func(t *testing.T, r *rig, result engine.Result) {
			assert.Contains(t, result.Message, "This image is for R40-1, R40-2")
			assert.Len(t, r.router.Store.Files(), 2)
		},
	},
	"a stop at the hold": {"R40-2", stopAll, nil, event.Stopped, func(t *testing.T, r *rig, result engine.Result) {
		assert.Contains(t, result.Message, "nothing was changed on the device")
		assert.Len(t, r.router.Store.Files(), 2)
		assert.Equal(t, 9600, r.machine.Wire().Baud())
	}},
}

func TestFaultsOnAwkwardDevices(t *testing.T) {
	t.Parallel()
	for fault, f := range awkwardFaults {
		ways := awkwardWays(t)
		if fault != "a power cut in mid-transfer" { // one fault has each switch alone, the others have them together
			ways = together(ways)
		}
		for name, way := range ways {
			t.Run(fault+", "+name, func(t *testing.T) {
				t.Parallel()
				synctest.Test(t, func(t *testing.T) {
					var on func(*rig, event.Event)
					if f.on != nil {
						on = f.on()
					}
					r := newAwkwardRig(t, f.model, 9600, way, f.approve, on)
					defer r.close()
					result := r.run()
					require.Equal(t, f.outcome, result.Outcome, "%s\n%s", result.Message, r.story())
					f.holds(t, r, result)
				})
			})
		}
	}
}
