package test

import (
	"context"
	"net"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"pilotrix/bench"
	"pilotrix/core/clock"
	"pilotrix/core/event"
	"pilotrix/core/line"
	"pilotrix/core/session"
	"pilotrix/demo"
)

// TestARestartEndsASessionAndTheRunGoesOn goes back to the other bank over a session that the restart ends: it is
// opened again, let in with what was given once, and the same device is known to be there.
func TestARestartEndsASessionAndTheRunGoesOn(t *testing.T) {
	t.Parallel()
	for _, kind := range []string{"telnet", "ssh"} {
		t.Run(kind, func(t *testing.T) {
			t.Parallel()
			c := clock.Scaled(16)
			lan := bench.NewLAN(true, 7)
			gateway := demo.Gateway(lan, smallImage)
			machine := bench.New("mare-gw1", gateway, c, true)
			listener, err := net.Listen("tcp", "127.0.0.1:0")
			require.NoError(t, err)
			require.NoError(t, machine.At(kind, listener))
			require.NoError(t, machine.Start())
			t.Cleanup(machine.Stop)
			login := map[string]string{"ssh": machine.Login() + "@"}[kind]
			target, err := line.ParseTarget(kind + "://" + login + listener.Addr().String())
			require.NoError(t, err)

			opener := line.NewOpener(c)
			opener.Shells.Home, opener.Shells.Agent = tempDir(t), ""
			asked := 0
			opener.Shells.SetAsk(func(_ context.Context, q line.Question) (string, error) {
				asked++
				if q.Secret {
					return "lamp-and-tide", nil
				}
				return line.KeyIsRight, nil
			})
			d, p := prepared(t, "cormel-g2", "back-to-the-other-bank",
				map[string]string{"user": "harbour", "password": "lamp-and-tide"})
			s, err := session.Open(t.Context(),
				session.Options{Target: target, Dialect: d, Clock: c, Opener: opener, Approve: approveAll})
			require.NoError(t, err, "a device that has been running for long is up")
			defer s.Close("the test ends")
			r := &rig{t: t, session: s, book: p, done: make(chan struct{})}
			r.listen(nil)
			result := r.run()
			require.Equal(t, event.Done, result.Outcome, "%s\n%s", result.Message, r.story())
			release, bankName := gateway.Runs()
			assert.Equal(t, "7.2.0 B", release+" "+bankName)
			var states []string
			for _, l := range find[event.Line](r) {
				states = append(states, l.State)
			}
			require.GreaterOrEqual(t, len(states),
				3) // more where a slow machine takes a line for back that the device drops at once
			assert.Equal(t, []string{event.LineOpen, event.LineLost, event.LineBack},
				append(states[:2:2], states[len(states)-1]))
			assert.Equal(t, map[string]int{"ssh": 2}[kind], asked, "a key and a password, once each")
			for _, e := range r.kept() {
				text, err := e.MarshalJSON()
				require.NoError(t, err)
				require.NotContains(t, string(text), "lamp-and-tide")
			}
		})
	}
}

// TestADeviceWithoutAConsoleIsUpWhenItIsStarted opens one at once, again and again, as whoever has a slow machine does.
func TestADeviceWithoutAConsoleIsUpWhenItIsStarted(t *testing.T) {
	t.Parallel()
	for range 200 {
		lan := bench.NewLAN(true, 7)
		machine := bench.New("quay-wc1", demo.Controller(lan, "3.4"), clock.Real(), true)
		require.NoError(t, machine.Start())
		l, err := machine.Open(t.Context(), line.NewOpener(clock.Real()),
			line.Target{Kind: line.Bench, Address: "quay-wc1"})
		require.NoError(t, err)
		require.NoError(t, l.Close())
		machine.Stop()
	}
}
