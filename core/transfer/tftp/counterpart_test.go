package tftp

import (
	"bytes"
	"errors"
	"flag"
	"fmt"
	"maps"
	"math/rand/v2"
	"net/netip"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"pilotrix/core/network"
	"pilotrix/core/network/simulated"
	"pilotrix/core/offer"
	"pilotrix/core/offer/offertest"
)

// The other end of these tests shares no code with ours: a client and a server written from RFC 1350 (the
// protocol), 2347 (options), 2348 (blksize), 2349 (tsize) and 7440 (windowsize), which read and write their
// packets by themselves.

var counterparts = flag.Int("tftp.runs", 400, "transfers with a counterpart that shares no code with ours")

var (
	errQuiet   = errors.New("counterpart: the other side fell silent")
	errTurned  = errors.New("counterpart: the other side sent an error")
	errDropped = errors.New("counterpart: went away in mid-transfer, as it was before to")
)

// station is one end of a transfer.
type station struct {
	conn   network.PacketConn
	peer   netip.AddrPort
	random *rand.Rand
	retry  time.Duration
	blk    int
	window int

	dieAt   int           // block at which it goes away, 0 for never
	silence time.Duration // as long as it is busy now and then
	busy    int           // of a hundred blocks
}

func newStation(t *testing.T, host *simulated.Host, port uint16, random *rand.Rand) *station {
	addr := host.Addr()
	conn, err := host.ListenPacket(netip.AddrPortFrom(addr, port))
	require.NoError(t, err)
	return &station{
		conn:   conn,
		random: random,
		retry:  time.Duration(500+random.IntN(4500)) * time.Millisecond,
		blk:    512,
		window: 1,
	}
}

const maxTries = 60

// request writes RRQ (1) or WRQ (2) as some device might.
func (s *station) request(op byte, name string, options map[string]int) []byte {
	mode := []string{"octet", "OCTET", "Octet"}[s.random.IntN(3)]
	text := name + "\x00" + mode + "\x00"
	keys := slices.Sorted(maps.Keys(options))
	s.random.Shuffle(len(keys), func(i, j int) { keys[i], keys[j] = keys[j], keys[i] })
	for _, key := range keys {
		value := strconv.Itoa(options[key])
		if s.random.IntN(3) == 0 {
			key = strings.ToUpper(key)
		}
		text += key + "\x00" + value + "\x00"
	}
	return append([]byte{0, op}, text+strings.Repeat("\x00", s.random.IntN(3))...)
}

func numbered(op byte, block int, data []byte) []byte {
	return append([]byte{0, op, byte(block >> 8), byte(block)}, data...)
}

// optionsIn reads the pairs of an OACK or of the end of a request.
func optionsIn(p []byte) map[string]int {
	found := map[string]int{}
	fields := strings.Split(strings.TrimRight(string(p), "\x00"), "\x00")
	for i := 0; i+1 < len(fields); i += 2 {
		value, err := strconv.Atoi(fields[i+1])
		if err != nil {
			value = -1
		}
		found[strings.ToLower(fields[i])] = value
	}
	return found
}

func (s *station) send(p []byte) { _, _ = s.conn.WriteToUDPAddrPort(p, s.peer) }

// hear takes the next packet of the peer's within a time; the first one of a request chooses the port.
func (s *station) hear(within time.Duration, anyPort bool) ([]byte, error) {
	buf := make([]byte, 70_000)
	_ = s.conn.SetReadDeadline(time.Now().Add(within))
	for {
		n, from, err := s.conn.ReadFromUDPAddrPort(buf)
		if err != nil {
			return nil, errQuiet
		}
		if from.Addr() != s.peer.Addr() || !anyPort && from != s.peer || n < 4 {
			continue
		}
		if anyPort {
			s.peer = from
		}
		if buf[1] == 5 {
			return nil, errTurned
		}
		return buf[:n], nil
	}
}

// pause is the device at other work.
func (s *station) pause() {
	if s.busy > 0 && s.random.IntN(100) < s.busy {
		time.Sleep(s.silence)
	}
}

// ask sends a request until it is answered.
func (s *station) ask(at netip.AddrPort, request []byte) (first []byte, err error) {
	for range maxTries {
		s.peer = at
		s.send(request)
		if first, err = s.hear(s.retry, true); !errors.Is(err, errQuiet) {
			return first, err
		}
	}
	return nil, err
}

