package tftp

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/binary"
	"fmt"
	"hash"
	"io"
	"math/rand/v2"
	"net"
	"net/netip"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"pilotrix/core/clock"
	"pilotrix/core/network"
	"pilotrix/core/network/simulated"
	"pilotrix/core/offer"
	"pilotrix/core/offer/offertest"
	"pilotrix/core/transfer"
)

var (
	laptop = netip.MustParsePrefix("192.0.2.10/24")
	device = netip.MustParsePrefix("192.0.2.40/24")
)

// watching keeps what a Watcher was reported.
type watching struct {
	mu    sync.Mutex
	ended []ended
	said  []offer.Rung
}

type ended struct {
	t   offer.Transfer
	p   transfer.Progress
	err error
}

func (w *watching) Began(offer.Transfer)                    {}
func (w *watching) Moved(offer.Transfer, transfer.Progress) {}

func (w *watching) Ended(t offer.Transfer, p transfer.Progress, err error) {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.ended = append(w.ended, ended{t, p, err})
}

func (w *watching) Said(m offer.Rung) {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.said = append(w.said, m)
}

func (w *watching) onlyEnd(t *testing.T) ended {
	t.Helper()
	w.mu.Lock()
	defer w.mu.Unlock()
	require.Len(t, w.ended, 1)
	return w.ended[0]
}

func (w *watching) words() (all []string) {
	w.mu.Lock()
	defer w.mu.Unlock()
	for _, m := range w.said {
		all = append(all, m.Kind+" "+m.Text)
	}
	return all
}

func content(size int, seed byte) []byte {
	data := make([]byte, size)
	_, _ = rand.NewChaCha8([32]byte{seed, byte(size)}).Read(data)
	return data
}

// rig is a server and a client's host on a network in memory.
type rig struct {
	net    *simulated.Net
	host   *simulated.Host // the client's
	server *Server
	stage  *offer.Stage
	watch  *watching
	end    func()
}

func newRig(t *testing.T, seed uint64, opt Options) *rig {
	t.Helper()
	r := &rig{net: simulated.New(seed), stage: &offer.Stage{}, watch: &watching{}}
	r.net.Latency = time.Millisecond
	r.host = r.net.Host("eth0", device)
	opt.Network, opt.Stage, opt.Watcher = r.net.Host("eth0", laptop), r.stage, r.watch
	server, err := Listen(netip.AddrPortFrom(laptop.Addr(), Port), opt)
	require.NoError(t, err)
	r.server = server
	ctx, cancel := context.WithCancel(context.Background())
	served := make(chan error, 1)
	go func() { served <- server.Serve(ctx) }()
	r.end = func() {
		cancel()
		require.NoError(t, <-served)
	}
	return r
}

func (r *rig) client() Client { return Client{Network: r.host, Clock: clock.Real()} }

func (r *rig) at() netip.AddrPort { return r.server.Addr() }

// inBubble runs a test in virtual time with a rig.
func inBubble(t *testing.T, seed uint64, opt Options, use func(t *testing.T, r *rig)) {
	synctest.Test(t, func(t *testing.T) {
		r := newRig(t, seed, opt)
		use(t, r)
		time.Sleep(10 * time.Minute) // the receivers stop lingering
		r.end()
	})
}

func TestEverySizeBothWaysInEveryShape(t *testing.T) {
	inBubble(t, 1, Options{}, func(t *testing.T, r *rig) {
		folder := t.TempDir()
		for i, size := range []int{0, 1, 511, 512, 513, 1024, 100_000} {
			for j, shape := range []Client{{}, {Block: 8}, {Block: 1468, Window: 1}, {Block: 512, Window: 8}, {Block: 1428, Window: 64, Timeout: 2 * time.Second}} {
				if shape.Block == 8 && size > 1024 {
					continue
				}
				name := fmt.Sprintf("image-%d-%d", i, j)
				data := content(size, 7)
				_, err := r.stage.Offer(offertest.File(name, data))
				require.NoError(t, err)
				client := shape
				client.Network, client.Clock = r.host, clock.Real()
				var got bytes.Buffer
				result, err := client.Get(t.Context(), r.at(), name, &got)
				require.NoError(t, err, name)
				assert.True(t, bytes.Equal(data, got.Bytes()), name)
				assert.EqualValues(t, size, result.Terms.Size, "the size was told")
				if shape.Block > 0 {
					assert.Equal(t, shape.Block, result.Terms.Block)
				}

				_, err = r.stage.OpenSlot(offer.Slot{Name: name, Folder: folder, Most: 1 << 20})
				require.NoError(t, err)
				_, err = client.Put(t.Context(), r.at(), name, bytes.NewReader(data), int64(size))
				require.NoError(t, err, name)
				synctest.Wait()
				kept, err := os.ReadFile(filepath.Join(folder, name))
				require.NoError(t, err)
				assert.True(t, bytes.Equal(data, kept), name)
			}
		}
	})
}

