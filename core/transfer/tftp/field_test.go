package tftp

import (
	"bytes"
	"net/netip"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"pilotrix/core/network"
	"pilotrix/core/offer"
	"pilotrix/core/offer/offertest"
)

// raw is a client that sends what devices send.
type raw struct {
	t    *testing.T
	conn network.PacketConn
	buf  []byte
}

func (r *rig) raw(t *testing.T, port uint16) *raw {
	conn, err := r.host.ListenPacket(netip.AddrPortFrom(device.Addr(), port))
	require.NoError(t, err)
	return &raw{t, conn, make([]byte, 70000)}
}

func (r *raw) send(to netip.AddrPort, p []byte) {
	_, err := r.conn.WriteToUDPAddrPort(p, to)
	require.NoError(r.t, err)
}

func (r *raw) recv(wait time.Duration) (packet, netip.AddrPort, bool) {
	_ = r.conn.SetReadDeadline(time.Now().Add(wait))
	n, from, err := r.conn.ReadFromUDPAddrPort(r.buf)
	if err != nil {
		return packet{}, from, false
	}
	p, _ := parse(r.buf[:n])
	return p, from, true
}

func ackOf(n uint16) []byte { p := make([]byte, 4); putHead(p, opAck, n); return p }

func dataOf(n uint16, d []byte) []byte {
	p := make([]byte, 4)
	putHead(p, opData, n)
	return append(p, d...)
}

// fetch takes blocks one by one, and is silent for a while in the middle.
func (r *raw) fetch(at netip.AddrPort, name string, silentAt int, silent time.Duration) []byte {
	var got []byte
	r.send(at, putRequest(request{name: name, mode: Octet}))
	want := uint16(1)
	for {
		p, from, ok := r.recv(20 * time.Second)
		if !ok {
			return got
		}
		if p.op != opData || p.block != want {
			continue
		}
		got = append(got, p.data...)
		if silent > 0 && int(want) == silentAt {
			time.Sleep(silent)
			for { // what came meanwhile went into a buffer that nobody reads
				if _, _, more := r.recv(10 * time.Millisecond); !more {
					break
				}
			}
		}
		r.send(from, ackOf(want))
		if len(p.data) < DefaultBlock {
			return got
		}
		want++
	}
}

func TestADeviceThatErasesItsFlashIsWaitedFor(t *testing.T) {
	body := content(200*512+7, 1)
	for _, silent := range []time.Duration{10 * time.Second, 40 * time.Second, 120 * time.Second} {
		inBubble(t, 1, Options{}, func(t *testing.T, r *rig) {
			_, err := r.stage.Offer(offertest.File("a.bin", body))
			require.NoError(t, err)
			begun := time.Now()
			got := r.raw(t, 2000).fetch(r.at(), "a.bin", 100, silent)
			assert.True(t, bytes.Equal(body, got), "silent for %s: %d of %d B", silent, len(got), len(body))
			assert.Less(t, time.Since(begun), silent+10*time.Second)
		})
	}
}

// TestARepeatedAcknowledgementWakesTheTransfer has a device that dropped every copy of a block, and asks for it
// by its own reminder.
func TestARepeatedAcknowledgementWakesTheTransfer(t *testing.T) {
	inBubble(t, 1, Options{}, func(t *testing.T, r *rig) {
		_, err := r.stage.Offer(offertest.File("a.bin", content(2000, 1)))
		require.NoError(t, err)
		c := r.raw(t, 2000)
		c.send(r.at(), putRequest(request{name: "a.bin", mode: Octet}))
		_, from, _ := c.recv(time.Second)
		c.send(from, ackOf(1))
		time.Sleep(30 * time.Second)
		for {
			if _, _, more := c.recv(time.Millisecond); !more {
				break
			}
		}
		begun := time.Now()
		c.send(from, ackOf(1))
		p, _, ok := c.recv(20 * time.Second)
		require.True(t, ok)
		assert.EqualValues(t, 2, p.block)
		assert.Less(t, time.Since(begun), 100*time.Millisecond, "at once, and not at the next repeat")
	})
}

