package offer

import (
	"net/netip"

	"pilotrix/core/clock"
	"pilotrix/core/network"
	"pilotrix/core/transfer"
)

// Serving is what a server of staged files needs. Network and Stage have to be set; a Watcher that is nil
// watches nothing.
type Serving struct {
	Network network.Network
	Stage   *Stage
	Clock   clock.Clock
	Watcher Watcher
	// Old lets clients in over SSH that know only algorithms which are not safe any more; OldBy is how an operator
	// allows that, in words.
	Old   bool
	OldBy string
}

// Watched is it with a Watcher in any case.
func (s Serving) Watched() Serving {
	if s.Watcher == nil {
		s.Watcher = NoWatcher{}
	}
	return s
}

// Transfer is one file on its way between a device and this program.
type Transfer struct {
	ID       string // unique in the program's run
	Protocol string // the protocol
	Peer     netip.AddrPort
	File     string
	Size     int64 // -1 when not known
	From     int64 // where in the file a part begins, whose size this is then, -1 for several at once; known at the end
	Upload   bool  // the device sends it
	Terms    string
	Window   int // blocks before an answer, 0 where the protocol has none
}

// Rung is one thing that one side said to the other: a packet, a request, an answer.
type Rung struct {
	Transfer string // its ID, empty before there is one
	Protocol string
	Peer     netip.AddrPort
	FromPeer bool
	Kind     string // such as RRQ or DATA
	Block    int64  // for kinds that count
	Bytes    int
	Resent   bool // it was sent before
	Text     string
}

// Over is the kind of the last Rung of a transfer, which is nothing that was said: nothing more is said of it.
const Over = "over"

// Watcher is told what happens on a server. Its methods are called from the servers' goroutines.
type Watcher interface {
	Began(Transfer)
	Moved(t Transfer, p transfer.Progress)
	Ended(t Transfer, p transfer.Progress, err error)
	Said(Rung)
}

// NoWatcher is a Watcher that does nothing.
type NoWatcher struct{}

// Began implements Watcher.
func (NoWatcher) Began(Transfer) {}

// Moved implements Watcher.
func (NoWatcher) Moved(Transfer, transfer.Progress) {}

// Ended implements Watcher.
func (NoWatcher) Ended(Transfer, transfer.Progress, error) {}

// Said implements Watcher.
func (NoWatcher) Said(Rung) {}