// TestAThousandTransfersOnABadNetwork loses, doubles and disorders packets: none may be corrupt, none
// may hang.
func TestAThousandTransfersOnABadNetwork(t *testing.T) {
	const transfers = 1000
	total, spoiled := 0, 0
	for part := range 10 {
		inBubble(t, uint64(part), Options{Retries: 40}, func(t *testing.T, r *rig) {
			r.net.Spoil(simulated.Faults{Loss: 0.2, Twice: 0.1, Late: 0.1, Lateness: 40 * time.Millisecond})
			folder := t.TempDir()
			random := rand.New(rand.NewPCG(uint64(part), 5))
			for i := range transfers / 10 {
				size := random.IntN(40_000)
				data := content(size, byte(i))
				name := fmt.Sprintf("image-%d", i)
				client := r.client()
				client.Retries = 40
				client.Block = []int{0, 256, 512, 1428}[random.IntN(4)]
				client.Window = []int{0, 1, 4, 16}[random.IntN(4)]
				ctx, cancel := context.WithTimeout(t.Context(), 4*time.Hour)
				if i%2 == 0 {
					withdraw, err := r.stage.Offer(offertest.File(name, data))
					require.NoError(t, err)
					var got bytes.Buffer
					_, err = client.Get(ctx, r.at(), name, &got)
					require.NoError(t, err, name)
					require.True(t, bytes.Equal(data, got.Bytes()), "%s of part %d is corrupt", name, part)
					withdraw()
				} else {
					_, err := r.stage.OpenSlot(offer.Slot{Name: name, Folder: folder, Most: 1 << 20})
					require.NoError(t, err)
					_, err = client.Put(ctx, r.at(), name, bytes.NewReader(data), int64(size))
					require.NoError(t, err, name)
					synctest.Wait()
					kept, err := os.ReadFile(filepath.Join(folder, name))
					require.NoError(t, err)
					require.True(t, bytes.Equal(data, kept), "%s of part %d is corrupt", name, part)
				}
				cancel()
				total++
			}
			_, bad := r.net.Counts()
			spoiled += bad
		})
	}
	assert.Equal(t, transfers, total)
	assert.Greater(t, spoiled, 10_000, "the network really was bad")
}

// TestCopiesDoNotDouble sends every packet twice: each block may then go out once more, but not again
// and again (RFC 1123 §4.2.3.1).
func TestCopiesDoNotDouble(t *testing.T) {
	for _, window := range []int{1, 8} {
		inBubble(t, 3, Options{}, func(t *testing.T, r *rig) {
			data := content(400*512+1, 1)
			_, err := r.stage.Offer(offertest.File("image", data))
			require.NoError(t, err)
			r.net.Spoil(simulated.Faults{Twice: 1})
			client := r.client()
			client.Window = window
			var got bytes.Buffer
			_, err = client.Get(t.Context(), r.at(), "image", &got)
			require.NoError(t, err)
			assert.Equal(t, data, got.Bytes())
			sent, _ := r.net.Counts()
			assert.Less(t, sent, 401*3+20, "windows of %d: blocks, their acknowledgements and the answers to copies",
				window)
		})
	}
}

