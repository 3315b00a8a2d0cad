//go:build !race

package test

import (
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"math/rand/v2"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"
)

// fleetIn says the test's own process that it is to be so many new devices, in the network namespace that it is in.
const fleetIn = "PILOTRIX_FLEET"

// TestManyNewDevicesAtOnce has 1, 10, 50 and 200 devices start at the same moment, on a wire between two network
// namespaces: all are done, the command ends by itself, and what all of them took is reported against one alone. The
// devices share no code with ours.
func TestManyNewDevicesAtOnce(t *testing.T) {
	if count, err := strconv.Atoi(os.Getenv(fleetIn)); err == nil {
		beAFleet(t, count)
		return
	}
	inOwnNetwork(t, func(t *testing.T, e elsewhere) {
		folder := tempDir(t)
		require.NoError(t, os.WriteFile(filepath.Join(folder, "strand-3.2.msl"), fleetImage(), 0o600))
		require.NoError(t, os.WriteFile(filepath.Join(folder, "setup.txt"), []byte("name all\n"), 0o600))
		var alone time.Duration
		for _, count := range []int{1, 10, 50, 200} {
			took := provisionsFleet(t, e, folder, count)
			if count == 1 {
				alone = took
			}
			t.Logf("%d devices: all done in %s, %.1f times one alone", count, took.Round(10*time.Millisecond),
				took.Seconds()/alone.Seconds())
		}
	})
}

func fleetImage() []byte { return bytes.Repeat([]byte("strand-3.2 "), 100_000) }

func provisionsFleet(t *testing.T, e elsewhere, folder string, count int) time.Duration {
	home, said := tempDir(t), &spoken{}
	cmd := exec.Command(program, "provision", folder, "--at", "192.0.2.10", "--vendor", "^Maskel", "--boot-file",
		"strand-3.2.msl", "--expect", fmt.Sprint(count), "--range", "192.0.2.20-192.0.2.239", "--within", "100s")
	cmd.Env = append(os.Environ(), append(homeAt(home), "XDG_STATE_HOME="+home+"/state")...)
	cmd.Stdout, cmd.Stderr = said, said
	require.NoError(t, cmd.Start())
	t.Cleanup(func() { _ = cmd.Process.Kill() })
	said.until(t, "answering on wire0")
	fleet := e.command(os.Args[0], "-test.run=^TestManyNewDevicesAtOnce$", "-test.v")
	fleet.Env = append(os.Environ(), fleetIn+"="+fmt.Sprint(count))
	began := time.Now()
	report, failed := fleet.CombinedOutput()
	require.NoError(t, failed, "%s\n%s", report, said)
	took := time.Since(began)
	require.NoError(t, cmd.Wait(), "%s", said)
	assert.Contains(t, said.String(),
		"says that it took the offer of another DHCP server, 203.0.113.9; it is looked for")
	assert.Contains(t, said.String(), fmt.Sprintf("\n%d done, 0 not", count))
	assert.Equal(t, count, strings.Count(said.String(), "  done: has fetched strand-3.2.msl"))
	e.must("ip", "addr", "flush", "dev", "wire1")
	return took
}

// beAFleet is that many devices.
func beAFleet(t *testing.T, count int) {
	wire := newFleetWire(t)
	var group sync.WaitGroup
	failed := make(chan error, count)
	group.Go(wire.lie)
	for n := range count {
		group.Go(func() { failed <- wire.start(n) })
	}
	group.Wait()
	close(failed)
	for err := range failed {
		assert.NoError(t, err)
	}
}

// fleetWire is the one client's port of all devices on a wire: each hears what is for it.
type fleetWire struct {
	conn  *net.UDPConn
	mu    sync.Mutex
	hears map[uint32]chan []byte // by transaction
}

func newFleetWire(t *testing.T) *fleetWire {
	config := net.ListenConfig{Control: func(_, _ string, raw syscall.RawConn) error {
		return raw.Control(func(fd uintptr) {
			_ = unix.SetsockoptInt(int(fd), unix.SOL_SOCKET, unix.SO_BROADCAST, 1)
			_ = unix.SetsockoptString(int(fd), unix.SOL_SOCKET, unix.SO_BINDTODEVICE, "wire1")
		})
	}}
	conn, err := config.ListenPacket(t.Context(), "udp4", ":68")
	require.NoError(t, err)
	w := &fleetWire{conn: conn.(*net.UDPConn), hears: map[uint32]chan []byte{}}
	t.Cleanup(func() { _ = conn.Close() })
	go func() {
		buffer := make([]byte, 2000)
		for {
			n, _, err := conn.ReadFrom(buffer)
			if err != nil {
				return
			}
			if n < 240 {
				continue
			}
			w.mu.Lock()
			to := w.hears[binary.BigEndian.Uint32(buffer[4:])]
			w.mu.Unlock()
			select {
			case to <- bytes.Clone(buffer[:n]):
			default:
			}
		}
	}()
	return w
}

