package carrier

import (
	"context"
	"errors"
	"net/netip"

	"pilotrix/core/arithmetic"
	"pilotrix/core/offer"
	"pilotrix/core/preflight/netfilter"
	"pilotrix/core/transfer/tftp"
)

// TFTP is the trivial file transfer protocol (RFC 1350).
var TFTP = Register(Carrier{
	Name: "tftp", Rank: 1, Port: tftp.Port, Talk: netfilter.OwnPorts, Runs: []string{"DATA", "ACK", "STRAY"},
	Listen: func(at netip.AddrPort, s offer.Serving) (Server, Endpoint, error) {
		server, err := tftp.Listen(at,
			tftp.Options{Network: s.Network, Stage: s.Stage, Clock: s.Clock, Watcher: s.Watcher, Packets: true})
		return server, Endpoint{}, err
	},
	Boot:      func(_ Endpoint, name string) string { return name },
	Estimates: arithmetic.TFTPEstimates,
	Probe: func(ctx context.Context, p Probe) ([]byte, error) {
		first := &firstBlock{got: []byte{}}
		_, err := tftp.Client{Network: p.Network, Clock: p.Clock, Retries: 2}.Get(ctx, p.At, p.Name, first)
		if errors.Is(err, errEnough) {
			err = nil
		}
		return first.got, err
	},
})

// errEnough ends a transfer after its first block.
var errEnough = errors.New("the first block is enough")

type firstBlock struct{ got []byte }

func (f *firstBlock) Write(p []byte) (int, error) {
	f.got = append(f.got, p...)
	return 0, errEnough
}