func TestTwoHundredMebibytesRollTheCounterOver(t *testing.T) {
	const size = 200<<20 + 77
	source := func() io.ReadSeekCloser { return &pattern{size: size} }
	want := sha256.New()
	_, err := io.Copy(want, source())
	require.NoError(t, err)
	stage := &offer.Stage{}
	_, err = stage.Offer(
		offer.File{Name: "large.img", Size: size, Open: func() (io.ReadSeekCloser, error) { return source(), nil }})
	require.NoError(t, err)
	server, err := Listen(netip.MustParseAddrPort("127.0.0.1:0"), Options{Network: network.Host{}, Stage: stage})
	require.NoError(t, err)
	ctx, cancel := context.WithCancel(t.Context())
	defer cancel()
	go func() { _ = server.Serve(ctx) }()
	got := sha256.New()
	result, err := Client{Network: network.Host{}, Block: 1024, Window: 16}.Get(ctx, server.Addr(), "large.img", got)
	require.NoError(t, err)
	assert.EqualValues(t, size, result.Bytes)
	assert.Greater(t, result.Blocks, 3*65536, "the counter went round three times")
	assert.Equal(t, sum(want), sum(got))
}

func sum(h hash.Hash) string { return fmt.Sprintf("%x", h.Sum(nil)) }

// pattern is a file that needs no room: each 4 KiB of it begin with their number.
type pattern struct{ size, at int64 }

func (p *pattern) Read(out []byte) (int, error) {
	if p.at >= p.size {
		return 0, io.EOF
	}
	n := 0
	for n < len(out) && p.at < p.size {
		var page [4096]byte
		binary.BigEndian.PutUint64(page[:], uint64(p.at/4096))
		got := copy(out[n:], page[p.at%4096:])
		got = int(min(int64(got), p.size-p.at))
		n, p.at = n+got, p.at+int64(got)
	}
	return n, nil
}

func (p *pattern) Close() error { return nil }

func (p *pattern) Seek(offset int64, whence int) (int64, error) {
	if p.at = offset; whence == io.SeekEnd {
		p.at += p.size
	}
	return p.at, nil
}

func TestNetascii(t *testing.T) {
	inBubble(t, 4, Options{}, func(t *testing.T, r *rig) {
		text := []byte("name mare-gw1\nrate\r9600\n\nend\r")
		for range 6 { // block limits fall into line ends
			text = append(text, text...)
		}
		_, err := r.stage.Offer(offertest.File("setup.txt", text))
		require.NoError(t, err)
		client := r.client()
		client.Mode, client.Block = Netascii, 9
		var got bytes.Buffer
		_, err = client.Get(t.Context(), r.at(), "setup.txt", &got)
		require.NoError(t, err)
		assert.Equal(t, text, got.Bytes())
		folder := t.TempDir()
		_, err = r.stage.OpenSlot(offer.Slot{Name: "back.txt", Folder: folder, Most: 1 << 20})
		require.NoError(t, err)
		_, err = client.Put(t.Context(), r.at(), "back.txt", bytes.NewReader(text), int64(len(text)))
		require.NoError(t, err)
		synctest.Wait()
		kept, err := os.ReadFile(filepath.Join(folder, "back.txt"))
		require.NoError(t, err)
		assert.Equal(t, text, kept)
	})
}

func TestOptionsAreRefusedBothWays(t *testing.T) {
	inBubble(t, 5, Options{Limits: Limits{Block: 1024, Window: 4}}, func(t *testing.T, r *rig) {
		data := content(5000, 2)
		_, err := r.stage.Offer(offertest.File("image", data))
		require.NoError(t, err)
		client := r.client()
		client.Block, client.Window = 8192, 64
		var got bytes.Buffer
		result, err := client.Get(t.Context(), r.at(), "image", &got)
		require.NoError(t, err)
		assert.Equal(t, Terms{Block: 1024, Window: 4, Size: 5000}, result.Terms, "less than asked for is taken")

		old, err := r.net.Host("eth0", netip.MustParsePrefix("192.0.2.99/24")).
			ListenPacket(netip.MustParseAddrPort("192.0.2.99:69"))
		require.NoError(t, err)
		go oldServer(t, old, data)
		got.Reset()
		result, err = client.Get(t.Context(), netip.MustParseAddrPort("192.0.2.99:69"), "image", &got)
		require.NoError(t, err)
		assert.Equal(t, 512, result.Terms.Block)
		assert.Equal(t, data, got.Bytes())
	})
}

