package serve

import (
	"net/netip"
	"sync"
	"time"

	"pilotrix/core/carrier"
	"pilotrix/core/clock"
	"pilotrix/core/event"
	"pilotrix/core/offer"
	"pilotrix/core/transfer"
)

// ladder gathers messages into rungs: those that count (DATA, ACK) become a run that grows, everything
// else is a rung of its own. A run is reported when it begins, a few times a second, and when it ends.
type ladder struct {
	clock clock.Clock
	emit  func(event.Body)

	mu    sync.Mutex
	rows  map[string]int // rungs of each transfer so far
	runs  map[runKey]*run
	last  time.Time
	quiet limiter                 // of refusals
	asked limiter                 // of requests that have come to nothing so far
	muted map[string][]offer.Rung // of transfers that have not begun: what is reported once they do
	begun map[string]bool
}

type runKey struct {
	transfer   string
	what       string
	fromDevice bool
}

type run struct {
	event.Rung
	changed bool
}

const flushEvery = 500 * time.Millisecond

func newLadder(c clock.Clock, emit func(event.Body)) *ladder {
	return &ladder{
		clock: c,
		emit:  emit,
		rows:  map[string]int{},
		runs:  map[runKey]*run{},
		quiet: limiter{reported: map[netip.Addr]int{}},
		asked: limiter{reported: map[netip.Addr]int{}},
		muted: map[string][]offer.Rung{},
		begun: map[string]bool{},
	}
}

// maxRefusals are reported of one peer; a device that asks for the same wrong name again and again, or a
// hostile one, does not fill the logbook.
const maxRefusals = 20

// mostRefused are the peers whose refusals are counted: a sender may call itself by as many addresses as it likes. Of
// the others one is reported every otherEvery: among them may be the device that is waited for.
const (
	maxRefused = 64
	otherEvery = time.Second
)

// limiter bounds what is reported of one kind, by peer.
type limiter struct {
	reported map[netip.Addr]int
	other    time.Time // when one of another peer was reported last
}

// enough counts one, and reports whether it is not reported any more.
func (l *limiter) enough(peer netip.Addr, now time.Time) bool {
	if _, known := l.reported[peer]; !known && len(l.reported) >= maxRefused {
		if now.Sub(l.other) < otherEvery {
			return true
		}
		l.other = now
		return false
	}
	l.reported[peer]++
	return l.reported[peer] > maxRefusals
}

// less takes one back: it has come to something after all.
func (l *limiter) less(peer netip.Addr) {
	if l.reported[peer] > 0 {
		l.reported[peer]--
	}
}

func (l *ladder) say(m offer.Rung) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if m.Kind == offer.Over {
		l.forget(m.Transfer)
		return
	}
	if m.Transfer != "" && l.silent(m) {
		return
	}
	l.report(m)
}

func (l *ladder) report(m offer.Rung) {
	key := runKey{m.Transfer, m.Kind, m.FromPeer}
	if carrier.InRuns(m.Protocol, m.Kind) {
		if l.extend(key, m) {
			return
		}
	} else {
		l.flushLocked()
		l.endRuns(m.Transfer)
	}
	if m.Transfer == "" && l.quiet.enough(m.Peer.Addr(), l.clock.Now()) {
		return
	}
	row := l.rows[m.Transfer]
	l.rows[m.Transfer]++
	report := event.Rung{
		Transfer:   m.Transfer,
		Row:        row,
		Protocol:   m.Protocol,
		Peer:       m.Peer.String(),
		FromDevice: m.FromPeer,
		What:       m.Kind,
		Text:       m.Text,
		First:      m.Block,
		Last:       m.Block,
		Count:      1,
	}
	if m.Resent {
		report.Resent = 1
	}
	if carrier.InRuns(m.Protocol, m.Kind) {
		l.runs[key] = &run{Rung: report}
	}
	l.emit(report)
}

// maxMuted are the messages that are kept of a transfer that has not begun.
const maxMuted = 8

// silent reports whether nothing is reported of a message for now: its transfer has not begun, and its peer has asked
// like that too often.
func (l *ladder) silent(m offer.Rung) bool {
	if _, known := l.rows[m.Transfer]; known || l.begun[m.Transfer] {
		return false
	}
	kept, muted := l.muted[m.Transfer]
	if !muted && !l.asked.enough(m.Peer.Addr(), l.clock.Now()) {
		return false
	}
	if len(kept) < maxMuted {
		kept = append(kept, m)
	}
	l.muted[m.Transfer] = kept
	return true
}

// forget drops all that is known of a transfer.
func (l *ladder) forget(transfer string) {
	l.flushLocked()
	l.endRuns(transfer)
	delete(l.rows, transfer)
	delete(l.muted, transfer)
	delete(l.begun, transfer)
}

// begin says of a transfer from now on: its peer is there.
func (l *ladder) begin(m offer.Transfer) {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.begun[m.ID] = true
	kept := l.muted[m.ID]
	delete(l.muted, m.ID)
	for _, before := range kept {
		l.report(before)
	}
	l.asked.less(m.Peer.Addr())
}

// extend adds a message to its run. It reports whether there is one.
func (l *ladder) extend(key runKey, m offer.Rung) bool {
	r := l.runs[key]
	if r == nil {
		return false
	}
	r.Count++
	r.Last = max(r.Last, m.Block)
	if m.Resent {
		r.Resent++
	}
	r.changed = true
	return true
}

// flush says the runs that grew.
func (l *ladder) flush() {
	l.mu.Lock()
	defer l.mu.Unlock()
	if now := l.clock.Now(); now.Sub(l.last) >= flushEvery {
		l.last = now
		l.flushLocked()
	}
}

func (l *ladder) flushLocked() {
	for _, r := range l.runs {
		if r.changed {
			r.changed = false
			l.emit(r.Rung)
		}
	}
}

func (l *ladder) endRuns(transfer string) {
	for key := range l.runs {
		if key.transfer == transfer {
			delete(l.runs, key)
		}
	}
}

// end says the rest of a transfer that is over.
func (l *ladder) end(transfer string) {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.forget(transfer)
}

// clockSpan is how long a transfer took, by its own count.
func clockSpan(p transfer.Progress) time.Duration {
	return time.Duration(float64(p.Bytes) / p.Rate * float64(time.Second))
}
