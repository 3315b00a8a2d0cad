package provision

import (
	"bytes"
	"context"
	"crypto/rand"
	"fmt"
	"net"
	"net/netip"
	"slices"
	"time"

	"github.com/insomniacslk/dhcp/dhcpv4"

	"pilotrix/core/clock"
	"pilotrix/core/network"
)

// Message is one that crossed the wire, as it is reported.
type Message struct {
	FromClient bool
	Waits      bool   // its client is not answered until that is said
	Kind       string // DISCOVER, OFFER, …
	Client     Client
	Addr       netip.Addr // that is wanted, or given
	BootFile   string
}

// Report is told what happens, by the goroutine that serves.
type Report struct {
	Message  func(Message) // but those of strangers
	Reported func(Reported)
	Leases   func([]Lease) // after each change, to be kept
}

// largest is the largest message that is read, in bytes: more than any that Ethernet carries whole.
const largest = 1500

// Probe finds out who has an address: its MAC address, empty when nobody says so within a time.
type Probe func(ctx context.Context, addr netip.Addr) (holder string, err error)

// Wire is what a Server answers on. Probe may be nil where the server's options do not ask for it.
type Wire struct {
	Conn  network.PacketConn
	Clock clock.Clock
	Probe Probe
}

// probed is how a look at an address ended, and the message that is answered then.
type probed struct {
	message *dhcpv4.DHCPv4
	addr    netip.Addr
	holder  string
	err     error
}

// serving is one server at work. It belongs to the goroutine of Serve; looking at addresses is done by others, which
// only say it.
type serving struct {
	*Server
	wire    Wire
	report  Report
	probing map[netip.Addr]bool
	probes  chan probed
}

// Serve answers what comes to a socket until ctx ends or the socket fails. What is no DHCP message is reported of.
func (s *Server) Serve(ctx context.Context, wire Wire, report Report) error {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	v := &serving{Server: s, wire: wire, report: report, probing: map[netip.Addr]bool{}, probes: make(chan probed)}
	packets, failed := make(chan []byte), make(chan error, 1)
	stop := context.AfterFunc(ctx, func() { _ = wire.Conn.SetReadDeadline(time.Unix(1, 0)) })
	defer stop()
	go func() { failed <- receive(ctx, wire.Conn, packets) }()
	for {
		var err error
		select {
		case <-ctx.Done():
			<-failed
			return nil
		case err = <-failed:
			if ctx.Err() != nil {
				return nil
			}
		case data := <-packets:
			err = v.packet(ctx, data)
		case p := <-v.probes:
			err = v.probed(ctx, p)
		}
		if err != nil {
			return fmt.Errorf("DHCP server on %s: %w", s.opt.Own.Masked(), err)
		}
	}
}

// receive reads messages until ctx ends or the socket fails.
func receive(ctx context.Context, conn network.PacketConn, to chan<- []byte) error {
	buffer := make([]byte, largest)
	for {
		n, _, err := conn.ReadFromUDPAddrPort(buffer)
		if err != nil {
			return err
		}
		select {
		case to <- bytes.Clone(buffer[:n]):
		case <-ctx.Done():
			return ctx.Err()
		}
	}
}

func (v *serving) packet(ctx context.Context, data []byte) error {
	m, err := parse(data)
	if err != nil {
		v.says([]Reported{{Kind: Left, Text: fmt.Sprintf("%d bytes that are no DHCP message: %v", len(data), err)}})
		return nil
	}
	return v.respond(ctx, m, true)
}

// maxProbing are the addresses that are looked at at once; a client whose address has to wait asks again.
const maxProbing = 256

// respond handles one message, which is reported of when it is new. That an answer could not be sent is reported, and
// no reason to end: the client asks again.
func (v *serving) respond(ctx context.Context, m *dhcpv4.DHCPv4, fresh bool) error {
	answer, report := v.Handle(m, v.wire.Clock.Now())
	if strange := len(report) == 1 &&
		report[0].Kind == Stranger; fresh && v.report.Message != nil && !strange &&
		len(report) > 0 {
		message := messageOf(m, true)
		message.Waits = slices.ContainsFunc(report, func(t Reported) bool { return t.Kind == Waits })
		v.report.Message(message)
	}
	for _, one := range report {
		if one.Kind == Probing {
			v.probe(ctx, m, one.Addr)
		}
	}
	if answer != nil {
		if _, err := v.wire.Conn.WriteToUDPAddrPort(answer.ToBytes(), v.To(m, answer)); err != nil {
			report = append(report,
				Reported{Kind: Left, Client: clientOf(m), Text: "the answer could not be sent: " + err.Error()})
		} else if v.report.Message != nil {
			v.report.Message(messageOf(answer, false))
		}
	}
	v.says(report)
	return nil
}

