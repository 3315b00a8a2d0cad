package session

import (
	"context"

	"pilotrix/core/event"
	"pilotrix/core/runbook"
)

// helm says who types on the line: one writer at a time. It belongs to the session's loop.
type helm struct {
	emit    func(event.Body)
	who     string
	running bool // a runbook, or a transfer, is under way
	cuts    map[int]context.CancelCauseFunc
	next    int
	resume  chan runbook.Resumption
}

func newHelm(emit func(event.Body)) *helm {
	return &helm{emit: emit, who: event.Hand, cuts: map[int]context.CancelCauseFunc{}, resume: make(chan runbook.Resumption, 1)}
}

// take gives the hand the helm: whoever waits with the runbook's is told.
func (h *helm) take(why string) {
	if h.who == event.Hand {
		return
	}
	h.who = event.Hand
	h.emit(event.Helm{Who: event.Hand, Why: why})
	for n, cut := range h.cuts {
		cut(runbook.ErrHelm)
		delete(h.cuts, n)
	}
}

// give gives it to the runbook.
func (h *helm) give(why string) {
	if h.who != event.Runbook {
		h.who = event.Runbook
		h.emit(event.Helm{Who: event.Runbook, Why: why})
	}
}

// begin gives it to a runbook that begins. It reports whether none was under way.
func (h *helm) begin(why string) bool {
	if h.running {
		return false
	}
	h.running = true
	h.resume = make(chan runbook.Resumption, 1)
	h.give(why)
	return true
}

// end gives it to the hand: the runbook is over.
func (h *helm) end(why string) {
	h.running = false
	h.take(why)
}

// back gives it back to a runbook that waits for it, which goes on as told.
func (h *helm) back(as runbook.Resumption) {
	if !h.running || h.who == event.Runbook {
		return
	}
	h.give("given back")
	select {
	case h.resume <- as:
	default:
	}
}

// hold has cut called when the hand takes the helm, at once when it has it. The number is for release.
func (h *helm) hold(cut context.CancelCauseFunc) int {
	if h.who != event.Runbook {
		cut(runbook.ErrHelm)
		return 0
	}
	h.next++
	h.cuts[h.next] = cut
	return h.next
}

func (h *helm) release(n int) { delete(h.cuts, n) }

// TakeHelm gives the hand the helm.
func (s *Session) TakeHelm() { s.do(func() { s.helm.take("asked for") }) }

// GiveHelm gives the helm back to a runbook that waits for it.
func (s *Session) GiveHelm(as runbook.Resumption) { s.do(func() { s.helm.back(as) }) }

// WithHelm implements runbook.Console.
func (c console) WithHelm(ctx context.Context) (context.Context, context.CancelFunc) {
	held, cut := context.WithCancelCause(ctx)
	n := 0
	c.s.do(func() { n = c.s.helm.hold(cut) })
	return held, func() {
		cut(nil)
		c.s.do(func() { c.s.helm.release(n) })
	}
}

// AwaitHelm implements runbook.Console.
func (c console) AwaitHelm(ctx context.Context) (runbook.Resumption, error) {
	select {
	case as := <-c.s.helm.resume:
		return as, nil
	case <-ctx.Done():
		return runbook.Stop, ctx.Err()
	case <-c.s.done:
		return runbook.Stop, runbook.ErrLineLost
	}
}

// TakeBack implements runbook.Console.
func (c console) TakeBack(why string) { c.s.do(func() { c.s.helm.give(why) }) }

// Release implements runbook.Console.
func (c console) Release(why string) { c.s.do(func() { c.s.helm.end(why) }) }
