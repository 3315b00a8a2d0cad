package preflight

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"net/netip"
	"os"
	"syscall"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"pilotrix/core/carrier"
	"pilotrix/core/clock"
	"pilotrix/core/network"
	"pilotrix/core/network/simulated"
	"pilotrix/core/offer"
	"pilotrix/core/offer/offertest"
	"pilotrix/core/preflight/netfilter"
	"pilotrix/core/transfer/tftp"
)

// served runs a test with a TFTP server that has one file staged.
func served(t *testing.T, use func(t *testing.T, plan Plan)) {
	synctest.Test(t, func(t *testing.T) {
		laptop := simulated.New(1).Host("eth0", netip.MustParsePrefix("192.0.2.10/24"))
		stage := &offer.Stage{}
		offer := offertest.File("lark.cgo", bytes.Repeat([]byte("lark"), 1000))
		_, err := stage.Offer(offer)
		require.NoError(t, err)
		server, err := tftp.Listen(netip.MustParseAddrPort("192.0.2.10:69"),
			tftp.Options{Network: laptop, Stage: stage})
		require.NoError(t, err)
		ctx, cancel := context.WithCancel(t.Context())
		ended := make(chan error, 1)
		go func() { ended <- server.Serve(ctx) }()
		use(t, Plan{
			Network: laptop,
			Clock:   clock.Real(),
			Carrier: carrier.TFTP,
			At:      server.Addr(),
			Offer:   offer,
			Device:  netip.MustParsePrefix("192.0.2.41/24"),
		})
		cancel()
		require.NoError(t, <-ended)
		time.Sleep(time.Minute)
	})
}

func TestAllIsWell(t *testing.T) {
	served(t, func(t *testing.T, plan Plan) {
		results := Run(t.Context(), plan)
		_, failed := Failed(results)
		assert.False(t, failed, "%v", results)
		assert.GreaterOrEqual(t, len(results), 4)
	})
}

func TestEveryFailureHasItsRemedy(t *testing.T) {
	for name, c := range map[string]struct {
		change func(*Plan)
		what   string
		says   string
	}{
		"an address that is another's": {func(p *Plan) { p.At = netip.MustParseAddrPort("192.0.2.99:69") }, "address", "it has 192.0.2.10/24 on eth0"},
		"another network":              {func(p *Plan) { p.Device = netip.MustParsePrefix("198.51.100.4/24") }, "network", "are on different networks"},
		"a file that changed":          {func(p *Plan) { p.Offer.SHA256 = "00" }, "file", "changed since it was checked"},
		"a file that is gone":          {func(p *Plan) { p.Offer.Open = func() (io.ReadSeekCloser, error) { return nil, os.ErrNotExist } }, "file", "cannot be read"},
		"nobody on the port":           {func(p *Plan) { p.At = netip.MustParseAddrPort("192.0.2.10:6969") }, "server", "does not hand the file out"},
		"a name that is not staged":    {func(p *Plan) { p.Offer.Name = "other" }, "server", "no other here"},
		"another file of that name": {func(p *Plan) {
			p.Offer = offertest.File("lark.cgo",
				[]byte("another"))
		}, "server", "hands out another file"},
	} {
		served(t, func(t *testing.T, plan Plan) {
			c.change(&plan)
			bad, failed := Failed(Run(t.Context(), plan))
			require.True(t, failed, name)
			assert.Equal(t, c.what, bad.What, name)
			assert.Contains(t, bad.Text, c.says, name)
			assert.NotEmpty(t, bad.Remedy, name)
		})
	}
}

func TestADeviceBehindAGatewayIsTheOperatorsToSay(t *testing.T) {
	served(t, func(t *testing.T, plan Plan) {
		plan.Device, plan.Said = netip.MustParsePrefix("198.51.100.4/24"), true
		results := Run(t.Context(), plan)
		_, failed := Failed(results)
		assert.False(t, failed)
		assert.Contains(t, fmt.Sprint(results), "are on different networks", "it is told all the same")
	})
}

var switches = Switches{Address: "--at ADDRESS", Port: "--port PROTOCOL=PORT"}

// TestNoSwitchIsNamedThatIsNotThere asks for remedies where another address or port cannot be said.
func TestNoSwitchIsNamedThatIsNotThere(t *testing.T) {
	laptop := simulated.New(1).Host("eth0", netip.MustParsePrefix("192.0.2.10/24"))
	at := netip.MustParseAddrPort("192.0.2.10:69")
	for _, err := range []error{syscall.EADDRINUSE, syscall.EACCES, syscall.EADDRNOTAVAIL} {
		assert.NotContains(t, ListenText(carrier.TFTP, at, err, Switches{}).Remedy, "choose", "%v", err)
		assert.Contains(t, ListenText(carrier.TFTP, at, err, switches).Remedy, "--", "%v", err)
	}
	_, err := Choose(laptop, netip.MustParsePrefix("198.51.100.4/24"), Switches{})
	assert.NotContains(t, err.Error(), "say")
	_, err = Choose(laptop, netip.MustParsePrefix("198.51.100.4/24"), switches)
	assert.ErrorContains(t, err, "say with --at ADDRESS which one")
}

