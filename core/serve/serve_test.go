package serve

import (
	"bytes"
	"context"
	"io"
	"math/rand/v2"
	"net/netip"
	"os"
	"path/filepath"
	"slices"
	"sync"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"pilotrix/core/carrier"
	"pilotrix/core/clock"
	"pilotrix/core/event"
	"pilotrix/core/network/simulated"
	"pilotrix/core/offer"
	"pilotrix/core/offer/offertest"
	"pilotrix/core/transfer/tftp"
)

// dock runs a test with a dock that keeps what it reported.
func dock(t *testing.T, use func(t *testing.T, d *Dock, device tftp.Client, report func() []event.Body)) {
	synctest.Test(t, func(t *testing.T) {
		n := simulated.New(1)
		n.Latency = time.Millisecond
		var mu sync.Mutex
		var all []event.Body
		d := NewDock(t.Context(), Options{
			Network: n.Host("eth0", netip.MustParsePrefix("192.0.2.10/24")),
			Clock:   clock.Real(),
			Emit: func(b event.Body) {
				mu.Lock()
				defer mu.Unlock()
				all = append(all, b)
			},
		})
		use(t, d, tftp.Client{Network: n.Host("lan", netip.MustParsePrefix("192.0.2.41/24"))}, func() []event.Body {
			mu.Lock()
			defer mu.Unlock()
			return append([]event.Body{}, all...)
		})
		d.Close()
		time.Sleep(10 * time.Minute)
	})
}

func kinds[T event.Body](all []event.Body) (some []T) {
	for _, b := range all {
		if one, ok := b.(T); ok {
			some = append(some, one)
		}
	}
	return some
}

var at = netip.MustParseAddrPort("192.0.2.10:69")

func TestALadderHasOneRungForARunOfPackets(t *testing.T) {
	dock(t, func(t *testing.T, d *Dock, device tftp.Client, report func() []event.Body) {
		data := bytes.Repeat([]byte("lark"), 100_000)
		_, err := d.Offer(offertest.File("lark.cgo", data), "tftp")
		require.NoError(t, err)
		_, err = d.Listen(carrier.TFTP, at)
		require.NoError(t, err)
		device.Block = 1428
		var got bytes.Buffer
		_, err = device.Get(t.Context(), at, "lark.cgo", &got)
		require.NoError(t, err)
		time.Sleep(time.Second)
		rungs := map[int]event.Rung{}
		for _, m := range kinds[event.Rung](report()) {
			rungs[m.Row] = m
		}
		var what []string
		for row := range len(rungs) {
			what = append(what, rungs[row].What)
		}
		assert.Equal(t, []string{"RRQ", "OACK", "ACK", "DATA"}, what)
		assert.EqualValues(t, 281, rungs[3].Last)
		assert.Equal(t, 281, rungs[3].Count)
		assert.Less(t, len(kinds[event.Rung](report())), 40, "not an event a packet")
		ends := kinds[event.TransferEnd](report())
		require.Len(t, ends, 1)
		assert.Equal(t, event.Done, ends[0].Outcome)
		assert.EqualValues(t, len(data), ends[0].Bytes)
	})
}

func TestUploadsEndOnTheDock(t *testing.T) {
	dock(t, func(t *testing.T, d *Dock, device tftp.Client, _ func() []event.Body) {
		folder := t.TempDir()
		endings, _ := d.Endings()
		closeSlot, err := d.OpenSlot(offer.Slot{Name: "setup.txt", Folder: folder, Most: 1000}, "tftp")
		require.NoError(t, err)
		defer closeSlot()
		_, err = d.Listen(carrier.TFTP, at)
		require.NoError(t, err)
		_, err = device.Put(t.Context(), at, "setup.txt", bytes.NewReader([]byte("hello")), 5)
		require.NoError(t, err)
		end := <-endings
		assert.True(t, end.Upload)
		require.NoError(t, end.Err)
		kept, err := os.ReadFile(filepath.Join(folder, "setup.txt"))
		require.NoError(t, err)
		assert.Equal(t, "hello", string(kept))
		_, err = device.Put(t.Context(), at, "setup.txt", bytes.NewReader([]byte("again")), 5)
		assert.ErrorContains(t, err, "nothing may be left here under that name", "a slot is for one upload")
	})
}

