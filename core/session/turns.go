package session

import (
	"context"
	"errors"
	"time"

	"pilotrix/core/event"
	"pilotrix/core/runbook/engine"
)

// What is repeated types its line between those of the operator: at a prompt that is known, on an empty line, and not
// while somebody types. Keys that are pressed meanwhile wait until its line is ended, for half a second at most.

const (
	turnAfter  = 3 * time.Second        // without a key
	turnLooks  = time.Second            // between two looks where nothing is heard of
	keysWithin = 500 * time.Millisecond // of the wall: so long keys wait for a line to be ended
)

// turns is the line that is typed in its turn. It belongs to the session's loop.
type turns struct {
	keyAt time.Time               // when the operator pressed a key last
	cut   context.CancelCauseFunc // ends what is typed now, nil where nothing is
	timer *time.Timer             // until that happens, nil while no key waits
}

// pressed notes a key, and reports whether it waits for a line that is being typed.
func (t *turns) pressed(now time.Time) (waits bool) {
	t.keyAt = now
	if t.cut == nil {
		return false
	}
	if t.timer == nil {
		cut := t.cut
		t.timer = time.AfterFunc(keysWithin, func() { cut(engine.ErrHelm) })
	}
	return true
}

// InTurn implements engine.Console.
func (c console) InTurn(ctx context.Context, types func(context.Context) error) error {
	if c.as == event.Runbook { // the line is its own
		return types(ctx)
	}
	typing, cut := context.WithCancelCause(ctx)
	defer cut(nil)
	for {
		wait, err := c.takesTurn(cut)
		switch {
		case err != nil:
			return err
		case wait == 0:
			err := types(typing)
			c.endsTurn(ctx, err)
			if err != nil && errors.Is(context.Cause(typing), engine.ErrHelm) {
				return engine.ErrNoTurn
			}
			return err
		}
		if err := c.Clock().Wait(ctx, wait); err != nil {
			return err
		}
	}
}

// takesTurn borrows the line where nobody types on it, or says how long there is to wait.
func (c console) takesTurn(cut context.CancelCauseFunc) (wait time.Duration, err error) {
	s := c.s
	alive := s.do(func() {
		v := s.sense.State()
		idle := s.opt.Clock.Since(s.turns.keyAt)
		open := s.exchanges.Open()
		switch {
		case s.wire.line == nil || !v.AtPrompt || v.Pushed || v.Question() != "" || v.Secret || s.lent != nil,
			open != nil && open.Text != "", s.guard.left(v) != "", len(s.recording.keys)+len(s.later.keys) > 0:
			wait = turnLooks
		case idle < turnAfter:
			wait = turnAfter - idle
		case s.helm.borrow("a command is repeated") != nil:
			wait = turnLooks
		default:
			s.turns.cut = cut
		}
	})
	if !alive {
		return 0, engine.ErrLineLost
	}
	return wait, nil
}

// endsTurn gives the line back, and types what waited. What was left of a line that was cut is emptied first.
func (c console) endsTurn(ctx context.Context, failed error) {
	s := c.s
	if failed != nil && ctx.Err() == nil && s.Dialect().Clears() != "" {
		limited, cancel := context.WithTimeout(ctx, keysWithin)
		defer cancel()
		_ = c.send(limited, s.Dialect().Clears(), engine.Typing{}, "")
	}
	s.do(func() {
		if s.turns.timer != nil {
			s.turns.timer.Stop()
		}
		s.turns.cut, s.turns.timer = nil, nil
		s.helm.giveBack("its line was typed")
		held := s.held
		s.held = nil
		s.pressLines(held)
		s.schedule()
	})
}
