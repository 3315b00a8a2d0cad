package pellow

import (
	"bytes"
	"context"
	"encoding/binary"
	"net/netip"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"pilotrix/bench"
	"pilotrix/core/clock"
)

// TestAFlashIsOne: erasing sets bits, writing only clears them, and what is protected takes neither.
func TestAFlashIsOne(t *testing.T) {
	f := newFlash()
	at := systemArea.at
	f.write(at, []byte{0xf0, 0x0f})
	f.write(at, []byte{0x3c, 0xff})
	assert.Equal(t, []byte{0x30, 0x0f}, f.data[at:at+2], "writing over what is there leaves neither")
	f.eraseSector(sectorAt(at))
	assert.Equal(t, []byte{0xff, 0xff}, f.data[at:at+2])
	assert.Equal(t, flashSize, 8<<20)
	for _, one := range []struct{ at, sector, begin, size int }{
		{0, 0, 0, 64 << 10}, {0x1ffff, 1, 0x10000, 64 << 10}, {0x7effff, 126, 0x7e0000, 64 << 10}, {0x7f0000, 127, 0x7f0000, 8 << 10}, {flashSize - 1, 134, 0x7fe000, 8 << 10},
	} {
		assert.Equal(t, one.sector, sectorAt(one.at))
		begin, size := sectorSpan(one.sector)
		assert.Equal(t, []int{one.begin, one.size}, []int{begin, size})
	}
	f.stuck = sectorAt(at)
	f.write(at, []byte{0})
	assert.Equal(t, byte(0xff), f.data[at], "a sector that takes nothing tells nobody")
}

func TestRangesAreWholeSectors(t *testing.T) {
	f := newFlash()
	for name, c := range map[string]struct {
		from, last    uint64
		first, behind int
		says          string
	}{
		"one":             {flashBase, flashBase + 0xffff, 0, 1, ""},
		"both sizes":      {flashBase + 0x7e0000, flashBase + 0x7f3fff, 126, 129, ""},
		"a late start":    {flashBase + 1, flashBase + 0xffff, 0, 0, "start address not on sector boundary"},
		"an early end":    {flashBase, flashBase + 0xfffe, 0, 0, "end address not on sector boundary"},
		"before it":       {flashBase - 0x10000, flashBase + 0xffff, 0, 0, "not in FLASH"},
		"behind it":       {flashBase, flashBase + flashSize, 0, 0, "not in FLASH"},
		"the wrong order": {flashBase + 0x20000, flashBase + 0xffff, 0, 0, "not in FLASH"},
	} {
		first, behind, err := f.sectors(c.from, c.last)
		if c.says != "" {
			assert.ErrorContains(t, err, c.says, name)
			continue
		}
		require.NoError(t, err, name)
		assert.Equal(t, []int{c.first, c.behind}, []int{first, behind}, name)
	}
}

func TestALineIsSeveralCommands(t *testing.T) {
	l := &loader{Bridge: &Bridge{env: map[string]string{"filesize": "1f", "a_b": "x"}}}
	assert.Equal(t, [][]string{{"setenv", "a", "b; c"}, {"crc32", "81000000", "1f"}, {"echo", "x"}},
		l.split(`setenv a 'b; c'; crc32 81000000 ${filesize}; echo $a_b`))
	assert.Equal(t, [][]string{nil}, l.split(""))
}

// lan is a bridge and a laptop in memory.
func lan(t *testing.T) (*Bridge, *bench.Machine, bench.LANHost) {
	t.Helper()
	n := bench.NewLAN(true, 3)
	b := New(Settings{Model: "W3", HostName: "x", Address: netip.MustParsePrefix("192.0.2.45/24")}, n)
	laptop := n.Host("laptop", netip.MustParsePrefix("192.0.2.10/24"))
	m := bench.New("x", b, clock.Real(), true)
	require.NoError(t, m.Plug())
	return b, m, laptop
}

// TestARecoveryLoaderIsThereForAWhile: without the button it is not, and with it for its time only.
func TestARecoveryLoaderIsThereForAWhile(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		b, m, laptop := lan(t)
		defer m.Stop()
		answers := func() bool {
			limited, cancel := context.WithTimeout(t.Context(), time.Second)
			defer cancel()
			_, err := laptop.Ping(limited, b.Address.Addr())
			return err == nil
		}
		m.PowerOn()
		time.Sleep(20 * time.Second)
		assert.False(t, answers(), "the bootloader does not answer")
		m.PressButton()
		time.Sleep(blinksAfter - time.Second)
		assert.False(t, answers(), "not before the light blinks")
		time.Sleep(3 * time.Second)
		assert.True(t, answers())
		time.Sleep(recoveryWindow)
		assert.False(t, answers(), "its window is closed")
	})
}

// TestALoaderTakesBlocksInOrder: one that comes twice is taken once, and none is left out.
func TestALoaderTakesBlocksInOrder(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		b, m, laptop := lan(t)
		defer m.Stop()
		m.PressButton()
		time.Sleep(blinksAfter + time.Second)
		conn, err := laptop.ListenPacket(netip.AddrPortFrom(netip.IPv4Unspecified(), 0))
		require.NoError(t, err)
		defer conn.Close()
		_, err = conn.WriteToUDPAddrPort([]byte("\x00\x02name\x00octet\x00"), netip.AddrPortFrom(b.Address.Addr(), 69))
		require.NoError(t, err)
		buffer := make([]byte, 600)
		acknowledged := func() (uint16, netip.AddrPort) {
			require.NoError(t, conn.SetReadDeadline(time.Now().Add(2*time.Second)))
			n, from, err := conn.ReadFromUDPAddrPort(buffer)
			require.NoError(t, err)
			require.Equal(t, 4, n)
			return binary.BigEndian.Uint16(buffer[2:]), from
		}
		block, peer := acknowledged()
		assert.Zero(t, block)
		want := bytes.Repeat([]byte{7}, 512)
		for _, send := range []struct {
			block uint16
			data  []byte
			ack   uint16
		}{{1, want, 1}, {1, want, 1}, {3, want, 1}, {2, []byte{9}, 2}} {
			_, err := conn.WriteToUDPAddrPort(
				append([]byte{0, 3, byte(send.block >> 8), byte(send.block)}, send.data...), peer)
			require.NoError(t, err)
			block, _ = acknowledged()
			assert.Equal(t, send.ack, block)
		}
		time.Sleep(5 * time.Second)
		_, parts := b.Flash()
		assert.Equal(t, append(want, 9, 0xff), parts["system"][:514])
	})
}