func TestNamesAsDevicesPutThem(t *testing.T) {
	for _, name := range []string{"/a.bin", "./a.bin", "a.bin", "A.BIN", `\a.bin`, `C:\A.BIN`, "flash:/a.bin", "/tftpboot/a.bin", "../a.bin", "a.bin\r\n"} {
		inBubble(t, 1, Options{}, func(t *testing.T, r *rig) {
			_, err := r.stage.Offer(offertest.File("a.bin", content(700, 1)))
			require.NoError(t, err)
			var got bytes.Buffer
			_, err = r.client().Get(t.Context(), r.at(), name, &got)
			require.NoError(t, err, name)
			assert.Equal(t, 700, got.Len())
		})
	}
}

func TestZerosBehindARequestArePassedOver(t *testing.T) {
	for _, zeros := range []int{1, 2, 3, 4, 100} {
		inBubble(t, 1, Options{}, func(t *testing.T, r *rig) {
			_, err := r.stage.Offer(offertest.File("a.bin", content(700, 1)))
			require.NoError(t, err)
			c := r.raw(t, 2000)
			c.send(r.at(),
				append(putRequest(request{name: "a.bin", mode: Octet, options: []option{{optBlock, "600"}}}),
					make([]byte, zeros)...))
			p, _, ok := c.recv(time.Second)
			require.True(t, ok)
			assert.EqualValues(t, opOptions, p.op, "%d zeros: %v", zeros, p.refused)
		})
	}
}

// TestARepeatedRequestGetsTheSameAnswer repeats a request before anything is acknowledged: each copy of it gets the
// answer that the first one got, and never blocks of another size.
func TestARepeatedRequestGetsTheSameAnswer(t *testing.T) {
	options := []option{{optSize, "0"}, {optBlock, "1400"}}
	for name, ask := range map[string]struct {
		request request
		want    uint16
	}{
		"a file with options":    {request{name: "a.bin", mode: Octet, options: options}, opOptions},
		"a file without":         {request{name: "a.bin", mode: Octet}, opData},
		"an upload with options": {request{write: true, name: "u.cfg", mode: Octet, options: options[1:]}, opOptions},
		"an upload without":      {request{write: true, name: "u.cfg", mode: Octet}, opAck},
	} {
		inBubble(t, 1, Options{}, func(t *testing.T, r *rig) {
			_, err := r.stage.Offer(offertest.File("a.bin", content(5000, 1)))
			require.NoError(t, err)
			_, err = r.stage.OpenSlot(offer.Slot{Name: "u.cfg", Folder: t.TempDir(), Most: 1 << 20})
			require.NoError(t, err)
			c := r.raw(t, 2000)
			c.send(r.at(), putRequest(ask.request))
			first, at, ok := c.recv(time.Second)
			require.True(t, ok, name)
			require.Equal(t, ask.want, first.op, name)
			want := bytes.Clone(c.buf[:len(first.data)+headSize])
			for range 5 {
				c.send(r.at(), putRequest(ask.request))
				again, from, ok := c.recv(200 * time.Millisecond)
				require.True(t, ok, "%s: at once", name)
				assert.Equal(t, at, from, "%s: by the same transfer", name)
				assert.Equal(t, first.op, again.op, name)
				assert.Equal(t, want, c.buf[:len(again.data)+headSize], name)
			}
		})
	}
}

// TestOptionsAreDroppedOnceTheyAreRefused has a device that refuses the answer to its options (RFC 2347: ERROR 8), and
// asks with the same ones again.
func TestOptionsAreDroppedOnceTheyAreRefused(t *testing.T) {
	inBubble(t, 1, Options{}, func(t *testing.T, r *rig) {
		_, err := r.stage.Offer(offertest.File("a.bin", content(1300, 1)))
		require.NoError(t, err)
		ask := putRequest(request{name: "a.bin", mode: Octet, options: []option{{optBlock, "1400"}}})
		for round, want := range []uint16{opOptions, opData} {
			c := r.raw(t, 2000+uint16(round))
			c.send(r.at(), ask)
			p, from, ok := c.recv(time.Second)
			require.True(t, ok)
			assert.Equal(t, want, p.op, "round %d", round)
			c.send(from, putError(CodeOptions, "no options here"))
			time.Sleep(2 * time.Second)
		}
		time.Sleep(2 * plainFor)
		c := r.raw(t, 3000)
		c.send(r.at(), ask)
		p, _, _ := c.recv(time.Second)
		assert.EqualValues(t, opOptions, p.op, "it may be another device at that address by now")
	})
}

