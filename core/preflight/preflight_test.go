package preflight

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"net/netip"
	"os"
	"strings"
	"syscall"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"pilotrix/core/clock"
	"pilotrix/core/network"
	"pilotrix/core/network/simulated"
	"pilotrix/core/offer"
	"pilotrix/core/offer/offertest"
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
		server, err := tftp.Listen(netip.MustParseAddrPort("192.0.2.10:69"), tftp.Options{Network: laptop, Stage: stage})
		require.NoError(t, err)
		ctx, cancel := context.WithCancel(t.Context())
		ended := make(chan error, 1)
		go func() { ended <- server.Serve(ctx) }()
		use(t, Plan{Network: laptop, Clock: clock.Real(), Protocol: "tftp", At: server.Addr(), Offer: offer, Device: netip.MustParsePrefix("192.0.2.41/24")})
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
		"another file of that name":    {func(p *Plan) { p.Offer = offertest.File("lark.cgo", []byte("another")) }, "server", "hands out another file"},
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
		assert.NotContains(t, ListenWords("tftp", at, err, Switches{}).Remedy, "choose", "%v", err)
		assert.Contains(t, ListenWords("tftp", at, err, switches).Remedy, "--", "%v", err)
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

func TestAPortThatIsHeldIsToldWithItsHolder(t *testing.T) {
	conn, err := network.Host{}.ListenPacket(netip.MustParseAddrPort("127.0.0.1:0"))
	require.NoError(t, err)
	defer conn.Close()
	at := netip.MustParseAddrPort(conn.LocalAddr().String())
	_, err = network.Host{}.ListenPacket(at)
	require.Error(t, err)
	r := ListenWords("tftp", at, err, switches)
	assert.Contains(t, r.Text, fmt.Sprintf("is held by preflight.test (process %d)", os.Getpid()))
	assert.NotEmpty(t, r.Remedy)
	assert.Contains(t, ListenWords("tftp", at, fmt.Errorf("bind: %w", syscall.EACCES), switches).Remedy, "ip_unprivileged_port_start")
	assert.Contains(t, ListenWords("http", at, fmt.Errorf("bind: %w", syscall.EADDRNOTAVAIL), switches).Text, "is no address of this laptop")
	assert.Contains(t, ListenWords("http", at, errors.New("odd"), switches).Text, "odd")
}

var tftpPacket = packet{protocol: "udp", port: 69, from: netip.MustParseAddr("192.0.2.41"), to: netip.MustParseAddr("192.0.2.10")}

// rules are what nft -j list ruleset prints, shortened.
func rules(policy, rule string) []byte {
	return []byte(`{"nftables": [{"metainfo": {"version": "1.0.6"}}, {"table": {"family": "inet", "name": "guard"}},
		{"chain": {"family": "inet", "table": "guard", "name": "in", "type": "filter", "hook": "input", "prio": 0, "policy": "` + policy + `"}}` + rule + `]}`)
}

func ruleOf(expr string) string {
	return `, {"rule": {"family": "inet", "table": "guard", "chain": "in", "expr": [` + expr + `]}}`
}

func dport(protocol, right string) string {
	return `{"match": {"op": "==", "left": {"payload": {"protocol": "` + protocol + `", "field": "dport"}}, "right": ` + right + `}}`
}

func TestThePacketFilterIsRead(t *testing.T) {
	const accept, lo = `{"accept": null}`, `{"match": {"op": "==", "left": {"meta": {"key": "iifname"}}, "right": "lo"}}`
	for name, c := range map[string]struct {
		rules []byte
		open  bool
	}{
		"accepting":         {rules("accept", ""), true},
		"dropping":          {rules("drop", ""), false},
		"loopback only":     {rules("drop", ruleOf(lo+","+accept)), false},
		"the port":          {rules("drop", ruleOf(dport("udp", "69")+","+accept)), true},
		"another port":      {rules("drop", ruleOf(dport("udp", "53")+","+accept)), false},
		"another protocol":  {rules("drop", ruleOf(dport("tcp", "69")+","+accept)), false},
		"in a set":          {rules("drop", ruleOf(dport("udp", `{"set": [53, 69]}`)+","+accept)), true},
		"in a range":        {rules("drop", ruleOf(dport("udp", `{"range": [60, 70]}`)+","+accept)), true},
		"everything":        {rules("drop", ruleOf(accept)), true},
		"what is not rules": {[]byte("oops"), true},
	} {
		r := readFirewall(c.rules, tftpPacket)
		assert.Equal(t, c.open, r.Held, name)
		assert.Equal(t, !c.open, r.Remedy != "", name)
	}
	assert.Equal(t, "as root: nft insert rule inet guard in udp dport 69 accept", readFirewall(rules("drop", ""), tftpPacket).Remedy)
}

func saddr(op, right string) string {
	return `{"match":{"op":` + op + `,"left":{"payload":{"protocol":"ip","field":"saddr"}},"right":` + right + `}}`
}