// agree takes an OACK's values; one that was not asked for, or a larger one, is a fault of the server's.
func (s *station) agree(asked, got map[string]int) error {
	for key, value := range got {
		most, was := asked[key]
		if !was || key != "tsize" && (value < 1 || value > most) {
			return fmt.Errorf("counterpart: %s=%d was not asked for", key, value)
		}
	}
	if value, ok := got["blksize"]; ok {
		s.blk = value
	}
	if value, ok := got["windowsize"]; ok {
		s.window = value
	}
	return nil
}

// get fetches a file.
func (s *station) get(at netip.AddrPort, name string, options map[string]int) ([]byte, error) {
	first, err := s.ask(at, s.request(1, name, options))
	if err != nil {
		return nil, err
	}
	if first[1] == 6 {
		got := optionsIn(first[2:])
		if err := s.agree(options, got); err != nil {
			return nil, err
		}
		first = nil
		s.send(numbered(4, 0, nil))
	}
	data, err := s.take(first, nil)
	return data, err
}

// take receives blocks, each window acknowledged at its end or at a gap. Greeting is sent again until the first
// block comes.
func (s *station) take(first, greeting []byte) (got []byte, err error) {
	last, since, tries := 0, 0, 0
	remind := func() {
		if last == 0 && greeting != nil {
			s.send(greeting)
			return
		}
		s.send(numbered(4, last, nil))
	}
	for packet := first; ; packet, err = s.hear(s.retry, false) {
		switch {
		case packet == nil && err == nil: // nothing has come yet
			continue
		case errors.Is(err, errQuiet):
			if tries++; tries > maxTries {
				return got, err
			}
			since = 0
			remind()
			continue
		case err != nil:
			return got, err
		case packet[1] != 3:
			continue
		}
		switch block := int(packet[2])<<8 | int(packet[3]); {
		case block == (last+1)&0xffff:
			got, last, tries = append(got, packet[4:]...), block, 0
			if s.dieAt > 0 && last >= s.dieAt {
				return got, errDropped
			}
			since++
			if whole := len(packet)-4 < s.blk; whole || since == s.window {
				s.pause()
				since = 0
				remind()
				if whole {
					s.linger(last)
					return got, nil
				}
			}
		case block != last && s.window > 1 && since > 0: // a gap
			since = 0
			remind()
		}
	}
}

// linger answers copies of the last block, whose acknowledgement may have been lost (RFC 1350 §6).
func (s *station) linger(last int) {
	until := time.Now().Add(2 * time.Minute)
	for time.Now().Before(until) {
		packet, err := s.hear(time.Until(until), false)
		if err != nil {
			return
		}
		if packet[1] == 3 && int(packet[2])<<8|int(packet[3]) == last {
			s.send(numbered(4, last, nil))
		}
	}
}

// put leaves a file.
func (s *station) put(at netip.AddrPort, name string, data []byte, options map[string]int) error {
	first, err := s.ask(at, s.request(2, name, options))
	if err != nil {
		return err
	}
	if first[1] == 6 {
		if err := s.agree(options, optionsIn(first[2:])); err != nil {
			return err
		}
	}
	return s.give(data)
}

// give sends blocks, a window at a time, from the one after the last acknowledged.
func (s *station) give(data []byte) error {
	blocks := len(data)/s.blk + 1
	acknowledged, tries := 0, 0
	for {
		for n := acknowledged + 1; n <= min(acknowledged+s.window, blocks); n++ {
			if s.dieAt > 0 && n >= s.dieAt {
				return errDropped
			}
			s.send(numbered(3, n, data[(n-1)*s.blk:min(n*s.blk, len(data))]))
		}
		for moved := false; !moved; {
			packet, err := s.hear(s.retry, false)
			switch {
			case errors.Is(err, errQuiet):
				if tries++; tries > maxTries {
					return err
				}
				moved = true
			case err != nil:
				return err
			case packet[1] == 4:
				n := acknowledged + int(int16(uint16(packet[2])<<8|uint16(packet[3])-uint16(acknowledged)))
				if n > acknowledged && n <= min(acknowledged+s.window, blocks) { // an old one starts nothing
					acknowledged, tries, moved = n, 0, true
				}
			}
		}
		if acknowledged == blocks {
			return nil
		}
		s.pause()
	}
}

