package reach

import (
	"context"
	"math/rand/v2"
	"net/http"
	"net/http/httptest"
	"net/netip"
	"runtime"
	"slices"
	"sync"
	"sync/atomic"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"pilotrix/core/clock"
	"pilotrix/core/network/simulated"
)

var (
	ours   = netip.MustParsePrefix("192.0.2.10/24")
	theirs = netip.MustParsePrefix("192.0.2.41/24")
)

// reported keeps what a watch reported.
type reported struct {
	mu         sync.Mutex
	gone, back []Absence
	notes      []string
}

func (t *reported) report() Report {
	return Report{
		Sample: func(Sample) {},
		Gone:   func(a Absence) { t.mu.Lock(); t.gone = append(t.gone, a); t.mu.Unlock() },
		Back:   func(a Absence) { t.mu.Lock(); t.back = append(t.back, a); t.mu.Unlock() },
		Note:   func(n string) { t.mu.Lock(); t.notes = append(t.notes, n); t.mu.Unlock() },
	}
}

// seen is what was told so far.
func (t *reported) seen() (gone, back []Absence, notes []string) {
	t.mu.Lock()
	defer t.mu.Unlock()
	return slices.Clone(t.gone), slices.Clone(t.back), slices.Clone(t.notes)
}

// watched runs a test in virtual time with a watch on a network in memory.
func watched(t *testing.T, use func(t *testing.T, n *simulated.Net, device *simulated.Host, w *Watch, k *reported)) {
	synctest.Test(t, func(t *testing.T) {
		n := simulated.New(1)
		k := &reported{}
		ctx, cancel := context.WithCancel(t.Context())
		laptop, device := n.Host("eth0", ours), n.Host("lan", theirs)
		w := New(ctx, laptop, clock.Real(), k.report())
		use(t, n, device, w, k)
		cancel()
		w.Wait()
	})
}

func mustParse(t *testing.T, text string) Watched {
	t.Helper()
	got, err := ParseWatched(text)
	require.NoError(t, err)
	return got
}

func TestAbsencesHaveBeginEndAndLength(t *testing.T) {
	watched(t, func(t *testing.T, n *simulated.Net, _ *simulated.Host, w *Watch, k *reported) {
		w.Add(mustParse(t, "192.0.2.41"))
		w.Add(mustParse(t, "icmp:192.0.2.41"))
		time.Sleep(10500 * time.Millisecond)
		require.Len(t, w.States(), 1, "the same address twice is one")
		assert.True(t, w.States()[0].Up)
		began := time.Now()
		n.SetUp(theirs.Addr(), false)
		time.Sleep(30 * time.Second)
		assert.False(t, w.States()[0].Up)
		n.SetUp(theirs.Addr(), true)
		time.Sleep(10 * time.Second)
		gone, back, _ := k.seen()
		require.Len(t, gone, 1)
		require.Len(t, back, 1)
		assert.InDelta(t, 0, back[0].Begin.Sub(began).Seconds(), 1,
			"it began with the first lost answer, not with the notice")
		assert.InDelta(t, 30, back[0].Length(time.Now()).Seconds(), 1.5)
		state := w.States()[0]
		assert.InDelta(t, 30, state.Lost, 2)
		assert.Len(t, state.Seen, 1)
	})
}

func TestOneLostAnswerIsNoAbsence(t *testing.T) {
	watched(t, func(t *testing.T, n *simulated.Net, _ *simulated.Host, w *Watch, k *reported) {
		w.Add(mustParse(t, "icmp:192.0.2.41"))
		time.Sleep(5500 * time.Millisecond)
		n.SetUp(theirs.Addr(), false)
		time.Sleep(time.Second)
		n.SetUp(theirs.Addr(), true)
		time.Sleep(5 * time.Second)
		gone, _, _ := k.seen()
		assert.Empty(t, gone)
		assert.Equal(t, 1, w.States()[0].Lost)
	})
}

func TestPortsAndPagesAreWatched(t *testing.T) {
	watched(t, func(t *testing.T, _ *simulated.Net, device *simulated.Host, w *Watch, _ *reported) {
		listener, err := device.Listen(netip.AddrPortFrom(theirs.Addr(), 80))
		require.NoError(t, err)
		var status atomic.Int32
		status.Store(http.StatusOK)
		server := &http.Server{
			Handler: http.HandlerFunc(
				func(out http.ResponseWriter, _ *http.Request) { out.WriteHeader(int(status.Load())) }),
		}
		go func() { _ = server.Serve(listener) }()
		defer server.Close()
		w.Add(mustParse(t, "tcp:192.0.2.41:80"))
		w.Add(mustParse(t, "tcp:192.0.2.41:22"))
		w.Add(mustParse(t, "http://192.0.2.41/"))
		time.Sleep(5 * time.Second)
		up := map[string]bool{}
		for _, s := range w.States() {
			up[s.Watched.String()] = s.Up
		}
		assert.Equal(t,
			map[string]bool{"tcp:192.0.2.41:80": true, "tcp:192.0.2.41:22": false, "http://192.0.2.41/": true}, up)
		status.Store(http.StatusServiceUnavailable)
		time.Sleep(5 * time.Second)
		for _, s := range w.States() {
			if s.Watched.Kind == HTTP {
				assert.False(t, s.Up, "a page that fails is no answer")
				assert.Equal(t, "503 Service Unavailable", s.Last.Text)
			}
		}
	})
}

// noICMP is a host whose user may not send echo requests.
type noICMP struct{ Network }

func (noICMP) Ping(context.Context, netip.Addr) (time.Duration, error) { return 0, ErrNotPermitted }

