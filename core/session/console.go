package session

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"strconv"
	"strings"
	"time"

	"golang.org/x/crypto/ssh"

	"pilotrix/core/arithmetic"
	"pilotrix/core/clock"
	"pilotrix/core/device"
	"pilotrix/core/event"
	"pilotrix/core/line"
	"pilotrix/core/reach"
	"pilotrix/core/runbook/engine"
	"pilotrix/core/sense"
	"pilotrix/core/transfer"
)

// console is the session as a writer sees it, a run unless it is another one.
type console struct {
	s  *Session
	as string // event.Runbook or event.ByDeed
}

// run is the session as a run sees it.
func (s *Session) run() console { return console{s, event.Runbook} }

// deed is the session as something sees it that the operator has begun.
func (s *Session) deed() console { return console{s, event.ByDeed} }

// Facts implements engine.Console.
func (c console) Facts() *device.Facts { return c.s.Facts() }

// Learn implements engine.Console.
func (c console) Learn(fact device.Fact) device.Fact {
	before, _ := c.s.facts.Set(fact)
	return before
}

// Changed implements engine.Console.
func (c console) Changed() { c.s.facts.Change() }

func (c console) Clock() clock.Clock { return c.s.opt.Clock }

func (c console) Device() (v sense.State) {
	c.s.do(func() { v = c.s.sense.State() })
	return v
}

func (c console) Await(ctx context.Context, ready func(sense.State) bool) (sense.State, error) {
	s := c.s
	w := &waiter{ready: ready, got: make(chan met, 1)}
	alive := s.do(func() {
		v := s.sense.State()
		switch {
		case s.wire.line == nil:
			w.got <- met{view: v, err: fmt.Errorf("%w: %w", engine.ErrLineLost, s.wire.err)}
		case ready(v):
			w.got <- met{view: v}
		default:
			s.waiters[w] = struct{}{}
		}
	})
	if !alive {
		return sense.State{}, fmt.Errorf("%w: the session ended", engine.ErrLineLost)
	}
	select {
	case got := <-w.got:
		return got.view, got.err
	case <-ctx.Done():
		var v sense.State
		s.do(func() { delete(s.waiters, w); v = s.sense.State() })
		return v, ctx.Err()
	}
}

func (c console) Type(ctx context.Context, text string, secret bool) error {
	if err := c.begins(ctx); err != nil {
		return err
	}
	return c.send(ctx, text, engine.Typing{Secret: secret, Fresh: true, Leads: true}, "")
}

// begins empties the line for what is typed next. Whose time is over types nothing more: it would leave a piece there.
func (c console) begins(ctx context.Context) error {
	if err := ctx.Err(); err != nil {
		return err
	}
	return c.clearLeft(ctx)
}

// send puts text out with the writer's helm. Command is what its Enter sends, empty for none.
func (c console) send(ctx context.Context, text string, how engine.Typing, command string) error {
	s := c.s
	ends := strings.HasSuffix(text, s.Dialect().Enter())
	if ends { // a line is ended or not: whoever takes the helm meanwhile does not leave that open
		ctx = context.WithoutCancel(ctx)
	}
	item := outgoing{data: []byte(text), done: make(chan error, 1), ctx: ctx}
	var refused error
	alive := s.do(func() {
		switch {
		case s.helm.who != c.as:
			refused = engine.ErrHelm
		case s.wire.line == nil:
			refused = fmt.Errorf("%w: %w", engine.ErrLineLost, s.wire.err)
		default:
			out := event.Out{Who: c.as, Bytes: event.Text(text)}
			if how.Secret {
				s.hub.Protect(strings.TrimSuffix(text, s.Dialect().Enter()))
				s.secretTyped(ends)
				out.Bytes, out.Secret = nil, len(text)
			}
			s.hub.Emit(out)
			s.types(text, how, ends)
			s.emitExchanges()
			if command != "" {
				s.sentCommand(command)
			}
			s.reported = s.sense.State()
			s.wire.out.put(item)
			s.schedule()
		}
	})
	if refused != nil || !alive {
		return refused
	}
	select {
	case err := <-item.done:
		return c.asLost(ctx, err)
	case <-ctx.Done():
		return ctx.Err()
	}
}

// types takes note of what the runbook types.
func (s *Session) types(text string, how engine.Typing, ends bool) {
	v, now, line := s.sense.State(), s.opt.Clock.Now(), &s.exchanges.Typed
	rest := strings.TrimSuffix(text, s.Dialect().Enter())
	switch {
	case !ends && !how.Secret && !how.Fresh:
		s.runs(text, v)
	case ends && !how.Secret && rest != "":
		s.runs(rest, v)
	}
	if !ends {
		s.sense.Typed(now, []byte(text), line.Keys)
		return
	}
	command := string(line.Keys)
	e := s.sends(s.writer(), command, how.Secret, v)
	e.Command, e.Leads = how.Fresh, how.Leads
	line.Entered('\r', now)
	s.sense.Entered(now, e)
}