// shapes of a request that a device might make.
func asksFor(random *rand.Rand, size int) map[string]int {
	options := map[string]int{}
	if random.IntN(3) > 0 {
		options["blksize"] = []int{8, 100, 512, 1024, 1428, 8192}[random.IntN(6)]
		if options["blksize"] == 8 && size > 4000 {
			options["blksize"] = 300
		}
	}
	if random.IntN(2) == 0 {
		options["windowsize"] = []int{1, 2, 4, 16}[random.IntN(4)]
	}
	if random.IntN(2) == 0 {
		options["tsize"] = 0
	}
	if random.IntN(4) == 0 {
		options["timeout"] = 1 + random.IntN(10)
	}
	return options
}

// temper makes a counterpart slow, absent-minded or mortal.
func (s *station) temper(size int) (mortal bool) {
	switch s.random.IntN(4) {
	case 0:
		s.busy, s.silence = 4, time.Duration(s.random.IntN(90))*time.Second
	case 1:
		s.dieAt = 1 + s.random.IntN(size/8192+2)
		return true
	}
	return false
}

// TestDevicesThatShareNoCodeWithOurServer fetch and leave files on a bad network, slowly, or go away: what is reported
// as done is whole on the other side, and what the device took for done is before so.
func TestDevicesThatShareNoCodeWithOurServer(t *testing.T) {
	done, died := 0, 0
	for part := range max(1, *counterparts/40) {
		inBubble(t, uint64(part), Options{Retries: 40}, func(t *testing.T, r *rig) {
			r.net.Spoil(simulated.Faults{Loss: 0.1, Twice: 0.05, Late: 0.05, Lateness: 300 * time.Millisecond})
			folder := t.TempDir()
			for i := range 20 {
				random := rand.New(rand.NewPCG(uint64(part), uint64(i)))
				size := random.IntN(40_000)
				data, name := content(size, byte(i)), fmt.Sprintf("image-%d", i)
				s := newStation(t, r.host, uint16(3000+i), random)
				options, up := asksFor(random, size), random.IntN(2) == 0
				mortal := s.temper(size)
				before := len(r.watch.ends())
				var took []byte
				var err error
				if up {
					if _, asks := options["tsize"]; asks {
						options["tsize"] = size
					}
					_, opened := r.stage.OpenSlot(offer.Slot{Name: name, Folder: folder, Most: 1 << 20})
					require.NoError(t, opened)
					err = s.put(r.at(), name, data, options)
				} else {
					withdraw, offered := r.stage.Offer(offertest.File(name, data))
					require.NoError(t, offered)
					took, err = s.get(r.at(), name, options)
					withdraw()
				}
				what := fmt.Sprintf("part %d, transfer %d, %d B, up %v, asks %v, busy %s, goes at %d: %v", part, i,
					size, up, options, s.silence, s.dieAt, err)
				if !mortal {
					require.NoError(t, err, what)
				}
				time.Sleep(20 * time.Minute) // ours has an end to say, too
				ends := r.watch.ends()[before:]
				if len(ends) == 0 && err != nil { // it went away before it was heard at all
					died++
					_ = s.conn.Close()
					continue
				}
				require.NotEmpty(t, ends, what)
				last := ends[len(ends)-1]
				if up {
					took, _ = os.ReadFile(filepath.Join(folder, name))
				}
				whole := bytes.Equal(data, took)
				if last.err == nil || err == nil {
					require.True(t, whole, what+": not whole")
					require.NoError(t, last.err, what)
					done++
				} else {
					require.True(t, !up || took == nil, what+": a piece was kept")
					died++
				}
				_ = s.conn.Close()
			}
		})
	}
	assert.Greater(t, done, died)
	assert.NotZero(t, died)
}

// ends are those before so far.
func (w *watching) ends() []ended {
	w.mu.Lock()
	defer w.mu.Unlock()
	return slices.Clone(w.ended)
}

