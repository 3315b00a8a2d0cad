package tftp

import (
	"bytes"
	"errors"
	"math/rand/v2"
	"net/netip"
	"strconv"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"pilotrix/core/network"
	"pilotrix/core/network/simulated"
	"pilotrix/core/offer/offertest"
)

// impatient fetches a file as RFC 1350 and 2347 say, with a client that shares no code with ours: it repeats its
// request, and later its acknowledgement, whenever nothing has come for a while. It returns what it holds for the whole
// file.
func (s *station) impatient(server netip.AddrPort, name string, options map[string]int) ([]byte, error) {
	s.peer = server
	last := s.request(1, name, options)
	s.send(last)
	var file []byte
	expected, quiet, fixed := 1, 0, false
	for {
		p, err := s.hear(s.retry, !fixed)
		if errors.Is(err, errQuiet) {
			if quiet++; quiet > 20 {
				return nil, err
			}
			s.send(last)
			continue
		}
		if err != nil {
			return nil, err
		}
		fixed, quiet = true, 0
		switch {
		case p[1] == 6 && expected == 1:
			if agreed, said := optionsIn(p[2:])["blksize"]; said {
				s.blk = agreed
			}
			last = numbered(4, 0, nil)
		case p[1] == 3 && int(p[2])<<8|int(p[3]) == expected:
			file = append(file, p[4:]...)
			last = numbered(4, expected, nil)
			if expected++; len(p)-4 < s.blk {
				s.send(last)
				return file, nil
			}
		case p[1] == 3:
		default:
			continue
		}
		s.send(last)
	}
}

// TestALateAnswerMakesNoShortFile has answers that come up to three seconds late, lost and doubled ones, and clients
// that repeat their request meanwhile: what a client has is the file, or the transfer has failed on both sides.
func TestALateAnswerMakesNoShortFile(t *testing.T) {
	const runs = 600
	whole := 0
	for seed := range uint64(runs) {
		inBubble(t, seed, Options{}, func(t *testing.T, r *rig) {
			random := rand.New(rand.NewPCG(seed, 7))
			r.net.Latency = time.Duration(random.IntN(3000)) * time.Millisecond / time.Duration(1+random.IntN(20))
			r.net.Spoil(simulated.Faults{
				Loss:     random.Float64() / 10,
				Twice:    random.Float64() / 10,
				Late:     random.Float64() / 2,
				Lateness: 3 * time.Second,
			})
			body := content([]int{0, 1, 511, 512, 513, 1428, 5000, 9000}[random.IntN(8)], byte(seed))
			_, err := r.stage.Offer(offertest.File("image", body))
			require.NoError(t, err)
			s := newStation(t, r.host, 2000, random)
			s.retry = time.Duration(200+random.IntN(3000)) * time.Millisecond
			options := map[string]int{}
			if random.IntN(4) > 0 {
				options["blksize"] = []int{8, 256, 512, 1024, 1428}[random.IntN(5)]
			}
			if random.IntN(2) == 0 {
				options["tsize"] = 0
			}
			got, err := s.impatient(r.at(), "image", options)
			_ = s.conn.Close()
			time.Sleep(5 * time.Minute)
			r.watch.mu.Lock()
			defer r.watch.mu.Unlock()
			served := 0
			for _, one := range r.watch.ended {
				if one.err == nil {
					served++
				}
			}
			if err == nil {
				whole++
				require.True(t, bytes.Equal(body, got), "seed %d: %d of %d B with %v", seed, len(got), len(body),
					options)
				return
			}
			assert.Zero(t, served, "seed %d: the client has failed with %v, and the server not", seed, err)
		})
	}
	assert.Greater(t, whole, runs*9/10, "most come through")
}

// TestOurClientBelievesTheBlocksMoreThanTheAnswer has servers that answer a request and its copy differently: by
// options, and by plain blocks.
func TestOurClientBelievesTheBlocksMoreThanTheAnswer(t *testing.T) {
	for _, size := range []int{0, 100, 512, 700, 1024, 5000} {
		for _, agreed := range []int{64, 512, 1428} {
			for _, says := range []bool{true, false} {
				for _, plain := range []bool{true, false} {
					body := content(size, byte(agreed))
					inBubble(t, 1, Options{}, func(t *testing.T, r *rig) {
						conn, err := r.host.ListenPacket(netip.AddrPortFrom(device.Addr(), 69))
						require.NoError(t, err)
						go undecided(conn, body, agreed, says, plain)
						client := Client{
							Network: r.net.Host("eth1", netip.MustParsePrefix("192.0.2.11/24")),
							Block:   agreed,
						}
						var got bytes.Buffer
						_, err = client.Get(t.Context(), netip.AddrPortFrom(device.Addr(), 69), "x", &got)
						require.NoError(t, err, "%d B by %d, size said %v, plain %v", size, agreed, says, plain)
						assert.True(t, bytes.Equal(body, got.Bytes()), "%d of %d B by %d, size said %v, plain %v",
							got.Len(), size, agreed, says, plain)
						_ = conn.Close()
					})
				}
			}
		}
	}
}

// undecided serves one file: it agrees to blocks and then sends these, or plain ones.
func undecided(conn network.PacketConn, body []byte, agreed int, says, plain bool) {
	length := agreed
	if plain {
		length = 512
	}
	buffer := make([]byte, 2000)
	for {
		n, from, err := conn.ReadFromUDPAddrPort(buffer)
		if err != nil {
			return
		}
		switch block := int(buffer[2])<<8 | int(buffer[3]); {
		case buffer[1] == 1:
			out := "\x00\x06blksize\x00" + strconv.Itoa(agreed) + "\x00"
			if says {
				out += "tsize\x00" + strconv.Itoa(len(body)) + "\x00"
			}
			_, _ = conn.WriteToUDPAddrPort([]byte(out), from)
		case buffer[1] == 4 && n == 4 && block*length <= len(body):
			_, _ = conn.WriteToUDPAddrPort(numbered(3, block+1, body[block*length:min(len(body), (block+1)*length)]),
				from)
		}
	}
}
