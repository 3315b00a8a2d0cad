package runbook

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"pilotrix/core/event"
	"pilotrix/core/expression"
	"pilotrix/core/sense"
)

var _ = register(Verb{
	Name: "speed", Does: "changes both ends of the line to a speed, proved by a clean prompt, else back",
	Timeout: 30 * time.Second, Repeatable: true, OwnLine: true,
	New: func() Body { return new(speedBody) },
})

type speedBody struct {
	To   int  `yaml:"to" jsonschema:"minimum=1" jsonschema_description:"In baud"`
	Back bool `yaml:"back" jsonschema_description:"To what it was before the runbook"`
}

type speedWork struct{ speedBody }

// Compile implements Body.
func (b *speedBody) Compile(c *Compiler) Work {
	d := c.Dialect()
	switch {
	case (b.To == 0) == !b.Back:
		c.Complain("", "say either to: BAUD or back: true")
	case len(d.Document.Speed) == 0:
		c.Complain("", "dialect %s does not say how the device's speed is set (speed: …)", d.Dialect)
	case b.To != 0 && len(d.Line.Speeds) > 0 && !d.HasSpeed(b.To):
		c.Complain("to", "%d is none of the speeds that the device can be set to: %s", b.To, strings.Trim(fmt.Sprint(d.Line.Speeds), "[]"))
	}
	return &speedWork{*b}
}

// Pace implements pacer.
func (w *speedWork) Pace() int { return w.To }

// Do implements Doer.
func (w *speedWork) Do(ctx context.Context, e *Engine, s *PreparedStep) error {
	from, can := e.console.Speed()
	to := w.To
	if w.Back {
		to = e.speedBefore
	}
	switch {
	case !can:
		e.console.Emit(event.Note{Level: event.Info, Text: "this line has no speed; nothing to change"})
		return nil
	case from == to:
		return nil
	}
	e.now(s, fmt.Sprintf("Changes both ends from %d to %d baud", from, to), "a clean prompt at the new speed", s.Timeout)
	return e.changeSpeed(ctx, s, from, to)
}

// Types implements typist.
func (w *speedWork) Types(p *planner, _ *PreparedStep) []Typed {
	if w.Back {
		return nil
	}
	return p.speed(w.To)
}

// speed is how the device's end is set to a speed, in the mode that it is in.
func (p *planner) speed(baud int) (typed []Typed) {
	for _, setting := range p.Dialect.Document.Speed {
		t, err := expression.CompileTemplate(setting.Command, nil)
		if err != nil {
			continue
		}
		one := Typed{Text: t.Shown(map[string]any{"speed": baud})}
		if p.mode == "" || !slices.Contains(setting.In, p.mode) {
			one.When = "in mode " + strings.Join(setting.In, " or ")
		} else {
			return []Typed{one}
		}
		typed = append(typed, one)
	}
	return typed
}

const provePresses = 3

// changeSpeed tells the device, follows it, and falls back when no clean prompt comes.
func (e *Engine) changeSpeed(ctx context.Context, s *PreparedStep, from, to int) error {
	if err := e.be(ctx, s, e.speedModes()); err != nil {
		return err
	}
	setting := e.p.Dialect.SpeedIn(e.console.Device().Mode)
	command, err := setting.Type.Command(map[string]any{"speed": to})
	if err != nil {
		return err
	}
	if e.patience != nil { // at the end of a run nothing is asked any more
		if err := e.interlock(ctx, s, command); err != nil {
			return err
		}
	}
	if err := e.console.Command(ctx, command, Typing{Fresh: true, Leads: true}); err != nil {
		return err
	}
	if to != e.speedBefore {
		e.raised = append(e.raised, to)
	}
	limited, cancel := e.console.Clock().WithTimeout(ctx, 5*time.Second)
	defer cancel()
	v, err := e.console.Await(limited, func(v sense.State) bool {
		return v.AtPrompt || setting.Fail.Matches(v.Output()) || setting.Moved.Matches(v.Output())
	})
	if err != nil && ctx.Err() != nil {
		return err
	}
	if text := setting.Fail.Find(v.Output()); text != "" {
		return fmt.Errorf("“%s” was answered: %s", command, text)
	}
	begun := e.console.Clock().Now()
	if err := e.console.SetSpeed(ctx, to, "the runbook changed both ends"); err != nil {
		return err
	}
	if _, err := e.wake(ctx, provePresses, time.Second); err == nil {
		took := e.console.Clock().Since(begun).Round(10 * time.Millisecond)
		e.console.Emit(event.Note{Level: event.Info, Text: fmt.Sprintf("clean prompt at %d baud after %s", to, took)})
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
	if _, err := e.wake(ctx, provePresses, time.Second); err == nil {
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
	found, err := e.console.Hunt(ctx, e.p.Dialect.Hunt(ours))
	if best := found.Best(); err == nil && best != 0 && !slices.Contains(e.raised, best) {
		e.speedBefore, e.raised = best, nil // a speed that was wrong, or is the device's no more, is nothing to go back to
	}
	return found, err
}

const restoreTimeout = 45 * time.Second

// restoreSpeed puts both ends back to the speed that the line had before, whatever ended the run. It
// returns what is left to say when that did not work.
func (e *Engine) restoreSpeed(ctx context.Context) string {
	ours, can := e.console.Speed()
	if !can || e.speedBefore == 0 || ours == e.speedBefore {
		return ""
	}
	if v := e.console.Device(); !slices.Contains(e.raised, ours) && (v.AtPrompt || v.Legible(e.console.Clock().Now())) {
		return "" // the device was found to speak it, and not by the runbook's doing
	}
	e.console.TakeBack("to put the line's speed back")
	free, cancel := e.console.Clock().WithTimeout(context.WithoutCancel(ctx), restoreTimeout)
	defer cancel()
	_ = e.endReceiver(free) // what it leaves undone shows in the prompts below
	s := &PreparedStep{ID: "end", Timeout: restoreTimeout, Common: Common{Step: "Put the speed back"}}
	e.now(s, fmt.Sprintf("Puts the speed back to %d baud", e.speedBefore), "a clean prompt", restoreTimeout)
	_, err := e.wake(free, 2, time.Second)
	if err == nil && e.p.Dialect.SpeedIn(e.console.Device().Mode) != nil {
		err = e.changeSpeed(free, s, ours, e.speedBefore)
		if err == nil {
			return ""
		}
	}
	if err := e.console.SetSpeed(free, e.speedBefore, "back to what it was before the runbook"); err != nil {
		return fmt.Sprintf("our end could not be put back to %d baud: %v", e.speedBefore, err)
	}
	if _, err := e.wake(free, 2, time.Second); err == nil {
		return ""
	}
	return fmt.Sprintf("our end is back at %d baud, but no clean prompt was seen there: the device may still be at %d", e.speedBefore, ours)
}