// serveOne is the counterpart's server for one request: it takes some of what is asked for, and may lie, refuse or go
// away.
func (s *station) serveOne(
	t *testing.T, host *simulated.Host, data []byte, lie int,
) (took []byte, lied bool, err error) {
	buf := make([]byte, 2000)
	_ = s.conn.SetReadDeadline(time.Now().Add(time.Hour))
	n, from, err := s.conn.ReadFromUDPAddrPort(buf)
	if err != nil {
		return nil, false, errQuiet
	}
	fields := strings.SplitN(string(buf[2:n]), "\x00", 3)
	asked := optionsIn([]byte(fields[2]))
	one := newStation(t, host, uint16(20_000+s.random.IntN(20_000)), s.random)
	defer one.conn.Close()
	one.peer, one.dieAt, one.busy, one.silence = from, s.dieAt, s.busy, s.silence
	var answer []byte
	for _, key := range slices.Sorted(maps.Keys(asked)) {
		value := asked[key]
		switch key {
		case "blksize":
			value = max(8, value-s.random.IntN(2)*value/3)
			one.blk = value
		case "windowsize":
			value = max(1, value-s.random.IntN(2)*value/2)
			one.window = value
		case "tsize":
			if buf[1] == 1 {
				value = len(data) + lie
			}
		default:
			continue
		}
		answer = append(answer, key+"\x00"+strconv.Itoa(value)+"\x00"...)
	}
	if s.random.IntN(4) == 0 { // a server that knows no options
		answer, one.blk, one.window = nil, 512, 1
	}
	lied = lie > 0 && bytes.Contains(answer, []byte("tsize"))
	if buf[1] == 2 {
		greeting := numbered(4, 0, nil)
		if answer != nil {
			greeting = append([]byte{0, 6}, answer...)
		}
		one.send(greeting)
		took, err = one.take(nil, greeting)
		return took, lied, err
	}
	if answer != nil {
		if err := one.offer(append([]byte{0, 6}, answer...)); err != nil {
			return nil, lied, err
		}
	}
	return nil, lied, one.give(data)
}

// offer sends an OACK until it is acknowledged.
func (s *station) offer(oack []byte) error {
	for range maxTries {
		s.send(oack)
		packet, err := s.hear(s.retry, false)
		if err == nil && packet[1] == 4 && packet[2] == 0 && packet[3] == 0 {
			return nil
		}
		if err != nil && !errors.Is(err, errQuiet) {
			return err
		}
	}
	return errQuiet
}

// TestOurClientAgainstAServerThatSharesNoCode holds what our client says as done to what its server has.
func TestOurClientAgainstAServerThatSharesNoCode(t *testing.T) {
	done, failed := 0, 0
	for i := range max(10, *counterparts/2) {
		synctest.Test(t, func(t *testing.T) {
			random := rand.New(rand.NewPCG(uint64(i), 11))
			r := newRig(t, uint64(i), Options{})
			defer r.end()
			r.net.Spoil(simulated.Faults{Loss: 0.1, Twice: 0.05, Late: 0.05, Lateness: 300 * time.Millisecond})
			far := r.net.Host("eth0", netip.MustParsePrefix("192.0.2.50/24"))
			s := newStation(t, far, 69, random)
			defer s.conn.Close()
			size, lie := random.IntN(40_000), 0
			mortal := s.temper(size)
			if !mortal && random.IntN(5) == 0 {
				lie = 1 + random.IntN(100)
			}
			data, up := content(size, byte(i)), random.IntN(2) == 0
			client := r.client()
			client.Retries, client.TimeLimit = 60, 2*time.Minute
			client.Block, client.Window = []int{0, 8, 300, 1428}[random.IntN(4)], []int{0, 1, 4, 16}[random.IntN(4)]
			if client.Block == 8 {
				data = data[:min(len(data), 4000)]
			}
			client.NoSize = random.IntN(3) == 0
			type served struct {
				took []byte
				lied bool
				err  error
			}
			ends := make(chan served, 1)
			go func() {
				took, lied, err := s.serveOne(t, far, data, lie)
				ends <- served{took, lied, err}
			}()
			at := netip.AddrPortFrom(far.Addr(), 69)
			var got bytes.Buffer
			var err error
			if up {
				_, err = client.Put(t.Context(), at, "image", bytes.NewReader(data), int64(len(data)))
			} else {
				_, err = client.Get(t.Context(), at, "image", &got)
			}
			end := <-ends
			what := fmt.Sprintf(
				"transfer %d, %d B, up %v, blocks of %d, windows of %d, lie %d, goes at %d, busy %s: %v, the server %v",
				i, len(data), up, client.Block, client.Window, lie, s.dieAt, s.silence, err, end.err)
			has := got.Bytes()
			if up {
				has = end.took
			}
			if err != nil {
				failed++
				require.True(t, mortal || end.lied, what)
				return
			}
			done++
			require.True(t, bytes.Equal(data, has), what)
			require.False(t, end.lied && !up, what+": another size was said")
		})
	}
	assert.Greater(t, done, failed)
	assert.NotZero(t, failed)
}
