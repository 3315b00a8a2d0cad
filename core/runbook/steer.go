package runbook

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"pilotrix/core/carrier/xmodem"
	"pilotrix/core/event"
	"pilotrix/core/sense"
)

// speed changes both ends of the line and proves the new speed by a clean prompt.
func (e *Engine) speed(ctx context.Context, s *Prepped) error {
	from, can := e.console.Speed()
	to := s.Speed.To
	if s.Speed.Back {
		to = e.speedBefore
	}
	switch {
	case !can:
		e.console.Emit(event.Note{Level: event.Say, Text: "this line has no speed; nothing to change"})
		return nil
	case from == to:
		return nil
	}
	e.now(s, fmt.Sprintf("Changes both ends from %d to %d baud", from, to), "a clean prompt at the new speed", s.Limit)
	return e.changeSpeed(ctx, s, from, to)
}

const provePresses = 3

// changeSpeed tells the device, follows it, and falls back when no clean prompt comes.
func (e *Engine) changeSpeed(ctx context.Context, s *Prepped, from, to int) error {
	if err := e.be(ctx, s, e.speedModes()); err != nil {
		return err
	}
	setting := e.p.Dialect.SpeedIn(e.console.View().Mode)
	command, err := setting.Type.Command(map[string]any{"speed": to})
	if err != nil {
		return err
	}
	if err := e.console.Command(ctx, command, Typing{Fresh: true, Leads: true}); err != nil {
		return err
	}
	limited, cancel := e.console.Clock().WithTimeout(ctx, 5*time.Second)
	defer cancel()
	v, err := e.console.Await(limited, func(v sense.View) bool {
		return v.AtPrompt || (setting.Fail != nil && setting.Fail.MatchString(v.Output())) ||
			(setting.Moved != nil && setting.Moved.MatchString(v.Output()))
	})
	if err != nil && ctx.Err() != nil {
		return err
	}
	if setting.Fail != nil && setting.Fail.MatchString(v.Output()) {
		return fmt.Errorf("“%s” was answered: %s", command, strings.TrimSpace(setting.Fail.FindString(v.Output())))
	}
	begun := e.console.Clock().Now()
	if err := e.console.SetSpeed(ctx, to, "the runbook changed both ends"); err != nil {
		return err
	}
	if _, err := e.nudge(ctx, provePresses, time.Second); err == nil {
		took := e.console.Clock().Since(begun).Round(10 * time.Millisecond)
		e.console.Emit(event.Note{Level: event.Say, Text: fmt.Sprintf("clean prompt at %d baud after %s", to, took)})
		return nil
	} else if ctx.Err() != nil {
		return err
	}
	return e.fallBack(ctx, from, to)
}

// fallBack returns to the old speed, hunting when the device is not there either.
func (e *Engine) fallBack(ctx context.Context, from, to int) error {
	if err := e.console.SetSpeed(ctx, from, fmt.Sprintf("no clean prompt at %d, back to the old speed", to)); err != nil {
		return err
	}
	if _, err := e.nudge(ctx, provePresses, time.Second); err == nil {
		return fmt.Errorf("no clean prompt at %d baud; the device still speaks %d", to, from)
	} else if ctx.Err() != nil {
		return err
	}
	found, err := e.hunt(ctx)
	if err != nil {
		return err
	}
	if found.Best() == 0 {
		return fmt.Errorf("no clean prompt at %d baud, nor at %d, nor at any usual speed", to, from)
	}
	return fmt.Errorf("no clean prompt at %d baud; found the device at %d", to, found.Best())
}

func (e *Engine) speedModes() (modes []string) {
	for _, speed := range e.p.Dialect.Document.Speed {
		modes = append(modes, speed.In...)
	}
	return modes
}

// hunt looks for the speed the device speaks.
func (e *Engine) hunt(ctx context.Context) (sense.Found, error) {
	ours, can := e.console.Speed()
	if !can {
		return sense.Found{}, nil
	}
	hunt := e.p.Dialect.Hunt()
	hunt.First = append([]int{ours}, hunt.First...)
	return e.console.Hunt(ctx, hunt)
}

const (
	catchListen = 400 * time.Millisecond
	catchPress  = 1500 * time.Millisecond
	pressesEach = 2
)

