// Package reach watches whether a device answers: by ICMP echo (RFC 792, 4443), by connecting (TCP), or
// by a web page's status. Losses and absences are reported with their begin and length.
package reach

import (
	"bytes"
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"time"

	"pilotrix/core/clock"
)

// Kinds of watch.
const (
	ICMP = "icmp"
	TCP  = "tcp"
	HTTP = "http"
)

// Watched is what is watched.
type Watched struct {
	Kind string
	Addr netip.Addr
	Port uint16 // of TCP
	URL  string // of HTTP
}

// ParseWatched reads 192.0.2.40, icmp:192.0.2.40, tcp:192.0.2.40:22 or http://192.0.2.40/status.
func ParseWatched(text string) (Watched, error) {
	bad := func(why string) (Watched, error) {
		return Watched{}, fmt.Errorf(
			"%q is nothing to watch: %s; want an address, icmp:ADDRESS, tcp:ADDRESS:PORT or http://ADDRESS/PATH", text,
			why)
	}
	kind, rest, found := strings.Cut(text, ":")
	switch {
	case found && (kind == HTTP || kind == HTTP+"s"):
		u, err := url.Parse(text)
		if err != nil {
			return bad(err.Error())
		}
		addr, err := netip.ParseAddr(u.Hostname())
		if err != nil {
			return bad("its host is no address")
		}
		return Watched{Kind: HTTP, Addr: addr, URL: text}, nil
	case found && kind == TCP:
		at, err := netip.ParseAddrPort(rest)
		if err != nil {
			return bad("no address with a port")
		}
		return Watched{Kind: TCP, Addr: at.Addr(), Port: at.Port()}, nil
	case found && kind == ICMP:
		text = rest
	}
	addr, err := netip.ParseAddr(text)
	if err != nil {
		return bad("no address")
	}
	return Watched{Kind: ICMP, Addr: addr}, nil
}

// WithoutLength drops the length of a network, 192.0.2.40/24: a device says its address so.
func WithoutLength(text string) string {
	if strings.HasPrefix(text, HTTP) {
		return text
	}
	before, _, _ := strings.Cut(text, "/")
	return before
}

func (t Watched) String() string {
	switch t.Kind {
	case HTTP:
		return t.URL
	case TCP:
		return TCP + ":" + netip.AddrPortFrom(t.Addr, t.Port).String()
	}
	return ICMP + ":" + t.Addr.String()
}

// Network is what a watch needs of the network.
type Network interface {
	Dial(ctx context.Context, to netip.AddrPort) (net.Conn, error)
	// Ping sends one echo request and waits for its answer. ErrNotPermitted says that this system does
	// not let this user do so.
	Ping(ctx context.Context, to netip.Addr) (time.Duration, error)
}

// ErrNotPermitted says that ICMP is not for this user.
var ErrNotPermitted = errors.New("ICMP is not permitted to this user")

// Sample is one try.
type Sample struct {
	Watched Watched
	At      time.Time
	Held    bool // it answered
	Trip    time.Duration
	Text    string // a web page's status, or why there was no answer
}

// Absence is a time in which one that is watched did not answer.
type Absence struct {
	Watched    Watched
	Begin, End time.Time // End is zero while it lasts
}

// Length is how long it lasted, or lasts at that moment.
func (a Absence) Length(now time.Time) time.Duration {
	if a.End.IsZero() {
		return now.Sub(a.Begin)
	}
	return a.End.Sub(a.Begin)
}

// Report is how a watch says what it sees; its functions are called from the goroutines of what is watched.
type Report struct {
	Sample func(Sample)
	Gone   func(Absence)
	Back   func(Absence)
	Note   func(string)
}

const (
	every   = time.Second
	timeout = 900 * time.Millisecond
	// A single lost answer is a loss; more in a row are an absence, which began with the first.
	lostBeforeGone = 2
)

// Watch watches addresses until its context ends. Its methods may be called from several goroutines.
type Watch struct {
	network Network
	clock   clock.Clock
	report  Report
	ctx     context.Context

	mu     sync.Mutex
	states map[string]*State
	ends   map[string]context.CancelFunc
	asks   []chan struct{}
	group  sync.WaitGroup

	reporting sync.Mutex // held while something is reported, so that Remove waits for it; before mu
}

