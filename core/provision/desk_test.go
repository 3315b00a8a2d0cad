package provision

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"os"
	"strings"
	"sync"
	"testing"
	"testing/synctest"
	"time"

	"github.com/insomniacslk/dhcp/dhcpv4"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"pilotrix/core/clock"
	"pilotrix/core/event"
	"pilotrix/core/network"
)

// wire is a network on which everybody hears what is sent to everybody.
type wire struct {
	mu    sync.Mutex
	conns map[*ear]bool
}

// ear is a socket on it.
type ear struct {
	network.PacketConn
	w     *wire
	port  uint16
	heard chan []byte
	woken chan struct{}
	mu    sync.Mutex
	until time.Time
}

func (w *wire) ListenBroadcast(_ network.Interface, port uint16) (network.PacketConn, error) {
	w.mu.Lock()
	defer w.mu.Unlock()
	e := &ear{w: w, port: port, heard: make(chan []byte, 1000), woken: make(chan struct{}, 1)}
	w.conns[e] = true
	return e, nil
}

func (e *ear) WriteToUDPAddrPort(p []byte, to netip.AddrPort) (int, error) {
	e.w.mu.Lock()
	defer e.w.mu.Unlock()
	for other := range e.w.conns {
		if other.port == to.Port() && other != e {
			other.heard <- bytes.Clone(p)
		}
	}
	return len(p), nil
}

func (e *ear) ReadFromUDPAddrPort(p []byte) (int, netip.AddrPort, error) {
	for {
		e.mu.Lock()
		until := e.until
		e.mu.Unlock()
		if !until.IsZero() && !until.After(time.Now()) {
			return 0, netip.AddrPort{}, os.ErrDeadlineExceeded
		}
		select {
		case got := <-e.heard:
			return copy(p, got), netip.AddrPort{}, nil
		case <-e.woken:
		}
	}
}

func (e *ear) SetReadDeadline(until time.Time) error {
	e.mu.Lock()
	e.until = until
	e.mu.Unlock()
	select {
	case e.woken <- struct{}{}:
	default:
	}
	return nil
}

func (e *ear) Close() error {
	e.w.mu.Lock()
	defer e.w.mu.Unlock()
	delete(e.w.conns, e)
	return nil
}

// rig is a desk on such a network.
type rig struct {
	*Desk
	t    *testing.T
	wire *wire
	on   network.Interface

	mu    sync.Mutex
	notes []string
}

func newRig(t *testing.T, change func(*Options, *DeskOptions)) *rig {
	r := &rig{t: t, wire: &wire{conns: map[*ear]bool{}}, on: network.Interface{Name: "wire0", Prefix: options().Own}}
	opt := options()
	with := DeskOptions{Clock: clock.Real(), Lookout: NewLookout(r.wire, r.on, clock.Real()), Emit: func(b event.Body) {
		if n, ok := b.(event.Note); ok {
			r.mu.Lock()
			defer r.mu.Unlock()
			r.notes = append(r.notes, n.Text)
		}
	}}
	if change != nil {
		change(&opt, &with)
	}
	var err error
	r.Desk, err = NewDesk(opt, nil, with)
	require.NoError(t, err)
	return r
}

// serving serves on the wire until the returned function is called.
func (r *rig) serving(serve func(context.Context, network.PacketConn) error) (stop func()) {
	conn, err := r.wire.ListenBroadcast(r.on, dhcpv4.ServerPort)
	require.NoError(r.t, err)
	ctx, cancel := context.WithCancel(context.Background())
	served := make(chan error, 1)
	go func() { served <- serve(ctx, conn) }()
	return func() {
		cancel()
		assert.NoError(r.t, <-served)
		_ = conn.Close()
	}
}

func (r *rig) said() string {
	r.mu.Lock()
	defer r.mu.Unlock()
	return strings.Join(r.notes, "\n")
}

