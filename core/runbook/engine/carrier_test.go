package engine_test

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"net/netip"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"testing/synctest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"pilotrix/core/arithmetic"
	"pilotrix/core/carrier"
	"pilotrix/core/device"
	"pilotrix/core/event"
	"pilotrix/core/network/simulated"
	"pilotrix/core/offer"
	"pilotrix/core/preflight/netfilter"
	"pilotrix/core/runbook"
	"pilotrix/core/runbook/engine"
	"pilotrix/core/sense"
)

// semaphore is a carrier that is here only: a line with the file's name is answered by the file. It is all that it
// takes to serve by another protocol.
var semaphore = carrier.Register(carrier.Carrier{
	Name: "semaphore", Rank: 9, Port: 1792, Talk: netfilter.OneConnection,
	Listen: func(at netip.AddrPort, s offer.Serving) (carrier.Server, carrier.Endpoint, error) {
		listener, err := s.Network.Listen(at)
		return &tower{listener, s.Stage}, carrier.Endpoint{User: "chappe", Password: "arms-of-the-tower"}, err
	},
	Text:      func(e carrier.Endpoint) string { return fmt.Sprintf("SEMAPHORE: %s", e.At) },
	Estimates: arithmetic.StreamEstimate,
	Probe: func(ctx context.Context, p carrier.Probe) ([]byte, error) {
		conn, err := p.Network.Dial(ctx, p.At)
		if err != nil {
			return nil, err
		}
		defer conn.Close()
		if _, err := fmt.Fprintln(conn, p.Name); err != nil {
			return nil, err
		}
		return io.ReadAll(io.LimitReader(conn, carrier.FirstBytes))
	},
})

type tower struct {
	net.Listener
	stage *offer.Stage
}

func (t *tower) Addr() netip.AddrPort { return t.Listener.Addr().(*net.TCPAddr).AddrPort() }

func (t *tower) Serve(ctx context.Context) error {
	context.AfterFunc(ctx, func() { _ = t.Close() })
	for {
		conn, err := t.Accept()
		if err != nil {
			if errors.Is(err, net.ErrClosed) || ctx.Err() != nil {
				err = nil
			}
			return err
		}
		var name string
		if _, err := fmt.Fscanln(conn, &name); err == nil {
			if staged, _, err := t.stage.Find(name); err == nil {
				if file, err := staged.Open(); err == nil {
					_, _ = io.Copy(conn, file)
					_ = file.Close()
				}
			}
		}
		_ = conn.Close()
	}
}

func TestACarrierIsOneFile(t *testing.T) {
	path := filepath.Join(t.TempDir(), "lamp.img")
	require.NoError(t, os.WriteFile(path, []byte("release 4.2.1\n"+strings.Repeat("lamp", 500)), 0o600))
	c := &echoing{t: t, view: sense.State{Mode: "ready", AtPrompt: true}, answers: map[string][]string{}}
	synctest.Test(t, func(t *testing.T) {
		laptop := simulated.New(1).Host("eth0", netip.MustParsePrefix("192.0.2.10/24"))
		book, err := runbook.Parse("book.yaml", []byte(`
runbook: r
inputs: [{input: image, kind: image}, {input: by, kind: choice, choices: [tftp, semaphore], default: semaphore}]
phases: [{phase: one, steps: [
  {step: Offer it, serve: {file: image, protocol: '${by}', device: 192.0.2.41/24}},
  {step: Fetch it, act: {action: set, with: {to: '${serve.protocol} ${serve.address} ${serve.port} ${serve.name} ${serve.user}'}}}]}]
`))
		require.NoError(t, err)
		p, err := book.Prepare(small(t), map[string]string{"image": path}, runbook.Kit{Network: laptop})
		require.NoError(t, err)
		plan := p.Plan(&device.Facts{})
		assert.Contains(t, plan.Steps[0].Does[0], "lamp.img (2014 B) by SEMAPHORE")
		assert.Contains(t, strings.Join(plan.Steps[0].Estimates, "\n"), "semaphore, one stream: about 0s (chosen)")
		assert.Equal(t, engine.ExitDone, engine.New(p, c).Execute(t.Context()).Exit, "%v", c.events)
	})
	assert.Equal(t, []string{"set semaphore 192.0.2.10 1792 lamp.img chappe"}, c.typed)
	said := fmt.Sprintf("%+v", c.events)
	assert.Contains(t, said, "SEMAPHORE at 192.0.2.10:1792 hands lamp.img out")
	var servers []event.Server
	for _, e := range c.events {
		if server, ok := e.(event.Server); ok {
			servers = append(servers, server)
		}
	}
	require.Len(t, servers, 2, "it ended with the run")
	assert.Equal(t, event.Server{Name: "SEMAPHORE", State: event.Listening, Address: "192.0.2.10:1792"}, servers[0])
	assert.Same(t, semaphore, semaphore.Server())
}
