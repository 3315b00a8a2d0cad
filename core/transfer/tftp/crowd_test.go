package tftp

import (
	"bytes"
	"errors"
	"fmt"
	"math/rand/v2"
	"net"
	"net/netip"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"pilotrix/core/clock"
	"pilotrix/core/network"
	"pilotrix/core/network/simulated"
	"pilotrix/core/offer"
	"pilotrix/core/offer/offertest"
)

// stranger is the host of that number, on the device's network or beyond it.
func (r *rig) stranger(n int) *simulated.Host {
	return r.net.Host(fmt.Sprint("s", n),
		netip.PrefixFrom(netip.AddrFrom4([4]byte{198, 51, byte(n >> 8), byte(n)}), 24))
}

// asks sends a request from a new port of a host, and takes the options that are offered when it settles.
func asks(t *testing.T, r *rig, from *simulated.Host, settles bool) network.PacketConn {
	conn, err := from.ListenPacket(netip.AddrPortFrom(from.Addr(), 0))
	require.NoError(t, err)
	options := []option{{"timeout", "255"}}
	_, _ = conn.WriteToUDPAddrPort(putRequest(request{name: "image", mode: Octet, options: options}), r.at())
	if settles {
		buffer := make([]byte, 1000)
		_ = conn.SetReadDeadline(time.Now().Add(time.Second))
		if _, at, err := conn.ReadFromUDPAddrPort(buffer); err == nil {
			_, _ = conn.WriteToUDPAddrPort([]byte{0, opAck, 0, 0}, at)
		}
	}
	return conn
}

// TestWhoAsksTooOftenShutsNobodyOut lets hosts hold what they can, by requests alone and by transfers that they let
// stand: a device gets its file all the same, and one that a step waits for at once.
func TestWhoAsksTooOftenShutsNobodyOut(t *testing.T) {
	body := content(100_000, 3)
	for name, crowd := range map[string]struct {
		hosts, each int
		settles     bool
		stranger    time.Duration // until somebody that nobody waits for has the file, too
	}{
		"one that only asks":      {1, 400, false, 2 * time.Second},
		"one that holds":          {1, 400, true, 2 * time.Second},
		"a thousand that ask":     {1000, 1, false, 2 * time.Second},
		"sixty that hold":         {60, 16, true, time.Minute},
		"three hundred that hold": {300, 1, true, time.Minute},
	} {
		t.Run(name, func(t *testing.T) {
			inBubble(t, 5, Options{}, func(t *testing.T, r *rig) {
				_, err := r.stage.Offer(offertest.File("image", body))
				require.NoError(t, err)
				r.stage.Expect(device.Addr())
				for host := range crowd.hosts {
					from := r.stranger(host)
					for range crowd.each {
						defer asks(t, r, from, crowd.settles).Close()
					}
				}
				limits := r.server.opt.Places
				assert.LessOrEqual(t, r.server.places.Number(), limits.Settled+limits.New)
				for _, one := range []struct {
					host   *simulated.Host
					within time.Duration
				}{{r.host, 2 * time.Second}, {r.stranger(5000), crowd.stranger}} {
					began := time.Now()
					var got bytes.Buffer
					_, err := Client{
						Network: one.host,
						Clock:   clock.Real(),
						Block:   1428,
					}.Get(t.Context(), r.at(), "image", &got)
					require.NoError(t, err)
					assert.True(t, bytes.Equal(body, got.Bytes()))
					assert.LessOrEqual(t, time.Since(began), one.within)
				}
				time.Sleep(time.Hour)
				assert.Zero(t, r.server.places.Number(), "a transfer that stands ends")
			})
		})
	}
}

// TestADeviceThatAsksAgainAndAgainGetsItsFile starts again, from another port each time, as a loader that is restarted
// does.
func TestADeviceThatAsksAgainAndAgainGetsItsFile(t *testing.T) {
	inBubble(t, 6, Options{}, func(t *testing.T, r *rig) {
		body := content(5000, 3)
		_, err := r.stage.Offer(offertest.File("image", body))
		require.NoError(t, err)
		for range 40 {
			defer asks(t, r, r.host, true).Close()
			time.Sleep(3 * time.Second)
		}
		var got bytes.Buffer
		_, err = r.client().Get(t.Context(), r.at(), "image", &got)
		require.NoError(t, err)
		assert.True(t, bytes.Equal(body, got.Bytes()))
	})
}

