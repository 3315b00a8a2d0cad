package session

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"time"

	"pilotrix/core/event"
	"pilotrix/core/line"
	"pilotrix/core/runbook/engine"
)

// wire is the session's end of the line: whether it is there, at what speed, and how it comes back. It belongs to
// the session's loop, except for out, which has a lock of its own.
type wire struct {
	line     line.Line // nil while it is lost
	err      error     // why it is
	was      line.Port // the adapter that it is on; set before it can be lost
	baud     int
	noSpeed  bool // a hunt found that the line carries the same at every speed
	out      *outbox
	reopened chan reopened
	hurry    chan struct{}   // reported when the line is to be tried again at once
	over     bool            // it is not tried again: the other side does not want us
	waits    []chan struct{} // for it to come back
}

func newWire(l line.Line) *wire {
	w := &wire{line: l, out: newOutbox(), reopened: make(chan reopened), hurry: make(chan struct{}, 1)}
	if finder, can := l.(line.Finder); can {
		w.was = finder.Port()
	}
	if speeder, can := l.(line.Speeder); can {
		w.baud = speeder.Speed()
	}
	return w
}

// reopened is a line that has come back, with what it said already.
type reopened struct {
	line.Line
	said line.Chunk
}

// gone notes that the line has ended, and why.
func (w *wire) gone(target line.Target) {
	w.err = cmp.Or(w.line.Err(), error(&line.Error{Target: target, Reason: line.ErrUnplugged}))
	_ = w.line.Close()
	w.line = nil
}

// back takes the line that came back, at the speed we had.
func (w *wire) back(l line.Line) {
	w.line, w.err = l, nil
	if speeder, can := l.(line.Speeder); can && w.baud != 0 && speeder.Speed() != w.baud {
		ctx, cancel := context.WithTimeout(context.Background(), time.Second)
		if speeder.SetSpeed(ctx, w.baud) != nil {
			w.baud = speeder.Speed()
		}
		cancel()
	}
}

// limit is how long a piece of that many bytes may take to be sent.
func (w *wire) limit(bytes int) time.Duration {
	if w.baud > 0 {
		return heldLimit + 2*time.Duration(bytes*bitsAtMost)*time.Second/time.Duration(w.baud)
	}
	return heldLimit + time.Duration(bytes)*time.Millisecond
}

const reopenEvery = 500 * time.Millisecond

// heldLimit is how long the line may take nothing before what was to be sent is given up.
const heldLimit = 2 * time.Second

// bitsAtMost are those of one character with every bit that a framing can have.
const bitsAtMost = 12

// lost handles the end of the line: whoever waits is reported, and it is tried again.
func (s *Session) lost(ctx context.Context) {
	s.wire.gone(s.opt.Target)
	state := event.LineLost
	if !s.canComeBack() {
		state = event.LineClosed
	}
	s.hub.Emit(event.Line{State: state, Note: s.wire.err.Error()})
	s.doubts.add("the line was lost")
	s.settleWaiting(true)
	s.later, s.recording = later{}, onRecord{} // what they were for is gone
	s.lineWent()
	s.closeExchange(event.EndLost)
	s.forget()
	s.failWaiters()
	if s.canComeBack() {
		go s.reopen(ctx)
	}
}

func (s *Session) failWaiters() {
	lost := fmt.Errorf("%w: %w", engine.ErrLineLost, s.wire.err)
	if s.lent != nil {
		s.lent.fail(lost)
	}
	for w := range s.waiters {
		delete(s.waiters, w)
		w.got <- met{err: lost}
	}
	for t := range s.taps {
		t.fail(lost)
	}
}

// canComeBack leaves out a child program: starting it once more would be another session.
func (s *Session) canComeBack() bool { return s.opt.Target.Kind != line.Exec && !s.wire.over }

// openAgain opens the line that was lost: a serial one on the same adapter, wherever that is now.
func (s *Session) openAgain(ctx context.Context) (line.Line, error) {
	target := s.opt.Target
	if target.Kind == line.Serial && s.wire.was.Name+s.wire.was.Serial+s.wire.was.Place != "" {
		ports, err := line.Ports()
		if err == nil {
			target, err = line.Same(target, s.wire.was, ports)
		}
		if err != nil {
			return nil, err
		}
	}
	return s.opt.Opener.Open(ctx, target)
}

func (s *Session) reopen(ctx context.Context) {
	report := ""
	for wait := reopenEvery; s.pauseOrKey(ctx, wait) == nil; wait = s.longer(wait) {
		wire, err := s.openAgain(ctx)
		if errors.Is(err, line.ErrDenied) || errors.Is(err, line.ErrOtherKey) {
			s.giveUp(err)
			return
		}
		var said line.Chunk
		if err == nil {
			said, err = s.stays(ctx, wire)
		}
		if err != nil {
			if text := err.Error(); text != report {
				report = text
				s.hub.Emit(event.Note{Level: event.Warning, Text: text})
			}
			continue
		}
		select {
		case s.wire.reopened <- reopened{wire, said}:
		case <-ctx.Done():
			_ = wire.Close()
		}
		return
	}
}

