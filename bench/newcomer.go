package bench

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"time"

	"github.com/insomniacslk/dhcp/dhcpv4"

	"pilotrix/core/clock"
	"pilotrix/core/network"
)

// A device that has no address yet asks everybody for one, by DHCP with real packets (RFC 2131 §3.1).

// NewDevice is how it asks.
type NewDevice struct {
	LAN      *LAN
	Clock    clock.Clock
	MAC      [6]byte
	Vendor   string // its vendor class, option 60
	HostName string // option 12, empty where it has no name
	// Had is the address that it had before, and asks for first (RFC 2131 §3.2); none unless valid.
	Had netip.Addr
	// Takes says whether an offer suits it; any does unless said.
	Takes func(Offer) bool
	// Say is reported how it goes.
	Say func(text string)
}

// Offer is what it was offered, or has.
type Offer struct {
	Address  netip.Prefix
	By       netip.Addr // the DHCP server
	Server   netip.Addr // to fetch from: option 66, 150, or the field siaddr
	BootFile string
	HostName string
	Lease    time.Duration
}

const (
	asksEvery = 4 * time.Second // until something is offered
	answersIn = 3 * time.Second
)

// ErrNoOffer says that nobody offered anything that suits it.
var ErrNoOffer = errors.New("nobody offers an address")

// Ask asks until an address is given, so many times at the most.
func (n NewDevice) Ask(ctx context.Context, times int) (Offer, error) {
	conn := n.LAN.Everybody(dhcpv4.ClientPort)
	defer conn.Close()
	if n.Had.IsValid() {
		if offer, err := n.again(ctx, conn); err == nil {
			return offer, nil
		}
	}
	for range times {
		offer, err := n.once(ctx, conn)
		if err == nil || ctx.Err() != nil {
			return offer, errors.Join(err, ctx.Err())
		}
		n.say("net: " + err.Error())
		if err := n.Clock.Wait(ctx, asksEvery); err != nil {
			return Offer{}, err
		}
	}
	return Offer{}, ErrNoOffer
}

func (n NewDevice) say(text string) {
	if n.Say != nil {
		n.Say(text)
	}
}

// once goes through it one time: DISCOVER, OFFER, REQUEST, ACK.
func (n NewDevice) once(ctx context.Context, conn network.PacketConn) (Offer, error) {
	discover, err := dhcpv4.NewDiscovery(n.MAC[:], dhcpv4.WithBroadcast(true), n.says)
	if err != nil {
		return Offer{}, err
	}
	n.say("net: asking")
	suits := func(m *dhcpv4.DHCPv4) bool {
		offer := offerOf(m)
		n.say(fmt.Sprintf("net: %s offered by %s", offer.Address.Addr(), offer.By))
		return n.Takes == nil || n.Takes(offer)
	}
	offers, err := n.exchange(ctx, conn, discover, dhcpv4.MessageTypeOffer, suits)
	if err != nil {
		return Offer{}, err
	}
	request, err := dhcpv4.NewRequestFromOffer(offers, n.says)
	if err != nil {
		return Offer{}, err
	}
	ack, err := n.exchange(ctx, conn, request, dhcpv4.MessageTypeAck, func(*dhcpv4.DHCPv4) bool { return true })
	if err != nil {
		return Offer{}, err
	}
	return offerOf(ack), nil
}

// again asks for the address that it had before.
func (n NewDevice) again(ctx context.Context, conn network.PacketConn) (Offer, error) {
	request, err := dhcpv4.New(dhcpv4.WithHwAddr(n.MAC[:]), dhcpv4.WithMessageType(dhcpv4.MessageTypeRequest),
		dhcpv4.WithBroadcast(true), n.says, dhcpv4.WithOption(dhcpv4.OptRequestedIPAddress(n.Had.AsSlice())))
	if err != nil {
		return Offer{}, err
	}
	n.say("net: asking for " + n.Had.String() + ", as before")
	ack, err := n.exchange(ctx, conn, request, dhcpv4.MessageTypeAck, func(*dhcpv4.DHCPv4) bool { return true })
	if err != nil {
		return Offer{}, err
	}
	return offerOf(ack), nil
}

// says is what it says of itself.
func (n NewDevice) says(m *dhcpv4.DHCPv4) {
	if n.Vendor != "" {
		m.UpdateOption(dhcpv4.OptClassIdentifier(n.Vendor))
	}
	if n.HostName != "" {
		m.UpdateOption(dhcpv4.OptHostName(n.HostName))
	}
	m.UpdateOption(dhcpv4.OptParameterRequestList(dhcpv4.OptionSubnetMask, dhcpv4.OptionRouter,
		dhcpv4.OptionTFTPServerName, dhcpv4.OptionBootfileName, dhcpv4.OptionHostName))
}

// exchange sends a message to everybody, and waits for an answer to it that suits.
func (n NewDevice) exchange(
	ctx context.Context, conn network.PacketConn, m *dhcpv4.DHCPv4, wanted dhcpv4.MessageType,
	suits func(*dhcpv4.DHCPv4) bool,
) (*dhcpv4.DHCPv4, error) {
	limited, cancel := n.Clock.WithTimeout(ctx, answersIn)
	defer cancel()
	_ = conn.SetReadDeadline(time.Time{})
	stop := context.AfterFunc(limited, func() { _ = conn.SetReadDeadline(time.Unix(1, 0)) })
	defer stop()
	everybody := netip.AddrPortFrom(netip.AddrFrom4([4]byte{255, 255, 255, 255}), dhcpv4.ServerPort)
	if _, err := conn.WriteToUDPAddrPort(m.ToBytes(), everybody); err != nil {
		return nil, err
	}
	buffer, passed := make([]byte, 1500), 0
	for {
		size, _, err := conn.ReadFromUDPAddrPort(buffer)
		if err != nil && passed > 0 {
			return nil, errors.New("what is offered does not suit")
		}
		if err != nil {
			return nil, fmt.Errorf("no %s", wanted)
		}
		answer, err := dhcpv4.FromBytes(buffer[:size])
		if err != nil || answer.TransactionID != m.TransactionID {
			continue
		}
		switch answer.MessageType() {
		case wanted:
			if suits(answer) {
				return answer, nil
			}
			passed++
		case dhcpv4.MessageTypeNak:
			return nil, errors.New("it was refused")
		}
	}
}

// offerOf reads what matters: the server's address is in option 66, in option 150 or in the field.
func offerOf(m *dhcpv4.DHCPv4) Offer {
	o := Offer{BootFile: m.BootFileNameOption(), HostName: m.HostName(), Lease: m.IPAddressLeaseTime(0)}
	ones, _ := m.SubnetMask().Size()
	if addr, ok := netip.AddrFromSlice(m.YourIPAddr.To4()); ok {
		o.Address = netip.PrefixFrom(addr, ones)
	}
	o.By, _ = netip.AddrFromSlice(m.ServerIdentifier().To4())
	if o.Server, _ = netip.ParseAddr(m.TFTPServerName()); !o.Server.IsValid() {
		o.Server, _ = netip.AddrFromSlice(m.ServerIPAddr.To4())
	}
	return o
}

// MAC writes a hardware address as people read it.
func MAC(mac [6]byte) string { return net.HardwareAddr(mac[:]).String() }