// TestASlotIsForTheDeviceThatIsWaitedFor has a stranger begin to leave the file, and stand still.
func TestASlotIsForTheDeviceThatIsWaitedFor(t *testing.T) {
	for _, expected := range []bool{true, false} {
		inBubble(t, 7, Options{}, func(t *testing.T, r *rig) {
			folder := t.TempDir()
			_, err := r.stage.OpenSlot(offer.Slot{Name: "setup.txt", Folder: folder, Most: 1 << 20})
			require.NoError(t, err)
			other := r.stranger(1)
			conn, err := other.ListenPacket(netip.AddrPortFrom(other.Addr(), 0))
			require.NoError(t, err)
			defer conn.Close()
			_, _ = conn.WriteToUDPAddrPort(putRequest(request{write: true, name: "setup.txt", mode: Octet}), r.at())
			time.Sleep(time.Second)
			if expected {
				r.stage.Expect(device.Addr())
			} else {
				_, err = r.client().Put(t.Context(), r.at(), "setup.txt", strings.NewReader("mine"), 4)
				require.Error(t, err)
				time.Sleep(20 * time.Second)
			}
			_, err = r.client().Put(t.Context(), r.at(), "setup.txt", strings.NewReader("mine"), 4)
			require.NoError(t, err)
		})
	}
}

// oldLoader fetches by 512 bytes, and numbers the block after 65535 as it likes. It asks for a block that does not come
// by its last acknowledgement, and passes over what it does not expect.
type oldLoader struct {
	conn   network.PacketConn
	random *rand.Rand
	to     netip.AddrPort
	last   []byte // what it sends again
	want   uint16
	after  uint16 // the number after 65535
	loss   float64
}

func newOldLoader(t *testing.T, r *rig, after uint16) *oldLoader {
	conn, err := r.host.ListenPacket(netip.AddrPortFrom(device.Addr(), 0))
	require.NoError(t, err)
	return &oldLoader{
		conn:   conn,
		random: rand.New(rand.NewPCG(1, 1)),
		to:     r.at(),
		last:   putRequest(request{name: "image", mode: Octet}),
		want:   1,
		after:  after,
	}
}

func (o *oldLoader) say() {
	if o.random.Float64() >= o.loss {
		_, _ = o.conn.WriteToUDPAddrPort(o.last, o.to)
	}
}

func (o *oldLoader) fetch() (got []byte, err error) {
	defer o.conn.Close()
	buffer := make([]byte, 600)
	o.say()
	for silent := 0; silent < 60; {
		_ = o.conn.SetReadDeadline(time.Now().Add(1500 * time.Millisecond))
		n, from, err := o.conn.ReadFromUDPAddrPort(buffer)
		switch {
		case err != nil:
			silent++
		case o.random.Float64() < o.loss:
			continue
		case buffer[1] == opError:
			return got, errors.New(string(buffer[4:n]))
		case buffer[1] != opData || uint16(buffer[2])<<8|uint16(buffer[3]) != o.want:
			continue
		default:
			o.to, silent = from, 0
			got = append(got, buffer[4:n]...)
			o.last = ackOf(o.want)
			if o.want++; o.want == 0 {
				o.want = o.after
			}
			if n < headSize+DefaultBlock {
				o.loss = 0
				o.say()
				return got, nil
			}
		}
		o.say()
	}
	return got, errors.New("nothing came any more")
}

// TestNumbersRollOverAsTheDeviceHasIt serves more than 65535 blocks: what a device has is the file, whichever number it
// expects after 65535.
func TestNumbersRollOverAsTheDeviceHasIt(t *testing.T) {
	body := content(66_000*DefaultBlock+100, 9)
	for _, after := range []uint16{0, 1} {
		inBubble(t, 1, Options{}, func(t *testing.T, r *rig) {
			_, err := r.stage.Offer(offertest.File("image", body))
			require.NoError(t, err)
			got, err := newOldLoader(t, r, after).fetch()
			require.NoError(t, err, "after 65535: %d", after)
			assert.True(t, bytes.Equal(body, got), "after 65535: %d", after)
		})
	}
}

