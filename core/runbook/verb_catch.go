package runbook

import (
	"context"
	"errors"
	"fmt"
	"time"

	"pilotrix/core/event"
	"pilotrix/core/sense"
)

var _ = register(Verb{
	Name: "catch", Does: "brings the device to a prompt of a mode, whatever it does now: listens, interrupts, wakes, hunts for the speed",
	Timeout: 2 * time.Minute, Repeatable: true, Learns: true,
	New: func() Body { return new(catchBody) },
})

type catchBody struct {
	Mode string `yaml:"mode" jsonschema:"required" jsonschema_description:"The mode whose prompt is wanted"`
}

type catchWork struct{ catchBody }

// Compile implements Body.
func (b *catchBody) Compile(c *Compiler) Work {
	c.Mode("mode", b.Mode)
	c.Goes("mode", b.Mode)
	return &catchWork{*b}
}

// Types implements typist.
func (w *catchWork) Types(p *planner, _ *PreparedStep) []Typed {
	typed := p.catches(w.Mode)
	p.mode = w.Mode
	return typed
}

const (
	catchListen = 400 * time.Millisecond
	catchPress  = 1500 * time.Millisecond
	pressesEach = 2
)

// Do implements Work: it listens, interrupts what has to be interrupted, presses the harmless key, looks for
// the speed when what comes is garble or nothing.
func (w *catchWork) Do(ctx context.Context, e *Engine, s *PreparedStep) error {
	c := &catcher{Engine: e, step: s, want: w.Mode}
	e.now(s, "Looks for the device on the line", "a prompt of mode "+e.p.Dialect.ModeTitle(c.want), s.Timeout)
	if err := e.EndReceiver(ctx); err != nil {
		return err
	}
	for round := 0; ; round++ {
		caught, err := c.once(ctx, round)
		if errors.Is(err, errReturned) { // the hand had the helm
			continue
		}
		if err != nil || caught {
			return err
		}
	}
}

// once acts on what the device shows, or else makes a round of what may bring it to show something.
func (c *catcher) once(ctx context.Context, round int) (caught bool, err error) {
	v, err := c.listen(ctx, catchListen)
	if err != nil {
		return false, err
	}
	caught, acted, err := c.act(ctx, v)
	if err != nil || acted {
		return caught, err
	}
	return false, c.round(ctx, round)
}

// catcher is one catch under way.
type catcher struct {
	*Engine
	step    *PreparedStep
	want    string
	pressed int // the proof that a key was pressed at: each is interrupted once
	asked   string
}

// act does what is known at once: at a prompt, at a receiver, in a mode with a key of its own.
func (c *catcher) act(ctx context.Context, v sense.State) (caught, acted bool, err error) {
	switch {
	case v.AtPrompt && v.Mode == c.want:
		return true, true, nil
	case v.AtPrompt && c.p.Dialect.MoveFrom(v.Mode, c.want) != nil:
		return true, true, c.be(ctx, c.step, []string{c.want})
	case v.AtPrompt:
		c.now(c.step, "The device is in mode "+c.p.Dialect.ModeTitle(v.Mode), "it to restart: the mode "+c.want+" is reached no other way", c.step.Timeout)
		_, err := c.console.Await(ctx, func(now sense.State) bool { return now.Count > v.Count })
		return false, true, err
	case v.Mode == sense.Receiving:
		return false, true, c.EndReceiver(ctx)
	case c.wantsKey(v):
		key, _ := c.p.Dialect.KeyFor(v.Mode)
		c.pressed = v.Count
		return false, true, c.console.Type(ctx, key, false)
	}
	return false, false, nil
}

func (c *catcher) wantsKey(v sense.State) bool {
	_, known := c.p.Dialect.KeyFor(v.Mode)
	return known && v.Count > c.pressed
}

// press presses the wake; not behind a question that the dialect does not know, which may also be a start that has
// come so far.
func (c *catcher) press(ctx context.Context) error {
	asked := c.console.Device().UnknownQuestion()
	switch {
	case asked == "":
		return c.console.Type(ctx, c.p.Dialect.Wake(), false)
	case asked != c.asked:
		c.console.Emit(event.Note{Level: event.Warning, Text: fmt.Sprintf("the device shows %q, which may be a question: no key is pressed behind it; answer it by hand if it waits", asked)})
	}
	c.asked = asked
	return nil
}

// round presses the wake a few times, then breaks what runs, then looks for the speed.
func (c *catcher) round(ctx context.Context, round int) error {
	if c.console.Device().Mode != sense.Garbled {
		for range pressesEach {
			if err := c.press(ctx); err != nil {
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
	v := c.console.Device()
	if v.UnknownQuestion() == "" && !v.Legible(c.console.Clock().Now()) && (v.Mode == sense.Garbled || v.Mode == sense.Silent || round%2 == 1) {
		return c.catchHunt(ctx, c.step, v)
	}
	return nil
}

// listen waits for something to act on, for at most that long.
func (c *catcher) listen(ctx context.Context, timeout time.Duration) (sense.State, error) {
	limited, cancel := c.console.Clock().WithTimeout(ctx, timeout)
	defer cancel()
	v, err := c.console.Await(limited, func(v sense.State) bool {
		return v.AtPrompt || v.Mode == sense.Garbled || v.Mode == sense.Receiving || c.wantsKey(v)
	})
	if err != nil && ctx.Err() == nil && errors.Is(err, context.DeadlineExceeded) {
		return c.console.Device(), nil
	}
	return v, err
}

func (e *Engine) catchHunt(ctx context.Context, s *PreparedStep, v sense.State) error {
	ours, can := e.console.Speed()
	if !can {
		return nil
	}
	why := "no prompt comes"
	if v.Mode == sense.Garbled {
		why = fmt.Sprintf("%.0f %% of it is garble", 100*v.Garble)
	}
	e.now(s, "Hunts for the speed: "+why, "a speed at which it makes sense", s.Timeout)
	found, err := e.hunt(ctx)
	if errors.Is(err, sense.ErrNoSpeed) {
		e.console.Emit(event.Note{Level: event.Info, Text: err.Error() + "; it is not hunted any more"})
		return nil
	}
	if err != nil {
		return err
	}
	if best := found.Best(); best != 0 {
		text := fmt.Sprintf("the device speaks %d baud, %.0f %% sure", best, 100*found.Sure)
		if best != ours {
			text += fmt.Sprintf("; we were at %d", ours)
		}
		e.console.Emit(event.Note{Level: event.Info, Text: text})
	}
	return nil
}
