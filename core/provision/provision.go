// Package provision gives new devices an address and the name of what they fetch: DHCP (RFC 2131, options by RFC 2132
// and 5859) for one network of the laptop. It answers only those that it is for, never off its own network, and gives
// no address twice. Packets are read and written by github.com/insomniacslk/dhcp; what is answered to them is decided
// here, by a Server that has neither socket nor clock of its own, so that it can be held to hostile packets.
package provision

import (
	"cmp"
	"errors"
	"fmt"
	"maps"
	"net"
	"net/netip"
	"slices"
	"strings"
	"time"

	"github.com/insomniacslk/dhcp/dhcpv4"

	"pilotrix/core/plain"
	"pilotrix/core/units"
)

// Client is who asks.
type Client struct {
	MAC      string // as 02:00:5e:10:00:01
	Vendor   string // its vendor class, option 60
	HostName string // option 12
}

// Verdict is whether a client is answered.
type Verdict int

// Verdicts.
const (
	Ignored   Verdict = iota // it is not meant
	Undecided                // whoever is at the keyboard has to say
	Served
)

// Given is what a client gets besides its address.
type Given struct {
	BootFile   string     // option 67, and the field file
	ServerName string     // of the TFTP server, option 66
	Server     netip.Addr // the TFTP server's address: options 66 and 150, and the field siaddr
	HostName   string     // option 12
	Custom     Custom     // besides, or instead of these
}

// Options is what a Server needs. All but Admit and Give have to be set.
type Options struct {
	Own   netip.Prefix // the laptop's address on the network that is served
	First netip.Addr   // of the addresses that are given
	Last  netip.Addr
	Lease time.Duration
	// Router is the gateway that clients get, none unless valid.
	Router netip.Addr
	// Reserved are addresses that are kept for a client, by its MAC.
	Reserved map[string]netip.Addr
	// Admit says who is answered; nobody is unless it says so.
	Admit func(Client) Verdict
	// Give says what a client gets.
	Give func(Client) Given
	// Looks is the MAC address that this program looks for other servers with: it is not answered.
	Looks string
	// Probes says that an address is offered only once it is known that nobody has it (RFC 2131 §2.2): Probed says so.
	Probes bool
}

// Check says what is wrong with them.
func (o Options) Check() error {
	if !o.Own.IsValid() || !o.Own.Addr().Is4() || o.Own.Bits() < 8 || o.Own.Bits() > 30 {
		return fmt.Errorf("%s is no network to give addresses on: want one like 192.0.2.10/24", o.Own)
	}
	return errors.Join(append(o.checkRange(), o.checkReserved()...)...)
}

// outside is an address that is not on the network that is served, nil for one that is.
func (o Options) outside(what string, addr netip.Addr) error {
	if addr.Is4() && o.Own.Contains(addr) {
		return nil
	}
	return fmt.Errorf("%s %s is not on the network %s", what, addr, o.Own.Masked())
}

func (o Options) checkRange() (wrong []error) {
	complain := func(format string, args ...any) { wrong = append(wrong, fmt.Errorf(format, args...)) }
	for _, end := range []struct {
		what string
		addr netip.Addr
	}{{"the first address", o.First}, {"the last address", o.Last}} {
		if err := o.outside(end.what, end.addr); err != nil {
			wrong = append(wrong, err)
		}
	}
	if o.Last.Less(o.First) {
		complain("the last address %s comes before the first one %s", o.Last, o.First)
	}
	if len(wrong) == 0 && number(o.Last)-number(o.First) >= maxAddresses {
		complain("%s to %s are more than %d addresses", o.First, o.Last, maxAddresses)
	}
	if o.Lease < minLease {
		complain("a lease of %s is too short: %s at the least", o.Lease, minLease)
	}
	if o.Router.IsValid() {
		if err := o.outside("the router", o.Router); err != nil {
			wrong = append(wrong, err)
		}
	}
	return wrong
}