// TestNumbersRollOverOnABadNetwork begins shortly before that, and loses much on the way: no device ever holds another
// file.
func TestNumbersRollOverOnABadNetwork(t *testing.T) {
	whole := 0
	const runs = 400
	for seed := range uint64(runs) {
		inBubble(t, seed, Options{}, func(t *testing.T, r *rig) {
			random := rand.New(rand.NewPCG(seed, 3))
			r.net.Spoil(simulated.Faults{
				Loss:     random.Float64() / 4,
				Twice:    random.Float64() / 4,
				Late:     random.Float64() / 4,
				Lateness: 900 * time.Millisecond,
			})
			body := content(20*DefaultBlock+7, byte(seed))
			laptop, err := r.net.Host("eth2", netip.MustParsePrefix("192.0.2.12/24")).
				ListenPacket(netip.MustParseAddrPort("192.0.2.12:0"))
			require.NoError(t, err)
			o := newOldLoader(t, r, uint16(seed%2))
			o.random, o.loss, o.want, o.last = random, random.Float64()/3, lastNumber-3, ackOf(lastNumber-4)
			o.to = netip.MustParseAddrPort(laptop.LocalAddr().String())
			p := &peer{
				conn:      laptop,
				addr:      netip.MustParseAddrPort(o.conn.LocalAddr().String()),
				clock:     clock.Real(),
				retries:   DefaultRetries,
				timeLimit: UsualTimeLimit,
				buffer:    make([]byte, 1000),
			}
			s := newSender(p, plainTerms(), bytes.NewReader(body), nil)
			s.base, s.next, s.highest = lastNumber-3, lastNumber-3, lastNumber-4
			sent := make(chan error, 1)
			go func() { sent <- s.run(t.Context()) }()
			got, err := o.fetch()
			served := <-sent
			_ = laptop.Close()
			if err == nil {
				whole++
				require.True(t, bytes.Equal(body, got), "seed %d: %d of %d B", seed, len(got), len(body))
			} else {
				require.Error(t, served, "seed %d", seed)
			}
		})
	}
	assert.Greater(t, whole, runs*9/10)
}

// TestADeviceThatEndsAtTheRollOverIsNamed expects a number that nobody sends.
func TestADeviceThatEndsAtTheRollOverIsNamed(t *testing.T) {
	inBubble(t, 1, Options{}, func(t *testing.T, r *rig) {
		_, err := r.stage.Offer(offertest.File("image", content(70_000*DefaultBlock, 9)))
		require.NoError(t, err)
		_, err = newOldLoader(t, r, 2).fetch()
		require.Error(t, err)
		time.Sleep(10 * time.Minute)
		assert.ErrorContains(t, r.watch.onlyEnd(t).err, "its number rolls over there")
	})
}

// TestOurClientTakesEitherNumber fetches from a server that goes on with 1, and puts to one.
func TestOurClientTakesEitherNumber(t *testing.T) {
	for n := int64(1); n < 200_000; n += 333 {
		for _, one := range []bool{false, true} {
			numbers := numbering{one}
			for _, away := range []int64{-3000, -1, 0, 1, 3000} {
				if block := n + away; block > 0 {
					assert.Equal(t, block, numbers.nearest(n, numbers.number(block)), "%d from %d, %v", block, n, one)
				}
			}
		}
	}
	inBubble(t, 2, Options{}, func(t *testing.T, r *rig) {
		other := r.stranger(1)
		server, err := other.ListenPacket(netip.AddrPortFrom(other.Addr(), 69))
		require.NoError(t, err)
		defer server.Close()
		const blocks = 66_000
		go func() { // sends blocks of zeros, each until it is acknowledged
			buffer, number, block := make([]byte, 600), uint16(1), 1
			_, from, err := server.ReadFromUDPAddrPort(buffer)
			for err == nil && block <= blocks {
				size := DefaultBlock
				if block == blocks {
					size = 0
				}
				_, _ = server.WriteToUDPAddrPort(dataOf(number, make([]byte, size)), from)
				_ = server.SetReadDeadline(time.Now().Add(time.Second))
				n, _, readErr := server.ReadFromUDPAddrPort(buffer)
				if errors.Is(readErr, net.ErrClosed) {
					return
				}
				if readErr != nil || n != 4 || uint16(buffer[2])<<8|uint16(buffer[3]) != number {
					continue
				}
				block++
				if number++; number == 0 {
					number = 1
				}
			}
		}()
		var got bytes.Buffer
		_, err = r.client().Get(t.Context(), netip.AddrPortFrom(other.Addr(), 69), "image", &got)
		require.NoError(t, err)
		assert.Equal(t, (blocks-1)*DefaultBlock, got.Len())
	})
}