func TestTheAddressIsChosen(t *testing.T) {
	n := simulated.New(1)
	laptop := n.Host("eth0", netip.MustParsePrefix("192.0.2.10/24"))
	got, err := Choose(laptop, netip.MustParsePrefix("192.0.2.41/24"), switches)
	require.NoError(t, err)
	assert.Equal(t, "192.0.2.10", got.String())
	got, err = Choose(laptop, netip.Prefix{}, switches)
	require.NoError(t, err)
	assert.Equal(t, "192.0.2.10", got.String(), "the only one there is")
	_, err = Choose(laptop, netip.MustParsePrefix("198.51.100.4/24"), switches)
	assert.ErrorContains(t, err, "no address on the device's network 198.51.100.0/24; it has 192.0.2.10/24 on eth0")
}

func TestAPortThatIsHeldIsReportedWithItsHolder(t *testing.T) {
	conn, err := network.Host{}.ListenPacket(netip.MustParseAddrPort("127.0.0.1:0"))
	require.NoError(t, err)
	defer conn.Close()
	at := netip.MustParseAddrPort(conn.LocalAddr().String())
	_, err = network.Host{}.ListenPacket(at)
	require.Error(t, err)
	r := ListenText(carrier.TFTP, at, err, switches)
	assert.Contains(t, r.Text, fmt.Sprintf("is held by preflight.test (process %d)", os.Getpid()))
	assert.NotEmpty(t, r.Remedy)
	assert.Contains(t, ListenText(carrier.TFTP, at, fmt.Errorf("bind: %w", syscall.EACCES), switches).Remedy,
		"ip_unprivileged_port_start")
	assert.Contains(t, ListenText(carrier.HTTP, at, fmt.Errorf("bind: %w", syscall.EADDRNOTAVAIL), switches).Text,
		"is no address of this laptop")
	assert.Contains(t, ListenText(carrier.HTTP, at, errors.New("odd"), switches).Text, "odd")
}

// TestTheFilterIsSaidInText has what is judged of the whole conversation as an operator reads it.
func TestTheFilterIsSaidInText(t *testing.T) {
	talk := netfilter.OwnPorts.Conversation(69, netfilter.Ends{
		Here:      netip.MustParseAddr("192.0.2.10"),
		Device:    netip.MustParseAddr("192.0.2.41"),
		Interface: "eth0",
	}, netfilter.Ports{First: 32768, Last: 60999})
	rules := func(policy, expr string) []byte {
		return []byte(
			`{"nftables": [{"chain": {"family": "inet", "table": "guard", "name": "in", "type": "filter", "hook": "input", "prio": 0, "policy": "` + policy + `"}},
			{"rule": {"family": "inet", "table": "guard", "chain": "in", "handle": 7, "expr": [` + expr + `]}}]}`,
		)
	}
	const request = `{"match": {"op": "==", "left": {"payload": {"protocol": "udp", "field": "dport"}}, "right": 69}}, {"accept": null}`
	lets := readFirewall(rules("accept", `{"counter": null}`), talk, "")
	assert.Equal(t,
		"the laptop's packet filter lets the whole conversation through: its request, our blocks, its acknowledgements",
		lets.Text)
	drops := readFirewall(rules("drop", request), talk, "")
	assert.False(t, drops.Held, "the request alone is not all")
	assert.Equal(t, "this laptop's packet filter drops its acknowledgements (table inet guard, chain in)", drops.Text)
	assert.Equal(t, "as root: nft insert rule inet guard in udp dport 32768-60999 accept", drops.Remedy)
	unsure := readFirewall(rules("drop", `{"limit": {"rate": 4}}, {"accept": null}`), talk, "")
	assert.True(t, unsure.Held)
	assert.Contains(t, unsure.Text,
		"cannot tell whether this laptop's packet filter lets its request through (table inet guard, chain in: a rule with limit, handle 7)")
	assert.Contains(t, readFirewall(rules("accept", `{"counter": null}`), talk, "-A INPUT -j DROP").Text,
		"cannot tell whether")
	assert.Contains(t, readFirewall([]byte("oops"), talk, "").Text, "could not be understood")
	assert.False(t, readFirewall(rules("drop", request), talk, "-A INPUT -j DROP").Held, "dropped is dropped")
}
