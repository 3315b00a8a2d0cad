package provision

import (
	"net"
	"net/netip"

	"github.com/insomniacslk/dhcp/dhcpv4"
)

// Option 150 of RFC 5859: addresses of TFTP servers.
const optionTFTPServers = 150

// answer makes a reply (RFC 2131 §4.3.1, table 3). One without an address is a NAK, or the answer to an INFORM; one
// without a kind is BOOTP's, and has nothing of leases.
func (s *Server) answer(m *dhcpv4.DHCPv4, c Client, kind dhcpv4.MessageType, addr netip.Addr) *dhcpv4.DHCPv4 {
	own := ip(s.opt.Own.Addr())
	reply, err := dhcpv4.NewReplyFromRequest(m, dhcpv4.WithMessageType(kind), dhcpv4.WithServerIP(nil),
		dhcpv4.WithOption(dhcpv4.OptServerIdentifier(own)))
	if err != nil {
		return nil
	}
	reply.ClientIPAddr = net.IPv4zero
	if kind == dhcpv4.MessageTypeNone {
		reply.Options.Del(dhcpv4.OptionDHCPMessageType)
		reply.Options.Del(dhcpv4.OptionServerIdentifier)
	}
	if kind == dhcpv4.MessageTypeNak {
		reply.SetBroadcast()
		return reply
	}
	if kind == dhcpv4.MessageTypeAck {
		reply.ClientIPAddr = m.ClientIPAddr
	}
	add := func(option dhcpv4.Option) { reply.UpdateOption(option) }
	add(dhcpv4.OptSubnetMask(net.CIDRMask(s.opt.Own.Bits(), 32)))
	if s.opt.Router.IsValid() {
		add(dhcpv4.OptRouter(ip(s.opt.Router)))
	}
	if addr.IsValid() {
		reply.YourIPAddr = ip(addr)
	}
	if addr.IsValid() && kind != dhcpv4.MessageTypeNone {
		add(dhcpv4.OptIPAddressLeaseTime(s.opt.Lease))
		add(dhcpv4.OptRenewTimeValue(s.opt.Lease / 2))
		add(dhcpv4.OptRebindingTimeValue(s.opt.Lease / 8 * 7))
	}
	s.boot(reply, s.opt.Give(c))
	return reply
}

// boot says what is fetched, and where.
func (s *Server) boot(reply *dhcpv4.DHCPv4, given Given) {
	if given.Server.Is4() {
		reply.ServerIPAddr = ip(given.Server)
		reply.UpdateOption(dhcpv4.OptGeneric(dhcpv4.GenericOptionCode(optionTFTPServers), ip(given.Server)))
		if given.ServerName == "" {
			given.ServerName = given.Server.String()
		}
	}
	if given.ServerName != "" {
		reply.UpdateOption(dhcpv4.OptTFTPServerName(given.ServerName))
	}
	if given.BootFile != "" {
		if len(given.BootFile) < longestInField { // a longer one would be cut short there
			reply.BootFileName = given.BootFile
		}
		reply.UpdateOption(dhcpv4.OptBootFileName(given.BootFile))
	}
	if given.HostName != "" {
		reply.UpdateOption(dhcpv4.OptHostName(given.HostName))
	}
	for code, value := range given.Custom {
		reply.UpdateOption(dhcpv4.OptGeneric(dhcpv4.GenericOptionCode(code), value))
	}
}

// longestInField is how long a file's name in a message's own field may be, with the zero byte that ends it.
const longestInField = 128

func ip(addr netip.Addr) net.IP {
	b := addr.As4()
	return net.IP(b[:])
}

// To is where an answer goes (RFC 2131 §4.1): to the relay that it came over, to who has an address there, else to
// everybody on the network.
func (s *Server) To(m, answer *dhcpv4.DHCPv4) netip.AddrPort {
	if relay := relayOf(m); relay.IsValid() && s.opt.Own.Contains(relay) {
		return netip.AddrPortFrom(relay, dhcpv4.ServerPort)
	}
	has := specified(addr4(m.ClientIPAddr))
	if answer.MessageType() != dhcpv4.MessageTypeNak && has.IsValid() && s.opt.Own.Contains(has) {
		return netip.AddrPortFrom(has, dhcpv4.ClientPort)
	}
	return netip.AddrPortFrom(netip.AddrFrom4([4]byte{255, 255, 255, 255}), dhcpv4.ClientPort)
}
