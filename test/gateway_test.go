package test

import (
	"bytes"
	"net/netip"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"pilotrix/bench"
	"pilotrix/bench/cormel"
	"pilotrix/core/event"
	"pilotrix/core/line"
	"pilotrix/core/network/simulated"
	"pilotrix/core/runbook/engine"
	"pilotrix/core/shipped"
	"pilotrix/demo"
)

// gateway is the scenario's voice gateway.
type gateway struct{ onDevice[*cormel.Gateway] }

// gatewayOptions are what a test wants different.
type gatewayOptions struct {
	room    int
	approve func(event.Ask) string
	present bool // somebody is there: questions are left to whoever answers them
	on      func(*gateway, event.Event)
	shelf   func(folder string)
	book    string // text of another runbook, or the name of one that ships
	inputs  map[string]string
	awkward awkwardness
	tap     func(line.Line) line.Line
}

func newGateway(t *testing.T, opt gatewayOptions) *gateway {
	t.Helper()
	g := &gateway{}
	if opt.inputs == nil {
		opt.inputs = map[string]string{"image": "lark-8.1.0.cgo", "upgrade_paths": "cormel-g2", "into": "."}
	}
	with := deviceOptions[*gateway, *cormel.Gateway]{on: opt.on, device: func(d *cormel.Gateway) {
		if opt.room > 0 {
			d.Room = opt.room
		}
	}, lanOptions: lanOptions{approve: opt.approve, present: opt.present, shelf: opt.shelf, book: opt.book, inputs: opt.inputs, awkward: opt.awkward, tap: opt.tap}}
	return start(t, g, &g.onDevice, family{
		name: "mare-gw1", dialect: "cormel-g2", book: "standby-bank-upgrade",
		shelf: func(folder string) error { return demo.GatewayShelf(folder, smallImage) },
	}, with, func(lan *bench.LAN) *cormel.Gateway { return demo.Gateway(lan, smallImage) })
}

// stillRuns holds that the device runs what it ran before, and starts it again.
func (g *gateway) stillRuns(t *testing.T) {
	t.Helper()
	release, bank := g.device.Runs()
	assert.Equal(t, "7.4.2", release)
	assert.Equal(t, "A", bank)
	assert.Equal(t, "A", g.device.Starts())
}

func inGateway(t *testing.T, opt gatewayOptions, use func(t *testing.T, g *gateway)) {
	synctest.Test(t, func(t *testing.T) {
		g := newGateway(t, opt)
		defer g.close()
		use(t, g)
	})
}

func TestUpgradeByWayOfAnIntermediateRelease(t *testing.T) {
	t.Parallel()
	inGateway(t, gatewayOptions{}, func(t *testing.T, g *gateway) {
		began := time.Now()
		result := g.run()
		require.Equal(t, event.Done, result.Outcome, "%s\n%s", result.Message, g.story())
		release, bank := g.device.Runs()
		assert.Equal(t, "8.1.0", release)
		assert.Equal(t, "A", bank)
		assert.Equal(t, []string{
			"lark 7.6.1 runs from bank B", "lark 8.1.0 runs from bank A", "lark 8.1.0 runs on mare-gw1",
			"bank A is kept for the next start", "lines registered as before: 24 of 24",
		}, result.Proved)
		assert.Greater(t, time.Since(began), 5*time.Minute, "two restarts of minutes")

		upgrades := find[event.UpgradePath](g.rig)
		require.Len(t, upgrades, 1)
		assert.Equal(t, "7.6.1", upgrades[0].Steps[0].Release)
		assert.Equal(t, "mare-gw1-8.licence", upgrades[0].Steps[1].Companion)
		files := map[string]bool{}
		for _, begin := range find[event.TransferBegin](g.rig) {
			files[begin.File] = true
		}
		assert.Equal(t, map[string]bool{
			"lark-7.6.1.cgo":                true,
			"lark-8.1.0.cgo":                true,
			"mare-gw1-8.licence":            true,
			"mare-gw1-7.4.2-2000-01-01.txt": true,
		}, files)
		kept, err := os.ReadFile(filepath.Join(g.folder, "mare-gw1-7.4.2-2000-01-01.txt"))
		require.NoError(t, err)
		assert.Contains(t, string(kept), "# setup of mare-gw1, lark 7.4.2")

		var gone, back int
		for _, reach := range find[event.Reach](g.rig) {
			if reach.State == event.Gone {
				gone++
			} else {
				back++
				assert.Greater(t, reach.Length, time.Minute)
			}
		}
		assert.Equal(t, 2, gone)
		assert.Equal(t, 2, back)
		left, err := filepath.Glob(filepath.Join(g.folder, "pilotrix-unpacked-*"))
		require.NoError(t, err)
		assert.Empty(t, left, "what was unpacked is removed")
		assert.NotContains(t, g.story(), "lamp-and-tide")
	})
}