// oldServer knows no options: it answers a request with any by an error, and one without by blocks.
func oldServer(t *testing.T, conn network.PacketConn, data []byte) {
	defer conn.Close()
	buffer := make([]byte, 1024)
	for {
		n, from, err := conn.ReadFromUDPAddrPort(buffer)
		if err != nil {
			return
		}
		got, err := parse(buffer[:n])
		if !assert.NoError(t, err) {
			return
		}
		switch {
		case got.op == opRead && len(got.request.options) > 0:
			_, _ = conn.WriteToUDPAddrPort(putError(CodeOptions, "no options here"), from)
			continue
		case got.op == opRead:
			got.block = 0
		}
		begin := int(got.block) * 512
		if begin > len(data) {
			return
		}
		out := make([]byte, headSize, headSize+512)
		putHead(out, opData, got.block+1)
		_, _ = conn.WriteToUDPAddrPort(append(out, data[begin:min(len(data), begin+512)]...), from)
	}
}

func TestAClientThatRefusesOurAnswerEndsItsTransferOnly(t *testing.T) {
	inBubble(t, 6, Options{}, func(t *testing.T, r *rig) {
		_, err := r.stage.Offer(offertest.File("image", content(5000, 2)))
		require.NoError(t, err)
		conn, err := r.host.ListenPacket(netip.AddrPortFrom(device.Addr(), 0))
		require.NoError(t, err)
		defer conn.Close()
		_, _ = conn.WriteToUDPAddrPort(
			putRequest(request{name: "image", mode: Octet, options: []option{{optBlock, "1000"}}}), r.at())
		buffer := make([]byte, 1500)
		n, from, err := conn.ReadFromUDPAddrPort(buffer)
		require.NoError(t, err)
		got, err := parse(buffer[:n])
		require.NoError(t, err)
		assert.EqualValues(t, opOptions, got.op)
		_, _ = conn.WriteToUDPAddrPort(putError(CodeOptions, "never mind"), from)
		synctest.Wait()
		time.Sleep(time.Second)
		assert.ErrorContains(t, r.watch.onlyEnd(t).err, "never mind")
		var back bytes.Buffer
		_, err = r.client().Get(t.Context(), r.at(), "image", &back)
		assert.NoError(t, err)
	})
}

func TestNearMissesAreReported(t *testing.T) {
	inBubble(t, 7, Options{}, func(t *testing.T, r *rig) {
		_, err := r.stage.Offer(offertest.File("lark-7.6.1.cgo", content(100, 1)))
		require.NoError(t, err)
		for asked, how := range map[string]string{
			"lark-7.6.1":         "asked for without .cgo",
			`\images\Lark-7.6.1`: "asked for with a folder before it, asked for without .cgo",
			"lark-7.6.1.cgo.zip": "asked for with .zip after it",
			"lark-7.6.1.zip":     "asked for as .zip, not .cgo",
			"lark-7.6.2.cgo":     "a character or two differ",
		} {
			_, err := r.client().Get(t.Context(), r.at(), asked, io.Discard)
			var refused *Refused
			require.ErrorAs(t, err, &refused, asked)
			assert.Equal(t, CodeNotFound, refused.Code)
			assert.Contains(t, refused.Message, "lark-7.6.1.cgo is staged ("+how+")")
		}
		_, err = r.client().Get(t.Context(), r.at(), "shadow", io.Discard)
		assert.ErrorContains(t, err, "no shadow here")
		assert.NotContains(t, err.Error(), "staged")
	})
}

// TestRequestsOfOldLoaders are read as what they are meant to be: what they lack, or have too much, is passed over.
func TestRequestsOfOldLoaders(t *testing.T) {
	for text, want := range map[string][]option{
		"image\x00octet\x00":                                          nil,
		"image\x00octet":                                              nil, // without its last NUL
		"image\x00binary\x00":                                         nil,
		"image\x00IMAGE\x00":                                          nil,
		"image\x00octet\x00\x00\x00\x00\x00":                          nil, // the rest of a buffer
		"image\x00octet\x00blksize\x00":                               nil,
		"image\x00octet" + strings.Repeat("\x00", 600):                nil, // a buffer that is longer than a request
		"image\x00octet\x00blksize\x00\x00tsize\x000\x00":             {{"tsize", "0"}},
		"image\x00octet\x00blksize\x001428":                           {{"blksize", "1428"}},
		"image\x00octet\x00BLKSIZE\x001428\x00blksize\x00512\x00":     {{"blksize", "1428"}},
		"image\x00octet\x00vendor\x00x\x00tsize\x000\x00\x00\x00junk": {{"vendor", "x"}, {"tsize", "0"}},
	} {
		got, err := parse([]byte("\x00\x01" + text))
		require.NoError(t, err, "%q", text)
		assert.Equal(t, "image", got.request.name, "%q", text)
		assert.Equal(t, Octet, got.request.mode, "%q", text)
		assert.Equal(t, want, got.request.options, "%q", text)
	}
}

