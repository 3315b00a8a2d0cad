package provision

import (
	"errors"
	"fmt"
	"net"
	"net/netip"
	"testing"
	"time"

	"github.com/insomniacslk/dhcp/dhcpv4"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"pilotrix/core/clock"
	"pilotrix/core/event"
	"pilotrix/core/network"
)

func TestADeviceIsFollowed(t *testing.T) {
	var s Courses
	c, addr, now := Client{MAC: "02:00:5e:10:00:01"}, netip.MustParseAddr("192.0.2.100"), noon
	one := func() Course { return s.All()[0] }
	report := func(kind, text string) {
		now = now.Add(time.Second)
		s.Reported(Reported{kind, c, addr, text}, now)
	}
	report(Asked, discover)
	assert.Equal(t, Seen, one().Stage)
	report(Offered, "")
	assert.Empty(t, one().Stalls(now.Add(29*time.Second)))
	assert.Contains(t, one().Stalls(now.Add(time.Minute)),
		"02:00:5e:10:00:01 was offered an address since 1 min: it took no offer")
	report(Leased, "")
	what, within := one().Next()
	assert.Equal(t, "that it asks for its file", what)
	assert.Equal(t, time.Minute, within)
	s.Asks(addr, "strand.msl", "no such file is staged; strand-3.2.msl is", now)
	assert.Equal(t, HasAddress, one().Stage)
	assert.Contains(t, one().Stalls(now.Add(2*time.Minute)), "; no such file is staged; strand-3.2.msl is")
	s.Asks(addr, "strand-3.2.msl", "", now)
	assert.Equal(t, Fetching, one().Stage)
	report(Leased, "") // it renews meanwhile
	assert.Equal(t, Fetching, one().Stage)
	s.Got(addr, Moved{File: "strand-3.2.msl"}, errors.New("the device fell silent"), now)
	assert.Contains(t, one().Stalls(now.Add(time.Hour)), "strand-3.2.msl broke off: the device fell silent")
	s.Asks(addr, "strand-3.2.msl", "", now)
	s.Got(addr, Moved{File: "strand-3.2.msl"}, nil, now)
	assert.Equal(t, HasFile, one().Stage)
	report(Asked, discover)
	assert.Equal(t, Restarted, one().Stage)
	assert.Equal(t, 1, one().Rounds)
	report(Offered, "")
	report(Leased, "")
	s.Asks(addr, "tangle-sw2.txt", "", now)
	s.Got(addr, Moved{File: "tangle-sw2.txt"}, nil, now)
	assert.Equal(t, []Fetched{{"strand-3.2.msl", 1}, {"tangle-sw2.txt", 1}}, one().Files)

	report(Another, "took the offer of 192.0.2.66")
	assert.Equal(t, "took the offer of 192.0.2.66", one().Wrong)
	s.Asks(netip.MustParseAddr("192.0.2.7"), "x", "", now) // nobody's
	s.Reported(Reported{Kind: Left, Client: Client{MAC: "02:00:5e:10:00:09"}}, now)
	require.Len(t, s.All(), 1, "who is not meant is not followed")
}