func (o Options) checkReserved() (wrong []error) {
	complain := func(format string, args ...any) { wrong = append(wrong, fmt.Errorf(format, args...)) }
	taken := map[netip.Addr]string{}
	for _, mac := range slices.Sorted(maps.Keys(o.Reserved)) {
		addr := o.Reserved[mac]
		what := "the address reserved for " + mac
		if err := o.outside(what, addr); err != nil {
			wrong = append(wrong, err)
		} else if addr == o.Own.Addr() {
			complain("%s %s is this laptop's own address", what, addr)
		} else if addr == o.Own.Masked().Addr() || addr == broadcastOf(o.Own) {
			complain("%s %s is no host's address", what, addr)
		}
		if parsed, err := net.ParseMAC(mac); err != nil || parsed.String() != mac {
			complain("%q is no MAC address: want one like 02:00:5e:10:00:01", mac)
		}
		if other, twice := taken[addr]; twice {
			complain("%s is reserved for %s and for %s", addr, other, mac)
		}
		taken[addr] = mac
	}
	return wrong
}

const (
	maxAddresses = 4096
	minLease     = time.Minute
	offerHeld    = time.Minute // how long an address that was offered waits to be asked for
	declinedFor  = time.Hour   // how long one that is somebody's already is left alone
	maxClients   = 8192        // that are remembered besides those with a lease
)

func number(addr netip.Addr) uint32 {
	b := addr.As4()
	return uint32(b[0])<<24 | uint32(b[1])<<16 | uint32(b[2])<<8 | uint32(b[3])
}

func addrOf(n uint32) netip.Addr {
	return netip.AddrFrom4([4]byte{byte(n >> 24), byte(n >> 16), byte(n >> 8), byte(n)})
}

func broadcastOf(p netip.Prefix) netip.Addr {
	return addrOf(number(p.Masked().Addr()) | ^uint32(0)>>p.Bits())
}

// Kinds of what a Server says.
const (
	Asked    = "asked"    // a message came
	Offered  = "offered"  // an address is offered
	Leased   = "leased"   // an address is leased, or goes on being it
	Refused  = "refused"  // a NAK went out
	Freed    = "freed"    // an address was given back
	Left     = "left"     // the client is not answered, and why
	Stranger = "stranger" // it is not meant: nothing else is reported of it
	Waits    = "waits"    // it is not answered until whoever is at the keyboard has said so
	Another  = "another"  // another server is on the network
	Conflict = "conflict" // an address was found to be somebody's already
	Probing  = "probing"  // an address is looked at before it is offered
)

// Reported is one thing that happened.
type Reported struct {
	Kind   string
	Client Client
	Addr   netip.Addr // the client's, or the other server's
	Text   string
}

// Server decides what is answered. It is used by one goroutine.
type Server struct {
	opt    Options
	leases map[string]*Lease // by client
	taken  map[netip.Addr]string
	bad    map[netip.Addr]time.Time // addresses that are somebody's already, until then
	clear  map[netip.Addr]time.Time // addresses that were found to be nobody's, until then
}

// Lease is an address that a client has, or was offered.
type Lease struct {
	Client Client
	Addr   netip.Addr
	Until  time.Time
	Bound  bool // it was asked for, not only offered
}

// New makes a server with the leases that are known.
func New(opt Options, known []Lease) (*Server, error) {
	if err := opt.Check(); err != nil {
		return nil, err
	}
	if opt.Admit == nil {
		opt.Admit = func(Client) Verdict { return Ignored }
	}
	if opt.Give == nil {
		opt.Give = func(Client) Given { return Given{} }
	}
	s := &Server{
		opt:    opt,
		leases: map[string]*Lease{},
		taken:  map[netip.Addr]string{},
		bad:    map[netip.Addr]time.Time{},
		clear:  map[netip.Addr]time.Time{},
	}
	for _, lease := range known {
		key := lease.Client.MAC
		if !s.gives(lease.Addr, key) || s.leases[key] != nil || s.taken[lease.Addr] != "" || !lease.Bound {
			continue // the network was another one
		}
		own := lease
		s.leases[key], s.taken[lease.Addr] = &own, key
	}
	return s, nil
}

