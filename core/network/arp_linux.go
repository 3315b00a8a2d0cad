package network

import (
	"bytes"
	"context"
	"encoding/binary"
	"fmt"
	"net"
	"net/netip"
	"time"

	"golang.org/x/sys/unix"
)

// A message of ARP for Ethernet and IPv4 (RFC 826), as it stands behind the frame's head.
const (
	arpSize     = 28
	arpEthernet = 1
	arpRequest  = 1
	arpIPv4     = 0x0800
)

// A look at an address is asked twice; answers come within milliseconds where there are any.
const (
	arpAsks = 2
	arpWait = 200 * time.Millisecond
)

// WhoHas asks everybody on a network who has an address, as RFC 5227 §2.1.1 does before one is used, and returns the
// MAC address of who says so: empty for nobody. It wants root.
func (Host) WhoHas(ctx context.Context, on Interface, addr netip.Addr) (mac string, err error) {
	face, err := net.InterfaceByName(on.Name)
	if err != nil {
		return "", err
	}
	protocol := binary.NativeEndian.Uint16(binary.BigEndian.AppendUint16(nil, unix.ETH_P_ARP))
	fd, err := unix.Socket(unix.AF_PACKET, unix.SOCK_DGRAM|unix.SOCK_CLOEXEC|unix.SOCK_NONBLOCK, int(protocol))
	if err != nil {
		return "", fmt.Errorf("asking who has %s on %s: %w", addr, on.Name, err)
	}
	defer unix.Close(fd)
	if err := unix.Bind(fd, &unix.SockaddrLinklayer{Protocol: protocol, Ifindex: face.Index}); err != nil {
		return "", fmt.Errorf("asking who has %s on %s: %w", addr, on.Name, err)
	}
	everybody := &unix.SockaddrLinklayer{
		Protocol: protocol,
		Ifindex:  face.Index,
		Halen:    6,
		Addr:     [8]byte{255, 255, 255, 255, 255, 255},
	}
	for range arpAsks {
		if err := unix.Sendto(fd, arpAsk(face.HardwareAddr, addr), 0, everybody); err != nil {
			return "", fmt.Errorf("asking who has %s on %s: %w", addr, on.Name, err)
		}
		for until := time.Now().Add(arpWait); time.Now().Before(until) && ctx.Err() == nil; {
			if mac := arpAnswer(fd, time.Until(until), face.HardwareAddr, addr); mac != "" {
				return mac, nil
			}
		}
	}
	return "", ctx.Err()
}

// arpAsk is a request in which the sender has no address yet: nobody takes it for the one that has it.
func arpAsk(from net.HardwareAddr, addr netip.Addr) []byte {
	out := binary.BigEndian.AppendUint16(nil, arpEthernet)
	out = binary.BigEndian.AppendUint16(out, arpIPv4)
	out = append(out, 6, 4)
	out = binary.BigEndian.AppendUint16(out, arpRequest)
	out = append(append(out, from...), make([]byte, 4+6)...)
	return append(out, addr.AsSlice()...)
}

// arpAnswer waits for one message, and returns who says by it that it has the address.
func arpAnswer(fd int, wait time.Duration, own net.HardwareAddr, addr netip.Addr) string {
	ready, err := unix.Poll([]unix.PollFd{{Fd: int32(fd), Events: unix.POLLIN}}, int(wait.Milliseconds())+1)
	if err != nil || ready == 0 {
		return ""
	}
	var got [64]byte
	n, _, err := unix.Recvfrom(fd, got[:], 0)
	if err != nil || n < arpSize || binary.BigEndian.Uint16(got[2:]) != arpIPv4 || got[4] != 6 || got[5] != 4 {
		return ""
	}
	from, has := net.HardwareAddr(got[8:14]), got[14:18]
	if !bytes.Equal(has, addr.AsSlice()) || bytes.Equal(from, own) {
		return ""
	}
	return from.String()
}