// TestTwoWitnessesOfOneDevice has the DHCP server and a file server say what one device did, each in its own order and
// beside each other in any: that it asks for its file may be known before that it has its address, and the end of the
// file before that, or after it has restarted.
func TestTwoWitnessesOfOneDevice(t *testing.T) {
	c, addr := Client{MAC: "02:00:5e:10:00:01"}, netip.MustParseAddr("192.0.2.100")
	tried := 0
	for asks := range 3 { // before what of DHCP it is known: the file is asked for before the restart
		for got := asks; got <= 5; got++ {
			var s Courses
			now := noon
			dhcp := []func(){
				func() { s.Reported(Reported{Offered, c, addr, ""}, now) },
				func() { s.Reported(Reported{Leased, c, addr, ""}, now) },
				func() { s.Reported(Reported{Kind: Asked, Client: c, Text: discover}, now) },
				func() { s.Reported(Reported{Offered, c, addr, ""}, now) },
				func() { s.Reported(Reported{Leased, c, addr, ""}, now) },
			}
			s.Reported(Reported{Kind: Asked, Client: c, Text: discover}, now)
			for i := range 6 {
				now = now.Add(time.Millisecond)
				if i == asks {
					s.Asks(addr, "strand.msl", "", now)
				}
				if i == got {
					s.Got(addr, Moved{File: "strand.msl"}, nil, now)
				}
				if i < len(dhcp) {
					dhcp[i]()
				}
			}
			one := s.All()[0]
			assert.True(t, one.Back, "asks known at %d, end at %d: %s", asks, got, one.Text())
			assert.True(t, one.Meets(Needs{Image: "strand.msl"}), "asks known at %d, end at %d", asks, got)
			assert.Equal(t, 1, one.Rounds, "asks known at %d, end at %d", asks, got)
			assert.Empty(t, one.Wrong)
			tried++
		}
	}
	assert.Equal(t, 15, tried)
}

// TestWhatNobodysAddressDidIsNotKeptForLong has a stranger fetch all day, and a device get that address in the evening.
func TestWhatNobodysAddressDidIsNotKeptForLong(t *testing.T) {
	var s Courses
	addr, now := netip.MustParseAddr("192.0.2.100"), noon
	for range 10 * maxEarly {
		s.Asks(addr, "strand.msl", "", now)
		s.Got(addr, Moved{File: "strand.msl"}, nil, now)
		assert.LessOrEqual(t, len(s.early), maxEarly)
		now = now.Add(time.Millisecond)
	}
	now = now.Add(time.Minute)
	s.Reported(Reported{Leased, Client{MAC: "02:00:5e:10:00:01"}, addr, ""}, now)
	assert.Empty(t, s.All()[0].Files)
	assert.Empty(t, s.early)
	crowd := netip.MustParseAddr("198.51.100.1")
	for range 2 * maxEarly {
		s.Asks(crowd, "strand.msl", "no such file", now)
		crowd = crowd.Next()
	}
	second := netip.MustParseAddr("192.0.2.101")
	s.Asks(second, "strand.msl", "", now)
	s.Reported(Reported{Leased, Client{MAC: "02:00:5e:10:00:02"}, second, ""}, now)
	assert.Equal(t, Fetching, s.All()[1].Stage, "a crowd does not hide the device that is meant")
}

// TestADeviceThatIsLeftAloneIsAwaitedNoMore says of one that it is another one, and then that it is the one after all.
func TestADeviceThatIsLeftAloneIsAwaitedNoMore(t *testing.T) {
	var s Courses
	c := Client{MAC: "02:00:5e:10:00:01"}
	s.Reported(Reported{Kind: Asked, Client: c, Text: discover}, noon)
	s.Reported(Reported{Kind: Waits, Client: c}, noon)
	assert.True(t, s.All()[0].Waits)
	s.Reported(Reported{Kind: Stranger, Client: c}, noon)
	s.Reported(Reported{Kind: Left, Client: c, Text: "it came over a relay"}, noon)
	left := s.All()[0]
	assert.True(t, left.Alone)
	assert.False(t, left.Waits)
	assert.Empty(t, left.Stalls(noon.Add(time.Hour)))
	assert.Equal(t, "is left alone", left.reported().Stage)
	s.Reported(Reported{Kind: Asked, Client: c, Text: discover}, noon)
	s.Reported(Reported{Kind: Offered, Client: c}, noon)
	assert.Equal(t, HasOffer, s.All()[0].Stage)
	assert.False(t, s.All()[0].Alone)
}