// TestHostileRequests throws what does not belong at the server. None may get a file, leave one or stop
// the server.
func TestHostileRequests(t *testing.T) {
	inBubble(t, 8, Options{}, func(t *testing.T, r *rig) {
		folder := t.TempDir()
		require.NoError(t, os.WriteFile(filepath.Join(folder, "there"), []byte("keep me"), 0o600))
		data := content(3000, 3)
		_, err := r.stage.Offer(offertest.File("image", data))
		require.NoError(t, err)
		_, err = r.stage.OpenSlot(offer.Slot{Name: "upload", Folder: folder, Most: 1000})
		require.NoError(t, err)
		_, err = r.stage.OpenSlot(offer.Slot{Name: "there", Folder: folder, Most: 1000})
		require.ErrorIs(t, err, offer.ErrThere)
		for _, name := range []string{"../x", "..", "a/../b"} {
			_, err = r.stage.OpenSlot(offer.Slot{Name: name, Folder: folder, Most: 1000})
			assert.Error(t, err, name)
		}
		long := bytes.Repeat([]byte("a"), 600)
		hostile := [][]byte{
			nil,
			{0},
			{0, 1},
			{0, 9, 1, 2},
			{255, 255},
			{0, 3},
			{0, 4, 0},
			{0, 5},
			{0, 6},
			{0, 3, 0, 1, 9},
			{0, 4, 0, 1},
			[]byte("\x00\x01"),
			[]byte("\x00\x01image"),
			[]byte("\x00\x01image\x00"),
			[]byte("\x00\x01\x00octet\x00"),
			[]byte("\x00\x01image\x00mail\x00"),
			append(
				[]byte("\x00\x01"),
				append(long, "\x00octet\x00"...)...),
			[]byte("\x00\x01" + string(bytes.Repeat([]byte{0}, 300))),
		}
		for _, name := range []string{"../images", "../../etc/hostname", "/etc/hostname", "..", ".", "/", `..\image.`, "image\x1b[2J", "./image/.", "%2e%2e/etc/hostname", "//etc//hostname"} {
			for _, op := range []bool{false, true} {
				hostile = append(hostile, putRequest(request{write: op, name: name, mode: Octet}))
			}
		}
		hostile = append(hostile, putRequest(request{write: true, name: "there", mode: Octet}),
			putRequest(request{write: true, name: "image", mode: Octet}))
		for _, packet := range hostile {
			conn, err := r.host.ListenPacket(netip.AddrPortFrom(device.Addr(), 0))
			require.NoError(t, err)
			_, _ = conn.WriteToUDPAddrPort(packet, r.at())
			require.NoError(t, conn.SetReadDeadline(time.Now().Add(time.Second)))
			answer := make([]byte, 2048)
			n, _, err := conn.ReadFromUDPAddrPort(answer)
			if err == nil {
				assert.EqualValues(t, opError, answer[1], "%q was answered by %q", packet, answer[:n])
			}
			_ = conn.Close()
		}
		for i, value := range []string{"0", "7", "65465", "-1", "99999999999999999999", "x", ""} {
			var got bytes.Buffer
			client := r.client()
			p, _, err := client.begin(t.Context(), r.at(), request{
				name:    "image",
				mode:    Octet,
				options: []option{{optBlock, value}, {optWindow, value}, {optTimeout, value}, {"unheard", "of"}},
			})
			require.NoError(t, err, "odd options are passed over: %d", i)
			p.refuse(CodeOther, "that is all")
			_ = p.conn.Close()
			_, err = client.Get(t.Context(), r.at(), "image", &got)
			require.NoError(t, err)
			require.Equal(t, data, got.Bytes(), "the server is up and whole")
		}
		_, err = r.client().Put(t.Context(), r.at(), "upload", bytes.NewReader(content(2000, 1)), 2000)
		assert.ErrorContains(t, err, "larger than this slot takes", "by its announced size")
		client := r.client()
		client.NoSize = true
		_, err = client.Put(t.Context(), r.at(), "upload", bytes.NewReader(content(2000, 1)), 2000)
		assert.ErrorContains(t, err, "larger than this slot takes", "by what really comes")
		synctest.Wait()
		entries, err := os.ReadDir(folder)
		require.NoError(t, err)
		require.Len(t, entries, 1, "nothing was left")
		kept, err := os.ReadFile(filepath.Join(folder, "there"))
		require.NoError(t, err)
		assert.Equal(t, "keep me", string(kept))
	})
}

