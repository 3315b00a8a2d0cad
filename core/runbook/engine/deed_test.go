package engine_test

import (
	"context"
	"errors"
	"fmt"
	"net/netip"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"pilotrix/core/carrier"
	"pilotrix/core/event"
	"pilotrix/core/network"
	"pilotrix/core/network/simulated"
	"pilotrix/core/offer"
	"pilotrix/core/runbook"
	"pilotrix/core/runbook/engine"
	"pilotrix/core/runbook/verbs"
	"pilotrix/core/sense"
	"pilotrix/core/transfer/tftp"
)

// offers prepares the offer of a file on a network of its own, of which a device's end is given too.
func offers(t *testing.T, size int, values map[string]string) (p *runbook.Prepared, peer network.Network) {
	path := filepath.Join(t.TempDir(), "lamp.img")
	require.NoError(t, os.WriteFile(path, []byte(strings.Repeat("lamp", size/4)), 0o600))
	wire := simulated.New(1)
	laptop := wire.Host("eth0", netip.MustParsePrefix("192.0.2.10/24"))
	book, err := verbs.ByHandNamed("offer").Make(verbs.Place{Address: "192.0.2.41/24"})
	require.NoError(t, err)
	values["file"] = path
	p, err = book.Prepare(small(t), values, runbook.Kit{Network: laptop})
	require.NoError(t, err)
	return p, wire.Host("eth0", netip.MustParsePrefix("192.0.2.41/24"))
}

// reports are the deed's events.
func (c *echoing) deeds() (all []event.Deed) {
	for _, e := range c.events {
		if d, ok := e.(event.Deed); ok {
			all = append(all, d)
		}
	}
	return all
}

func TestAFileIsOfferedUntilItIsFetched(t *testing.T) {
	c := &echoing{t: t, view: sense.State{Mode: "ready", AtPrompt: true}}
	synctest.Test(t, func(t *testing.T) {
		p, device := offers(t, 200_000, map[string]string{"protocol": "tftp"})
		advice, done := make(chan string, 1), make(chan error, 1)
		go func() {
			done <- engine.Deed{ID: "7", Prepared: p, Advise: func(text string) { advice <- text }}.Execute(t.Context(), c)
		}()
		assert.Equal(t, "TFTP, 192.0.2.10, lamp.img", <-advice)
		client := tftp.Client{Network: device}
		short, cut := context.WithCancel(t.Context())
		_, err := client.Get(short, netip.MustParseAddrPort("192.0.2.10:69"), "lamp.img", cutting{cut})
		require.Error(t, err)
		time.Sleep(time.Minute)
		select {
		case err := <-done:
			t.Fatalf("a part of it was taken for the whole: %v", err)
		default:
		}
		var got strings.Builder
		_, err = client.Get(t.Context(), netip.MustParseAddrPort("192.0.2.10:69"), "lamp.img", &got)
		require.NoError(t, err)
		require.NoError(t, <-done)
		assert.Equal(t, 200_000, got.Len())
	})
	all := c.deeds()
	assert.Equal(t, event.DeedBegun, all[0].State)
	assert.Equal(t, "Offer lamp.img", all[0].Title)
	end := all[len(all)-1]
	assert.Equal(t, event.Deed{ID: "7", Verb: "offer", Title: "Offer lamp.img", State: event.DeedEnded, Outcome: event.Done}, end)
	assert.Empty(t, c.typed)
	assert.Contains(t, fmt.Sprintf("%+v", c.events), "lamp.img was fetched whole by 192.0.2.41")
}

// cutting ends a transfer in its middle.
type cutting struct{ cut func() }

func (c cutting) Write(p []byte) (int, error) {
	c.cut()
	return 0, errors.New("the device is switched off")
}

