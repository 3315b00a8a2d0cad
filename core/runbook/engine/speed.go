package engine

import (
	"context"
	"fmt"
	"slices"
	"time"

	"pilotrix/core/dialect"
	"pilotrix/core/event"
	"pilotrix/core/runbook"
	"pilotrix/core/sense"
)

// lineSpeed is the speed of the first line, in baud.
type lineSpeed struct {
	run    *Run
	before int   // the runbook, 0 where the line has none
	raised []int // speeds that the runbook set the device to: it goes back by itself when it restarts
}

const provePresses = 3

// Change tells the device, follows it, and falls back when no clean prompt comes.
func (sp *lineSpeed) Change(ctx context.Context, s *runbook.PreparedStep, from, to int) error {
	if err := sp.run.Talk.EnsureMode(ctx, s, sp.modes()); err != nil {
		return err
	}
	setting := sp.run.Prepared.Dialect.SpeedIn(sp.run.Console.Device().Mode)
	command, err := setting.Type.Command(map[string]any{"speed": to})
	if err != nil {
		return err
	}
	if sp.run.limit != nil { // at the end of a run nothing is asked any more
		if err := sp.run.interlock(ctx, s, command); err != nil {
			return err
		}
	}
	if err := sp.run.Console.Command(ctx, command, Typing{Fresh: true, Leads: true}); err != nil {
		return err
	}
	if to != sp.before {
		sp.raised = append(sp.raised, to)
	}
	limited, cancel := sp.run.Console.Clock().WithTimeout(ctx, 5*time.Second)
	defer cancel()
	v, err := sp.run.Console.Await(limited, func(v sense.State) bool {
		return v.AtPrompt || setting.Fail.Matches(v.Output()) || setting.Moved.Matches(v.Output())
	})
	if err != nil && ctx.Err() != nil {
		return err
	}
	if text := setting.Fail.Find(v.Output()); text != "" {
		return fmt.Errorf("“%s” was answered: %s", command, text)
	}
	begun := sp.run.Console.Clock().Now()
	if err := sp.run.Console.SetSpeed(ctx, to, "the runbook changed both ends"); err != nil {
		return err
	}
	if _, err := sp.run.Talk.wake(ctx, provePresses, time.Second); err == nil {
		took := sp.run.Console.Clock().Since(begun).Round(10 * time.Millisecond)
		sp.run.Console.Emit(
			event.Note{Level: event.Info, Text: fmt.Sprintf("clean prompt at %d baud after %s", to, took)})
		return nil
	} else if ctx.Err() != nil {
		return err
	}
	return sp.fallBack(ctx, from, to)
}

// fallBack returns to the old speed, hunting when the device is not there either.
func (sp *lineSpeed) fallBack(ctx context.Context, from, to int) error {
	if err := sp.run.Console.SetSpeed(ctx, from,
		fmt.Sprintf("no clean prompt at %d, back to the old speed", to)); err != nil {
		return err
	}
	if _, err := sp.run.Talk.wake(ctx, provePresses, time.Second); err == nil {
		return fmt.Errorf("no clean prompt at %d baud; the device still speaks %d", to, from)
	} else if ctx.Err() != nil {
		return err
	}
	found, err := sp.Hunt(ctx)
	if err != nil {
		return err
	}
	if found.Best() == 0 {
		return fmt.Errorf("no clean prompt at %d baud, nor at %d, nor at any usual speed", to, from)
	}
	return fmt.Errorf("no clean prompt at %d baud; found the device at %d", to, found.Best())
}

func (sp *lineSpeed) modes() (modes []string) {
	for _, speed := range sp.run.Prepared.Dialect.Document.Speed {
		modes = append(modes, speed.In...)
	}
	return modes
}

// Hunt looks for the speed the device speaks.
func (sp *lineSpeed) Hunt(ctx context.Context) (sense.Found, error) {
	ours, can := sp.run.Console.Speed()
	if !can {
		return sense.Found{}, nil
	}
	found, err := sp.run.Console.Hunt(ctx, sp.run.Prepared.Dialect.Hunt(ours))
	if best := found.Best(); err == nil && best != 0 && !slices.Contains(sp.raised, best) {
		sp.before, sp.raised = best, nil // a speed that was wrong, or is the device's no more, is nothing to go back to
	}
	return found, err
}

const restoreTimeout = 45 * time.Second

// restore puts both ends back to the speed that the line had before, whatever ended the run. It
// returns what is left to say when that did not work.
func (sp *lineSpeed) restore(ctx context.Context) string {
	ours, can := sp.run.Console.Speed()
	if !can || sp.before == 0 || ours == sp.before {
		return ""
	}
	if v := sp.run.Console.Device(); !slices.Contains(sp.raised, ours) &&
		(v.AtPrompt || v.Legible(sp.run.Console.Clock().Now())) {
		return "" // the device was found to speak it, and not by the runbook's doing
	}
	sp.run.Console.TakeBack("to put the line's speed back")
	free, cancel := sp.run.Console.Clock().WithTimeout(context.WithoutCancel(ctx), restoreTimeout)
	defer cancel()
	_ = sp.run.EndReceiver(free) // what it leaves undone shows in the prompts below
	s := &runbook.PreparedStep{ID: "end", Timeout: restoreTimeout, Common: runbook.Common{Step: "Put the speed back"}}
	sp.run.Now(s, fmt.Sprintf("Puts the speed back to %d baud", sp.before), "a clean prompt", restoreTimeout)
	_, err := sp.run.Talk.wake(free, 2, time.Second)
	if err == nil && sp.run.Prepared.Dialect.SpeedIn(sp.run.Console.Device().Mode) != nil {
		err = sp.Change(free, s, ours, sp.before)
		if err == nil {
			return ""
		}
	}
	if err := sp.run.Console.SetSpeed(free, sp.before, "back to what it was before the runbook"); err != nil {
		return fmt.Sprintf("our end could not be put back to %d baud: %v", sp.before, err)
	}
	if _, err := sp.run.Talk.wake(free, 2, time.Second); err == nil {
		return ""
	}
	return fmt.Sprintf("our end is back at %d baud, but no clean prompt was seen there: the device may still be at %d",
		sp.before, ours)
}

// Before is the line's speed before the run, in baud, 0 where it has none.
func (sp *lineSpeed) Before() int { return sp.before }

// follow goes with a device that changes its own speed.
func (sp *lineSpeed) follow(ctx context.Context, action *dialect.CompiledAction) error {
	ours, can := sp.run.Console.Speed()
	if action.Speed == 0 || !can || ours == action.Speed {
		return nil
	}
	return sp.run.Console.SetSpeed(ctx, action.Speed, "the device goes to it by itself")
}