func TestBothBanksWhenAsked(t *testing.T) {
	t.Parallel()
	inGateway(
		t,
		gatewayOptions{
			inputs: map[string]string{"image": "lark-7.6.1.cgo", "upgrade_paths": "cormel-g2", "both": "yes"},
		},
		func(t *testing.T, g *gateway) {
			result := g.run()
			require.Equal(t, event.Done, result.Outcome, "%s\n%s", result.Message, g.story())
			assert.Contains(t, result.Proved, "both banks hold 7.6.1")
		},
	)
}

func TestTheRunningReleaseNeedsNothing(t *testing.T) {
	t.Parallel()
	inGateway(t, gatewayOptions{
		inputs: map[string]string{"image": "lark-7.4.2.cgo", "upgrade_paths": "cormel-g2"},
		shelf: func(folder string) {
			_ = os.WriteFile(filepath.Join(folder, "lark-7.4.2.cgo"), demo.GatewayImage("7.4.2", smallImage), 0o600)
		},
	}, func(t *testing.T, g *gateway) {
		result := g.run()
		require.Equal(t, event.Already, result.Outcome, "%s\n%s", result.Message, g.story())
		assert.Contains(t, result.Message, "lark 7.4.2 runs from bank A, which is kept for the next start")
		assert.Empty(t, find[event.TransferBegin](g.rig))
		g.stillRuns(t)
	})
}

// TestADowngradeIsAskedAbout wants a release that is older than what runs.
func TestADowngradeIsAskedAbout(t *testing.T) {
	t.Parallel()
	for answer, outcome := range map[string]event.Outcome{engine.StopHere: event.Stopped, engine.Approve: event.Done} {
		asked := ""
		inGateway(t, gatewayOptions{
			inputs: map[string]string{"image": "lark-7.4.0.cgo", "upgrade_paths": "cormel-g2"},
			shelf: func(folder string) {
				_ = os.WriteFile(filepath.Join(folder, "lark-7.4.0.cgo"), demo.GatewayImage("7.4.0", smallImage), 0o600)
			},
			approve: func(ask event.Ask) string {
				if strings.Contains(ask.Text, "downgrade") {
					asked = ask.Text
					return answer
				}
				return approveAll(ask)
			},
		}, func(t *testing.T, g *gateway) {
			result := g.run()
			require.Equal(t, outcome, result.Outcome, "%s\n%s", result.Message, g.story())
			assert.Equal(t,
				"This is a downgrade: 7.4.2 runs, 7.4.0 is older. What the newer release has converted, the older one may not read.",
				asked)
			assert.True(t, find[event.UpgradePath](g.rig)[0].Downgrade)
			if outcome == event.Stopped {
				assert.Contains(t, result.Message, "nothing was changed on the device")
				g.stillRuns(t)
			}
		})
	}
}

func TestLostPacketsCostTimeAndNothingElse(t *testing.T) {
	t.Parallel()
	inGateway(t, gatewayOptions{}, func(t *testing.T, g *gateway) {
		g.lan.Spoil(simulated.Faults{Loss: 0.1, Twice: 0.05, Late: 0.05, Lateness: 20 * time.Millisecond})
		result := g.run()
		require.Equal(t, event.Done, result.Outcome, "%s\n%s", result.Message, g.story())
		again := 0
		for _, end := range find[event.TransferEnd](g.rig) {
			again += end.Resent
		}
		assert.Positive(t, again, "packets really were lost")
	})
}

// TestANetworkThatDies loses everything from the middle of the download on.
func TestANetworkThatDies(t *testing.T) {
	t.Parallel()
	inGateway(t, gatewayOptions{on: func(g *gateway, e event.Event) {
		if p, ok := e.Body.(event.Transfer); ok && p.Bytes > 100_000 && p.Bytes < p.Size {
			g.lan.Spoil(simulated.Faults{Loss: 1})
		}
	}}, func(t *testing.T, g *gateway) {
		result := g.run()
		require.Equal(t, event.Failed, result.Outcome, "%s", g.story())
		assert.Contains(t, result.Message, "the download failed: broken off")
		assert.Contains(t, result.Message, "goes on running 7.4.2 from bank A")
		g.stillRuns(t)
	})
}