// catch brings the device to a prompt of the mode: it listens, interrupts what has to be
// interrupted, presses the harmless key, looks for the speed when what comes is garble or nothing.
func (e *Engine) catch(ctx context.Context, s *Prepped) error {
	c := &catcher{Engine: e, step: s, want: s.Catch.Mode}
	e.now(s, "Looks for the device on the line", "a prompt of mode "+e.p.Dialect.ModeTitle(c.want), s.Limit)
	if err := e.endReceiver(ctx); err != nil {
		return err
	}
	for round := 0; ; round++ {
		v, err := c.listen(ctx, catchListen)
		if err != nil {
			return err
		}
		switch caught, acted, err := c.act(ctx, v); {
		case err != nil || caught:
			return err
		case acted:
			continue
		}
		if err := c.round(ctx, round); err != nil {
			return err
		}
	}
}

// catcher is one catch under way.
type catcher struct {
	*Engine
	step    *Prepped
	want    string
	pressed int // the proof that a key was pressed at: each is interrupted once
}

// endReceiver tells a receiver that an earlier transfer left behind to give up: it would take
// everything typed for a broken block, for minutes.
func (e *Engine) endReceiver(ctx context.Context) error {
	if !e.receiving && e.console.View().Mode != sense.Receiving {
		return nil
	}
	e.receiving = false
	return e.console.Carry(ctx, xmodem.Cancel)
}

// act does what is known at once: at a prompt, at a receiver, in a mode with a key of its own.
func (c *catcher) act(ctx context.Context, v sense.View) (caught, acted bool, err error) {
	switch {
	case v.AtPrompt && v.Mode == c.want:
		return true, true, nil
	case v.AtPrompt && c.p.Dialect.MoveFrom(v.Mode, c.want) != nil:
		return true, true, c.be(ctx, c.step, []string{c.want})
	case v.AtPrompt:
		c.now(c.step, "The device is in mode "+c.p.Dialect.ModeTitle(v.Mode), "it to restart: the mode "+c.want+" is reached no other way", c.step.Limit)
		_, err := c.console.Await(ctx, func(now sense.View) bool { return now.Count > v.Count })
		return false, true, err
	case v.Mode == sense.Receiving:
		return false, true, c.endReceiver(ctx)
	case c.wantsKey(v):
		key, _ := c.p.Dialect.KeyFor(v.Mode)
		c.pressed = v.Count
		return false, true, c.console.Type(ctx, key, false)
	}
	return false, false, nil
}

func (c *catcher) wantsKey(v sense.View) bool {
	_, known := c.p.Dialect.KeyFor(v.Mode)
	return known && v.Count > c.pressed
}

// round presses the nudge a few times, then breaks what runs, then looks for the speed.
func (c *catcher) round(ctx context.Context, round int) error {
	if c.console.View().Mode != sense.Garbled {
		for range pressesEach {
			if err := c.console.Type(ctx, c.p.Dialect.Nudge(), false); err != nil {
				return err
			}
			v, err := c.listen(ctx, catchPress)
			if err != nil || v.AtPrompt || c.wantsKey(v) {
				return err
			}
			if v.Mode == sense.Garbled {
				break
			}
		}
	}
	if brk := c.p.Dialect.Catch.Break; brk != "" && round > 0 {
		if err := c.console.Type(ctx, brk, false); err != nil {
			return err
		}
		if v, err := c.listen(ctx, catchPress); err != nil || v.AtPrompt {
			return err
		}
	}
	if v := c.console.View(); v.Mode == sense.Garbled || v.Mode == sense.Silent || round%2 == 1 {
		return c.catchHunt(ctx, c.step, v)
	}
	return nil
}

// listen waits for something to act on, for at most that long.
func (c *catcher) listen(ctx context.Context, limit time.Duration) (sense.View, error) {
	limited, cancel := c.console.Clock().WithTimeout(ctx, limit)
	defer cancel()
	v, err := c.console.Await(limited, func(v sense.View) bool {
		return v.AtPrompt || v.Mode == sense.Garbled || v.Mode == sense.Receiving || c.wantsKey(v)
	})
	if err != nil && ctx.Err() == nil && errors.Is(err, context.DeadlineExceeded) {
		return c.console.View(), nil
	}
	return v, err
}