// State is how what is watched stands.
type State struct {
	Watched Watched
	Known   bool // at least one try is over
	Up      bool
	Since   time.Time // of Up or of the absence
	Sent    int
	Lost    int
	Last    Sample
	Away    Absence   // the last absence, or the one that lasts
	Seen    []Absence // all that are over
	missing int
	first   time.Time // of the misses in a row
}

// New makes a watch of nothing.
func New(ctx context.Context, network Network, c clock.Clock, report Report) *Watch {
	return &Watch{
		network: network, clock: c, report: report, ctx: ctx, states: map[string]*State{},
		ends: map[string]context.CancelFunc{},
	}
}

// Add watches one address more; one that is watched already is left as it is.
func (w *Watch) Add(t Watched) {
	w.mu.Lock()
	defer w.mu.Unlock()
	if _, there := w.states[t.String()]; there {
		return
	}
	w.states[t.String()] = &State{Watched: t}
	ctx, end := context.WithCancel(w.ctx)
	w.ends[t.String()] = end
	w.group.Go(func() { w.follow(ctx, t) })
}

// Remove watches an address no longer, and nothing more is reported of it. It reports whether it was watched.
func (w *Watch) Remove(t Watched) bool {
	w.reporting.Lock()
	defer w.reporting.Unlock()
	w.mu.Lock()
	defer w.mu.Unlock()
	end, there := w.ends[t.String()]
	if there {
		end()
		delete(w.ends, t.String())
		delete(w.states, t.String())
	}
	return there
}

// Wait returns when every goroutine has ended, after the context has.
func (w *Watch) Wait() { w.group.Wait() }

// States lists how what is watched stands, by name.
func (w *Watch) States() []State {
	w.mu.Lock()
	defer w.mu.Unlock()
	all := make([]State, 0, len(w.states))
	for _, s := range w.states {
		one := *s
		one.Seen = slices.Clone(s.Seen)
		all = append(all, one)
	}
	slices.SortFunc(all, func(a, b State) int { return strings.Compare(a.Watched.String(), b.Watched.String()) })
	return all
}

// Await returns once ready holds for the states, or ctx ends.
func (w *Watch) Await(ctx context.Context, ready func([]State) bool) error {
	for {
		w.mu.Lock()
		changed := make(chan struct{})
		w.asks = append(w.asks, changed)
		w.mu.Unlock()
		if ready(w.States()) {
			return nil
		}
		select {
		case <-changed:
		case <-ctx.Done():
			return ctx.Err()
		}
	}
}

// follow tries one address again and again.
func (w *Watch) follow(ctx context.Context, t Watched) {
	probe := w.probeOf(t)
	for ctx.Err() == nil {
		began := w.clock.Now()
		sample := w.try(&probe, t)
		if ctx.Err() != nil {
			return
		}
		w.take(sample)
		if w.clock.Wait(ctx, every-w.clock.Since(began)) != nil {
			return
		}
	}
}

type probe func(ctx context.Context) (trip time.Duration, words string, err error)

func (w *Watch) probeOf(t Watched) probe {
	switch t.Kind {
	case TCP:
		return func(ctx context.Context) (time.Duration, string, error) {
			return w.connect(ctx, netip.AddrPortFrom(t.Addr, t.Port))
		}
	case HTTP:
		return func(ctx context.Context) (time.Duration, string, error) { return w.page(ctx, t) }
	}
	return func(ctx context.Context) (time.Duration, string, error) {
		trip, err := w.network.Ping(ctx, t.Addr)
		return trip, "", err
	}
}

// try tries once. ICMP that is not permitted is said, and connecting takes its place.
func (w *Watch) try(p *probe, t Watched) Sample {
	ctx, cancel := w.clock.WithTimeout(w.ctx, timeout)
	defer cancel()
	at := w.clock.Now()
	trip, words, err := (*p)(ctx)
	if errors.Is(err, ErrNotPermitted) {
		if w.report.Note != nil {
			w.report.Note(fmt.Sprintf("%v: %s is watched by connecting to it instead", ErrNotPermitted, t.Addr))
		}
		*p = func(ctx context.Context) (time.Duration, string, error) { return w.anyPort(ctx, t.Addr) }
		trip, words, err = (*p)(ctx)
	}
	s := Sample{Watched: t, At: at, Held: err == nil, Trip: trip, Text: words}
	if err != nil && !errors.Is(err, context.DeadlineExceeded) {
		s.Text = err.Error()
	}
	return s
}

