package session

import (
	"context"
	"errors"

	"pilotrix/core/event"
	"pilotrix/core/runbook/engine"
)

// helm is who types on the line, one writer at a time: the operator's keys, a run, or something that the operator has
// done by itself, which borrows the line from the keys and gives it back, beside a run that is paused too. It has what
// was wished of the runbook when the operator gave it back, too. It belongs to the session's loop.
type helm struct {
	emit     func(event.Body)
	taken    func() // what else is done when the operator gets it
	given    func() // and before another writer does
	who      string
	running  bool                            // a run is under way
	borrowed chan struct{}                   // closed when what the operator began gives the line back; nil while nothing has it
	cuts     map[int]context.CancelCauseFunc // of who has it
	next     int
	wish     *engine.Wish  // what was not heard yet; nil for nothing
	wished   chan struct{} // reported of a wish
	later    *engine.Wish  // made while something was borrowed, for when it is given back
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

// take gives the operator the helm: whoever types meanwhile ends with that, or waits for it to be given back.
func (h *helm) take(why string) {
	if h.later != nil && *h.later != engine.Stop {
		h.later = nil
	}
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

// give gives it to another writer.
func (h *helm) give(to, why string) {
	if h.who != to {
		h.given()
		h.who = to
		h.emit(event.Helm{Who: to, Why: why})
	}
}

// begin gives it to a runbook that begins. It reports whether the line was the operator's.
func (h *helm) begin(why string) bool {
	if h.running || h.borrowed != nil {
		return false
	}
	h.running, h.wish = true, nil
	h.give(event.Runbook, why)
	return true
}

// end gives it to the operator: the runbook is over.
func (h *helm) end(why string) {
	h.running = false
	h.take(why)
}

// errLineTaken is why something that the operator begins has no line.
var errLineTaken = errors.New("a runbook, or something else, is under way on the line: take the helm, or end it, first")

// borrow gives it to something that the operator begins: the line is the operator's own, whether a run is paused or not.
func (h *helm) borrow(why string) error {
	if h.who != event.Hand || h.borrowed != nil {
		return errLineTaken
	}
	h.borrowed = make(chan struct{})
	h.give(event.ByDeed, why)
	return nil
}

// giveBack gives the operator what was borrowed.
func (h *helm) giveBack(why string) {
	close(h.borrowed)
	as := h.later
	h.borrowed, h.later = nil, nil
	if h.who == event.ByDeed {
		h.take(why)
	}
	if as != nil {
		h.back(*as)
	}
}

// back gives it back to a runbook that waits for it, which goes on as wished. Nothing makes a stop undone. What the
// operator has begun has the line for as long as it lasts: the wish waits for its end.
func (h *helm) back(as engine.Wish) {
	switch {
	case !h.running || h.who == event.Runbook:
		return
	case h.borrowed != nil:
		if h.later == nil || *h.later != engine.Stop {
			h.later = &as
		}
		return
	}
	h.give(event.Runbook, "given back, to "+as.String())
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

// hold has cut called when the writer loses the helm, at once when it has not got it. The number is for release. A
// wish is for the wait that it was made in: one that was not heard there is over, but for a stop, which is heard now.
func (h *helm) hold(writer string, cut context.CancelCauseFunc) int {
	run := writer == event.Runbook
	if run && h.wish != nil && *h.wish != engine.Stop {
		h.wish = nil
	}
	if run && h.wish != nil || h.who != writer {
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
	c.s.do(func() { n = c.s.helm.hold(c.as, cut) })
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

// TakeBack implements engine.Console. What the operator has begun ends first.
func (c console) TakeBack(why string) {
	for {
		var over chan struct{}
		c.s.do(func() {
			if over = c.s.helm.borrowed; over == nil {
				c.s.helm.give(c.as, why)
			} else {
				c.s.helm.take(why)
			}
		})
		if over == nil {
			return
		}
		select {
		case <-over:
		case <-c.s.done:
			return
		}
	}
}

// HandOver implements engine.Console.
func (c console) HandOver(why string) bool {
	if c.s.opt.Approve != nil {
		return false
	}
	c.s.do(func() { c.s.helm.take(why) })
	return true
}

// Release implements engine.Console.
func (c console) Release(why string) {
	c.s.do(func() {
		if c.as == event.ByDeed {
			c.s.helm.giveBack(why)
		} else {
			c.s.helm.end(why)
		}
	})
}
