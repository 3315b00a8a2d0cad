package provision

import (
	"fmt"
	"net"
	"net/netip"
	"testing"
	"time"

	"github.com/insomniacslk/dhcp/dhcpv4"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

var noon = time.Date(2026, 3, 2, 12, 0, 0, 0, time.UTC)

func options() Options {
	return Options{
		Own:      netip.MustParsePrefix("192.0.2.10/24"),
		First:    netip.MustParseAddr("192.0.2.100"),
		Last:     netip.MustParseAddr("192.0.2.103"),
		Lease:    10 * time.Minute,
		Router:   netip.MustParseAddr("192.0.2.1"),
		Reserved: map[string]netip.Addr{mac(9).String(): netip.MustParseAddr("192.0.2.102")},
		Admit:    func(Client) Verdict { return Served },
		Give: func(c Client) Given {
			return Given{BootFile: "strand-3.2.msl", Server: netip.MustParseAddr("192.0.2.10"), HostName: "tangle-sw2"}
		},
	}
}

func mac(n byte) net.HardwareAddr { return net.HardwareAddr{2, 0, 0x5e, 0x10, 0, n} }

// message is one from a client.
func message(t require.TestingT, kind dhcpv4.MessageType, who byte, change ...dhcpv4.Modifier) *dhcpv4.DHCPv4 {
	m, err := dhcpv4.New(
		append([]dhcpv4.Modifier{dhcpv4.WithHwAddr(mac(who)), dhcpv4.WithMessageType(kind)}, change...)...)
	require.NoError(t, err)
	return m
}

func wants(addr string) dhcpv4.Modifier {
	return dhcpv4.WithOption(dhcpv4.OptRequestedIPAddress(net.ParseIP(addr)))
}

func from(server string) dhcpv4.Modifier {
	return dhcpv4.WithOption(dhcpv4.OptServerIdentifier(net.ParseIP(server)))
}

func kinds(report []Reported) (all []string) {
	for _, one := range report {
		all = append(all, one.Kind)
	}
	return all
}

func TestAClientIsGivenWhatItFetches(t *testing.T) {
	s, err := New(options(), nil)
	require.NoError(t, err)
	offer, report := s.Handle(
		message(t, dhcpv4.MessageTypeDiscover, 1, dhcpv4.WithOption(dhcpv4.OptHostName("new-one\x1b[2J"))), noon)
	require.NotNil(t, offer)
	assert.Equal(t, []string{Asked, Offered}, kinds(report))
	assert.NotContains(t, report[0].Client.HostName, "\x1b")
	assert.Equal(t, dhcpv4.MessageTypeOffer, offer.MessageType())
	assert.Equal(t, "192.0.2.100", offer.YourIPAddr.String())
	assert.Equal(t, "255.255.255.0", net.IP(offer.SubnetMask()).String())
	assert.Equal(t, "192.0.2.1", offer.Router()[0].String())
	assert.Equal(t, "strand-3.2.msl", offer.BootFileNameOption())
	assert.Equal(t, "strand-3.2.msl", offer.BootFileName)
	assert.Equal(t, "192.0.2.10", offer.TFTPServerName())
	assert.Equal(t, "192.0.2.10", offer.ServerIPAddr.String())
	assert.Equal(t, net.IP{192, 0, 2, 10}, net.IP(offer.Options.Get(dhcpv4.GenericOptionCode(optionTFTPServers))))
	assert.Equal(t, "tangle-sw2", offer.HostName())
	assert.Empty(t, s.Leases(), "an offer is no lease")

	ack, report := s.Handle(message(t, dhcpv4.MessageTypeRequest, 1, wants("192.0.2.100"), from("192.0.2.10")),
		noon.Add(time.Second))
	require.NotNil(t, ack)
	assert.Equal(t, []string{Asked, Leased}, kinds(report))
	assert.Equal(t, 10*time.Minute, ack.IPAddressLeaseTime(0))
	require.Len(t, s.Leases(), 1)
	again, err := New(options(), s.Leases())
	require.NoError(t, err)
	offer, _ = again.Handle(message(t, dhcpv4.MessageTypeDiscover, 2), noon)
	assert.Equal(t, "192.0.2.101", offer.YourIPAddr.String(), "a lease that was kept is not given to another one")
	renewed, _ := again.Handle(
		message(t, dhcpv4.MessageTypeRequest, 1, dhcpv4.WithClientIP(net.ParseIP("192.0.2.100"))),
		noon.Add(5*time.Minute))
	require.NotNil(t, renewed)
	assert.Equal(t, netip.MustParseAddrPort("192.0.2.100:68"),
		again.To(message(t, dhcpv4.MessageTypeRequest, 1, dhcpv4.WithClientIP(net.ParseIP("192.0.2.100"))), renewed))
	assert.Equal(t, netip.MustParseAddrPort("255.255.255.255:68"),
		again.To(message(t, dhcpv4.MessageTypeDiscover, 1), offer))
}

// cases are messages in a row, and what comes of the last one.
var cases = map[string]struct {
	messages func(t *testing.T) []*dhcpv4.DHCPv4
	kind     dhcpv4.MessageType // of the answer, none for none
	addr     string
	reported string
	admit    Verdict
}{
	"one for whom an address is kept": {func(t *testing.T) []*dhcpv4.DHCPv4 {
		return []*dhcpv4.DHCPv4{message(t, dhcpv4.MessageTypeDiscover, 9)}
	}, dhcpv4.MessageTypeOffer, "192.0.2.102", Offered, Served},
	"what is kept for another one": {func(t *testing.T) []*dhcpv4.DHCPv4 {
		return []*dhcpv4.DHCPv4{message(t, dhcpv4.MessageTypeRequest, 1, wants("192.0.2.102"), from("192.0.2.10"))}
	}, dhcpv4.MessageTypeNak, "", Refused, Served},
	"one that wants a certain address": {func(t *testing.T) []*dhcpv4.DHCPv4 {
		return []*dhcpv4.DHCPv4{message(t, dhcpv4.MessageTypeDiscover, 1, wants("192.0.2.103"))}
	}, dhcpv4.MessageTypeOffer, "192.0.2.103", Offered, Served},
	"one that wants this laptop's": {func(t *testing.T) []*dhcpv4.DHCPv4 {
		return []*dhcpv4.DHCPv4{message(t, dhcpv4.MessageTypeRequest, 1, wants("192.0.2.10"), from("192.0.2.10"))}
	}, dhcpv4.MessageTypeNak, "", Refused, Served},
	"one that comes from another network": {func(t *testing.T) []*dhcpv4.DHCPv4 {
		return []*dhcpv4.DHCPv4{message(t, dhcpv4.MessageTypeRequest, 1, wants("198.51.100.7"))}
	}, dhcpv4.MessageTypeNak, "", Refused, Served},
	"one that asks for what nobody knows of": {func(t *testing.T) []*dhcpv4.DHCPv4 {
		return []*dhcpv4.DHCPv4{message(t, dhcpv4.MessageTypeRequest, 1, wants("192.0.2.77"))}
	}, dhcpv4.MessageTypeNone, "", Left, Served},
	"one that goes on with what it had": {func(t *testing.T) []*dhcpv4.DHCPv4 {
		return []*dhcpv4.DHCPv4{message(t, dhcpv4.MessageTypeRequest, 1, wants("192.0.2.101"))}
	}, dhcpv4.MessageTypeAck, "192.0.2.101", Leased, Served},
	"one that took another server's offer": {func(t *testing.T) []*dhcpv4.DHCPv4 {
		return []*dhcpv4.DHCPv4{
			message(t, dhcpv4.MessageTypeDiscover, 1),
			message(t, dhcpv4.MessageTypeRequest, 1, wants("192.0.2.200"), from("192.0.2.66")),
		}
	}, dhcpv4.MessageTypeNone, "192.0.2.66", Another, Served},
	"one that found its address taken": {func(t *testing.T) []*dhcpv4.DHCPv4 {
		return []*dhcpv4.DHCPv4{
			message(t, dhcpv4.MessageTypeDiscover, 1),
			message(t, dhcpv4.MessageTypeDecline, 1, wants("192.0.2.100"), from("192.0.2.10")),
		}
	}, dhcpv4.MessageTypeNone, "192.0.2.100", Conflict, Served},
	"one after that": {func(t *testing.T) []*dhcpv4.DHCPv4 {
		return []*dhcpv4.DHCPv4{
			message(t, dhcpv4.MessageTypeDiscover, 1),
			message(t, dhcpv4.MessageTypeDecline, 1, wants("192.0.2.100"), from("192.0.2.10")),
			message(t, dhcpv4.MessageTypeDiscover, 1),
		}
	}, dhcpv4.MessageTypeOffer, "192.0.2.101", Offered, Served},
	"one more than there are": {func(t *testing.T) (all []*dhcpv4.DHCPv4) {
		for who := range byte(4) {
			all = append(all, message(t, dhcpv4.MessageTypeDiscover, who+1))
		}
		return all
	}, dhcpv4.MessageTypeNone, "", Left, Served},
	"one that gives its address back": {func(t *testing.T) []*dhcpv4.DHCPv4 {
		return []*dhcpv4.DHCPv4{
			message(
				t,
				dhcpv4.MessageTypeDiscover,
				1,
			),
			message(t, dhcpv4.MessageTypeRequest, 1, wants("192.0.2.100"), from("192.0.2.10")),
			message(t, dhcpv4.MessageTypeRelease, 1, dhcpv4.WithClientIP(net.ParseIP("192.0.2.100")),
				from("192.0.2.10")),
		}
	}, dhcpv4.MessageTypeNone, "192.0.2.100", Freed, Served},
	"one that has an address of its own": {func(t *testing.T) []*dhcpv4.DHCPv4 {
		return []*dhcpv4.DHCPv4{message(t, dhcpv4.MessageTypeInform, 1, dhcpv4.WithClientIP(net.ParseIP("192.0.2.30")))}
	}, dhcpv4.MessageTypeAck, "0.0.0.0", Leased, Served},
	"one that came over a relay": {func(t *testing.T) []*dhcpv4.DHCPv4 {
		return []*dhcpv4.DHCPv4{
			message(t, dhcpv4.MessageTypeDiscover, 1, dhcpv4.WithRelay(net.ParseIP("198.51.100.1"))),
		}
	}, dhcpv4.MessageTypeNone, "", Left, Served},
	"an answer of another server": {func(t *testing.T) []*dhcpv4.DHCPv4 {
		m := message(t, dhcpv4.MessageTypeOffer, 1)
		m.OpCode = dhcpv4.OpcodeBootReply
		return []*dhcpv4.DHCPv4{m}
	}, dhcpv4.MessageTypeNone, "", Left, Served},
	"one of BOOTP": {func(t *testing.T) []*dhcpv4.DHCPv4 {
		m := message(t, dhcpv4.MessageTypeDiscover, 1)
		m.Options = dhcpv4.Options{}
		return []*dhcpv4.DHCPv4{m}
	}, bootReply, "192.0.2.100", Leased, Served},
	"one that came over a relay of this network": {func(t *testing.T) []*dhcpv4.DHCPv4 {
		return []*dhcpv4.DHCPv4{message(t, dhcpv4.MessageTypeDiscover, 1, dhcpv4.WithRelay(net.ParseIP("192.0.2.99")))}
	}, dhcpv4.MessageTypeOffer, "192.0.2.100", Offered, Served},
	"one that is not meant": {func(t *testing.T) []*dhcpv4.DHCPv4 {
		return []*dhcpv4.DHCPv4{message(t, dhcpv4.MessageTypeDiscover, 1)}
	}, dhcpv4.MessageTypeNone, "", Stranger, Ignored},
	"one that nobody has decided about": {func(t *testing.T) []*dhcpv4.DHCPv4 {
		return []*dhcpv4.DHCPv4{message(t, dhcpv4.MessageTypeDiscover, 1)}
	}, dhcpv4.MessageTypeNone, "", Waits, Undecided},
}

// bootReply stands for an answer that has no kind.
const bootReply dhcpv4.MessageType = 200

func TestWhatIsAnswered(t *testing.T) {
	for name, c := range cases {
		opt := options()
		opt.Admit = func(Client) Verdict { return c.admit }
		s, err := New(opt, nil)
		require.NoError(t, err)
		var answer *dhcpv4.DHCPv4
		var report []Reported
		for i, m := range c.messages(t) {
			answer, report = s.Handle(m, noon.Add(time.Duration(i)*time.Second))
		}
		last := report[len(report)-1]
		assert.Equal(t, c.reported, last.Kind, "%s: %v", name, report)
		if c.kind == dhcpv4.MessageTypeNone {
			assert.Nil(t, answer, name)
			if c.addr != "" {
				assert.Equal(t, c.addr, last.Addr.String(), name)
			}
			continue
		}
		require.NotNil(t, answer, "%s: %v", name, report)
		kind := answer.MessageType()
		if kind == dhcpv4.MessageTypeNone {
			kind = bootReply
		}
		assert.Equal(t, c.kind, kind, name)
		if c.addr != "" {
			assert.Equal(t, c.addr, answer.YourIPAddr.String(), name)
		}
	}
}

func TestWrongOptionsAreReported(t *testing.T) {
	for want, change := range map[string]func(*Options){
		"is no network to give addresses on":    func(o *Options) { o.Own = netip.MustParsePrefix("192.0.2.10/32") },
		"the first address 198.51.100.1 is not": func(o *Options) { o.First = netip.MustParseAddr("198.51.100.1") },
		"comes before the first one":            func(o *Options) { o.First, o.Last = o.Last, o.First },
		"are more than 4096 addresses": func(o *Options) {
			o.Own, o.First, o.Last = netip.MustParsePrefix("10.0.0.1/8"), netip.MustParseAddr("10.1.0.0"), netip.MustParseAddr("10.9.0.0")
			o.Reserved, o.Router = nil, netip.Addr{}
		},
		"a lease of 1s is too short":     func(o *Options) { o.Lease = time.Second },
		"the router 198.51.100.1 is not": func(o *Options) { o.Router = netip.MustParseAddr("198.51.100.1") },
		`"here" is no MAC address`:       func(o *Options) { o.Reserved = map[string]netip.Addr{"here": netip.MustParseAddr("192.0.2.101")} },
		"is this laptop's own address":   func(o *Options) { o.Reserved = map[string]netip.Addr{mac(1).String(): o.Own.Addr()} },
		"192.0.2.101 is reserved for": func(o *Options) {
			o.Reserved = map[string]netip.Addr{mac(1).String(): netip.MustParseAddr("192.0.2.101"), mac(2).String(): netip.MustParseAddr("192.0.2.101")}
		},
		"192.0.2.255 is no host's address": func(o *Options) {
			o.Reserved = map[string]netip.Addr{mac(1).String(): netip.MustParseAddr("192.0.2.255")}
		},
		"the last address 2001:db8::1 is not on": func(o *Options) { o.Last = netip.MustParseAddr("2001:db8::1") },
	} {
		opt := options()
		change(&opt)
		_, err := New(opt, nil)
		assert.ErrorContains(t, err, want)
	}
}

// TestNoAddressIsHadTwice sends messages at random, and holds at each that no two clients have one address, that none
// is outside of what is given, and that every answer is to who asked.
func TestNoAddressIsHadTwice(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		s, err := New(options(), nil)
		require.NoError(t, err)
		now, has := noon, map[string]Lease{}
		for range rapid.IntRange(1, 60).Draw(t, "messages") {
			now = now.Add(time.Duration(rapid.IntRange(0, 400).Draw(t, "seconds")) * time.Second)
			who := rapid.ByteRange(1, 12).Draw(t, "who")
			kind := rapid.SampledFrom([]dhcpv4.MessageType{dhcpv4.MessageTypeDiscover, dhcpv4.MessageTypeDiscover, dhcpv4.MessageTypeRequest, dhcpv4.MessageTypeRequest, dhcpv4.MessageTypeDecline, dhcpv4.MessageTypeRelease, dhcpv4.MessageTypeInform}).
				Draw(t, "kind")
			var change []dhcpv4.Modifier
			addr := fmt.Sprintf("192.0.2.%d", rapid.IntRange(98, 106).Draw(t, "address"))
			if rapid.Bool().Draw(t, "wants") {
				change = append(change, wants(addr))
			} else if rapid.Bool().Draw(t, "has") {
				change = append(change, dhcpv4.WithClientIP(net.ParseIP(addr)))
			}
			if rapid.Bool().Draw(t, "chosen") {
				change = append(change, from(rapid.SampledFrom([]string{"192.0.2.10", "192.0.2.66"}).Draw(t, "server")))
			}
			m := message(t, kind, who, change...)
			answer, _ := s.Handle(m, now)
			if answer != nil && answer.MessageType() == dhcpv4.MessageTypeAck && !answer.YourIPAddr.IsUnspecified() {
				given := addr4(answer.YourIPAddr)
				require.True(t, s.gives(given, mac(who).String()), "%s was given to %d", given, who)
				require.Equal(t, m.TransactionID, answer.TransactionID)
				require.Equal(t, mac(who), answer.ClientHWAddr)
				for other, lease := range has {
					require.False(t, other != mac(who).String() && lease.Addr == given && now.Before(lease.Until),
						"%s has %s until %s", other, given, lease.Until)
				}
				has[mac(who).String()] = Lease{Addr: given, Until: now.Add(10 * time.Minute)}
			}
			switch lease := has[mac(who).String()]; {
			case kind == dhcpv4.MessageTypeRelease && lease.Addr == addr4(m.ClientIPAddr),
				kind == dhcpv4.MessageTypeDecline && lease.Addr == requested(m):
				delete(has, mac(who).String())
			}
			require.LessOrEqual(t, len(s.leases), 5, "no more than there are addresses")
		}
	})
}

// FuzzHandle holds that no packet makes it fail, or answer off its network.
func FuzzHandle(f *testing.F) {
	for _, c := range cases {
		for _, m := range c.messages(&testing.T{}) {
			f.Add(m.ToBytes())
		}
	}
	f.Fuzz(func(t *testing.T, data []byte) {
		m, err := parse(data)
		if err != nil {
			return
		}
		opt := options()
		s, err := New(opt, nil)
		require.NoError(t, err)
		for range 2 {
			answer, _ := s.Handle(m, noon)
			if answer == nil {
				continue
			}
			require.LessOrEqual(t, len(answer.ToBytes()), 1400)
			if given := addr4(answer.YourIPAddr); !given.IsUnspecified() {
				require.True(t, opt.Own.Contains(given))
			}
			to := s.To(m, answer).Addr()
			require.True(t, opt.Own.Contains(to) || to == netip.MustParseAddr("255.255.255.255"))
		}
	})
}