// dhcp asks for one thing until it is answered with what is wanted, as RFC 2131 §4.1 says: less and less often.
func (w *fleetWire) dhcp(n int, kind, wants byte, options ...byte) ([]byte, error) {
	transaction := rand.Uint32()
	heard := make(chan []byte, 4)
	w.mu.Lock()
	w.hears[transaction] = heard
	w.mu.Unlock()
	ask := make([]byte, 240, 400)
	copy(ask, []byte{1, 1, 6, 0})
	binary.BigEndian.PutUint32(ask[4:], transaction)
	ask[10] = 0x80
	copy(ask[28:], []byte{2, 0, 0x5e, 0x20, byte(n >> 8), byte(n)})
	copy(ask[236:], []byte{0x63, 0x82, 0x53, 0x63})
	ask = append(ask, 53, 1, kind, 60, 9)
	ask = append(ask, "Maskel S8"...)
	ask = append(append(ask, options...), 255)
	for try := range 8 {
		if _, err := w.conn.WriteTo(ask, &net.UDPAddr{IP: net.IPv4bcast, Port: 67}); err != nil {
			return nil, err
		}
		timer := time.NewTimer(time.Second<<min(try, 3) + time.Duration(rand.IntN(500))*time.Millisecond)
		for waits := true; waits; {
			select {
			case got := <-heard:
				if bytes.Contains(got[240:], []byte{53, 1, wants}) {
					timer.Stop()
					return got, nil
				}
			case <-timer.C:
				waits = false
			}
		}
	}
	return nil, fmt.Errorf("device %d was not answered", n)
}

// lie is a stranger that speaks of another server, in the names of devices that may be meant: nothing ends by that.
func (w *fleetWire) lie() {
	for n := range 50 {
		lie := make([]byte, 240, 300)
		copy(lie, []byte{1, 1, 6, 0, 1, 2, 3, byte(n)})
		copy(lie[28:], []byte{2, 0, 0x5e, 0x30, 0, byte(n)})
		copy(lie[236:], []byte{0x63, 0x82, 0x53, 0x63})
		lie = append(lie[:240], 53, 1, 3, 54, 4, 203, 0, 113, 9, 50, 4, 203, 0, 113, 77, 60, 6)
		_, _ = w.conn.WriteTo(append(append(lie, "Maskel"...), 255), &net.UDPAddr{IP: net.IPv4bcast, Port: 67})
		time.Sleep(20 * time.Millisecond) // all at once would not fit beside those that ask
	}
}

// address goes through the exchange, and takes the address that it is given.
func (w *fleetWire) address(n int) (net.IP, error) {
	offer, err := w.dhcp(n, 1, 2)
	if err != nil {
		return nil, err
	}
	addr := net.IP(offer[16:20])
	server := offer[bytes.Index(offer[240:], []byte{54, 4})+242:][:4]
	options := append(append([]byte{50, 4}, addr...), append([]byte{54, 4}, server...)...)
	if _, err = w.dhcp(n, 3, 5, options...); err != nil {
		return nil, err
	}
	out, err := exec.Command("ip", "addr", "replace", addr.String()+"/24", "dev", "wire1").CombinedOutput()
	if err != nil {
		return nil, fmt.Errorf("%w: %s", err, out)
	}
	return addr, nil
}

// start is a device's first start: an address, its image, and once more.
func (w *fleetWire) start(n int) error {
	addr, err := w.address(n)
	if err != nil {
		return err
	}
	got, err := fleetFetch(addr, "strand-3.2.msl")
	if err != nil {
		return fmt.Errorf("device %d at %s: %w", n, addr, err)
	}
	if !bytes.Equal(got, fleetImage()) {
		return fmt.Errorf("device %d has another file of %d B", n, len(got))
	}
	_, err = w.address(n)
	return err
}

// fleetFetch fetches a file by TFTP in blocks of 1428 bytes; it asks again for what does not come.
func fleetFetch(from net.IP, name string) (file []byte, err error) {
	conn, err := net.ListenUDP("udp4", &net.UDPAddr{IP: from})
	if err != nil {
		return nil, err
	}
	defer conn.Close()
	to, last := &net.UDPAddr{
		IP:   net.IPv4(192, 0, 2, 10),
		Port: 69,
	}, append(
		[]byte{0, 1},
		name+"\x00octet\x00blksize\x001428\x00"...)
	want, settled := uint16(1), false
	_, _ = conn.WriteTo(last, to)
	for buffer, silent := make([]byte, 2000), 0; silent < 12; {
		_ = conn.SetReadDeadline(time.Now().Add(2 * time.Second))
		size, at, err := conn.ReadFromUDP(buffer)
		if err != nil {
			silent++
			_, _ = conn.WriteTo(last, to)
			continue
		}
		if settled && at.Port != to.Port || size < 4 {
			continue
		}
		switch number := binary.BigEndian.Uint16(buffer[2:]); {
		case buffer[1] == 5:
			return nil, errors.New(string(buffer[4:size]))
		case buffer[1] == 6 && want == 1:
			to, settled, last = at, true, []byte{0, 4, 0, 0}
		case buffer[1] == 3 && number == want:
			silent = 0
			file = append(file, buffer[4:size]...)
			last = []byte{0, 4, buffer[2], buffer[3]}
			if want++; size < 1432 {
				_, _ = conn.WriteTo(last, to)
				return file, nil
			}
		default:
			continue
		}
		_, _ = conn.WriteTo(last, to)
	}
	return nil, errors.New("nothing came for long")
}