func TestAnUploadBegunAgainIsTaken(t *testing.T) {
	inBubble(t, 1, Options{}, func(t *testing.T, r *rig) {
		folder := t.TempDir()
		_, err := r.stage.OpenSlot(offer.Slot{Name: "u.cfg", Folder: folder, Most: 1 << 20})
		require.NoError(t, err)
		c := r.raw(t, 2000)
		ask := putRequest(request{write: true, name: "/u.cfg", mode: Octet})
		c.send(r.at(), ask)
		_, from, _ := c.recv(time.Second)
		c.send(from, dataOf(1, make([]byte, 512)))
		c.recv(time.Second)
		time.Sleep(1500 * time.Millisecond)
		for {
			if _, _, more := c.recv(time.Millisecond); !more {
				break
			}
		}
		c.send(r.at(), ask) // the device began again
		p, from, ok := c.recv(time.Second)
		require.True(t, ok)
		require.EqualValues(t, opAck, p.op, "%v", p.refused)
		c.send(from, dataOf(1, []byte("whole")))
		c.recv(time.Second)
		time.Sleep(time.Second)
		kept, err := os.ReadFile(filepath.Join(folder, "u.cfg"))
		require.NoError(t, err)
		assert.Equal(t, "whole", string(kept))
	})
}

func TestAFileOfAnotherSizeThanWasSaidIsNotKept(t *testing.T) {
	inBubble(t, 1, Options{}, func(t *testing.T, r *rig) {
		folder := t.TempDir()
		_, err := r.stage.OpenSlot(offer.Slot{Name: "u.cfg", Folder: folder, Most: 1 << 20})
		require.NoError(t, err)
		c := r.raw(t, 2000)
		c.send(r.at(),
			putRequest(request{write: true, name: "u.cfg", mode: Octet, options: []option{{optSize, "5000"}}}))
		_, from, _ := c.recv(time.Second)
		c.send(from, dataOf(1, make([]byte, 100)))
		p, _, ok := c.recv(time.Second)
		require.True(t, ok)
		assert.EqualValues(t, opError, p.op, "the device is told")
		time.Sleep(time.Second)
		_, err = os.Stat(filepath.Join(folder, "u.cfg"))
		assert.ErrorIs(t, err, os.ErrNotExist)
		r.watch.mu.Lock()
		defer r.watch.mu.Unlock()
		assert.ErrorIs(t, r.watch.ended[0].err, ErrCutShort)
	})
	inBubble(t, 1, Options{}, func(t *testing.T, r *rig) { // the same where we fetch
		c := r.raw(t, 69)
		go func() {
			_, from, _ := c.recv(time.Minute)
			c.send(from, putOptions([]option{{optSize, "5000"}}))
			c.recv(time.Second)
			c.send(from, dataOf(1, make([]byte, 10)))
			c.recv(time.Second)
		}()
		client := Client{Network: r.net.Host("eth1", netip.MustParsePrefix("192.0.2.11/24"))}
		_, err := client.Get(t.Context(), netip.AddrPortFrom(device.Addr(), 69), "x", &bytes.Buffer{})
		assert.ErrorIs(t, err, ErrCutShort)
	})
}

func TestTransfersFromOnePortAreToldApart(t *testing.T) {
	inBubble(t, 1, Options{}, func(t *testing.T, r *rig) {
		_, err := r.stage.Offer(offertest.File("a.bin", content(700, 1)))
		require.NoError(t, err)
		for range 2 {
			c := r.raw(t, 1069)
			assert.Len(t, c.fetch(r.at(), "a.bin", 0, 0), 700)
			_ = c.conn.Close()
			time.Sleep(time.Second)
		}
		time.Sleep(time.Minute)
		r.watch.mu.Lock()
		defer r.watch.mu.Unlock()
		require.Len(t, r.watch.ended, 2)
		assert.NotEqual(t, r.watch.ended[0].t.ID, r.watch.ended[1].t.ID)
	})
}
