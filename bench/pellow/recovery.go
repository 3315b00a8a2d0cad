package pellow

import (
	"context"
	"encoding/binary"
	"errors"
	"net/netip"
	"time"

	"pilotrix/bench"
	"pilotrix/core/network"
)

// The recovery loader is there when the button is held while the power comes: once the light blinks it answers pings,
// and takes one file by a TFTP put of its own, plain one (RFC 1350, no options). It writes that into the system's part
// and restarts.

const (
	blinksAfter    = 8 * time.Second
	recoveryWindow = 45 * time.Second
	putSilence     = 5 * time.Second // after which a put that was cut is forgotten
	sinkBlock      = 512
)

// recover waits for a file until its window closes; without one it goes on as if the button had not been held.
func (b *Bridge) recover(ctx context.Context, w *bench.Wire) {
	s := bench.NewShell(ctx, w)
	s.Say("\r\n\r\nrecovery: let go of the button when the light blinks\r\n")
	if !s.Wait(blinksAfter) {
		return
	}
	b.Hold(false)
	b.lan.SetUp(b.Address.Addr(), true)
	defer b.lan.SetUp(b.Address.Addr(), false)
	s.Sayf("recovery: the light blinks, waiting at %s for %d s\r\n", b.Address.Addr(), int(recoveryWindow.Seconds()))
	limited, cancel := w.Clock().WithTimeout(ctx, recoveryWindow)
	file, err := b.takePut(limited, w)
	cancel()
	if err != nil {
		s.Say("recovery: nothing came, going on\r\n")
		return
	}
	if len(file) > systemArea.size {
		s.Sayf("recovery: %d B are too many, nothing written\r\n", len(file))
		return
	}
	s.Sayf("recovery: %d B came, writing\r\n", len(file))
	for sector := sectorAt(systemArea.at); sector <= sectorAt(systemArea.at+len(file)-1); sector++ {
		b.lock(func() { b.flash.eraseSector(sector) })
		if !s.Wait(eraseTakes) {
			return
		}
	}
	if b.burn(s, systemArea.at, file, func(int) {}) {
		s.Say("recovery: written, restarting\r\n")
	}
}

// takePut takes one file by TFTP, whatever it is called. One that breaks off is forgotten, and another one is taken.
func (b *Bridge) takePut(ctx context.Context, w *bench.Wire) ([]byte, error) {
	conn, err := b.host.ListenPacket(netip.AddrPortFrom(b.Address.Addr(), 69))
	if err != nil {
		return nil, err
	}
	defer conn.Close()
	stop := context.AfterFunc(ctx, func() { _ = conn.SetReadDeadline(time.Unix(1, 0)) })
	defer stop()
	buffer := make([]byte, 1500)
	drops := b.fault().RecoveryDrops
	for {
		n, from, err := conn.ReadFromUDPAddrPort(buffer)
		switch {
		case err != nil:
			return nil, err
		case n < 4 || binary.BigEndian.Uint16(buffer) != 2: // no write request, RFC 1350 §5
			continue
		}
		file, err := b.takeBlocks(ctx, w, network.Unmap(from), drops)
		if err == nil {
			return file, nil
		}
		drops = false
	}
}

var errCut = errors.New("the put was cut")

// takeBlocks acknowledges block after block from a socket of its own.
func (b *Bridge) takeBlocks(
	ctx context.Context, w *bench.Wire, from netip.AddrPort, drops bool,
) (file []byte, err error) {
	conn, err := b.host.ListenPacket(netip.AddrPortFrom(b.Address.Addr(), 0))
	if err != nil {
		return nil, err
	}
	defer conn.Close()
	acknowledge := func(block uint16) {
		_, _ = conn.WriteToUDPAddrPort([]byte{0, 4, byte(block >> 8), byte(block)}, from)
	}
	acknowledge(0)
	heard := w.Clock().Now()
	last, buffer := uint16(0), make([]byte, 4+sinkBlock)
	for ctx.Err() == nil && w.Clock().Since(heard) < putSilence {
		_ = conn.SetReadDeadline(time.Now().Add(200 * time.Millisecond))
		n, peer, err := conn.ReadFromUDPAddrPort(buffer)
		if err != nil || network.Unmap(peer) != from || n < 4 || buffer[1] != 3 {
			continue
		}
		heard = w.Clock().Now()
		block := binary.BigEndian.Uint16(buffer[2:])
		if block == last+1 {
			file, last = append(file, buffer[4:n]...), block
		}
		if drops && len(file) > 100_000 {
			return nil, errCut
		}
		acknowledge(last)
		if block == last && n < 4+sinkBlock {
			return file, nil
		}
	}
	return nil, errCut
}
