package bench

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"sync"
	"time"
)

// Awkward are the ways in which real devices and lines are not tidy. Each can be switched on by itself.
type Awkward map[string]bool

// The switches.
const (
	Noise     = "noise"     // log lines in the middle of everything
	Pager     = "pager"     // a long output stops and wants a key
	Colour    = "colour"    // a coloured prompt
	History   = "history"   // arrow keys recall lines, and the line is drawn again now and then
	SlowEcho  = "slow-echo" // each key comes back by itself, after a while
	Mute      = "mute"      // nothing that is typed comes back
	Wrap      = "wrap"      // a typed line is broken at the device's own width
	Name      = "name"      // the name in the prompt changes
	Questions = "questions" // grave commands ask, but only sometimes
	Idle      = "idle"      // it logs out who types nothing
	Flash     = "flash"     // the flash takes a minute in the middle
	Overrun   = "overrun"   // what arrives while it is busy overruns a small buffer
	Latency   = "latency"   // the adapter delivers every 16 ms
	Bytes     = "bytes"     // bytes are lost and doubled when much comes at once
	Bursts    = "bursts"    // bursts of noise on the line
	Flow      = "flow"      // flow control holds the line for seconds
)

// Switches are all of them but Mute, which a dialect has to know of, in the order of the constants.
var Switches = []string{
	Noise, Pager, Colour, History, SlowEcho, Wrap, Name, Questions, Idle, Flash, Overrun, Latency, Bytes, Bursts, Flow,
}

// ParseAwkward reads all, or switches with commas between them.
func ParseAwkward(text string) (Awkward, error) {
	a := Awkward{}
	for _, name := range strings.Split(text, ",") {
		switch name = strings.TrimSpace(name); {
		case name == "":
		case name == "all":
			for _, all := range Switches {
				a[all] = true
			}
		case name == Mute || slices.Contains(Switches, name):
			a[name] = true
		default:
			return nil, fmt.Errorf("no awkwardness %q; there are all, %s and %s", name, strings.Join(Switches, ", "),
				Mute)
		}
	}
	return a, nil
}

// Quirks of one device in use: what it does next is drawn from a seed.
type quirks struct {
	on Awkward

	mu     sync.Mutex
	random *rand.Rand
}

func newQuirks(on Awkward, seed uint64) *quirks {
	return &quirks{on: on, random: rand.New(rand.NewPCG(seed, 77))}
}

// has reports whether a switch is on; it works on a nil receiver.
func (q *quirks) has(name string) bool { return q != nil && q.on[name] }

// chance is true once in n times.
func (q *quirks) chance(n int) bool { return q.draw(n) == 0 }

func (q *quirks) draw(n int) int {
	q.mu.Lock()
	defer q.mu.Unlock()
	return q.random.IntN(n)
}

func (q *quirks) between(least, most time.Duration) time.Duration {
	return least + time.Duration(q.draw(int(most-least)+1))
}

const (
	pageLines   = 7
	ownWidth    = 46 // columns
	smallBuffer = 2048
	adapterTick = 16 * time.Millisecond
	idleLimit   = 40 * time.Second
	flashStall  = time.Minute
	busyAfter   = 192 // bytes without a pause, from which on some are lost or doubled
	oneInBytes  = 6000
	burstEvery  = 25 * time.Second
	holdEvery   = 20 * time.Second
	logEvery    = 12 * time.Second
	oneInSays   = 7
	oneInKeys   = 9
)

// logs are what these devices write unasked.
var logs = []string{
	"tide gauge: reading 1842 mm", "lamp: lit", "uplink quay: up", "clock: set by 192.0.2.1", "door: shut",
	"lan port 3: up, 100 Mbit/s full duplex", "pump: idle", "somebody looked at the page from 192.0.2.10",
}

// logLine is one of them.
func (q *quirks) logLine(now time.Time) string {
	return "*log " + now.Format("15:04:05") + " " + logs[q.draw(len(logs))]
}

// garbage is what a burst of noise is read as.
func (q *quirks) garbage() []byte {
	out := make([]byte, 3+q.draw(9))
	for i := range out {
		out[i] = byte(0x80 + q.draw(0x80))
	}
	return out
}