// TestASpoofedPortChangesNothing lets another port of the device's address speak into a transfer.
func TestASpoofedPortChangesNothing(t *testing.T) {
	inBubble(t, 9, Options{Packets: true}, func(t *testing.T, r *rig) {
		data := content(100_000, 5)
		_, err := r.stage.Offer(offertest.File("image", data))
		require.NoError(t, err)
		spoof, err := r.host.ListenPacket(netip.AddrPortFrom(device.Addr(), 0))
		require.NoError(t, err)
		defer spoof.Close()
		client := r.client()
		var target netip.AddrPort
		client.Said = func(m offer.Rung) {
			if m.Kind == "DATA" && m.FromPeer {
				target = m.Peer
				for _, packet := range [][]byte{putError(CodeFull,
					"stop"), {0, 4, 0, 200}, {0, 3, 0, 1, 1}, []byte("junk")} {
					_, _ = spoof.WriteToUDPAddrPort(packet, target)
				}
			}
		}
		var got bytes.Buffer
		_, err = client.Get(t.Context(), r.at(), "image", &got)
		require.NoError(t, err)
		assert.Equal(t, data, got.Bytes())
		assert.True(t, target.IsValid())
		require.NoError(t, spoof.SetReadDeadline(time.Now().Add(time.Second)))
		answer := make([]byte, 100)
		_, _, err = spoof.ReadFromUDPAddrPort(answer)
		require.NoError(t, err)
		assert.Equal(t, []byte{0, opError, 0, byte(CodeUnknownID)}, answer[:4])
	})
}

// TestADeviceThatRestartsMayAskAgain asks again from the same port while the old transfer waits.
func TestADeviceThatRestartsMayAskAgain(t *testing.T) {
	inBubble(t, 10, Options{}, func(t *testing.T, r *rig) {
		_, err := r.stage.Offer(offertest.File("image", content(5000, 2)))
		require.NoError(t, err)
		conn, err := r.host.ListenPacket(netip.AddrPortFrom(device.Addr(), 2069))
		require.NoError(t, err)
		defer conn.Close()
		buffer := make([]byte, 1500)
		for round := range 3 {
			_, _ = conn.WriteToUDPAddrPort(putRequest(request{name: "image", mode: Octet}), r.at())
			require.NoError(t, conn.SetReadDeadline(time.Now().Add(50*time.Millisecond)))
			n, from, err := conn.ReadFromUDPAddrPort(buffer)
			require.NoError(t, err, "round %d", round)
			got, err := parse(buffer[:n])
			require.NoError(t, err)
			require.EqualValues(t, opData, got.op, "round %d: %q", round, buffer[:n])
			require.EqualValues(t, 1, got.block)
			_, _ = conn.WriteToUDPAddrPort([]byte{0, opAck, 0, 1}, from)
			_, _, err = conn.ReadFromUDPAddrPort(buffer) // block 2, then silence: restarted
			require.NoError(t, err)
			time.Sleep(2 * time.Second)
			for conn.SetReadDeadline(time.Now().Add(time.Microsecond)) == nil && err == nil {
				_, _, err = conn.ReadFromUDPAddrPort(buffer) // what is repeated meanwhile
			}
		}
	})
}