// TestADeedTouchesNoRun has deeds of all kinds of ends, and looks at all that is said of them.
func TestADeedTouchesNoRun(t *testing.T) {
	ends := map[string]struct {
		protocol string
		cut      error
		outcome  event.Outcome
		says     string
	}{
		"fetched":        {protocol: "tftp", outcome: event.Done},
		"ended":          {protocol: "http", cut: errors.New("ended by the operator"), outcome: event.Stopped, says: "ended by the operator"},
		"no such place":  {protocol: "tftp", outcome: event.Failed, says: "198.51.100.1"},
		"with a account": {protocol: "ftp", cut: errors.New("the session ended"), outcome: event.Stopped, says: "the session ended"},
	}
	for name, end := range ends {
		c := &echoing{t: t, view: sense.State{Mode: "ready", AtPrompt: true}}
		synctest.Test(t, func(t *testing.T) {
			values := map[string]string{"protocol": end.protocol}
			if name == "no such place" {
				values["address"] = "198.51.100.1"
			}
			p, device := offers(t, 5000, values)
			ctx, cancel := context.WithCancelCause(t.Context())
			defer cancel(nil)
			advice, done := make(chan string, 1), make(chan error, 1)
			go func() {
				done <- engine.Deed{ID: "1", Prepared: p, Advise: func(text string) { advice <- text }}.Execute(ctx, c)
			}()
			text := ""
			if end.outcome != event.Failed {
				text = <-advice
			}
			if end.cut != nil {
				cancel(end.cut)
			} else if end.outcome == event.Done {
				_, err := tftp.Client{Network: device}.Get(t.Context(), netip.MustParseAddrPort("192.0.2.10:69"), "lamp.img", &strings.Builder{})
				require.NoError(t, err)
			}
			<-done
			if end.protocol == carrier.FTP.Name {
				_, password, there := strings.Cut(text, "password ")
				require.True(t, there)
				assert.NotContains(t, fmt.Sprintf("%+v", c.deeds()), strings.TrimSuffix(strings.Fields(password)[0], ","))
			}
		})
		for _, body := range c.events {
			switch body.(type) {
			case event.Deed, event.Note, event.Secret, event.Server, event.Staged, event.Rung, event.TransferBegin,
				event.Transfer, event.TransferEnd:
			default:
				assert.Failf(t, "an event of a run", "%s: %T", name, body)
			}
		}
		last := c.deeds()[len(c.deeds())-1]
		assert.Equal(t, end.outcome, last.Outcome, "%s: %s", name, last.Message)
		assert.Contains(t, last.Message, end.says, name)
		servers := 0
		for _, e := range c.events {
			if server, ok := e.(event.Server); ok {
				servers += map[string]int{event.Listening: 1, event.Ended: -1}[server.State]
			}
		}
		assert.Zero(t, servers, "%s: every server that was begun has ended", name)
	}
}

// TestADeedTypesNothing has one that would, with each verb that types.
func TestADeedTypesNothing(t *testing.T) {
	for _, step := range []string{
		"act: {action: set, with: {to: x}}", "read: [self]", "wait: {mode: ready}", "speed: {to: 9600}",
	} {
		c := &echoing{t: t, baud: 115200, view: sense.State{Mode: "ready", AtPrompt: true}}
		synctest.Test(t, func(t *testing.T) {
			p, err := prepare(t, "runbook: r\nphases:\n  - phase: one\n    steps:\n      - {step: S, "+step+"}\n", nil)
			if err != nil {
				return // the small dialect has no such thing
			}
			_ = engine.Deed{ID: "1", Prepared: p}.Execute(t.Context(), c)
		})
		assert.Empty(t, c.typed, step)
		for _, e := range c.events {
			_, asks := e.(event.Ask)
			assert.False(t, asks, step)
		}
	}
}

// byHand begins something that is done by hand, on a network of its own, of which a device's end is given too.
func byHand(t *testing.T, c *echoing, name string, values map[string]string) (
	device network.Network, advice <-chan string, done <-chan error,
) {
	wire := simulated.New(1)
	laptop := wire.Host("eth0", netip.MustParsePrefix("192.0.2.10/24"))
	book, err := verbs.ByHandNamed(name).Make(verbs.Place{Address: "192.0.2.41/24"})
	require.NoError(t, err)
	p, err := book.Prepare(small(t), values, runbook.Kit{Network: laptop})
	require.NoError(t, err)
	advised, ended := make(chan string, 1), make(chan error, 1)
	go func() {
		ended <- engine.Deed{ID: "1", Prepared: p, Advise: func(text string) { advised <- text }}.Execute(t.Context(), c)
	}()
	return wire.Host("lan", netip.MustParsePrefix("192.0.2.41/24")), advised, ended
}

// TestWhatADeviceLeavesIsTaken has a device leave a file by hand, and another that is not awaited.
func TestWhatADeviceLeavesIsTaken(t *testing.T) {
	folder := t.TempDir()
	c := &echoing{t: t, view: sense.State{Mode: "ready", AtPrompt: true}}
	synctest.Test(t, func(t *testing.T) {
		device, advice, done := byHand(t, c, "slot", map[string]string{"as": "saved.conf", "into": folder, "protocol": "tftp"})
		assert.Equal(t, "TFTP, 192.0.2.10, saved.conf", <-advice)
		client, at := tftp.Client{Network: device}, netip.MustParseAddrPort("192.0.2.10:69")
		_, err := client.Put(t.Context(), at, "other.conf", strings.NewReader("lamp"), 4)
		require.Error(t, err)
		_, err = client.Put(t.Context(), at, "saved.conf", strings.NewReader("lamp"), 4)
		require.NoError(t, err)
		require.NoError(t, <-done)
	})
	kept, err := os.ReadFile(filepath.Join(folder, "saved.conf"))
	require.NoError(t, err)
	assert.Equal(t, "lamp", string(kept))
	assert.NoFileExists(t, filepath.Join(folder, "other.conf"))
	for _, e := range c.events {
		if begin, ok := e.(event.TransferBegin); ok {
			assert.Equal(t, "1", begin.Deed)
		}
	}
}