func (w *Watch) connect(ctx context.Context, to netip.AddrPort) (time.Duration, string, error) {
	began := w.clock.Now()
	conn, err := w.network.Dial(ctx, to)
	if err != nil {
		return 0, "", err
	}
	return w.clock.Since(began), "", conn.Close()
}

// usualPorts are those that a device is likely to have open, or to refuse.
var usualPorts = []uint16{22, 23, 80, 443}

// anyPort connects to usual ports at once: any answer, a refusal too, says that somebody is there.
func (w *Watch) anyPort(ctx context.Context, addr netip.Addr) (time.Duration, string, error) {
	began := w.clock.Now()
	answers := make(chan uint16, len(usualPorts))
	ctx, cancel := context.WithCancel(ctx)
	var trying sync.WaitGroup
	defer trying.Wait()
	defer cancel()
	for _, port := range usualPorts {
		trying.Go(func() {
			conn, err := w.network.Dial(ctx, netip.AddrPortFrom(addr, port))
			if err == nil {
				_ = conn.Close()
			}
			if err == nil || errors.Is(err, syscall.ECONNREFUSED) {
				answers <- port
			}
		})
	}
	select {
	case port := <-answers:
		return w.clock.Since(began), "port " + strconv.Itoa(int(port)), nil
	case <-ctx.Done():
		return 0, "", ctx.Err()
	}
}

// page asks for a web page; any status below 500 says that the device serves.
func (w *Watch) page(ctx context.Context, t Watched) (time.Duration, string, error) {
	began := w.clock.Now()
	response, unsigned, err := get(ctx, w.network, t)
	if err != nil {
		return 0, "", err
	}
	_ = response.Body.Close()
	if response.StatusCode >= 500 {
		return 0, "", errors.New(response.Status)
	}
	return w.clock.Since(began), response.Status + unsigned, nil
}

// doubtOf says in words what is wrong with a certificate, empty when nothing is.
func doubtOf(c tls.ConnectionState) string {
	leaf := c.PeerCertificates[0]
	between := x509.NewCertPool()
	for _, cert := range c.PeerCertificates[1:] {
		between.AddCert(cert)
	}
	_, err := leaf.Verify(x509.VerifyOptions{DNSName: c.ServerName, Intermediates: between})
	switch {
	case err == nil:
		return ""
	case bytes.Equal(leaf.RawIssuer, leaf.RawSubject):
		return ", its certificate is self-signed"
	}
	return ", its certificate is not verified: " + err.Error()
}

// take keeps a sample, and says when it makes or ends an absence.
func (w *Watch) take(s Sample) {
	w.reporting.Lock()
	defer w.reporting.Unlock()
	w.mu.Lock()
	state, there := w.states[s.Watched.String()]
	if !there { // it was removed meanwhile
		w.mu.Unlock()
		return
	}
	gone, back := state.take(s)
	away := state.Away
	asks := w.asks
	w.asks = nil
	w.mu.Unlock()
	if w.report.Sample != nil {
		w.report.Sample(s)
	}
	if gone && w.report.Gone != nil {
		w.report.Gone(away)
	}
	if back && w.report.Back != nil {
		w.report.Back(away)
	}
	for _, ask := range asks {
		close(ask)
	}
}

func (s *State) take(sample Sample) (gone, back bool) {
	s.Sent++
	s.Last = sample
	if sample.Held {
		s.missing = 0
		if !s.Up {
			back = s.Known && !s.Away.Begin.IsZero() && s.Away.End.IsZero()
			if back {
				s.Away.End = sample.At
				s.Seen = append(s.Seen, s.Away)
			}
			s.Up, s.Since = true, sample.At
		}
		s.Known = true
		return false, back
	}
	s.Lost++
	if s.missing++; s.missing == 1 {
		s.first = sample.At
	}
	if s.missing == lostBeforeGone && (s.Up || !s.Known) {
		s.Up, s.Since, s.Known = false, s.first, true
		s.Away = Absence{Watched: sample.Watched, Begin: s.first}
		return true, false
	}
	return false, false
}