func TestPutWaitsForTheWindow(t *testing.T) {
	inBubble(t, 11, Options{}, func(t *testing.T, r *rig) {
		folder := t.TempDir()
		data := content(50_000, 1)
		recovery := netip.MustParsePrefix("192.0.2.1/24")
		host := r.net.Host("eth0", recovery)
		r.net.SetUp(recovery.Addr(), false)
		stage := &offer.Stage{}
		_, err := stage.OpenSlot(offer.Slot{Name: "recovery.img", Folder: folder, Most: 1 << 20})
		require.NoError(t, err)
		loader, err := Listen(netip.AddrPortFrom(recovery.Addr(), Port), Options{Network: host, Stage: stage})
		require.NoError(t, err)
		ctx, cancel := context.WithCancel(t.Context())
		defer cancel()
		go func() { _ = loader.Serve(ctx) }()
		go func() {
			time.Sleep(20 * time.Second)
			r.net.SetUp(recovery.Addr(), true)
		}()
		tries := 0
		began := time.Now()
		_, err = r.client().PutWhenOpen(t.Context(), loader.Addr(), "recovery.img", int64(len(data)),
			func() (io.ReadCloser, error) { return io.NopCloser(bytes.NewReader(data)), nil }, Opening{Trying: func(n int) { tries = n }})
		require.NoError(t, err)
		assert.Greater(t, tries, 3)
		assert.Less(t, time.Since(began), 22*time.Second, "a window of a second or two is not missed")
		synctest.Wait()
		kept, err := os.ReadFile(filepath.Join(folder, "recovery.img"))
		require.NoError(t, err)
		assert.Equal(t, data, kept)

		r.net.SetUp(recovery.Addr(), false)
		limited, stop := context.WithTimeout(t.Context(), 10*time.Second)
		defer stop()
		_, err = r.client().PutWhenOpen(limited, loader.Addr(), "recovery.img", 1,
			func() (io.ReadCloser, error) { return io.NopCloser(bytes.NewReader(data)), nil }, Opening{})
		assert.Error(t, err)
	})
}

// awkwardLoader refuses at first, then falls silent in the middle, then takes so many full blocks and is gone before it
// acknowledges the last one.
func awkwardLoader(conn network.PacketConn, blocks uint16) {
	buffer := make([]byte, 1000)
	for requests := 0; ; {
		n, from, err := conn.ReadFromUDPAddrPort(buffer)
		if err != nil {
			return
		}
		got, err := parse(buffer[:n])
		block := uint16(got.block)
		switch {
		case err != nil:
		case got.op == opWrite:
			if requests++; requests == 1 {
				_, _ = conn.WriteToUDPAddrPort([]byte("\x00\x05\x00\x02not now\x00"), from)
				continue
			}
			_, _ = conn.WriteToUDPAddrPort([]byte{0, opAck, 0, 0}, from)
		case requests == 2 && block > 3, block == blocks+1:
		default:
			_, _ = conn.WriteToUDPAddrPort([]byte{0, opAck, byte(block >> 8), byte(block)}, from)
		}
	}
}

// TestAWindowThatIsAwkward begins again where a file can be begun again, and says a last block that nobody
// acknowledged. What comes from a pipe would be sent without its beginning.
func TestAWindowThatIsAwkward(t *testing.T) {
	const blocks = 9 // and a short one
	data := content(blocks*DefaultBlock+5, 3)
	for _, known := range []bool{true, false} {
		inBubble(t, 21, Options{}, func(t *testing.T, r *rig) {
			host := r.net.Host("eth0", netip.MustParsePrefix("192.0.2.1/24"))
			conn, err := host.ListenPacket(netip.MustParseAddrPort("192.0.2.1:69"))
			require.NoError(t, err)
			defer conn.Close()
			go awkwardLoader(conn, blocks)
			size := int64(-1)
			if known {
				size = int64(len(data))
			}
			var began, cut int64
			var refused error
			result, err := r.client().PutWhenOpen(t.Context(), netip.MustParseAddrPort("192.0.2.1:69"), "x", size, func() (io.ReadCloser, error) { return io.NopCloser(bytes.NewReader(data)), nil },
				Opening{
					Began:   func() { began++ },
					Cut:     func(sent int64, _ error) { cut = sent },
					Refused: func(err error) { refused = err },
				})
			assert.ErrorContains(t, refused, "not now")
			if !known {
				require.ErrorContains(t, err, "its beginning is gone")
				assert.NotErrorIs(t, err, ErrUnconfirmed)
				assert.EqualValues(t, 3*DefaultBlock, result.Bytes)
				assert.EqualValues(t, []int64{1, 0}, []int64{began, cut})
				return
			}
			require.ErrorIs(t, err, ErrUnconfirmed)
			assert.EqualValues(t, blocks*DefaultBlock, result.Bytes)
			assert.EqualValues(t, []int64{2, 3 * DefaultBlock}, []int64{began, cut})
		})
	}
}

