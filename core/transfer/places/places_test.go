package places

import (
	"errors"
	"fmt"
	"math/rand/v2"
	"net/netip"
	"sync"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// crowd is places whose guests come, are heard and leave.
type crowd struct {
	*Places
	mu   sync.Mutex
	left map[*Guest]error
}

func newCrowd(limits Limits, expects func(netip.Addr) bool) *crowd {
	return &crowd{Places: New(limits, expects, time.Now), left: map[*Guest]error{}}
}

func (c *crowd) enter(from, file string) (g *Guest, err error) {
	g, err = c.Enter(netip.MustParseAddr(from), file, func(why error) {
		c.mu.Lock()
		defer c.mu.Unlock()
		c.left[g] = why
	})
	return g, err
}

func (c *crowd) gone(g *Guest) error {
	synctest.Wait()
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.left[g]
}

var small = Limits{Settled: 3, New: 4, Each: 3, File: 2, Stale: 5 * time.Second, Long: time.Minute}

func TestWhoGivesWay(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		c := newCrowd(small, nil)
		first, err := c.enter("192.0.2.1", "a")
		require.NoError(t, err)
		time.Sleep(time.Millisecond)
		_, err = c.enter("192.0.2.1", "a")
		require.NoError(t, err)
		_, err = c.enter("192.0.2.1", "a")
		assert.ErrorContains(t, err, "this sender is being sent the file 2 times already")
		_, err = c.enter("192.0.2.1", "b")
		require.NoError(t, err)
		_, err = c.enter("192.0.2.1", "c")
		assert.ErrorContains(t, err, "3 of this sender's are being served already")
		time.Sleep(5 * time.Second)
		_, err = c.enter("192.0.2.1", "a")
		require.NoError(t, err, "one that was silent")
		assert.ErrorContains(t, c.gone(first), "the same sender asked")
		first.Leave()
		first.Leave()
		assert.Equal(t, 3, c.Number())
	})
}

func TestThoseThatOnlyAskGoInTheirOrder(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		device := netip.MustParseAddr("192.0.2.40")
		c := newCrowd(small, func(addr netip.Addr) bool { return addr == device })
		awaited, err := c.enter("192.0.2.40", "a")
		require.NoError(t, err)
		var all []*Guest
		for n := range 10 {
			g, err := c.enter(fmt.Sprintf("198.51.100.%d", n), "a")
			require.NoError(t, err)
			all = append(all, g)
			time.Sleep(time.Millisecond)
		}
		for n, g := range all {
			assert.Equal(t, n < 6, c.gone(g) != nil, "%d", n)
		}
		assert.NoError(t, c.gone(awaited), "whom a step waits for stays")
	})
}

func TestASlowOneGivesWayWhereEveryPlaceIsTaken(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		c := newCrowd(small, func(addr netip.Addr) bool { return addr == netip.MustParseAddr("192.0.2.40") })
		var all []*Guest
		for n := range 3 {
			g, err := c.enter(fmt.Sprintf("198.51.100.%d", n), "a")
			require.NoError(t, err)
			g.Settled()
			all = append(all, g)
		}
		_, err := c.enter("198.51.100.9", "a")
		assert.ErrorContains(t, err, "3 are being served already")
		_, err = c.enter("192.0.2.40", "a")
		assert.NoError(t, err, "there is always room for whom a step waits for")
		for range 60 { // they take a little, again and again
			time.Sleep(time.Second)
			for _, g := range all {
				g.Heard()
			}
		}
		_, err = c.enter("198.51.100.9", "a")
		require.NoError(t, err)
		gone := 0
		for _, g := range all {
			var why *GaveWay
			if errors.As(c.gone(g), &why) {
				gone++
			}
		}
		assert.Equal(t, 1, gone)
	})
}

// TestLimitsHoldInAnyOrder lets guests come, settle, be heard and leave at random, and holds at each step that no limit
// is passed and that who is expected is never refused for others.
func TestLimitsHoldInAnyOrder(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		for seed := range uint64(200) {
			random := rand.New(rand.NewPCG(seed, 1))
			device := netip.MustParseAddr("192.0.2.1")
			c := newCrowd(small, func(addr netip.Addr) bool { return addr == device })
			var here []*Guest
			for range 200 {
				switch random.IntN(5) {
				case 0, 1:
					from := fmt.Sprintf("192.0.2.%d", 1+random.IntN(6))
					g, err := c.enter(from, fmt.Sprint(random.IntN(3)))
					if err == nil {
						here = append(here, g)
					} else if from == "192.0.2.1" {
						require.Contains(t, err.Error(), "this sender", "it is held to its own alone")
					}
				case 2:
					if len(here) > 0 {
						here[random.IntN(len(here))].Settled()
					}
				case 3:
					if len(here) > 0 {
						here[random.IntN(len(here))].Leave()
					}
				case 4:
					time.Sleep(time.Duration(random.IntN(4000)) * time.Millisecond)
				}
				each, settled := map[netip.Addr]int{}, 0
				for g := range c.guests {
					each[g.from]++
					if g.settled.Load() && g.from != device {
						settled++
					}
				}
				for from, n := range each {
					require.LessOrEqual(t, n, small.Each, from)
					require.Equal(t, n, c.count[from])
				}
				require.LessOrEqual(t, settled, small.Settled+small.New, "those that settle later count, too")
				require.LessOrEqual(t, c.Number(), small.Settled+small.New+small.Each)
			}
		}
	})
}