// says sends what a device says, and returns what is answered to it within two seconds, nil for nothing.
func (r *rig) says(m *dhcpv4.DHCPv4) *dhcpv4.DHCPv4 {
	conn, err := r.wire.ListenBroadcast(r.on, dhcpv4.ClientPort)
	require.NoError(r.t, err)
	defer conn.Close()
	_, _ = conn.WriteToUDPAddrPort(m.ToBytes(),
		netip.AddrPortFrom(netip.MustParseAddr("255.255.255.255"), dhcpv4.ServerPort))
	time.Sleep(2 * time.Second)
	for {
		select {
		case data := <-conn.(*ear).heard:
			answer, err := dhcpv4.FromBytes(data)
			require.NoError(r.t, err)
			if answer.TransactionID == m.TransactionID &&
				answer.ServerIdentifier().Equal(net.IP(options().Own.Addr().AsSlice())) {
				return answer
			}
		default:
			return nil
		}
	}
}

// TestAStrangerEndsNothing says again and again that there is another server, until there is one; who has come so far
// is brought to its end, and nobody else is answered until that one is gone.
func TestAStrangerEndsNothing(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		r := newRig(t, func(opt *Options, _ *DeskOptions) {
			opt.First, opt.Last = netip.MustParseAddr("192.0.2.100"), netip.MustParseAddr("192.0.2.119")
		})
		stop := r.serving(r.Serve)
		for n := range byte(100) {
			r.says(message(t, dhcpv4.MessageTypeRequest, n, wants("203.0.113.77"), from("203.0.113.9")))
		}
		time.Sleep(2 * time.Minute)
		require.NotNil(t, r.says(message(t, dhcpv4.MessageTypeDiscover, 1)), "it goes on")
		assert.Contains(t, r.said(),
			"02:00:5e:10:00:05 says that it took the offer of another DHCP server, 203.0.113.9; it is looked for")
		assert.NotContains(t, r.said(), "offers addresses here")

		other := options()
		other.Own = netip.MustParsePrefix("192.0.2.250/24")
		other.First, other.Last = netip.MustParseAddr("192.0.2.200"), netip.MustParseAddr("192.0.2.209")
		other.Reserved = nil
		server, err := New(other, nil)
		require.NoError(t, err)
		stopOther := r.serving(func(ctx context.Context, conn network.PacketConn) error {
			return server.Serve(ctx, Wire{Conn: conn, Clock: clock.Real()}, Report{})
		})
		time.Sleep(2 * time.Minute)
		assert.Contains(t, r.said(),
			"another DHCP server, 192.0.2.250, offers addresses here: new devices are not answered until it is gone")
		assert.Nil(t, r.says(message(t, dhcpv4.MessageTypeDiscover, 2)), "a new one")
		assert.Contains(t, r.said(), "02:00:5e:10:00:02 is not answered for now")
		assert.NotContains(t, r.said(), "02:00:5e:10:00:02 is not meant")
		assert.NotNil(t, r.says(message(t, dhcpv4.MessageTypeRequest, 1, wants("192.0.2.100"), from("192.0.2.10"))),
			"one that took our offer")
		stopOther()
		time.Sleep(2 * time.Minute)
		assert.Contains(t, r.said(), "192.0.2.250, offers nothing any more")
		assert.NotNil(t, r.says(message(t, dhcpv4.MessageTypeDiscover, 2)))
		stop()
	})
}

