package tftp

import (
	"context"
	"encoding/binary"
	"fmt"
	"io"
	"net"
	"net/netip"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"pilotrix/core/network"
	"pilotrix/core/offer"
)

var shapes = []struct{ block, window int }{
	{512, 1},
	{1428, 1},
	{8192, 1},
	{65464, 1},
	{512, 4},
	{1428, 4},
	{8192, 4},
	{65464, 4},
	{512, 16},
	{1428, 16},
	{8192, 16},
	{65464, 16},
	{512, 64},
	{1428, 64},
	{8192, 64},
	{65464, 64},
}

// BenchmarkTransfer fetches a file on loopback and prints its rate beside that of bare sockets in the
// same run: without a window those send a block and wait for an answer; with one of 16 or more they send
// one way without waiting. wanted is 0.85 and 0.70.
func BenchmarkTransfer(b *testing.B) {
	for _, shape := range shapes {
		b.Run(fmt.Sprintf("block=%d/window=%d", shape.block, shape.window), func(b *testing.B) {
			size := int64(min(64<<20, 20_000*shape.block))
			var ours, bare time.Duration
			for b.Loop() { // in turn, since the machine's speed drifts
				ours += transferTime(b, size, shape.block, shape.window)
				if shape.window < 16 {
					bare += echoTime(b, size, shape.block, shape.window)
				} else {
					bare += oneWayTime(b, size, shape.block)
				}
			}
			b.ReportMetric(float64(b.N)*float64(size)/1e6/ours.Seconds(), "MB/s")
			b.ReportMetric(bare.Seconds()/ours.Seconds(), "of-bare")
		})
	}
}

func transferTime(b *testing.B, size int64, block, window int) time.Duration {
	stage := &offer.Stage{}
	data := content(1<<20, 1)
	_, err := stage.Offer(offer.File{
		Name: "image",
		Size: size,
		Open: func() (io.ReadSeekCloser, error) { return &repeated{data: data, left: size}, nil },
	})
	require.NoError(b, err)
	server, err := Listen(netip.MustParseAddrPort("127.0.0.1:0"), Options{Network: network.Host{}, Stage: stage})
	require.NoError(b, err)
	ctx, cancel := context.WithCancel(b.Context())
	defer cancel()
	go func() { _ = server.Serve(ctx) }()
	began := time.Now()
	result, err := Client{
		Network: network.Host{},
		Block:   block,
		Window:  window,
	}.Get(ctx, server.Addr(), "image", io.Discard)
	require.NoError(b, err)
	require.Equal(b, size, result.Bytes)
	return time.Since(began)
}

// repeated is a file out of one piece of memory.
type repeated struct {
	data []byte
	left int64
}

func (r *repeated) Read(p []byte) (int, error) {
	if r.left == 0 {
		return 0, io.EOF
	}
	n := copy(p[:min(int64(len(p)), r.left)], r.data)
	r.left -= int64(n)
	return n, nil
}

func (r *repeated) Seek(int64, int) (int64, error) { return 0, nil }
func (r *repeated) Close() error                   { return nil }

// sockets are two on loopback.
func sockets(b *testing.B) (a, z *net.UDPConn) {
	var all [2]*net.UDPConn
	for i := range all {
		conn, err := network.Host{}.ListenPacket(netip.MustParseAddrPort("127.0.0.1:0"))
		require.NoError(b, err)
		b.Cleanup(func() { _ = conn.Close() })
		all[i] = conn.(*net.UDPConn)
	}
	return all[0], all[1]
}

// echoTime sends blocks in groups of window and waits for an answer to each group: nothing is read from
// a file, kept, numbered or repeated.
func echoTime(b *testing.B, size int64, block, window int) time.Duration {
	a, z := sockets(b)
	to, back := a.LocalAddr().(*net.UDPAddr).AddrPort(), z.LocalAddr().(*net.UDPAddr).AddrPort()
	blocks := int(size) / block
	go func() {
		buffer := make([]byte, block+headSize+1)
		for i := range blocks {
			if _, _, err := a.ReadFromUDPAddrPort(buffer); err != nil {
				return
			}
			if (i+1)%window == 0 {
				_, _ = a.WriteToUDPAddrPort(buffer[:headSize], back)
			}
		}
	}()
	out, in := make([]byte, block+headSize), make([]byte, headSize)
	began := time.Now()
	for i := range blocks {
		_, err := z.WriteToUDPAddrPort(out, to)
		require.NoError(b, err)
		if (i+1)%window == 0 {
			_, _, err = z.ReadFromUDPAddrPort(in)
			require.NoError(b, err)
		}
	}
	return time.Since(began)
}

// oneWayTime sends blocks without waiting and is reported how many arrived: lost ones do not count.
func oneWayTime(b *testing.B, size int64, block int) time.Duration {
	a, z := sockets(b)
	to := a.LocalAddr().(*net.UDPAddr).AddrPort()
	blocks := int(size) / block
	arrived := make(chan time.Duration)
	began := time.Now()
	go func() {
		buffer := make([]byte, block+headSize+1)
		count, last := 0, time.Now()
		for count < blocks {
			if count%32 == 0 {
				_ = a.SetReadDeadline(time.Now().Add(200 * time.Millisecond))
			}
			if _, _, err := a.ReadFromUDPAddrPort(buffer); err != nil {
				break // the rest was lost
			}
			count++
			last = time.Now()
		}
		arrived <- time.Duration(float64(last.Sub(began)) * float64(blocks) / float64(max(count, 1)))
	}()
	out := make([]byte, block+headSize)
	for i := range blocks {
		binary.BigEndian.PutUint32(out, uint32(i))
		_, err := z.WriteToUDPAddrPort(out, to)
		require.NoError(b, err)
	}
	return <-arrived
}