// TestAnAnswerFromThePortThatWasAskedIsSaid has a loader that knows no other port, and takes the file.
func TestAnAnswerFromThePortThatWasAskedIsSaid(t *testing.T) {
	inBubble(t, 3, Options{}, func(t *testing.T, r *rig) {
		loader := r.stranger(1)
		conn, err := loader.ListenPacket(netip.AddrPortFrom(loader.Addr(), 69))
		require.NoError(t, err)
		defer conn.Close()
		go func() {
			buffer := make([]byte, 600)
			for {
				n, from, err := conn.ReadFromUDPAddrPort(buffer)
				if err != nil {
					return
				}
				answer := ackOf(0)
				if buffer[1] == opData && n >= headSize {
					copy(answer[2:], buffer[2:4])
				}
				_, _ = conn.WriteToUDPAddrPort(answer, from)
			}
		}()
		client, said := r.client(), ""
		client.Remark = func(text string) { said += text }
		_, err = client.Put(t.Context(), netip.AddrPortFrom(loader.Addr(), 69), "image",
			bytes.NewReader(content(2000, 1)), 2000)
		require.NoError(t, err)
		assert.Contains(t, said, "198.51.0.1 answers from port 69, where it was asked")
	})
}

// TestAnAnswerFromAnotherAddressIsSaid has a loader with two addresses.
func TestAnAnswerFromAnotherAddressIsSaid(t *testing.T) {
	inBubble(t, 3, Options{}, func(t *testing.T, r *rig) {
		asked, answers := r.stranger(1), r.stranger(2)
		in, err := asked.ListenPacket(netip.AddrPortFrom(asked.Addr(), 69))
		require.NoError(t, err)
		defer in.Close()
		out, err := answers.ListenPacket(netip.AddrPortFrom(answers.Addr(), 0))
		require.NoError(t, err)
		defer out.Close()
		go func() {
			buffer := make([]byte, 600)
			for {
				_, from, err := in.ReadFromUDPAddrPort(buffer)
				if err != nil {
					return
				}
				_, _ = out.WriteToUDPAddrPort(ackOf(0), from)
			}
		}()
		_, err = r.client().Put(t.Context(), netip.AddrPortFrom(asked.Addr(), 69), "image", strings.NewReader("x"), 1)
		assert.ErrorIs(t, err, ErrNoAnswer)
		assert.ErrorContains(t, err, "but 198.51.0.2:")
	})
}

// TestWhatIsSentToEverybodyIsAnswered asks as a loader does that knows no server, on the loopback network's own such
// address. What is not here is left to others.
func TestWhatIsSentToEverybodyIsAnswered(t *testing.T) {
	stage, watch := &offer.Stage{}, &watching{}
	body := content(700, 1)
	_, err := stage.Offer(offertest.File("image", body))
	require.NoError(t, err)
	server, err := Listen(netip.MustParseAddrPort("127.0.0.1:0"),
		Options{Network: network.Host{}, Stage: stage, Watcher: watch})
	require.NoError(t, err)
	go func() { _ = server.Serve(t.Context()) }()
	conn, err := net.ListenUDP("udp4", &net.UDPAddr{IP: net.IPv4(127, 0, 0, 1)})
	require.NoError(t, err)
	defer conn.Close()
	r := &raw{t, conn, make([]byte, 70000)}
	everybody := netip.AddrPortFrom(netip.MustParseAddr("127.255.255.255"), server.Addr().Port())
	if _, err := conn.WriteToUDPAddrPort([]byte{0}, everybody); err != nil {
		t.Skipf("everybody on the loopback network cannot be spoken to here: %v", err)
	}
	r.send(everybody, putRequest(request{name: "other", mode: Octet}))
	r.send(everybody, putRequest(request{name: "image", mode: Octet}))
	p, from, ok := r.recv(10 * time.Second)
	require.True(t, ok)
	assert.EqualValues(t, opData, p.op, "the other request and what is none were not answered")
	assert.Equal(t, body[:DefaultBlock], p.data)
	assert.Equal(t, server.Addr().Addr(), from.Addr())
	assert.Contains(t, strings.Join(watch.words(), "\n"),
		"left to others everybody was asked for other, which is not here")
}