// Leases are those that are bound, by address.
func (s *Server) Leases() (all []Lease) {
	for _, lease := range s.leases {
		if lease.Bound {
			all = append(all, *lease)
		}
	}
	slices.SortFunc(all, func(a, b Lease) int { return a.Addr.Compare(b.Addr) })
	return all
}

// clientOf is who sent a message.
func clientOf(m *dhcpv4.DHCPv4) Client {
	const longest = 64
	text := func(said string) string { return plain.Clip(strings.TrimRight(said, "\x00"), longest) }
	return Client{
		MAC: m.ClientHWAddr.String(), Vendor: text(m.ClassIdentifier()), HostName: text(m.HostName()),
	}
}

// Handle decides about one message: the answer to it, nil for none, and what happened.
func (s *Server) Handle(m *dhcpv4.DHCPv4, now time.Time) (answer *dhcpv4.DHCPv4, report []Reported) {
	c := clientOf(m)
	switch {
	case c.MAC == s.opt.Looks:
		return nil, nil // it is this program, which looks for another server
	case m.ClassIdentifier() == lookClass && m.MessageType() == dhcpv4.MessageTypeDiscover:
		return s.showItself(m, c, now), nil
	}
	if why := s.stranger(m); why != "" {
		return nil, []Reported{{Kind: Left, Client: c, Text: why}}
	}
	verdict := s.opt.Admit(c)
	if verdict != Ignored {
		report = []Reported{{Kind: Asked, Client: c, Addr: requested(m), Text: kindOf(m, true)}}
	}
	if other := otherServer(m, s.opt.Own.Addr()); other.IsValid() {
		s.release(c, func(l *Lease) bool { return !l.Bound })
		return nil, []Reported{
			{Another, c, other, fmt.Sprintf("%s says that it took the offer of another DHCP server, %s", c.MAC, other)},
		} // anybody may say so of anybody: it begins nothing
	}
	switch verdict {
	case Ignored:
		return nil, []Reported{{Kind: Stranger, Client: c, Text: c.MAC + " is not meant"}}
	case Undecided:
		return nil, append(report, Reported{Kind: Waits, Client: c, Text: c.MAC + " is new here"})
	}
	reply, more := s.decide(m, c, now)
	return reply, append(report, more...)
}

// stranger says why a message is none for this server at all, empty where it may be.
func (s *Server) stranger(m *dhcpv4.DHCPv4) string {
	switch {
	case m.OpCode != dhcpv4.OpcodeBootRequest:
		return "it is no request"
	case len(m.ClientHWAddr) != 6:
		return fmt.Sprintf("a hardware address of %d bytes is none of Ethernet", len(m.ClientHWAddr))
	case m.ClientHWAddr[0]&1 == 1 || m.ClientHWAddr.String() == "00:00:00:00:00:00":
		return m.ClientHWAddr.String() + " is no address of one host"
	}
	if relay := relayOf(m); relay.IsValid() && !s.opt.Own.Contains(relay) {
		return fmt.Sprintf("it came over the relay %s, from another network than %s", relay, s.opt.Own.Masked())
	}
	if from := addr4(m.ClientIPAddr); from.IsValid() && !from.IsUnspecified() && !s.opt.Own.Contains(from) {
		return fmt.Sprintf("its address %s is not on %s", from, s.opt.Own.Masked())
	}
	return ""
}

// relayOf is the relay that a message came over (RFC 2131 §4.1), not valid for none.
func relayOf(m *dhcpv4.DHCPv4) netip.Addr { return specified(addr4(m.GatewayIPAddr)) }

func addr4(ip net.IP) netip.Addr {
	addr, _ := netip.AddrFromSlice(ip.To4())
	return addr
}

