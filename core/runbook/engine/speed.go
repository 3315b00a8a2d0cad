package engine

import (
	"context"
	"fmt"
	"slices"
	"time"

	"pilotrix/core/event"
	"pilotrix/core/runbook"
	"pilotrix/core/sense"
)

// lineSpeed is the speed of the first line, in baud.
type lineSpeed struct {
	before int   // the runbook, 0 where the line has none
	raised []int // speeds that the runbook set the device to: it goes back by itself when it restarts
}

const provePresses = 3

// ChangeSpeed tells the device, follows it, and falls back when no clean prompt comes.
func (e *Run) ChangeSpeed(ctx context.Context, s *runbook.PreparedStep, from, to int) error {
	if err := e.EnsureMode(ctx, s, e.speedModes()); err != nil {
		return err
	}
	setting := e.Prepared.Dialect.SpeedIn(e.Console.Device().Mode)
	command, err := setting.Type.Command(map[string]any{"speed": to})
	if err != nil {
		return err
	}
	if e.limit != nil { // at the end of a run nothing is asked any more
		if err := e.interlock(ctx, s, command); err != nil {
			return err
		}
	}
	if err := e.Console.Command(ctx, command, Typing{Fresh: true, Leads: true}); err != nil {
		return err
	}
	if to != e.speed.before {
		e.speed.raised = append(e.speed.raised, to)
	}
	limited, cancel := e.Console.Clock().WithTimeout(ctx, 5*time.Second)
	defer cancel()
	v, err := e.Console.Await(limited, func(v sense.State) bool {
		return v.AtPrompt || setting.Fail.Matches(v.Output()) || setting.Moved.Matches(v.Output())
	})
	if err != nil && ctx.Err() != nil {
		return err
	}
	if text := setting.Fail.Find(v.Output()); text != "" {
		return fmt.Errorf("“%s” was answered: %s", command, text)
	}
	begun := e.Console.Clock().Now()
	if err := e.Console.SetSpeed(ctx, to, "the runbook changed both ends"); err != nil {
		return err
	}
	if _, err := e.wake(ctx, provePresses, time.Second); err == nil {
		took := e.Console.Clock().Since(begun).Round(10 * time.Millisecond)
		e.Console.Emit(event.Note{Level: event.Info, Text: fmt.Sprintf("clean prompt at %d baud after %s", to, took)})
		return nil
	} else if ctx.Err() != nil {
		return err
	}
	return e.fallBack(ctx, from, to)
}

// fallBack returns to the old speed, hunting when the device is not there either.
func (e *Run) fallBack(ctx context.Context, from, to int) error {
	if err := e.Console.SetSpeed(ctx, from, fmt.Sprintf("no clean prompt at %d, back to the old speed", to)); err != nil {
		return err
	}
	if _, err := e.wake(ctx, provePresses, time.Second); err == nil {
		return fmt.Errorf("no clean prompt at %d baud; the device still speaks %d", to, from)
	} else if ctx.Err() != nil {
		return err
	}
	found, err := e.Hunt(ctx)
	if err != nil {
		return err
	}
	if found.Best() == 0 {
		return fmt.Errorf("no clean prompt at %d baud, nor at %d, nor at any usual speed", to, from)
	}
	return fmt.Errorf("no clean prompt at %d baud; found the device at %d", to, found.Best())
}

func (e *Run) speedModes() (modes []string) {
	for _, speed := range e.Prepared.Dialect.Document.Speed {
		modes = append(modes, speed.In...)
	}
	return modes
}

// Hunt looks for the speed the device speaks.
func (e *Run) Hunt(ctx context.Context) (sense.Found, error) {
	ours, can := e.Console.Speed()
	if !can {
		return sense.Found{}, nil
	}
	found, err := e.Console.Hunt(ctx, e.Prepared.Dialect.Hunt(ours))
	if best := found.Best(); err == nil && best != 0 && !slices.Contains(e.speed.raised, best) {
		e.speed = lineSpeed{before: best} // a speed that was wrong, or is the device's no more, is nothing to go back to
	}
	return found, err
}

const restoreTimeout = 45 * time.Second

// restoreSpeed puts both ends back to the speed that the line had before, whatever ended the run. It
// returns what is left to say when that did not work.
func (e *Run) restoreSpeed(ctx context.Context) string {
	ours, can := e.Console.Speed()
	if !can || e.speed.before == 0 || ours == e.speed.before {
		return ""
	}
	if v := e.Console.Device(); !slices.Contains(e.speed.raised, ours) && (v.AtPrompt || v.Legible(e.Console.Clock().Now())) {
		return "" // the device was found to speak it, and not by the runbook's doing
	}
	e.Console.TakeBack("to put the line's speed back")
	free, cancel := e.Console.Clock().WithTimeout(context.WithoutCancel(ctx), restoreTimeout)
	defer cancel()
	_ = e.EndReceiver(free) // what it leaves undone shows in the prompts below
	s := &runbook.PreparedStep{ID: "end", Timeout: restoreTimeout, Common: runbook.Common{Step: "Put the speed back"}}
	e.Now(s, fmt.Sprintf("Puts the speed back to %d baud", e.speed.before), "a clean prompt", restoreTimeout)
	_, err := e.wake(free, 2, time.Second)
	if err == nil && e.Prepared.Dialect.SpeedIn(e.Console.Device().Mode) != nil {
		err = e.ChangeSpeed(free, s, ours, e.speed.before)
		if err == nil {
			return ""
		}
	}
	if err := e.Console.SetSpeed(free, e.speed.before, "back to what it was before the runbook"); err != nil {
		return fmt.Sprintf("our end could not be put back to %d baud: %v", e.speed.before, err)
	}
	if _, err := e.wake(free, 2, time.Second); err == nil {
		return ""
	}
	return fmt.Sprintf("our end is back at %d baud, but no clean prompt was seen there: the device may still be at %d", e.speed.before, ours)
}

// SpeedBefore is the line's speed before the run, in baud, 0 where it has none.
func (e *Run) SpeedBefore() int { return e.speed.before }
