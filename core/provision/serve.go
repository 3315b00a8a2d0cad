package provision

import (
	"context"
	"fmt"
	"net/netip"
	"slices"
	"time"

	"github.com/insomniacslk/dhcp/dhcpv4"

	"pilotrix/core/clock"
	"pilotrix/core/network"
)

// Message is one that crossed the wire, as it is told.
type Message struct {
	FromClient bool
	Waits      bool   // its client is not answered until that is said
	Kind       string // DISCOVER, OFFER, …
	Client     Client
	Addr       netip.Addr // that is wanted, or given
	BootFile   string
}

// Tell is told what happens, by the goroutine that serves.
type Tell struct {
	Message func(Message) // but those of strangers
	Told    func(Told)
	Leases  func([]Lease) // after each change, to be kept
}

// largest is the largest message that is read, in bytes: more than any that Ethernet carries whole.
const largest = 1500

// Serve answers what comes to a socket until ctx ends or the socket fails. What is no DHCP message is passed over.
func (s *Server) Serve(ctx context.Context, conn network.PacketConn, c clock.Clock, tell Tell) error {
	stop := context.AfterFunc(ctx, func() { _ = conn.SetReadDeadline(time.Unix(1, 0)) })
	defer stop()
	buffer := make([]byte, largest)
	for {
		n, _, err := conn.ReadFromUDPAddrPort(buffer)
		switch {
		case ctx.Err() != nil:
			return nil
		case err != nil:
			return fmt.Errorf("DHCP server on %s: %w", s.opt.Own.Masked(), err)
		}
		m, err := dhcpv4.FromBytes(append([]byte(nil), buffer[:n]...))
		if err != nil {
			continue
		}
		if err := s.respond(conn, m, c.Now(), tell); err != nil {
			return fmt.Errorf("DHCP server on %s: %w", s.opt.Own.Masked(), err)
		}
	}
}

// respond handles one message. That an answer could not be sent is told, and no reason to end: the client asks again.
func (s *Server) respond(conn network.PacketConn, m *dhcpv4.DHCPv4, now time.Time, tell Tell) error {
	answer, told := s.Handle(m, now)
	if strange := len(told) == 1 && told[0].Kind == Stranger; tell.Message != nil && !strange {
		message := messageOf(m, true)
		message.Waits = slices.ContainsFunc(told, func(t Told) bool { return t.Kind == Waits })
		tell.Message(message)
	}
	if answer != nil {
		if _, err := conn.WriteToUDPAddrPort(answer.ToBytes(), s.To(m, answer)); err != nil {
			told = append(told, Told{Kind: Left, Client: clientOf(m), Text: "the answer could not be sent: " + err.Error()})
		} else if tell.Message != nil {
			tell.Message(messageOf(answer, false))
		}
	}
	changed := false
	for _, one := range told {
		if tell.Told != nil {
			tell.Told(one)
		}
		changed = changed || one.Kind == Leased || one.Kind == Freed || one.Kind == Conflict
	}
	if changed && tell.Leases != nil {
		tell.Leases(s.Leases())
	}
	return nil
}

func messageOf(m *dhcpv4.DHCPv4, fromClient bool) Message {
	addr := requested(m)
	if !fromClient {
		addr = specified(addr4(m.YourIPAddr))
	}
	return Message{FromClient: fromClient, Kind: m.MessageType().String(), Client: clientOf(m), Addr: addr, BootFile: m.BootFileNameOption()}
}

// Others asks whether another server is on the network: it sends a DISCOVER of its own to everybody, and returns who offers
// something within a time. The socket is one of the client's port, and no server of ours serves meanwhile.
func Others(ctx context.Context, conn network.PacketConn, mac [6]byte, c clock.Clock, within time.Duration) (others []netip.Addr, err error) {
	discover, err := dhcpv4.NewDiscovery(mac[:], dhcpv4.WithBroadcast(true))
	if err != nil {
		return nil, err
	}
	limited, cancel := c.WithTimeout(ctx, within)
	defer cancel()
	stop := context.AfterFunc(limited, func() { _ = conn.SetReadDeadline(time.Unix(1, 0)) })
	defer stop()
	everybody := netip.AddrPortFrom(netip.AddrFrom4([4]byte{255, 255, 255, 255}), dhcpv4.ServerPort)
	if _, err := conn.WriteToUDPAddrPort(discover.ToBytes(), everybody); err != nil {
		return nil, err
	}
	buffer := make([]byte, largest)
	for {
		n, _, err := conn.ReadFromUDPAddrPort(buffer)
		switch {
		case limited.Err() != nil:
			return others, ctx.Err()
		case err != nil:
			return others, err
		}
		m, err := dhcpv4.FromBytes(append([]byte(nil), buffer[:n]...))
		if err != nil || m.MessageType() != dhcpv4.MessageTypeOffer || m.TransactionID != discover.TransactionID {
			continue
		}
		if server := specified(addr4(m.ServerIdentifier())); server.IsValid() {
			others = append(others, server)
		}
	}
}