func (v *serving) says(report []Reported) {
	changed := false
	for _, one := range report {
		if v.report.Reported != nil && one.Kind != Probing {
			v.report.Reported(one)
		}
		changed = changed || one.Kind == Leased || one.Kind == Freed || one.Kind == Conflict
	}
	if changed && v.report.Leases != nil {
		v.report.Leases(v.Leases())
	}
}

// probe looks at an address, and has the message answered then.
func (v *serving) probe(ctx context.Context, m *dhcpv4.DHCPv4, addr netip.Addr) {
	if v.probing[addr] || len(v.probing) >= maxProbing {
		return
	}
	v.probing[addr] = true
	go func() {
		p := probed{message: m, addr: addr}
		p.holder, p.err = v.wire.Probe(ctx, addr)
		select {
		case v.probes <- p:
		case <-ctx.Done():
		}
	}()
}

// probed takes in how a look ended. Where it cannot be done at all it is reported once, and addresses are offered
// without.
func (v *serving) probed(ctx context.Context, p probed) error {
	delete(v.probing, p.addr)
	report := v.Probed(clientOf(p.message), p.addr, p.holder, v.wire.Clock.Now())
	if p.err != nil {
		v.opt.Probes = false
		report = append(report, Reported{
			Kind: Left,
			Text: "addresses are offered without a look whether somebody has them: " + p.err.Error(),
		})
	}
	v.says(report)
	return v.respond(ctx, p.message, false)
}

func messageOf(m *dhcpv4.DHCPv4, fromClient bool) Message {
	addr := requested(m)
	if !fromClient {
		addr = specified(addr4(m.YourIPAddr))
	}
	return Message{
		FromClient: fromClient,
		Kind:       kindOf(m, fromClient),
		Client:     clientOf(m),
		Addr:       addr,
		BootFile:   m.BootFileNameOption(),
	}
}

// kindOf is a message's name on the ladder; BOOTP's have none of their own.
func kindOf(m *dhcpv4.DHCPv4, fromClient bool) string {
	switch {
	case m.MessageType() != dhcpv4.MessageTypeNone:
		return m.MessageType().String()
	case fromClient:
		return "BOOTREQUEST"
	}
	return "BOOTREPLY"
}

// lookClass is the vendor class of a client that looks for other servers: one of ours, on another laptop, shows itself
// to it.
const lookClass = "Pilotrix looks for DHCP servers"

// Lookout looks for other servers on one network, as a client with an address of its own.
type Lookout struct {
	mac net.HardwareAddr
	at  network.Broadcaster
	on  network.Interface
	c   clock.Clock
}

// NewLookout makes one.
func NewLookout(at network.Broadcaster, on network.Interface, c clock.Clock) *Lookout {
	mac := make(net.HardwareAddr, 6)
	_, _ = rand.Read(mac)
	mac[0] = mac[0]&^1 | 2 // of one host, and made up (IEEE 802, locally administered)
	return &Lookout{mac, at, on, c}
}

// MAC is the address that it looks with.
func (l *Lookout) MAC() string { return l.mac.String() }

// Others returns who else offers an address.
func (l *Lookout) Others(ctx context.Context) ([]netip.Addr, error) {
	conn, err := l.at.ListenBroadcast(l.on, dhcpv4.ClientPort)
	if err != nil {
		return nil, fmt.Errorf("looking for another DHCP server on %s: %w; it wants root", l.on.Name, err)
	}
	defer conn.Close()
	others, err := Others(ctx, conn, l.mac, l.c, LooksFor)
	return slices.DeleteFunc(others, func(other netip.Addr) bool { return other == l.on.Prefix.Addr() }), err
}

// Alone fails with ErrAnother where somebody else does.
func (l *Lookout) Alone(ctx context.Context) error {
	others, err := l.Others(ctx)
	if err == nil && len(others) > 0 {
		err = fmt.Errorf("%w: %s answers; nothing was begun", ErrAnother, others[0])
	}
	return err
}

// Others asks whether another server is on the network: it sends a DISCOVER of its own to everybody, and returns who
// offers something within a time. The socket is one of the client's port.
func Others(
	ctx context.Context, conn network.PacketConn, mac net.HardwareAddr, c clock.Clock, within time.Duration,
) (others []netip.Addr, err error) {
	discover, err := dhcpv4.NewDiscovery(mac, dhcpv4.WithBroadcast(true),
		dhcpv4.WithOption(dhcpv4.OptClassIdentifier(lookClass)))
	if err != nil {
		return nil, err
	}
	_ = conn.SetReadDeadline(time.Time{})
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