// requested is the address that a client wants, where it says one.
func requested(m *dhcpv4.DHCPv4) netip.Addr {
	return cmp.Or(addr4(m.RequestedIPAddress()), specified(addr4(m.ClientIPAddr)))
}

func specified(addr netip.Addr) netip.Addr {
	if addr.IsValid() && addr.IsUnspecified() {
		return netip.Addr{}
	}
	return addr
}

// otherServer is the server whose offer a client has taken, where that is not this one.
func otherServer(m *dhcpv4.DHCPv4, own netip.Addr) netip.Addr {
	server := specified(addr4(m.ServerIdentifier()))
	if m.MessageType() == dhcpv4.MessageTypeRequest && server.IsValid() && server != own {
		return server
	}
	return netip.Addr{}
}

// decide answers a client that is meant (RFC 2131 §4.3).
func (s *Server) decide(m *dhcpv4.DHCPv4, c Client, now time.Time) (*dhcpv4.DHCPv4, []Reported) {
	switch m.MessageType() {
	case dhcpv4.MessageTypeNone:
		return s.bootp(m, c, now)
	case dhcpv4.MessageTypeDiscover:
		return s.offer(m, c, now)
	case dhcpv4.MessageTypeRequest:
		return s.request(m, c, now)
	case dhcpv4.MessageTypeDecline:
		addr := requested(m)
		if lease := s.leases[c.MAC]; lease != nil && lease.Addr == addr {
			s.release(c, func(*Lease) bool { return true })
			s.bad[addr] = now.Add(declinedFor)
			return nil, []Reported{
				{
					Conflict,
					c,
					addr,
					fmt.Sprintf("%s found that %s is somebody's already: it is left alone", c.MAC, addr),
				},
			}
		}
	case dhcpv4.MessageTypeRelease:
		if lease := s.leases[c.MAC]; lease != nil && lease.Addr == addr4(m.ClientIPAddr) {
			addr := lease.Addr
			s.release(c, func(*Lease) bool { return true })
			return nil, []Reported{{Freed, c, addr, fmt.Sprintf("%s gave %s back", c.MAC, addr)}}
		}
	case dhcpv4.MessageTypeInform:
		asked := Reported{Kind: Leased, Client: c, Addr: addr4(m.ClientIPAddr)}
		asked.Text = c.MAC + " has an address and asked for the rest"
		return s.answer(m, c, dhcpv4.MessageTypeAck, netip.Addr{}), []Reported{asked}
	}
	return nil, []Reported{
		{Kind: Left, Client: c, Text: fmt.Sprintf("%s of %s: nothing is answered to that", m.MessageType(), c.MAC)},
	}
}

// freeFor chooses an address for a client and holds it. Why says why there is none yet, or none at all.
func (s *Server) freeFor(m *dhcpv4.DHCPv4, c Client, now time.Time) (addr netip.Addr, why []Reported) {
	addr = s.choose(c, requested(m), now)
	if !addr.IsValid() {
		return addr, []Reported{
			{
				Kind:   Left,
				Client: c,
				Text:   fmt.Sprintf("no address is free of %s to %s for %s", s.opt.First, s.opt.Last, c.MAC),
			},
		}
	}
	lease := s.leases[c.MAC]
	if lease != nil && lease.Bound && lease.Addr == addr {
		return addr, nil
	}
	s.hold(c, addr, now.Add(offerHeld), false)
	if s.opt.Probes && !now.Before(s.clear[addr]) {
		return netip.Addr{}, []Reported{
			{Probing, c, addr, fmt.Sprintf("looking whether %s is free for %s", addr, c.MAC)},
		}
	}
	return addr, nil
}

func (s *Server) offer(m *dhcpv4.DHCPv4, c Client, now time.Time) (*dhcpv4.DHCPv4, []Reported) {
	addr, why := s.freeFor(m, c, now)
	if why != nil {
		return nil, why
	}
	return s.answer(m, c, dhcpv4.MessageTypeOffer, addr), []Reported{
		{Offered, c, addr, fmt.Sprintf("%s is offered %s", c.MAC, addr)},
	}
}