// asLost is what a write failed with as a line that was lost, where it is that: the device ended it in the middle of
// what was written, and the loop may not know yet.
func (c console) asLost(ctx context.Context, err error) error {
	var ended *line.Error
	if !errors.As(err, &ended) || !errors.Is(err, line.ErrClosed) && !errors.Is(err, line.ErrUnplugged) {
		return err
	}
	return engine.NoticeLoss(ctx, c, err)
}

func (c console) Speed() (baud int, ok bool) {
	c.s.do(func() {
		if baud = c.s.wire.baud; c.s.wire.noSpeed {
			return
		}
		_, ok = c.s.wire.line.(line.Speeder)
		ok = ok || (c.s.wire.line == nil && baud != 0)
	})
	return baud, ok
}

func (c console) LineRate() float64 {
	baud, can := c.Speed()
	framing, err := line.ParseFraming(c.s.opt.Target.Framing)
	if !can || err != nil || baud <= 0 {
		return 0
	}
	return arithmetic.LineRate(baud, framing)
}

func (c console) Latency() (latency time.Duration) {
	c.s.do(func() {
		if latent, can := c.s.wire.line.(line.Latent); can {
			latency = latent.Latency()
		}
	})
	return latency
}

func (c console) SetSpeed(ctx context.Context, baud int, why string) error {
	from, err := c.tune(ctx, baud)
	if err != nil {
		return err
	}
	c.s.do(func() {
		c.s.hub.Emit(event.Speed{From: from, To: baud, Why: why})
		c.s.hub.Emit(event.Mark{Text: fmt.Sprintf("speed %d → %d: %s", from, baud, why)})
	})
	return nil
}

// tune sets the line's speed and makes the sensing start afresh.
func (c console) tune(ctx context.Context, baud int) (from int, err error) {
	var wire line.Line
	c.s.do(func() { wire, from = c.s.wire.line, c.s.wire.baud })
	if wire == nil {
		return from, engine.ErrLineLost
	}
	speeder, can := wire.(line.Speeder)
	if !can {
		return from, &line.Error{
			Target: c.s.opt.Target,
			Reason: line.ErrCannot,
			Remedy: "this kind of line has no speed",
		}
	}
	if err := speeder.SetSpeed(ctx, baud); err != nil {
		return from, err
	}
	c.s.do(func() {
		c.s.wire.baud = baud
		c.s.closeExchange(event.EndSpeed)
		c.s.forget()
	})
	return from, nil
}

func (c console) Hunt(ctx context.Context, hunt sense.Hunt) (sense.Found, error) {
	from, can := c.Speed()
	if !can {
		return sense.Found{}, &line.Error{
			Target: c.s.opt.Target,
			Reason: line.ErrCannot,
			Remedy: "this kind of line has no speed to hunt for",
		}
	}
	hunt.Doubt = line.IsTerminal(c.s.opt.Target)
	ear := &ear{console: c, tap: newTap()}
	c.s.do(func() { c.s.taps[ear.tap] = struct{}{} })
	defer c.s.do(func() { delete(c.s.taps, ear.tap) })
	tried, at := hunt.Tried, from
	hunt.Tried = func(one sense.Candidate) {
		c.Emit(event.Speed{From: at, To: one.Speed, Why: "tried: " + candidateText(one)})
		at = one.Speed
		if tried != nil {
			tried(one)
		}
	}
	found, err := hunt.Run(ctx, ear)
	if errors.Is(err, sense.ErrNoSpeed) {
		c.s.do(func() { c.s.wire.noSpeed = true })
	}
	if err != nil || found.Best() == 0 {
		return found, cmp.Or(err, c.putBack(ctx, at, from))
	}
	c.Emit(event.Speed{From: from, To: found.Best(), Why: "found"})
	if found.Best() != from {
		c.Emit(event.Mark{Text: fmt.Sprintf("speed %d → %d: found by listening", from, found.Best())})
	}
	if found.Tried[0].Prompt { // the prompt came while the hunt listened; ask for it once more
		err = ear.Press(ctx, hunt.Key)
	}
	return found, err
}