func TestAStoreThatIsTooSmallIsSeenBefore(t *testing.T) {
	t.Parallel()
	inGateway(t, gatewayOptions{room: 200_000}, func(t *testing.T, g *gateway) {
		result := g.run()
		require.Equal(t, event.Failed, result.Outcome, "%s", g.story())
		assert.Contains(t, result.Message, "200000 B are free")
		assert.Contains(t, result.Message, "nothing was changed on the device")
		assert.Empty(t, find[event.TransferBegin](g.rig))
		g.stillRuns(t)
	})
}

func TestAnImageThatIsNotAsPublishedIsRefusedAtOnce(t *testing.T) {
	t.Parallel()
	synctest.Test(t, func(t *testing.T) {
		g := newGateway(t, gatewayOptions{})
		defer g.close()
		book, err := shipped.Runbook("module-firmware")
		require.NoError(t, err)
		_, err = book.Prepare(g.book.Dialect,
			map[string]string{"firmware": "card-line-3.4.cgo", "user": "harbour", "password": "x"}, g.kit)
		assert.ErrorContains(t, err, "its sha256 is not the one published in SHA256SUMS")
	})
}

// TestACorruptImageIsRefusedByTheDevice spoils a byte of an image whose digest nobody published.
func TestACorruptImageIsRefusedByTheDevice(t *testing.T) {
	t.Parallel()
	inGateway(t, gatewayOptions{
		inputs: map[string]string{"image": "spoiled.cgo", "upgrade_paths": "cormel-g2"},
		shelf: func(folder string) {
			data := demo.GatewayImage("7.6.4", smallImage)
			data[len(data)/2] ^= 1
			_ = os.WriteFile(filepath.Join(folder, "spoiled.cgo"), data, 0o600)
		},
	}, func(t *testing.T, g *gateway) {
		result := g.run()
		require.Equal(t, event.Failed, result.Outcome, "%s", g.story())
		assert.Contains(t, result.Message, "the download failed: its digest does not match")
		g.stillRuns(t)
	})
}

func TestADownloadStuckAtPreparingIsGivenUp(t *testing.T) {
	t.Parallel()
	inGateway(t, gatewayOptions{}, func(t *testing.T, g *gateway) {
		g.device.Fail(cormel.Faults{StuckPreparing: true})
		began := time.Now()
		result := g.run()
		require.Equal(t, event.Failed, result.Outcome, "%s", g.story())
		assert.Contains(t, result.Message, "nothing changed for 1 min 3")
		assert.Contains(t, result.Message, ": preparing, 0 of ? B")
		assert.Less(t, time.Since(began), 3*time.Minute, "long before the limit")
		g.stillRuns(t)
	})
}

// TestAChoiceThatIsNotKeptIsSeenBeforeTheRestart has a device that says it kept the choice.
func TestAChoiceThatIsNotKeptIsSeenBeforeTheRestart(t *testing.T) {
	t.Parallel()
	inGateway(t, gatewayOptions{}, func(t *testing.T, g *gateway) {
		g.device.Fail(cormel.Faults{ForgetsStow: true})
		result := g.run()
		require.Equal(t, event.Failed, result.Outcome, "%s", g.story())
		assert.Contains(t, result.Message, "Bank A is kept for the next start, not bank B")
		assert.Empty(t, find[event.Restart](g.rig))
		g.stillRuns(t)
	})
}

// staging is how a runbook begins that stages an image for the device.
const staging = `
runbook: by-hand
title: By hand
inputs:
  - {input: image, kind: image}
  - {input: user, kind: text}
  - {input: password, kind: secret}
phases:
  - phase: do it
    steps:
      - {step: Find it, catch: {mode: admin}}
      - {step: Read it, read: [self, banks]}
      - {step: Stage it, serve: {file: image, protocol: tftp, device: '${device.address}'}}
`

// unsaved is a runbook that forgets to keep the choice.
const unsaved = staging + `      - {step: Fetch it, act: {action: fetch, by: tftp, with: {server: '${serve.address}', name: '${serve.name}'}}}
      - {step: Wait for it, poll: {read: [haul], every: 5s, until: haul.state == "ready"}}
      - {step: Choose it, act: {action: choose-bank, with: {bank: '${standby.bank}'}}}
      - {step: Restart, hold: Restarts it., restart: {action: restart, watch: 'icmp:${device.address}', mode: [login], then: admin}}
      - {step: Read again, read: [self, banks]}
      - {step: It runs, compare: [{what: running release, want: image.release, got: running.release}]}
`

