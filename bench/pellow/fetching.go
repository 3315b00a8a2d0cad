package pellow

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"net/netip"
	"strings"
	"time"

	"pilotrix/bench"
	"pilotrix/core/transfer/xmodem"
)

// How the bootloader gets a file into memory.

// bytesAt reads memory or flash.
func (l *loader) bytesAt(from, count uint64) ([]byte, error) {
	l.Mu.Lock()
	defer l.Mu.Unlock()
	switch {
	case from >= flashBase && from+count <= flashBase+flashSize:
		return bytes.Clone(l.flash.data[from-flashBase : from-flashBase+count]), nil
	case from >= ramBase && from+count <= ramBase+ramSize:
		data := make([]byte, count)
		if begin := from - ramBase; begin < uint64(len(l.ram)) {
			copy(data, l.ram[begin:])
		}
		return data, nil
	}
	return nil, says("Data abort: nothing is at that address")
}

// store writes into memory.
func (l *loader) store(at uint64, data []byte) error {
	l.Mu.Lock()
	defer l.Mu.Unlock()
	end := at - ramBase + uint64(len(data))
	if at < ramBase || end > ramSize {
		return errors.New("nothing is at that address")
	}
	if missing := int(end) - len(l.ram); missing > 0 {
		l.ram = append(l.ram, make([]byte, missing)...)
	}
	copy(l.ram[at-ramBase:], data)
	return nil
}

// fetched is what tftpboot has come to, in memory.
type fetched struct {
	*loader
	at   uint64
	size int
}

func (f *fetched) Write(p []byte) (int, error) {
	const mark = 32 << 10
	if err := f.store(f.at+uint64(f.size), p); err != nil {
		return 0, err
	}
	before := f.size / mark
	f.size += len(p)
	f.Say(strings.Repeat("#", f.size/mark-before))
	return len(p), nil
}

func (l *loader) tftp(args []string) error {
	n, err := parseHex(args[0])
	switch {
	case err != nil:
		return err
	case l.value("ipaddr") == "":
		return says("*** ERROR: `ipaddr' not set")
	case l.value("serverip") == "":
		return says("*** ERROR: `serverip' not set")
	case l.value("ipaddr") != l.Address.Addr().String():
		return l.nobody() // the harbour's switch lets it speak under its own address only
	}
	l.lan.SetUp(l.Address.Addr(), true)
	defer l.lan.SetUp(l.Address.Addr(), false)
	l.Sayf("Using eth0 device\r\nTFTP from server %s; our IP address is %s\r\nFilename '%s'.\r\nLoad address: 0x%x\r\nLoading: *\b",
		l.value("serverip"), l.value("ipaddr"), args[1], n[0])
	from, err := l.net.By("tftp", l.value("serverip"), args[1], bench.ServerLogin{}, nil)
	if err != nil {
		return err
	}
	to, began := &fetched{l, n[0], 0}, l.Wire.Clock().Now()
	if err := from(l.Context(), to, func(int) {}); err != nil {
		words, refused := strings.CutPrefix(err.Error(), "the server says: ")
		if refused {
			return says("\r\nTFTP error: '" + words + "' (1)\r\nNot retrying...")
		}
		return l.nobody()
	}
	if l.fault().SpoilsMemory {
		l.lock(func() { l.ram[n[0]-ramBase+uint64(to.size/2)] ^= 1 })
	}
	seconds := max(l.Wire.Clock().Since(began).Seconds(), 0.01)
	l.Sayf("\r\n\t %.1f MiB/s\r\ndone\r\nBytes transferred = %d (%x hex)\r\n", float64(to.size)/(1<<20)/seconds,
		to.size, to.size)
	l.lock(func() { l.env["filesize"] = fmt.Sprintf("%x", to.size) })
	return nil
}

// nobody is what it looks like when no server answers.
func (l *loader) nobody() error {
	for range netRetries {
		if !l.Wait(netTimeLimit) {
			return nil
		}
		l.Say("T ")
	}
	return says("\r\nRetry count exceeded; starting again")
}

func (l *loader) ping(args []string) error {
	addr, err := netip.ParseAddr(args[0])
	if err != nil || l.value("ipaddr") == "" {
		return fmt.Errorf("*** ERROR: `ipaddr' not set\r\nping failed; host %s is not alive", args[0])
	}
	l.lan.SetUp(l.Address.Addr(), true)
	defer l.lan.SetUp(l.Address.Addr(), false)
	limited, cancel := l.Wire.Clock().WithTimeout(l.Context(), netTimeLimit)
	defer cancel()
	if _, err := l.host.Ping(limited, addr); err != nil {
		return fmt.Errorf("ping failed; host %s is not alive", addr)
	}
	l.Sayf("Using eth0 device\r\nhost %s is alive\r\n", addr)
	return nil
}

// inMemory lets a transfer of the program's own kind fill memory.
type inMemory struct{ *fetched }

func (m inMemory) Write(p []byte) (int, error) {
	err := m.store(m.at+uint64(m.size), p)
	m.fetched.size += len(p)
	return len(p), err
}

func (m inMemory) Close() error { return nil }

func (l *loader) receive(args []string, variant xmodem.Variant) error {
	protocol := strings.ToLower(variant.String())
	n, err := parseHex(args[0])
	if err != nil {
		return err
	}
	l.Sayf("## Ready for binary (%s) download to 0x%08X at %d bps...\r\n", protocol, n[0], l.Wire.Baud())
	to := inMemory{&fetched{l, n[0], 0}}
	_, err = xmodem.Receive(l.Context(), bench.Port{Wire: l.Wire},
		func(xmodem.Header) (io.WriteCloser, error) { return to, nil },
		xmodem.Options{Clock: l.Wire.Clock(), Retries: 20, Variant: variant})
	if err != nil {
		return fmt.Errorf("\r\n## Binary (%s) download aborted", protocol)
	}
	l.Wait(100 * time.Millisecond)
	l.Sayf("\r\n## Total Size      = 0x%08x = %d Bytes\r\n## Start Addr      = 0x%08X\r\n", to.size, to.size, n[0])
	return nil
}