func TestICMPThatIsNotPermittedIsSaidAndConnectingTakesItsPlace(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		n := simulated.New(1)
		k := &reported{}
		ctx, cancel := context.WithCancel(t.Context())
		laptop := n.Host("eth0", ours)
		n.Host("lan", theirs)
		w := New(ctx, noICMP{laptop}, clock.Real(), k.report())
		w.Add(mustParse(t, "icmp:192.0.2.41"))
		time.Sleep(5 * time.Second)
		_, _, notes := k.seen()
		require.Len(t, notes, 1, "said once")
		assert.Contains(t, notes[0], "not permitted")
		assert.True(t, w.States()[0].Up, "a refused connection is an answer")
		n.SetUp(theirs.Addr(), false)
		time.Sleep(5 * time.Second)
		assert.False(t, w.States()[0].Up)
		cancel()
		w.Wait()
	})
}

func TestAwaitSeesChanges(t *testing.T) {
	watched(t, func(t *testing.T, n *simulated.Net, _ *simulated.Host, w *Watch, _ *reported) {
		n.SetUp(theirs.Addr(), false)
		w.Add(mustParse(t, "icmp:192.0.2.41"))
		go func() {
			time.Sleep(20 * time.Second)
			n.SetUp(theirs.Addr(), true)
		}()
		ctx, cancel := context.WithTimeout(t.Context(), time.Minute)
		defer cancel()
		require.NoError(t, w.Await(ctx, func(all []State) bool { return len(all) == 1 && all[0].Up }))
		limited, stop := context.WithTimeout(t.Context(), time.Second)
		defer stop()
		assert.ErrorIs(t, w.Await(limited, func([]State) bool { return false }), context.DeadlineExceeded)
	})
}

func TestTargets(t *testing.T) {
	for text, want := range map[string]string{
		"192.0.2.1": "icmp:192.0.2.1", "icmp:2001:db8::1": "icmp:2001:db8::1", "tcp:192.0.2.1:22": "tcp:192.0.2.1:22",
		"tcp:[2001:db8::1]:22": "tcp:[2001:db8::1]:22", "http://192.0.2.1/status": "http://192.0.2.1/status",
	} {
		got, err := ParseWatched(text)
		require.NoError(t, err, text)
		assert.Equal(t, want, got.String())
	}
	for _, text := range []string{"", "host", "tcp:192.0.2.1", "icmp:", "http://name/", "ftp:192.0.2.1"} {
		_, err := ParseWatched(text)
		assert.ErrorContains(t, err, "want an address", text)
	}
}

// TestTheLaptopSeesItself sends a real echo request to the loopback address, where this user may.
func TestTheLaptopSeesItself(t *testing.T) {
	ctx, cancel := context.WithTimeout(t.Context(), 5*time.Second)
	defer cancel()
	trip, err := NewHost().Ping(ctx, netip.MustParseAddr("127.0.0.1"))
	if err != nil {
		require.ErrorIs(t, err, ErrNotPermitted)
		return
	}
	assert.Positive(t, trip)
}

// TestACertificateThatNobodySignedIsAnAnswer asks a device by https, as they come from the factory.
func TestACertificateThatNobodySignedIsAnAnswer(t *testing.T) {
	server := httptest.NewTLSServer(http.HandlerFunc(func(http.ResponseWriter, *http.Request) {}))
	defer server.Close()
	watched, err := ParseWatched(server.URL + "/")
	require.NoError(t, err)
	got := make(chan Sample, 8)
	ctx, cancel := context.WithCancel(t.Context())
	w := New(ctx, NewHost(), clock.Real(), Report{Sample: func(s Sample) { got <- s }})
	w.Add(watched)
	s := <-got
	cancel()
	w.Wait()
	assert.True(t, s.Held, s.Text)
	assert.Contains(t, s.Text, "200 OK, its certificate is self-signed")
}

// instant answers at once, after another goroutine had its turn.
type instant struct{ Network }

func (instant) Ping(context.Context, netip.Addr) (time.Duration, error) {
	runtime.Gosched()
	return time.Microsecond, nil
}

// TestNothingIsReportedOfWhatIsWatchedNoLonger takes addresses away while they are tried a thousand times a second.
func TestNothingIsReportedOfWhatIsWatchedNoLonger(t *testing.T) {
	var mu sync.Mutex
	removed, seen, late := map[string]bool{}, map[string]bool{}, 0
	came := make(chan string, 1)
	ctx, cancel := context.WithCancel(t.Context())
	w := New(ctx, instant{}, clock.Scaled(1000), Report{Sample: func(s Sample) {
		name := s.Watched.String()
		time.Sleep(200 * time.Microsecond) // the moment between the look and the report
		mu.Lock()
		seen[name] = true
		if removed[name] {
			late++
		}
		mu.Unlock()
		select {
		case came <- name:
		default:
		}
	}})
	addr := netip.MustParseAddr("192.0.2.1")
	for range 500 {
		one := Watched{Kind: ICMP, Addr: addr}
		w.Add(one)
		for <-came != one.String() {
		}
		time.Sleep(time.Duration(rand.IntN(1500)) * time.Microsecond) // at any moment of the tries
		require.True(t, w.Remove(one))
		mu.Lock()
		removed[one.String()] = true
		mu.Unlock()
		assert.False(t, w.Remove(one))
		addr = addr.Next()
	}
	assert.Empty(t, w.States())
	cancel()
	w.Wait()
	assert.Len(t, seen, 500)
	assert.Zero(t, late)
}
