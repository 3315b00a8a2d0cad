package session

import (
	"context"

	"pilotrix/core/event"
	"pilotrix/core/runbook/engine"
)

// helm is who types on the line, one writer at a time, and what was wished of the runbook when the operator gave it
// back. It belongs to the session's loop.
type helm struct {
	emit    func(event.Body)
	taken   func() // what else is done when the operator gets it
	given   func() // and before the runbook does
	who     string
	running bool // a runbook, or a transfer, is under way
	cuts    map[int]context.CancelCauseFunc
	next    int
	wish    *engine.Wish  // what was not heard yet; nil for nothing
	wished  chan struct{} // reported of a wish
}

func newHelm(emit func(event.Body), taken, given func()) *helm {
	return &helm{
		emit:   emit,
		taken:  taken,
		given:  given,
		who:    event.Hand,
		cuts:   map[int]context.CancelCauseFunc{},
		wished: make(chan struct{}, 1),
	}
}

// take gives the operator the helm: whoever waits with the runbook's is reported.
func (h *helm) take(why string) {
	if h.who == event.Hand {
		return
	}
	h.who = event.Hand
	h.emit(event.Helm{Who: event.Hand, Why: why})
	h.taken()
	for n, cut := range h.cuts {
		cut(engine.ErrHelm)
		delete(h.cuts, n)
	}
}

// give gives it to the runbook.
func (h *helm) give(why string) {
	if h.who != event.Runbook {
		h.given()
		h.who = event.Runbook
		h.emit(event.Helm{Who: event.Runbook, Why: why})
	}
}

// begin gives it to a runbook that begins. It reports whether none was under way.
func (h *helm) begin(why string) bool {
	if h.running {
		return false
	}
	h.running, h.wish = true, nil
	h.give(why)
	return true
}

// end gives it to the operator: the runbook is over.
func (h *helm) end(why string) {
	h.running = false
	h.take(why)
}

// back gives it back to a runbook that waits for it, which goes on as wished. Nothing makes a stop undone.
func (h *helm) back(as engine.Wish) {
	if !h.running || h.who == event.Runbook {
		return
	}
	h.give("given back, to " + as.String())
	if h.wish == nil || *h.wish != engine.Stop {
		h.wish = &as
	}
	select {
	case h.wished <- struct{}{}:
	default:
	}
}

// hear takes what was wished and not heard yet.
func (h *helm) hear() (as engine.Wish, some bool) {
	if h.wish == nil {
		return 0, false
	}
	as, h.wish = *h.wish, nil
	return as, true
}

// hold has cut called when the operator takes the helm, at once when it has it. The number is for release. A wish is
// for the wait that it was made in: one that was not heard there is over, but for a stop, which is heard now.
func (h *helm) hold(cut context.CancelCauseFunc) int {
	if h.wish != nil && *h.wish != engine.Stop {
		h.wish = nil
	}
	if h.wish != nil || h.who != event.Runbook {
		cut(engine.ErrHelm)
		return 0
	}
	h.next++
	h.cuts[h.next] = cut
	return h.next
}

func (h *helm) release(n int) { delete(h.cuts, n) }

// TakeHelm gives the operator the helm. Keys that wait for a transfer are typed once that was cancelled.
func (s *Session) TakeHelm() {
	s.do(func() {
		s.typeKept()
		s.helm.take("asked for")
	})
}

// WithHelm implements engine.Console.
func (c console) WithHelm(ctx context.Context) (context.Context, context.CancelFunc) {
	held, cut := context.WithCancelCause(ctx)
	n := 0
	c.s.do(func() { n = c.s.helm.hold(cut) })
	return held, func() {
		cut(nil)
		c.s.do(func() { c.s.helm.release(n) })
	}
}

// AwaitHelm implements engine.Console.
func (c console) AwaitHelm(ctx context.Context) (as engine.Wish, err error) {
	for {
		some := false
		c.s.do(func() { as, some = c.s.helm.hear() })
		if some {
			return as, nil
		}
		select {
		case <-c.s.helm.wished:
		case <-ctx.Done():
			return engine.Stop, ctx.Err()
		case <-c.s.done:
			return engine.Stop, engine.ErrLineLost
		}
	}
}

// TakeBack implements engine.Console.
func (c console) TakeBack(why string) { c.s.do(func() { c.s.helm.give(why) }) }

// HandOver implements engine.Console.
func (c console) HandOver(why string) bool {
	if c.s.opt.Approve != nil {
		return false
	}
	c.s.do(func() { c.s.helm.take(why) })
	return true
}

// Release implements engine.Console.
func (c console) Release(why string) { c.s.do(func() { c.s.helm.end(why) }) }