// TestWhatCannotBeToldIsSaid has rules that only the kernel can judge: neither open nor shut is claimed of them.
func TestWhatCannotBeToldIsSaid(t *testing.T) {
	for name, c := range map[string]struct{ policy, expr, says string }{
		"a limit":         {"drop", `{"limit":{"rate":4}},{"accept":null}`, "a rule with limit"},
		"a named set":     {"drop", `{"match":{"op":"==","left":{"payload":{"protocol":"ip","field":"saddr"}},"right":"@friends"}},{"accept":null}`, "the set @friends"},
		"a map":           {"accept", `{"vmap":{"key":{},"data":{}}}`, "a rule with vmap"},
		"an interface":    {"accept", `{"match":{"op":"==","left":{"meta":{"key":"iifname"}},"right":"eth1"}},{"drop":null}`, "the interface eth1"},
		"another program": {"accept", `{"xt":null},{"drop":null}`, "a rule with xt"},
	} {
		got := readFirewall(rules(c.policy, ruleOf(c.expr)), tftpPacket)
		assert.True(t, got.Held, name)
		assert.Contains(t, got.Text, "cannot tell whether", name)
		assert.Contains(t, got.Text, c.says, name)
	}
	assert.NotContains(t, readFirewall(rules("accept", ruleOf(`{"limit":{"rate":4}},{"accept":null}`)), tftpPacket).Text, "cannot tell", "either way it is let through")
}

func TestTheFilterIsReadInItsOrder(t *testing.T) {
	chain := func(name, hook, policy string) string {
		return fmt.Sprintf(`{"chain":{"family":"inet","table":"f","name":%q,"hook":%q,"policy":%q}}`, name, hook, policy)
	}
	rule := func(name, expr string) string {
		return fmt.Sprintf(`{"rule":{"family":"inet","table":"f","chain":%q,"expr":[%s]}}`, name, expr)
	}
	const tftp = `{"match":{"left":{"payload":{"protocol":"udp","field":"dport"}},"right":69}}`
	const established = `{"match":{"left":{"ct":{"key":"state"}},"right":"established"}}`
	for name, c := range map[string]struct {
		held    bool
		objects []string
	}{
		"accepts, and rejects at the end":   {false, []string{chain("in", "input", "accept"), rule("in", established+`,{"accept":null}`), rule("in", `{"reject":{}}`)}},
		"a rule of the output chain":        {false, []string{chain("in", "input", "drop"), chain("out", "output", "accept"), rule("out", `{"accept":null}`)}},
		"let through before the reject":     {true, []string{chain("in", "input", "accept"), rule("in", tftp+`,{"accept":null}`), rule("in", `{"reject":{}}`)}},
		"let through behind the reject":     {false, []string{chain("in", "input", "accept"), rule("in", `{"drop":null}`), rule("in", tftp+`,{"accept":null}`)}},
		"let through in a chain of its own": {true, []string{chain("in", "input", "drop"), rule("in", `{"jump":{"target":"own"}}`), rule("own", tftp+`,{"accept":null}`)}},
		"rejected in a chain of its own":    {false, []string{chain("in", "input", "accept"), rule("in", `{"jump":{"target":"own"}}`), rule("own", `{"reject":{}}`)}},
		"some are dropped":                  {true, []string{chain("in", "input", "accept"), rule("in", established+`,{"drop":null}`)}},
		"not from that network":             {false, []string{chain("in", "input", "drop"), rule("in", saddr(`"!="`, `{"prefix":{"addr":"192.0.2.0","len":24}}`)+`,{"accept":null}`)}},
		"from that network":                 {true, []string{chain("in", "input", "drop"), rule("in", saddr(`"=="`, `{"prefix":{"addr":"192.0.2.0","len":24}}`)+`,`+tftp+`,{"accept":null}`)}},
		"rejects that device":               {false, []string{chain("in", "input", "accept"), rule("in", saddr(`"=="`, `{"set":["192.0.2.9","192.0.2.41"]}`)+`,{"reject":{}}`)}},
		"anything but that port":            {false, []string{chain("in", "input", "accept"), rule("in", `{"match":{"op":"!=","left":{"payload":{"protocol":"udp","field":"dport"}},"right":53}},{"drop":null}`)}},
		"what is new":                       {true, []string{chain("in", "input", "drop"), rule("in", `{"match":{"op":"in","left":{"ct":{"key":"state"}},"right":["established","new"]}},{"accept":null}`)}},
		"returns before it is dropped":      {true, []string{chain("in", "input", "accept"), rule("in", `{"jump":{"target":"own"}}`), rule("own", tftp+`,{"return":null}`), rule("own", `{"drop":null}`)}},
		"a second table drops it":           {false, []string{chain("in", "input", "accept"), rule("in", `{"accept":null}`), `{"chain":{"family":"ip","table":"g","name":"late","hook":"input","prio":10,"policy":"drop"}}`}},
		"a table for IPv6":                  {true, []string{`{"chain":{"family":"ip6","table":"g","name":"in","hook":"input","policy":"drop"}}`}},
	} {
		got := readFirewall([]byte(`{"nftables":[`+strings.Join(c.objects, ",")+`]}`), tftpPacket)
		assert.Equal(t, c.held, got.Held, "%s: %s", name, got.Text)
	}
}