// TestAnOfferEndsAtItsTime, says so, and lets nobody fetch any more.
func TestAnOfferEndsAtItsTime(t *testing.T) {
	c := &echoing{t: t, view: sense.State{Mode: "ready", AtPrompt: true}}
	synctest.Test(t, func(t *testing.T) {
		path := filepath.Join(t.TempDir(), "lamp.img")
		require.NoError(t, os.WriteFile(path, []byte("lamp"), 0o600))
		device, advice, done := byHand(t, c, "offer", map[string]string{"file": path, "protocol": "tftp", "for": "30m"})
		<-advice
		begun := time.Now()
		err := <-done
		assert.ErrorContains(t, err, "ended after 30 min")
		assert.Equal(t, 30*time.Minute, time.Since(begun).Round(time.Minute))
		_, err = tftp.Client{Network: device}.Get(t.Context(), netip.MustParseAddrPort("192.0.2.10:69"), "lamp.img", &strings.Builder{})
		assert.Error(t, err)
	})
	all := c.deeds()
	assert.False(t, all[1].Until.IsZero(), "when it ends is said")
	for _, wrong := range []string{"soon", "-5m", "0s"} {
		c := &echoing{t: t, view: sense.State{Mode: "ready", AtPrompt: true}}
		synctest.Test(t, func(t *testing.T) {
			_, _, done := byHand(t, c, "slot", map[string]string{"as": "x", "into": t.TempDir(), "protocol": "tftp", "for": wrong})
			assert.ErrorContains(t, <-done, "no time such as 30m")
		})
	}
}

// TestAFileIsPutToALoaderByHand asks meanwhile for what is to be done by hand, and ends where that is stopped.
func TestAFileIsPutToALoaderByHand(t *testing.T) {
	for _, answer := range []string{engine.DoneByMe, engine.StopHere} {
		c := &echoing{t: t, view: sense.State{Mode: "ready", AtPrompt: true}}
		folder := t.TempDir()
		synctest.Test(t, func(t *testing.T) {
			path := filepath.Join(t.TempDir(), "lamp.img")
			require.NoError(t, os.WriteFile(path, []byte(strings.Repeat("lamp", 5000)), 0o600))
			asked := make(chan event.Ask, 1)
			c.decide = func(ask event.Ask) string {
				asked <- ask
				time.Sleep(20 * time.Second)
				return answer
			}
			device, _, done := byHand(t, c, "put-to-loader", map[string]string{"file": path, "loader": "192.0.2.41"})
			ask := <-asked
			assert.Equal(t, "1", ask.Deed)
			assert.Equal(t, event.FormOperator, ask.Form)
			assert.Empty(t, ask.Step, "it is no step of a run")
			if answer == engine.StopHere {
				assert.ErrorIs(t, <-done, engine.ErrStopped)
				return
			}
			time.Sleep(40 * time.Second)
			stage := &offer.Stage{}
			_, err := stage.OpenSlot(offer.Slot{Name: "lamp.img", Folder: folder, Most: 1 << 20})
			require.NoError(t, err)
			loader, err := tftp.Listen(netip.MustParseAddrPort("192.0.2.41:69"), tftp.Options{Network: device, Stage: stage})
			require.NoError(t, err)
			ctx, end := context.WithCancel(t.Context())
			ended := make(chan error, 1)
			go func() { ended <- loader.Serve(ctx) }()
			require.NoError(t, <-done)
			end()
			<-ended
		})
		if answer == engine.DoneByMe {
			got, err := os.ReadFile(filepath.Join(folder, "lamp.img"))
			require.NoError(t, err)
			assert.Len(t, got, 20_000)
		}
	}
}

// TestWhatIsTypedByHandIsWhatIsAsked has every way of doing something by hand made and checked, with nothing known of
// the place and with all.
func TestWhatIsTypedByHandIsWhatIsAsked(t *testing.T) {
	known := verbs.Place{Address: "192.0.2.41/24", Dialect: small(t), Shell: true, Folder: t.TempDir()}
	for _, menu := range []verbs.Menu{verbs.Sending, verbs.Offering, verbs.Watching, verbs.Entering} {
		require.NotEmpty(t, verbs.ByHandIn(menu))
		for _, one := range verbs.ByHandIn(menu) {
			for _, place := range []verbs.Place{{}, known} {
				if one.Lacks != nil && one.Lacks(place) != "" {
					continue
				}
				book, err := one.Make(place)
				require.NoError(t, err, one.Name)
				assert.Equal(t, one.Name, book.Runbook)
				assert.Empty(t, book.WhyNot(small(t)), one.Name)
				for _, input := range book.Inputs {
					assert.NotEmpty(t, input.About, "%s %s", one.Name, input.Input)
				}
			}
		}
	}
}