// showItself offers an address to a laptop of ours that looks for other servers, and holds none for it.
func (s *Server) showItself(m *dhcpv4.DHCPv4, c Client, now time.Time) *dhcpv4.DHCPv4 {
	addr := s.choose(c, netip.Addr{}, now)
	if !addr.IsValid() {
		addr = s.opt.First
	}
	return s.answer(m, c, dhcpv4.MessageTypeOffer, addr)
}

// bootp answers a client that knows no leases (RFC 951, RFC 1534): it has its address from the first answer on.
func (s *Server) bootp(m *dhcpv4.DHCPv4, c Client, now time.Time) (*dhcpv4.DHCPv4, []Reported) {
	addr, why := s.freeFor(m, c, now)
	if why != nil {
		return nil, why
	}
	s.hold(c, addr, now.Add(s.opt.Lease), true)
	return s.answer(m, c, dhcpv4.MessageTypeNone, addr), []Reported{
		{Leased, c, addr, fmt.Sprintf("%s asks by BOOTP and has %s", c.MAC, addr)},
	}
}

// clearFor is how long an address that was nobody's is offered without another look.
const clearFor = 5 * time.Minute

// Probed takes in who has an address that was to be offered to a client: a MAC address, empty for nobody.
func (s *Server) Probed(c Client, addr netip.Addr, holder string, now time.Time) []Reported {
	if holder == "" || holder == c.MAC {
		s.clear[addr] = now.Add(clearFor)
		return nil
	}
	s.release(c, func(l *Lease) bool { return l.Addr == addr })
	s.bad[addr] = now.Add(declinedFor)
	return []Reported{{Conflict, c, addr, fmt.Sprintf("%s is %s's already: it is left alone", addr, holder)}}
}

// request answers a client that wants an address which it was offered, or had before.
func (s *Server) request(m *dhcpv4.DHCPv4, c Client, now time.Time) (*dhcpv4.DHCPv4, []Reported) {
	wants, lease := requested(m), s.leases[c.MAC]
	chosen := specified(addr4(m.ServerIdentifier())).IsValid()
	switch {
	case !wants.IsValid():
		return nil, []Reported{{Kind: Left, Client: c, Text: c.MAC + " asks for no address"}}
	case lease != nil && lease.Addr == wants:
		s.hold(c, wants, now.Add(s.opt.Lease), true)
		return s.answer(m, c, dhcpv4.MessageTypeAck, wants), []Reported{
			{Leased, c, wants, fmt.Sprintf("%s has %s for %s", c.MAC, wants, units.Text(s.opt.Lease))},
		}
	case lease == nil && !chosen && s.opt.Own.Contains(wants) && !s.gives(wants, c.MAC):
		return nil, []Reported{
			{
				Kind:   Left,
				Client: c,
				Addr:   wants,
				Text:   fmt.Sprintf("%s asks for %s, which is not given here", c.MAC, wants),
			},
		} // RFC 2131 §4.3.2: silent without a record
	case lease == nil && !chosen && s.free(wants, c.MAC, now):
		s.hold(c, wants, now.Add(s.opt.Lease), true) // it had that before this laptop's program was started
		return s.answer(m, c, dhcpv4.MessageTypeAck, wants), []Reported{
			{Leased, c, wants, fmt.Sprintf("%s goes on with %s", c.MAC, wants)},
		}
	}
	why := "which it cannot have"
	if !s.opt.Own.Contains(wants) {
		why = fmt.Sprintf("which is on another network than %s: it was somewhere else before", s.opt.Own.Masked())
	}
	return s.answer(m, c, dhcpv4.MessageTypeNak, netip.Addr{}), []Reported{
		{Refused, c, wants, fmt.Sprintf("%s asks for %s, %s", c.MAC, wants, why)},
	}
}