func TestARestartWithAnUnsavedChoiceIsAskedAboutAndBootsBack(t *testing.T) {
	t.Parallel()
	inputs := func() map[string]string { return map[string]string{"image": "lark-7.6.1.cgo"} }
	inGateway(t, gatewayOptions{book: unsaved, inputs: inputs(), approve: func(ask event.Ask) string {
		if strings.Contains(ask.Text, "is lost by it") {
			return engine.StopHere
		}
		return approveAll(ask)
	}}, func(t *testing.T, g *gateway) {
		result := g.run()
		require.Equal(t, event.Stopped, result.Outcome, "%s\n%s", result.Message, g.story())
		g.stillRuns(t)
		assert.Empty(t, find[event.Reach](g.rig), "it was not restarted")
	})
	inGateway(t, gatewayOptions{book: unsaved, inputs: inputs()}, func(t *testing.T, g *gateway) {
		result := g.run()
		require.Equal(t, event.Failed, result.Outcome, "%s", g.story())
		assert.Contains(t, result.Message, "running release: want 7.6.1, the device says 7.4.2")
		g.stillRuns(t)
	})
}

// wrongName is a runbook that asks for another name than the one staged.
const wrongName = staging + `      - {step: Fetch it, act: {action: fetch, by: tftp, with: {server: '${serve.address}', name: 'images/LARK-7.6.1'}}}
      - {step: Wait for it, poll: {read: [haul], every: 5s, until: haul.state == "ready", fail: haul.state == "failed", message: '${haul.reason}'}}
`

func TestAWrongNameIsReportedWithTheRightOne(t *testing.T) {
	t.Parallel()
	inGateway(
		t,
		gatewayOptions{book: wrongName, inputs: map[string]string{"image": "lark-7.6.1.cgo"}},
		func(t *testing.T, g *gateway) {
			result := g.run()
			require.Equal(t, event.Failed, result.Outcome, "%s", g.story())
			const says = "no images/LARK-7.6.1 here; lark-7.6.1.cgo is staged (asked for with a folder before it, asked for without .cgo)"
			assert.Contains(t, result.Message, says)
			report := false
			for _, m := range find[event.Rung](g.rig) {
				report = report || strings.Contains(m.Text, says)
			}
			assert.True(t, report, "the operator is told as well as the device")
			g.stillRuns(t)
		},
	)
}

func TestANameThatIsNoneIsRefusedAndNothingElse(t *testing.T) {
	t.Parallel()
	book := strings.Replace(staging, "serve: {file: image,", "serve: {file: image, as: 'lark/new.cgo',", 1)
	require.NotEqual(t, staging, book)
	inGateway(
		t,
		gatewayOptions{book: book, inputs: map[string]string{"image": "lark-7.6.1.cgo"}},
		func(t *testing.T, g *gateway) {
			result := g.run()
			assert.Equal(t, event.Failed, result.Outcome, "%s", g.story())
			assert.Contains(t, result.Message, `"lark/new.cgo" is no plain file name`)
			assert.NotContains(t, result.Message, "fault of this program")
			g.stillRuns(t)
		},
	)
}

func TestFetchingByHTTP(t *testing.T) {
	t.Parallel()
	inGateway(
		t,
		gatewayOptions{
			inputs: map[string]string{"image": "lark-7.6.1.cgo", "upgrade_paths": "cormel-g2", "protocol": "http"},
		},
		func(t *testing.T, g *gateway) {
			result := g.run()
			require.Equal(t, event.Done, result.Outcome, "%s\n%s", result.Message, g.story())
			release, _ := g.device.Runs()
			assert.Equal(t, "7.6.1", release)
		},
	)
}

func TestBackToTheOtherBank(t *testing.T) {
	t.Parallel()
	inGateway(
		t,
		gatewayOptions{book: shippedText(t, "back-to-the-other-bank"), inputs: map[string]string{}},
		func(t *testing.T, g *gateway) {
			result := g.run()
			require.Equal(t, event.Done, result.Outcome, "%s\n%s", result.Message, g.story())
			release, bank := g.device.Runs()
			assert.Equal(t, "7.2.0", release)
			assert.Equal(t, "B", bank)
		},
	)
}

func shippedText(t *testing.T, name string) string {
	t.Helper()
	text, err := shipped.RunbookText(name)
	require.NoError(t, err)
	return string(text)
}