func TestAFloodPushesOutNoneThatHasCome(t *testing.T) {
	var s Courses
	device, addr := Client{MAC: "02:00:5e:10:00:01"}, netip.MustParseAddr("192.0.2.100")
	s.Reported(Reported{Kind: Asked, Client: device}, noon)
	s.Reported(Reported{Kind: Leased, Client: device, Addr: addr}, noon)
	flood := func() {
		for n := range 3 * maxCourses {
			s.Reported(Reported{
				Kind:   Asked,
				Client: Client{MAC: netip.AddrFrom4([4]byte{1, 0, byte(n >> 8), byte(n)}).String()},
			}, noon)
		}
	}
	flood()
	late := Client{MAC: "02:00:5e:10:00:02"}
	s.Reported(Reported{Kind: Asked, Client: late}, noon)
	all := s.All()
	assert.Len(t, all, maxCourses)
	assert.Equal(t, []Client{device, late}, []Client{all[0].Client, all[maxCourses-1].Client})
	s.Asks(addr, "strand-3.2.msl", "", noon)
	assert.Equal(t, Fetching, s.All()[0].Stage)
}

func TestStrangersAreNotFollowed(t *testing.T) {
	opt := options()
	opt.Admit = func(Client) Verdict { return Ignored }
	server, err := New(opt, nil)
	require.NoError(t, err)
	var s Courses
	for _, c := range cases {
		for _, m := range c.messages(t) {
			_, report := server.Handle(m, noon)
			for _, one := range report {
				s.Reported(one, noon)
			}
		}
	}
	assert.Empty(t, s.All())
}

func TestADeviceThatLoopsIsNamed(t *testing.T) {
	c, addr := Client{MAC: "02:00:5e:10:00:01"}, netip.MustParseAddr("192.0.2.100")
	var s Courses
	round := func(fetch func()) Course {
		s.Reported(Reported{Kind: Asked, Client: c, Text: discover}, noon)
		s.Reported(Reported{Kind: Offered, Client: c, Addr: addr}, noon)
		s.Reported(Reported{Kind: Leased, Client: c, Addr: addr}, noon)
		fetch()
		return s.All()[0]
	}
	nothing := func() {}
	begins := func() { s.Asks(addr, "strand-3.2.msl", "", noon) }
	whole := func() { begins(); s.Got(addr, Moved{File: "strand-3.2.msl"}, nil, noon) }
	round(nothing)
	round(begins)
	assert.Contains(t, round(nothing).Wrong, "it began anew while it fetched strand-3.2.msl")
	assert.Contains(t, round(nothing).Loops(), "02:00:5e:10:00:01 began 3 times and fetched nothing")
	assert.Empty(t, round(whole).Loops(), "it has come further")
	assert.Empty(t, round(whole).Loops())
	assert.Contains(t, round(whole).Loops(), "fetched strand-3.2.msl 3 times and restarts again and again")
}

func TestAnAddressIsOneDevicesOnly(t *testing.T) {
	first, second, addr := Client{
		MAC: "02:00:5e:10:00:01",
	}, Client{
		MAC: "02:00:5e:10:00:02",
	}, netip.MustParseAddr("192.0.2.100")
	var s Courses
	for _, c := range []Client{first, second} {
		s.Reported(Reported{Kind: Leased, Client: c, Addr: addr}, noon)
	}
	s.Asks(addr, "strand-3.2.msl", "", noon)
	assert.Equal(t, []Stage{HasAddress, Fetching}, []Stage{s.All()[0].Stage, s.All()[1].Stage})
}

// TestWhoIsAskedAboutWaitsForTheWord and is not said to stall meanwhile; who is complete is waited for no more.
func TestWhoIsAskedAboutWaitsForTheWord(t *testing.T) {
	var s Courses
	now := time.Date(2026, 3, 2, 14, 0, 0, 0, time.UTC)
	one := Client{MAC: "02:00:5e:10:00:01"}
	report := func(kind, text string) { s.Reported(Reported{Kind: kind, Client: one, Text: text}, now) }
	report(Asked, discover)
	report(Waits, "")
	next, _ := s.All()[0].Next()
	assert.Equal(t, "that it is said whether it is answered", next)
	assert.Empty(t, s.All()[0].Stalls(now.Add(time.Minute)))
	assert.NotEmpty(t, s.All()[0].Stalls(now.Add(time.Hour)))
	report(Asked, discover)
	report(Offered, "")
	next, _ = s.All()[0].Next()
	assert.Equal(t, "that it takes the offer", next)
	s.Finish(one.MAC, now)
	s.Finish("02:00:5e:10:00:09", now)
	assert.Empty(t, s.All()[0].Stalls(now.Add(time.Hour)))
}