// putBack returns to the speed from before a hunt that found nothing, whatever ended it. A line that was lost
// meanwhile comes back at it.
func (c console) putBack(ctx context.Context, at, from int) error {
	free, cancel := c.Clock().WithTimeout(context.WithoutCancel(ctx), 5*time.Second)
	defer cancel()
	_, err := c.tune(free, from)
	if errors.Is(err, engine.ErrLineLost) || errors.Is(err, line.ErrClosed) || errors.Is(err, line.ErrUnplugged) {
		c.s.do(func() { c.s.wire.baud = from })
		err = nil
	}
	if err == nil && at != from {
		c.Emit(event.Speed{From: at, To: from, Why: "put back: no speed was found"})
	}
	return err
}

func candidateText(c sense.Candidate) string {
	switch {
	case c.Prompt:
		return "a clean prompt"
	case c.Bytes == 0:
		return "nothing heard"
	}
	return strconv.Itoa(int(100*c.Score+0.5)) + " % of sense"
}

// ear lets a hunt listen to the session's line.
type ear struct {
	console
	tap *tap
}

func (e *ear) Tune(ctx context.Context, baud int) error {
	_, err := e.tune(ctx, baud)
	e.tap.take()
	return err
}

func (e *ear) Listen(ctx context.Context, limit, quiet time.Duration) ([]byte, error) {
	deadline := e.Clock().Now().Add(limit)
	var heard []byte
	for {
		wait := deadline.Sub(e.Clock().Now())
		if len(heard) > 0 {
			wait = min(wait, quiet)
		}
		more, err := e.tap.read(ctx, e.Clock(), wait)
		if err != nil {
			return heard, err
		}
		if len(more) == 0 || len(heard) > 4096 {
			return heard, nil
		}
		heard = append(heard, more...)
	}
}

// Press types the key through the helm, whoever has it: a hunt is asked for by its holder.
func (e *ear) Press(ctx context.Context, key string) error {
	hand := false
	e.s.do(func() { hand = e.s.helm.who == event.Hand })
	if hand {
		e.s.Press([]byte(key))
		return nil
	}
	return e.Type(ctx, key, false)
}

func (c console) Carry(ctx context.Context, carry func(context.Context, transfer.Duplex) error) error {
	s := c.s
	p := &lent{tap: newTap(), clock: s.opt.Clock}
	var refused error
	s.do(func() {
		switch {
		case s.wire.line == nil:
			refused = fmt.Errorf("%w: %w", engine.ErrLineLost, s.wire.err)
		case s.helm.who != c.as:
			refused = engine.ErrHelm
		case s.lent != nil:
			refused = fmt.Errorf("the line is taken by another transfer")
		default:
			p.line, s.lent = s.wire.line, p
			p.room = func() { s.do(func() {}) }
			if request := s.sense.State().Request; request != 0 {
				p.put([]byte{request})
			}
		}
	})
	if refused != nil {
		return refused
	}
	s.do(func() { s.exchanges.Moves(s.sense.State()) })
	err := carry(ctx, p)
	s.do(func() {
		s.lent = nil
		s.dropKept()
		s.forget()
		if rest := p.rest(); len(rest) > 0 {
			s.arrived(line.Chunk{At: s.opt.Clock.Now(), Bytes: rest})
		}
		held := s.held
		s.held = nil
		s.pressLines(held)
		s.schedule()
	})
	return c.asLost(ctx, err)
}

func (c console) AwaitLine(ctx context.Context) error {
	s := c.s
	for {
		var wait chan struct{}
		var never error
		s.do(func() {
			switch {
			case s.wire.line != nil:
			case !s.canComeBack():
				never = s.wire.err
			default:
				wait = make(chan struct{})
				s.wire.waits = append(s.wire.waits, wait)
			}
		})
		if wait == nil {
			return never
		}
		select {
		case <-wait: // it may be lost again by now
		case <-ctx.Done():
			return ctx.Err()
		}
	}
}

func (c console) Stops(command string) (says string) {
	c.s.do(func() { says = c.s.guard.commands.Stops(command) })
	return says
}

// onRecordWithin is how long a change waits to be on record before it is not typed, of the wall's time.
const onRecordWithin = 5 * time.Second

// Settle implements engine.Console.
func (c console) Settle(ctx context.Context) error {
	limited, cancel := context.WithTimeout(ctx, onRecordWithin)
	defer cancel()
	err := c.s.hub.Settle(limited)
	if ctx.Err() != nil {
		return ctx.Err()
	}
	if errors.Is(err, context.DeadlineExceeded) {
		err = fmt.Errorf("%w within %s: the disk is slow, or something holds the logbook", event.ErrNotRecorded,
			onRecordWithin)
	}
	return err
}

func (c console) Reach() *reach.Watch { return c.s.watch }

// Shell implements engine.Console.
func (c console) Shell() (client *ssh.Client) {
	c.s.do(func() {
		if shell, ok := c.s.wire.line.(interface{ Client() *ssh.Client }); ok {
			client = shell.Client()
		}
	})
	return client
}