// lineCards gives the line cards new firmware.
func lineCards(t *testing.T) gatewayOptions {
	return gatewayOptions{
		book: shippedText(t, "module-firmware"), inputs: map[string]string{"firmware": "line-3.5.cgo"},
		shelf: func(folder string) {
			_ = os.WriteFile(filepath.Join(folder, "line-3.5.cgo"), demo.CardFirmware("line", "3.5"), 0o600)
		},
	}
}

func TestEveryCardOfAKindGetsNewFirmware(t *testing.T) {
	t.Parallel()
	inGateway(t, lineCards(t), func(t *testing.T, g *gateway) {
		result := g.run()
		require.Equal(t, event.Done, result.Outcome, "%s\n%s", result.Message, g.story())
		assert.Equal(t, "3.1", g.device.Firmware(1), "the trunk card is another kind")
		assert.Equal(t, "3.5", g.device.Firmware(2))
		assert.Equal(t, "3.5", g.device.Firmware(3))
		phases := map[string]bool{}
		for _, course := range find[event.Course](g.rig) {
			for _, step := range course.Steps {
				phases[step.Phase] = true
			}
		}
		assert.True(t, phases["slot 2"] && phases["slot 3"] && !phases["slot 1"])
	})
}

// TestACardThatDoesNotStartIsMissed has one that is listed no more, or without a firmware.
func TestACardThatDoesNotStartIsMissed(t *testing.T) {
	t.Parallel()
	for says, faults := range map[string]cormel.Faults{
		"slot 2 is not listed any more": {CardDies: 2},
		"the units do not agree on the firmware of the line cards: unit 2 has 3.5, unit 3 has -; wanted is 3.5": {CardIsDumb: 3},
	} {
		t.Run(says, func(t *testing.T) {
			t.Parallel()
			inGateway(t, lineCards(t), func(t *testing.T, g *gateway) {
				g.device.Fail(faults)
				result := g.run()
				require.Equal(t, event.Failed, result.Outcome, "%s", g.story())
				assert.Contains(t, result.Message, says)
			})
		})
	}
}

func TestKeepConfiguration(t *testing.T) {
	t.Parallel()
	folder := tempDir(t)
	inGateway(
		t,
		gatewayOptions{book: shippedText(t, "keep-configuration"), inputs: map[string]string{"into": folder}},
		func(t *testing.T, g *gateway) {
			result := g.run()
			require.Equal(t, event.Done, result.Outcome, "%s\n%s", result.Message, g.story())
			kept, err := filepath.Glob(filepath.Join(folder, "mare-gw1-7.4.2-*.txt"))
			require.NoError(t, err)
			require.Len(t, kept, 1)
			data, err := os.ReadFile(kept[0])
			require.NoError(t, err)
			assert.Contains(t, string(data), "line 24 number 5523")

			result = g.run()
			assert.Equal(t, event.Failed, result.Outcome)
			assert.Contains(t, result.Message, "is there already and is never overwritten")
			again, err := os.ReadFile(kept[0])
			require.NoError(t, err)
			assert.True(t, bytes.Equal(data, again))
		},
	)
}

// TestADeviceThatNeverAnsweredIsNotWaitedFor has a gateway that ICMP does not reach: console and prompt
// have to do.
func TestADeviceThatNeverAnsweredIsNotWaitedFor(t *testing.T) {
	t.Parallel()
	text := strings.Replace(shippedText(t, "back-to-the-other-bank"), "icmp:${device.address}", "icmp:192.0.2.77", 1)
	inGateway(t, gatewayOptions{book: text, inputs: map[string]string{}}, func(t *testing.T, g *gateway) {
		result := g.run()
		require.Equal(t, event.Done, result.Outcome, "%s\n%s", result.Message, g.story())
		said := false
		for _, note := range find[event.Note](g.rig) {
			said = said || strings.Contains(note.Text, "icmp:192.0.2.77 does not answer before the restart either")
		}
		assert.True(t, said)
	})
}

func TestALaptopOnAnotherNetworkIsReportedBefore(t *testing.T) {
	t.Parallel()
	inGateway(t, gatewayOptions{}, func(t *testing.T, g *gateway) {
		g.book.Kit.Network = g.lan.Host("eth1", netip.MustParsePrefix("198.51.100.7/24"))
		result := g.run()
		require.Equal(t, event.Failed, result.Outcome, "%s", g.story())
		assert.Contains(t, result.Message,
			"this laptop has no address on the device's network 192.0.2.0/24; it has 198.51.100.7/24 on eth1")
		g.stillRuns(t)
	})
}