// TestAFloodOfNewDevicesIsReportedOfInPart: those that wait for the word are reported of up to a number, and what is
// kept of them is bounded.
func TestAFloodOfNewDevicesIsReportedOfInPart(t *testing.T) {
	report := map[string]int{}
	desk, err := NewDesk(Options{
		Own:   netip.MustParsePrefix("192.0.2.10/24"),
		First: netip.MustParseAddr("192.0.2.100"),
		Last:  netip.MustParseAddr("192.0.2.109"),
		Lease: time.Hour,
		Admit: (&Wanted{Ask: true}).Admit,
	}, nil, DeskOptions{Clock: clock.Real(), Emit: func(b event.Body) { report[fmt.Sprintf("%T", b)]++ }})
	require.NoError(t, err)
	v := &serving{
		Server: desk.server,
		wire:   Wire{Conn: discard{}, Clock: clock.Real()},
		report: Report{Message: desk.message, Reported: desk.reported},
	}
	for i := range 5_000 {
		m, err := dhcpv4.NewDiscovery(net.HardwareAddr{2, 0, 0, byte(i >> 16), byte(i >> 8), byte(i)})
		require.NoError(t, err)
		require.NoError(t, v.respond(t.Context(), m, true))
	}
	assert.LessOrEqual(t, report["event.Rung"], maxUnsaid)
	assert.LessOrEqual(t, report["event.Newcomer"], maxUnsaid)
	assert.LessOrEqual(t, len(desk.reportedOf), 2*maxCourses)
	assert.LessOrEqual(t, len(desk.All()), maxCourses)
}

type discard struct{ network.PacketConn }

func (discard) WriteToUDPAddrPort(p []byte, _ netip.AddrPort) (int, error) { return len(p), nil }

// TestAPartOfAFileIsNotTheFile counts what a device looks at, fetches in parts, or fetches on from where it broke off.
func TestAPartOfAFileIsNotTheFile(t *testing.T) {
	c, addr := Client{MAC: "02:00:5e:10:00:01"}, netip.MustParseAddr("192.0.2.100")
	broke := errors.New("the device hung up")
	type moved struct {
		from, bytes int64
		failure     error
	}
	for name, row := range map[string]struct {
		moved []moved
		whole bool
	}{
		"the whole":                          {[]moved{{0, 1000, nil}}, true},
		"its first byte":                     {[]moved{{0, 1, nil}}, false},
		"its last bytes":                     {[]moved{{990, 10, nil}}, false},
		"a look at its head, then the whole": {[]moved{{0, 64, nil}, {0, 1000, nil}}, true},
		"one part after another":             {[]moved{{0, 400, nil}, {400, 400, nil}, {800, 200, nil}}, true},
		"a part left out":                    {[]moved{{0, 400, nil}, {800, 200, nil}}, false},
		"on from where it broke off":         {[]moved{{0, 700, broke}, {650, 350, nil}}, true},
		"all sent, and it broke off":         {[]moved{{0, 1000, broke}}, false},
		"several parts in one answer":        {[]moved{{-1, 1200, nil}}, false},
	} {
		t.Run(name, func(t *testing.T) {
			var s Courses
			s.Reported(Reported{Kind: Leased, Client: c, Addr: addr}, noon)
			for _, m := range row.moved {
				s.Asks(addr, "strand-3.2.msl", "", noon)
				s.Got(addr, Moved{"strand-3.2.msl", m.from, m.bytes, 1000}, m.failure, noon)
			}
			one := s.All()[0]
			assert.Equal(t, row.whole, one.Has("strand-3.2.msl") == 0)
			assert.Equal(t, row.whole, one.Stage == HasFile)
		})
	}
}