func (e *Engine) catchHunt(ctx context.Context, s *Prepped, v sense.View) error {
	ours, can := e.console.Speed()
	if !can {
		return nil
	}
	why := "no prompt comes"
	if v.Mode == sense.Garbled {
		why = fmt.Sprintf("%.0f %% of it is garble", 100*v.Garble)
	}
	e.now(s, "Hunts for the speed: "+why, "a speed at which it makes sense", s.Limit)
	found, err := e.hunt(ctx)
	if err != nil {
		return err
	}
	if best := found.Best(); best != 0 {
		text := fmt.Sprintf("the device speaks %d baud, %.0f %% sure", best, 100*found.Sure)
		if best != ours {
			text += fmt.Sprintf("; we were at %d", ours)
		}
		if e.speedBefore == ours { // a wrong speed is nothing to go back to
			e.speedBefore = best
		}
		e.console.Emit(event.Note{Level: event.Say, Text: text})
	}
	return nil
}

const garbleTolerance = 2 * time.Second

// wait lets the device come to one of the modes; it answers its questions and follows its speed.
func (e *Engine) wait(ctx context.Context, s *Prepped) error {
	e.now(s, "Waits for the device", "mode "+strings.Join(s.Wait.Mode, " or "), s.Limit)
	for {
		v, err := e.console.Await(ctx, func(v sense.View) bool {
			return v.Dialog != "" || v.AtPrompt || v.Mode == sense.Garbled || slices.Contains(s.Wait.Mode, v.Mode)
		})
		if err != nil {
			return err
		}
		switch {
		case slices.Contains(s.Wait.Mode, v.Mode):
			return nil
		case v.Dialog != "":
			if err := e.answer(ctx, nil, v, nil); err != nil {
				return err
			}
		case v.Mode == sense.Garbled:
			if err := e.waitGarbled(ctx, s, v); err != nil {
				return err
			}
		default:
			return fmt.Errorf("the device came to mode %s instead of %s (%q)", v.Mode, strings.Join(s.Wait.Mode, " or "), v.Prompt)
		}
	}
}

// waitGarbled gives garble a moment to pass, then looks for the speed.
func (e *Engine) waitGarbled(ctx context.Context, s *Prepped, v sense.View) error {
	limited, cancel := e.console.Clock().WithTimeout(ctx, garbleTolerance)
	_, err := e.console.Await(limited, func(v sense.View) bool { return v.Mode != sense.Garbled })
	cancel()
	if err == nil || ctx.Err() != nil || !errors.Is(err, context.DeadlineExceeded) {
		return err
	}
	return e.catchHunt(ctx, s, v)
}

const restoreLimit = 45 * time.Second

// restoreSpeed puts both ends back to the speed that the line had before, whatever ended the run. It
// returns what is left to say when that did not work.
func (e *Engine) restoreSpeed(ctx context.Context) string {
	ours, can := e.console.Speed()
	if !can || e.speedBefore == 0 || ours == e.speedBefore {
		return ""
	}
	e.console.TakeBack("to put the line's speed back")
	free, cancel := e.console.Clock().WithTimeout(context.WithoutCancel(ctx), restoreLimit)
	defer cancel()
	_ = e.endReceiver(free) // what it leaves undone shows in the prompts below
	s := &Prepped{ID: "end", Limit: restoreLimit, Step: Step{Step: "Put the speed back"}}
	e.now(s, fmt.Sprintf("Puts the speed back to %d baud", e.speedBefore), "a clean prompt", restoreLimit)
	_, err := e.nudge(free, 2, time.Second)
	if err == nil && e.p.Dialect.SpeedIn(e.console.View().Mode) != nil {
		err = e.changeSpeed(free, s, ours, e.speedBefore)
		if err == nil {
			return ""
		}
	}
	if err := e.console.SetSpeed(free, e.speedBefore, "back to what it was before the runbook"); err != nil {
		return fmt.Sprintf("our end could not be put back to %d baud: %v", e.speedBefore, err)
	}
	if _, err := e.nudge(free, 2, time.Second); err == nil {
		return ""
	}
	return fmt.Sprintf("our end is back at %d baud, but no clean prompt was seen there: the device may still be at %d", e.speedBefore, ours)
}
