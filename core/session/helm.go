package session

import (
	"context"

	"pilotrix/core/event"
	"pilotrix/core/runbook"
)

// helm says who types on the line: one writer at a time. It belongs to the session's loop.
type helm struct {
	emit    func(event.Body)
	taken   func() // what else is done when the hand gets it
	who     string
	running bool // a runbook, or a transfer, is under way
	cuts    map[int]context.CancelCauseFunc
	next    int
	resume  chan runbook.Resumption
}

func newHelm(emit func(event.Body), taken func()) *helm {
	return &helm{emit: emit, taken: taken, who: event.Hand, cuts: map[int]context.CancelCauseFunc{}, resume: make(chan runbook.Resumption, 1)}
}

// take gives the hand the helm: whoever waits with the runbook's is told.
func (h *helm) take(why string) {
	if h.who == event.Hand {
		return
	}
	h.who = event.Hand
	h.emit(event.Helm{Who: event.Hand, Why: why})
	h.taken()
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
	if h.wish() != runbook.Stop {
		h.resume <- as
		return
	}
	h.resume <- runbook.Stop // nothing makes a stop undone
}

// wish takes what was wished and not heard yet. Repeat, which is what happens anyway, stands for nothing.
func (h *helm) wish() runbook.Resumption {
	select {
	case as := <-h.resume:
		return as
	default:
		return runbook.Repeat
	}
}

// hold has cut called when the hand takes the helm, at once when it has it. The number is for release. A wish is
// for the step that it was made in: one that was not heard there is over, but for a stop, which is heard now.
func (h *helm) hold(cut context.CancelCauseFunc) int {
	if h.wish() == runbook.Stop {
		h.resume <- runbook.Stop
		cut(runbook.ErrHelm)
		return 0
	}
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
