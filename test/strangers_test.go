package test

import (
	"context"
	"io"
	"net"
	"net/netip"
	"os"
	"runtime"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"pilotrix/core/carrier"
	"pilotrix/core/clock"
	"pilotrix/core/event"
	"pilotrix/core/network"
	"pilotrix/core/offer/offertest"
	"pilotrix/core/serve"
)

// BenchmarkStrangers has strangers ask every server again and again, from many addresses, while the console is typed
// on: it prints when 99 of 100 keys are at the line, how many asked, and what memory and handles the servers have grown
// by.
func BenchmarkStrangers(b *testing.B) {
	r := newConsole(b)
	defer r.end()
	dock := serve.NewDock(b.Context(),
		serve.Options{Network: network.Host{}, Clock: clock.Real(), Emit: func(event.Body) {}})
	defer dock.Close()
	_, err := dock.Offer(offertest.File("image", make([]byte, 1<<20)), "tftp")
	require.NoError(b, err)
	var at []netip.AddrPort
	for _, protocol := range []*carrier.Carrier{carrier.TFTP, carrier.HTTP, carrier.FTP, carrier.SFTP} {
		place, err := dock.Listen(protocol, netip.MustParseAddrPort("127.0.0.1:0"))
		require.NoError(b, err)
		at = append(at, place.At)
	}
	ctx, cancel := context.WithCancel(b.Context())
	var strangers sync.WaitGroup
	var asked int64
	var mu sync.Mutex
	strangers.Go(func() { requests(ctx, at[0], func() { mu.Lock(); asked++; mu.Unlock() }) })
	for _, one := range at[1:] {
		strangers.Go(func() { connections(ctx, one, func() { mu.Lock(); asked++; mu.Unlock() }) })
	}
	time.Sleep(3 * time.Second) // until the places are full
	memory, handles := held(b)
	began := time.Now()
	var all []time.Duration
	for b.Loop() {
		for range 400 {
			all = append(all, r.key(nil))
			time.Sleep(5 * time.Millisecond)
		}
	}
	grown, more := held(b)
	mu.Lock()
	b.ReportMetric(float64(asked)/time.Since(began.Add(-3*time.Second)).Seconds(), "asked/s")
	mu.Unlock()
	cancel()
	strangers.Wait()
	b.ReportMetric(float64(late(all).Microseconds())/1000, "ms-p99")
	b.ReportMetric(float64(late(all))/float64(25*time.Millisecond), "×allowed")
	b.ReportMetric(float64(grown-memory)/(1<<20), "MiB-grown")
	b.ReportMetric(float64(more-handles), "handles-grown")
	b.ReportMetric(float64(more), "handles")
	b.ReportMetric(0, "ns/op")
}

// held are the bytes that are in use, and the open handles.
func held(b *testing.B) (memory int64, handles int) {
	runtime.GC()
	var m runtime.MemStats
	runtime.ReadMemStats(&m)
	entries, err := os.ReadDir("/proc/self/fd")
	if err != nil {
		b.Skip("handles cannot be counted here")
	}
	return int64(m.HeapAlloc), len(entries)
}

// requests asks by TFTP, each time from another address, and never answers.
func requests(ctx context.Context, to netip.AddrPort, asked func()) {
	for n := 0; ctx.Err() == nil; n++ {
		conn, err := net.ListenUDP("udp4", &net.UDPAddr{IP: net.IPv4(127, 1, byte(n>>8), byte(n))})
		if err != nil {
			continue
		}
		_, _ = conn.WriteToUDPAddrPort([]byte("\x00\x01image\x00octet\x00timeout\x00255\x00"), to)
		_ = conn.Close()
		asked()
		time.Sleep(time.Millisecond)
	}
}

// connections opens one after the other, each from another address, and says little or nothing on it.
func connections(ctx context.Context, to netip.AddrPort, asked func()) {
	var open []net.Conn
	defer func() {
		for _, conn := range open {
			_ = conn.Close()
		}
	}()
	for n := 0; ctx.Err() == nil; n++ {
		dialer := net.Dialer{LocalAddr: &net.TCPAddr{IP: net.IPv4(127, 2, byte(n>>8), byte(n))}, Timeout: time.Second}
		conn, err := dialer.DialContext(ctx, "tcp", to.String())
		if err != nil {
			continue
		}
		_, _ = io.WriteString(conn, []string{"", "GET ", "USER x\r\n", "SSH-2.0-x\r\n"}[n%4])
		if open = append(open, conn); len(open) > 300 {
			_ = open[0].Close()
			open = open[1:]
		}
		asked()
		time.Sleep(3 * time.Millisecond)
	}
}