func TestWhatIsWithdrawnIsNotServed(t *testing.T) {
	dock(t, func(t *testing.T, d *Dock, device tftp.Client, report func() []event.Body) {
		withdraw, err := d.Offer(offertest.File("x", nil), "tftp")
		require.NoError(t, err)
		place, err := d.Listen(carrier.TFTP, at)
		require.NoError(t, err)
		again, err := d.Listen(carrier.TFTP, at)
		require.NoError(t, err)
		assert.Equal(t, place.At, again.At, "the same server once")
		withdraw()
		withdraw()
		_, err = device.Get(t.Context(), at, "x", io.Discard)
		assert.ErrorContains(t, err, "no x here")
		states := kinds[event.Staged](report())
		require.Len(t, states, 2)
		assert.Equal(t, event.Withdrawn, states[1].State)
	})
}

func TestOurOwnChecksAreNoTransfers(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		n := simulated.New(1)
		laptop := n.Host("eth0", netip.MustParsePrefix("192.0.2.10/24"))
		report := make(chan event.Body, 100)
		ctx, cancel := context.WithCancel(t.Context())
		d := NewDock(ctx, Options{Network: laptop, Emit: func(b event.Body) { report <- b }})
		_, err := d.Offer(offertest.File("x", []byte("abc")), "tftp")
		require.NoError(t, err)
		_, err = d.Listen(carrier.TFTP, at)
		require.NoError(t, err)
		d.Checking(func() {
			_, err = tftp.Client{Network: laptop}.Get(ctx, at, "x", io.Discard)
			require.NoError(t, err)
		})
		time.Sleep(10 * time.Minute)
		cancel()
		d.Close()
		close(report)
		for b := range report {
			assert.NotContains(t, []string{"transfer.begin", "transfer.end", "rung"}, event.KindOf(b))
		}
		assert.Empty(t, d.own, "nothing is kept of them")
	})
}

// TestAServerIsThereForAsLongAsSomebodyUsesIt has many lease servers and leave them in any order: each is there for who
// has it, begins again where all have left it, and none is left in the end.
func TestAServerIsThereForAsLongAsSomebodyUsesIt(t *testing.T) {
	dock(t, func(t *testing.T, d *Dock, device tftp.Client, report func() []event.Body) {
		withdraw, err := d.Offer(offertest.File("x", []byte("abc")), "tftp")
		require.NoError(t, err)
		defer withdraw()
		r := rand.New(rand.NewPCG(28, 2))
		carriers := []*carrier.Carrier{carrier.TFTP, carrier.HTTP}
		uses := map[*carrier.Carrier][]func(){}
		for range 400 {
			c := carriers[r.IntN(2)]
			if n := len(uses[c]); n > 0 && r.IntN(2) == 0 {
				i := r.IntN(n)
				uses[c][i]()
				uses[c][i]() // it leaves once
				uses[c] = slices.Delete(uses[c], i, i+1)
			} else {
				place, leave, err := d.Lease(c, netip.AddrPortFrom(at.Addr(), c.Port))
				require.NoError(t, err)
				assert.Equal(t, c.Port, place.At.Port())
				uses[c] = append(uses[c], leave)
			}
			listening := map[string]int{}
			for _, s := range kinds[event.Server](report()) {
				listening[s.Name] += map[string]int{event.Listening: 1, event.Ended: -1}[s.State]
			}
			for _, c := range carriers {
				assert.Equal(t, len(uses[c]) > 0, listening[c.Title()] == 1, "%s is used by %d", c.Name, len(uses[c]))
			}
		}
		for _, leaves := range uses {
			for _, leave := range leaves {
				leave()
			}
		}
		_, err = device.Get(t.Context(), at, "x", io.Discard)
		assert.Error(t, err, "all have left it")
	})
}
