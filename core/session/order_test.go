package session

import (
	"context"
	"fmt"
	"math/rand/v2"
	"strings"
	"sync"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"pilotrix/core/clock"
	"pilotrix/core/event"
	"pilotrix/core/line"
	"pilotrix/core/sense"
)

// ordered notes what reaches the far end, in its order: keys, sizes and breaks. Each takes a while.
type ordered struct {
	*fakeLine
	random *rand.Rand

	mu  sync.Mutex
	log []string
}

func (o *ordered) note(text string) {
	time.Sleep(time.Duration(o.random.IntN(3000)) * time.Microsecond)
	o.mu.Lock()
	defer o.mu.Unlock()
	o.log = append(o.log, text)
}

func (o *ordered) Write(_ context.Context, p []byte) error { o.note(string(p)); return nil }

func (o *ordered) Resize(cols, rows int) error { o.note(fmt.Sprintf("%dx%d", cols, rows)); return nil }

func (o *ordered) SendBreak(context.Context) error { o.note("break"); return nil }

// TestWhatIsDoneArrivesInItsOrder draws keys, sizes and breaks: the device gets them as they were done.
func TestWhatIsDoneArrivesInItsOrder(t *testing.T) {
	for seed := range uint64(300) {
		synctest.Test(t, func(t *testing.T) {
			random := rand.New(rand.NewPCG(seed, 5))
			far := &ordered{fakeLine: newFakeLine(), random: rand.New(rand.NewPCG(seed, 6))}
			opener := line.NewOpener(clock.Real())
			opener.Register(line.TCP, func(context.Context, line.Target) (line.Line, error) { return far, nil })
			s, err := Open(t.Context(), Options{Target: far.Target(), Opener: opener})
			require.NoError(t, err)
			s.Begin()
			var want []string
			for n := range 30 {
				switch random.IntN(4) {
				case 0:
					cols, rows := 40+random.IntN(200), 10+random.IntN(60)
					s.Resize(cols, rows)
					want = append(want, fmt.Sprintf("%dx%d", cols, rows))
				case 1:
					s.Break()
					want = append(want, "break")
				default:
					key := string(rune('a' + n%26))
					s.Press([]byte(key))
					want = append(want, key)
				}
				if random.IntN(3) == 0 {
					time.Sleep(time.Duration(random.IntN(2)) * time.Millisecond)
				}
			}
			time.Sleep(time.Second)
			synctest.Wait()
			far.mu.Lock()
			assert.Equal(t, want, far.log, "seed %d", seed)
			far.mu.Unlock()
			s.Close("the test ends")
		})
	}
}

// TestAnEmptyQuietLineIsNotHeld presses keys that may put a line there, at a device that does not, and then Enter.
func TestAnEmptyQuietLineIsNotHeld(t *testing.T) {
	for name, keys := range map[string]string{
		"up": "\x1b[A", "down": "\x1b[B", "left": "\x1b[D", "Tab": "\t", "Esc": "\x1b", "Home": "\x1b[H", "Ctrl-R": "\x12", "Ctrl-P": "\x10",
	} {
		for _, rings := range []string{"", "\a"} {
			talking(t, "", func(string) string { return "> " }, func(k *talk) {
				k.far.mute.Store(true)
				k.Press([]byte(keys))
				k.far.mute.Store(false)
				if rings != "" {
					k.far.says(rings)
				}
				time.Sleep(2 * time.Second)
				k.Press([]byte("\r"))
				time.Sleep(time.Second)
				assert.Empty(t, of[event.Interlock](k), "%s, the device answers %q", name, rings)
				assert.True(t, strings.HasSuffix(k.far.got(), "\r"), name)
			})
		}
		talking(t, "", func(string) string { return "> " }, func(k *talk) {
			k.far.mute.Store(true)
			k.Press([]byte(keys))
			time.Sleep(100 * time.Millisecond)
			k.Press([]byte("\r"))
			time.Sleep(time.Second)
			assert.Len(t, of[event.Interlock](k), 1, "%s: it may put one there yet", name)
		})
	}
}

// TestTimeThatTheProgramDidNotRunIsNoSilence stops it, as a signal does, in the middle of a reading.
func TestTimeThatTheProgramDidNotRunIsNoSilence(t *testing.T) {
	talking(t, "", func(string) string { return "> " }, func(k *talk) {
		before := k.Session.run().Device()
		k.do(func() { k.beat = k.beat.Add(-30 * time.Second) }) // as it finds the time when it goes on
		k.do(func() {})
		after := k.Session.run().Device()
		assert.GreaterOrEqual(t, k.Session.run().Stopped(), 29*time.Second)
		assert.False(t, after.LastByte.Before(before.LastByte))
		assert.NotEqual(t, sense.Silent, after.Mode)
		notes := of[event.Note](k)
		require.NotEmpty(t, notes)
		assert.Contains(t, last(notes).Text, "this program did not run for 30 s")
	})
}