// cutCable is a network whose cable has no carrier for a while: sending fails at once.
type cutCable struct {
	network.Network
	until time.Time
}

type cutSocket struct {
	network.PacketConn
	until time.Time
}

func (c cutCable) ListenPacket(at netip.AddrPort) (network.PacketConn, error) {
	conn, err := c.Network.ListenPacket(at)
	return cutSocket{conn, c.until}, err
}

func (c cutSocket) WriteToUDPAddrPort(p []byte, to netip.AddrPort) (int, error) {
	if time.Now().Before(c.until) {
		return 0, &net.OpError{Op: "write", Err: os.NewSyscallError("sendto", syscall.ENETUNREACH)}
	}
	return c.PacketConn.WriteToUDPAddrPort(p, to)
}

func TestACableWithoutCarrierIsWaitedFor(t *testing.T) {
	inBubble(t, 15, Options{}, func(t *testing.T, r *rig) {
		folder := t.TempDir()
		_, err := r.stage.OpenSlot(offer.Slot{Name: "recovery.img", Folder: folder, Most: 1 << 20})
		require.NoError(t, err)
		client := r.client()
		client.Network = cutCable{r.host, time.Now().Add(30 * time.Second)}
		_, err = client.PutWhenOpen(t.Context(), r.at(), "recovery.img", 5,
			func() (io.ReadCloser, error) { return io.NopCloser(bytes.NewReader([]byte("hello"))), nil }, Opening{})
		require.NoError(t, err)
		client.Network = cutCable{r.host, time.Now().Add(time.Hour)}
		_, err = client.Get(t.Context(), r.at(), "image", io.Discard)
		assert.ErrorIs(t, err, ErrNoAnswer)
	})
}

func TestEndingTheServerSaysTheDevice(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		r := newRig(t, 12, Options{})
		_, err := r.stage.Offer(offer.File{
			Name: "image",
			Size: 1 << 30,
			Open: func() (io.ReadSeekCloser, error) { return &pattern{size: 1 << 30}, nil },
		})
		require.NoError(t, err)
		failed := make(chan error, 1)
		go func() {
			_, err := r.client().Get(t.Context(), r.at(), "image", io.Discard)
			failed <- err
		}()
		time.Sleep(time.Second)
		r.end()
		assert.ErrorContains(t, <-failed, "the server is being closed")
	})
}

// TestASilentClientIsGivenUp sends little to an address from which nothing but a request came: it may be anybody's.
func TestASilentClientIsGivenUp(t *testing.T) {
	inBubble(t, 13, Options{}, func(t *testing.T, r *rig) {
		_, err := r.stage.Offer(offertest.File("image", content(5000, 2)))
		require.NoError(t, err)
		conn, err := r.host.ListenPacket(netip.AddrPortFrom(device.Addr(), 0))
		require.NoError(t, err)
		ask := putRequest(request{name: "image", mode: Octet})
		_, _ = conn.WriteToUDPAddrPort(ask, r.at())
		time.Sleep(2 * time.Minute)
		sent, _ := r.net.Counts()
		assert.Equal(t, 1+maxUnheard, sent, "the request, and what it drew")
		assert.Empty(t, r.watch.ended, "nothing was under way")
		assert.Contains(t, strings.Join(r.watch.words(), "\n"), "unanswered image: gave up")
		assert.Zero(t, r.server.places.Number())
		_ = conn.Close()
	})
}

// TestATransferThatIsHeardLateIsNotGivenUp has a device that is busy for half a minute before it answers for the first
// time.
func TestATransferThatIsHeardLateIsNotGivenUp(t *testing.T) {
	inBubble(t, 13, Options{}, func(t *testing.T, r *rig) {
		body := content(5000, 2)
		_, err := r.stage.Offer(offertest.File("image", body))
		require.NoError(t, err)
		assert.Equal(t, body, r.raw(t, 2000).fetch(r.at(), "image", 1, 30*time.Second))
		time.Sleep(time.Minute)
		assert.NoError(t, r.watch.onlyEnd(t).err)
	})
}