// TestAnAddressIsLookedAtBeforeItIsOffered has somebody at the first ones already.
func TestAnAddressIsLookedAtBeforeItIsOffered(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		looked := map[string]int{}
		r := newRig(t, func(_ *Options, with *DeskOptions) {
			with.Lookout = nil
			with.Probe = func(ctx context.Context, addr netip.Addr) (string, error) {
				looked[addr.String()]++
				time.Sleep(400 * time.Millisecond)
				return map[string]string{"192.0.2.100": "02:00:5e:99:00:01", "192.0.2.101": mac(1).String()}[addr.String()], ctx.Err()
			}
		})
		stop := r.serving(r.Serve)
		r.says(message(t, dhcpv4.MessageTypeDiscover, 1))
		offer := r.says(message(t, dhcpv4.MessageTypeDiscover, 1))
		require.NotNil(t, offer)
		assert.Equal(t, "192.0.2.101", offer.YourIPAddr.String(), "which is its own")
		assert.Contains(t, r.said(), "192.0.2.100 is 02:00:5e:99:00:01's already: it is left alone")
		for range 3 {
			require.NotNil(t, r.says(message(t, dhcpv4.MessageTypeDiscover, 1)))
		}
		assert.Equal(t, map[string]int{"192.0.2.100": 1, "192.0.2.101": 1}, looked, "once each")
		stop()

		r = newRig(t, func(_ *Options, with *DeskOptions) {
			with.Lookout = nil
			with.Probe = func(context.Context, netip.Addr) (string, error) { return "", errors.New("it wants root") }
		})
		stop = r.serving(r.Serve)
		assert.NotNil(t, r.says(message(t, dhcpv4.MessageTypeDiscover, 1)))
		assert.Contains(t, r.said(), "addresses are offered without a look whether somebody has them: it wants root")
		stop()
	})
}

// TestADeviceIsDoneWhenItHasShownSo holds back the proof for a while.
func TestADeviceIsDoneWhenItHasShownSo(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		up := make(chan struct{})
		r := newRig(t, func(_ *Options, with *DeskOptions) {
			with.Lookout = nil
			with.Needs = func(Client) Needs { return Needs{Image: "strand.msl", Configurations: []string{"a.txt", "b.txt"}} }
			with.Prove = func(_ context.Context, c Course) error {
				select {
				case <-up:
					return nil
				default:
					return fmt.Errorf("it does not answer a ping at %s", c.Addr)
				}
			}
		})
		stop := r.serving(r.Serve)
		defer stop()
		ack := r.says(message(t, dhcpv4.MessageTypeRequest, 1, wants("192.0.2.100")))
		require.NotNil(t, ack)
		r.File(event.TransferBegin{ID: "1", File: "b.txt", Size: 10, Peer: "192.0.2.100:2000"})
		r.File(event.TransferEnd{ID: "1", Outcome: event.Done, Bytes: 10})
		time.Sleep(time.Minute)
		c := r.All()[0]
		assert.False(t, c.Done)
		assert.Equal(t, "has fetched; in trouble: it does not answer a ping at 192.0.2.100", c.Text())
		close(up)
		time.Sleep(5 * time.Second)
		assert.Equal(t, "done: has fetched b.txt", r.All()[0].Text())
	})
}

// TestMessagesAsClientsWriteThem leave the end out, and have options where others have names.
func TestMessagesAsClientsWriteThem(t *testing.T) {
	plain := message(t, dhcpv4.MessageTypeDiscover, 1).ToBytes()
	end := bytes.LastIndexByte(plain, 255)
	m, err := parse(plain[:end])
	require.NoError(t, err)
	assert.Equal(t, dhcpv4.MessageTypeDiscover, m.MessageType())
	for where, at := range map[byte]int{1: fileAt, 2: serverNameAt} {
		data := bytes.Clone(plain)
		copy(data[at:], []byte{60, 9, 'M', 'a', 's', 'k', 'e', 'l', ' ', 'S', '8', 255})
		data = append(data[:end], optionOverload, 1, where, 255)
		m, err := parse(data)
		require.NoError(t, err)
		assert.Equal(t, "Maskel S8", m.ClassIdentifier())
		assert.Empty(t, m.BootFileName+m.ServerHostName, "it is no name")
	}
	_, err = parse(append(plain[:end], 60, 200, 'x'))
	assert.Error(t, err, "an option that is longer than the message")
}