// maxReopen is how long it is at most between two tries of a line that goes over a network: its other side is no port
// of this machine, which may be looked at as often as one likes.
const maxReopen = 15 * time.Second

// staying is how long a line over a network has to last before it is taken for back: a device that starts may take
// connections and drop them.
const staying = time.Second

func (s *Session) stays(ctx context.Context, wire line.Line) (said line.Chunk, err error) {
	if !s.overNetwork() {
		return said, nil
	}
	timer := s.opt.Clock.NewTimer(staying)
	defer timer.Stop()
	select {
	case chunk, open := <-wire.Chunks():
		if !open {
			_ = wire.Close()
			return said, cmp.Or(wire.Err(), error(&line.Error{Target: s.opt.Target, Reason: line.ErrUnplugged}))
		}
		return chunk, nil
	case <-timer.C:
	case <-ctx.Done():
	}
	return said, nil
}

func (s *Session) overNetwork() bool {
	switch s.opt.Target.Kind {
	case line.SSH, line.Telnet, line.ComPort, line.TCP:
		return true
	}
	return false
}

func (s *Session) longer(wait time.Duration) time.Duration {
	if s.overNetwork() {
		return min(2*wait, maxReopen)
	}
	return wait
}

// pauseOrKey waits, or until a key is pressed.
func (s *Session) pauseOrKey(ctx context.Context, wait time.Duration) error {
	timer := s.opt.Clock.NewTimer(wait)
	defer timer.Stop()
	select {
	case <-timer.C:
	case <-s.wire.hurry:
	case <-ctx.Done():
		return ctx.Err()
	}
	return nil
}

// tryNow has a lost line tried again at once, one that was given up too: what was in the way may be mended.
func (s *Session) tryNow() {
	if s.wire.over {
		s.wire.over = false
		s.hub.Emit(event.Line{State: event.LineLost, Note: "tried again"})
		go s.reopen(s.life)
	}
	select {
	case s.wire.hurry <- struct{}{}:
	default:
	}
}

// giveUp ends the tries: the other side has said that it does not want us, or is another one.
func (s *Session) giveUp(err error) {
	s.do(func() {
		s.wire.over, s.wire.err = true, err
		s.hub.Emit(event.Line{State: event.LineClosed, Note: err.Error()})
		for _, wait := range s.wire.waits {
			close(wait)
		}
		s.wire.waits = nil
		s.failWaiters()
	})
}

// back takes the line that came back, at the speed we had.
func (s *Session) back(wire reopened) {
	s.wire.back(wire.Line)
	s.forget()
	s.plainScreen()
	s.hub.Emit(event.Line{State: event.LineBack, Speed: s.wire.baud})
	s.hub.Emit(event.Mark{Text: "the line is back"})
	for _, wait := range s.wire.waits {
		close(wait)
	}
	s.wire.waits = nil
	if len(wire.said.Bytes) > 0 {
		s.chunk = wire.said
	}
	s.schedule()
}

// write sends what the loop put out, in order. A line that takes nothing does not keep what comes later.
func (s *Session) write(ctx context.Context) {
	for {
		item, err := s.wire.out.next(ctx)
		if err != nil {
			return
		}
		var wire line.Line
		var limit time.Duration
		if !s.do(func() { wire, limit = s.wire.line, s.wire.limit(len(item.data)) }) {
			return
		}
		err = io.ErrClosedPipe
		if wire != nil {
			limited, cancel := context.WithTimeout(item.context(ctx), limit)
			if item.act != nil {
				err = item.act(limited, wire)
			} else {
				err = wire.Write(limited, item.data)
			}
			if errors.Is(err, context.DeadlineExceeded) && item.context(ctx).Err() == nil {
				err = fmt.Errorf("the line took nothing for %s: flow control or a dead peer holds it",
					limit.Round(time.Second))
			}
			cancel()
		}
		if item.done != nil {
			item.done <- err
		} else if err != nil && ctx.Err() == nil {
			s.hub.Emit(event.Note{Level: event.Warning, Text: "not sent: " + err.Error()})
		}
	}
}

// Break sends a break, where the line can, behind what was typed before. What it returns waits until it was sent.
func (s *Session) Break() (sent func(context.Context) error) {
	item := outgoing{done: make(chan error, 1), act: func(ctx context.Context, wire line.Line) error {
		breaker, can := wire.(line.Breaker)
		if !can {
			return &line.Error{Target: s.opt.Target, Reason: line.ErrCannot, Remedy: "this kind of line has no break"}
		}
		s.hub.Emit(event.Mark{Text: "break sent"})
		return breaker.SendBreak(ctx)
	}}
	s.do(func() {
		s.helm.take("a break")
		s.wire.out.put(item)
	})
	return func(ctx context.Context) error {
		select {
		case err := <-item.done:
			return err
		case <-ctx.Done():
			return ctx.Err()
		case <-s.done:
			return engine.ErrLineLost
		}
	}
}