// TestOptionsByTheirNumbers are addresses, bytes or text; what is decided here is not given by hand.
func TestOptionsByTheirNumbers(t *testing.T) {
	for text, want := range map[string][]byte{
		"192.0.2.10": {192, 0, 2, 10}, "192.0.2.10 192.0.2.11": {192, 0, 2, 10, 192, 0, 2, 11}, "hex 01 04 c0": {1, 4, 0xc0}, "hex 01:04:C0": {1, 4, 0xc0},
		"flash:/x": []byte("flash:/x"), "192.0.2": []byte("192.0.2"),
	} {
		code, value, err := ParseOption("150", text)
		require.NoError(t, err, text)
		assert.EqualValues(t, 150, code)
		assert.Equal(t, want, value, text)
	}
	for number, text := range map[string]string{"51": "x", "255": "x", "300": "x", "x": "x", "43": "hex 1", "66": "", "67": strings.Repeat("x", 600)} {
		_, _, err := ParseOption(number, text)
		assert.Error(t, err, "%s: %s", number, text)
	}
	opt := options()
	long := "http://192.0.2.10/" + strings.Repeat("x", 300)
	opt.Give = func(Client) Given {
		return Given{BootFile: long, Custom: Custom{150: {192, 0, 2, 99}, 43: bytes.Repeat([]byte{7}, 400)}}
	}
	s, err := New(opt, nil)
	require.NoError(t, err)
	offer, _ := s.Handle(message(t, dhcpv4.MessageTypeDiscover, 1), noon)
	again, err := dhcpv4.FromBytes(offer.ToBytes())
	require.NoError(t, err)
	assert.Equal(t, long, again.BootFileNameOption(), "whole")
	assert.Empty(t, again.BootFileName, "not cut short")
	assert.Equal(t, []byte{192, 0, 2, 99}, again.Options.Get(dhcpv4.GenericOptionCode(150)))
	assert.Len(t, again.Options.Get(dhcpv4.GenericOptionCode(43)), 400)
}

func TestAFileOfDevicesIsRead(t *testing.T) {
	d, err := ParseDevices("new.yaml", []byte(`boot-file: strand-3.2.msl
options: {150: 192.0.2.10}
devices:
  - {mac: 02:00:5e:10:00:01, name: tangle-sw2, address: 192.0.2.61, configuration: tangle-sw2.txt, options: {43: hex 01 02}}
  - {mac: 02-00-5E-10-00-02, boot-file: other.msl}
`))
	require.NoError(t, err)
	assert.Equal(t, []string{"02:00:5e:10:00:01", "02:00:5e:10:00:02"}, d.Order)
	one, _ := d.Of("02:00:5e:10:00:01")
	assert.Equal(t, Device{
		"tangle-sw2",
		"strand-3.2.msl",
		"tangle-sw2.txt",
		netip.MustParseAddr("192.0.2.61"),
		Custom{150: {192, 0, 2, 10}, 43: {1, 2}},
	}, one)
	other, _ := d.Of("02:00:5e:10:00:02")
	assert.Equal(t, "other.msl", other.BootFile)
	for text, want := range map[string]string{
		"devices: []": "no device is listed", "devices: [{mac: here}]": `"here" is no MAC address`, "devices: [{name: x}]": "mac is missing",
		"devices: [{mac: 02:00:5e:10:00:01}, {mac: 02:00:5e:10:00:01}]":            "is there twice",
		"devices: [{mac: 02:00:5e:10:00:01, address: x}]":                          `"x" is no address`,
		"devices: [{mac: 02:00:5e:10:00:01}]\noptions: {51: x}":                    "option 51 is the lease",
		"devices: [{mac: 02:00:5e:10:00:01, options: {43: hex zz}}]\nboot-file: x": `"zz" is no byte`,
	} {
		_, err := ParseDevices("new.yaml", []byte(text))
		require.ErrorContains(t, err, want, text)
		assert.ErrorContains(t, err, "new.yaml:", text)
	}
}
