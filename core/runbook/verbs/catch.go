package verbs

import (
	"context"
	"errors"
	"fmt"
	"time"

	"pilotrix/core/dialect"
	"pilotrix/core/event"
	"pilotrix/core/expression"
	"pilotrix/core/runbook"
	"pilotrix/core/runbook/engine"
	"pilotrix/core/sense"
)

var _ = runbook.Register(runbook.Verb{
	Name:       "catch",
	Does:       "brings the device to a prompt of a mode, whatever it does now: listens, interrupts, wakes, hunts for the speed",
	Timeout:    2 * time.Minute,
	Repeatable: true,
	Learns:     true,
	New:        func() runbook.Body { return new(catchBody) },
})

var _ = done(ByHand{
	Name: "catch", Menu: Entering, Rank: 1, Key: "c", Needs: engine.Line,
	Does: "catch it in a mode", Title: "Bring the device to a prompt of a mode",
	Lacks: func(at Place) string {
		if at.Dialect == nil || len(caughtIn(at.Dialect)) == 0 {
			return "how the device talks is not known, or nothing is reached without an account"
		}
		return ""
	},
	Make: func(at Place) (*runbook.Runbook, error) {
		modes := caughtIn(at.Dialect)
		return oneStep("catch", "Catch it in ${mode}",
			"Brings the device to a prompt of a mode, whatever it does now, from its power-up on.", "catch",
			map[string]any{"mode": "${mode}"},
			input("mode", runbook.KindChoice, "whose prompt is wanted", "choices", modes, "default", modes[0]))
	},
})

// caughtIn are the modes of a dialect that are reached with nothing that has to be asked for.
func caughtIn(d *dialect.Dialect) (modes []string) {
	for _, mode := range d.PromptModes() {
		book, err := oneStep("catch", "Catch it", "", "catch", map[string]any{"mode": mode})
		if err == nil && book.WhyNot(d) == "" {
			modes = append(modes, mode)
		}
	}
	return modes
}

type catchBody struct {
	Mode string `yaml:"mode" jsonschema:"required" jsonschema_description:"The mode whose prompt is wanted; may be the ${input} of a choice"`
}

type catchWork struct{ mode *expression.Template }

// Compile implements runbook.Body.
func (b *catchBody) Compile(c *runbook.Compiler) runbook.Work {
	return &catchWork{c.Protocol("mode", b.Mode, func(mode string) error {
		c.Mode("mode", mode)
		c.Goes("mode", mode)
		return nil
	})}
}

// Types implements runbook.Typist.
func (w *catchWork) Types(p *runbook.Planner, _ *runbook.PreparedStep) []runbook.Typed {
	mode := w.mode.Shown(p.Known)
	typed := p.Catches(mode)
	p.Mode = mode
	return typed
}

const (
	catchListen = 400 * time.Millisecond
	catchPress  = 1500 * time.Millisecond
	pressesEach = 2
)

// Do implements Work: it listens, interrupts what has to be interrupted, presses the harmless key, looks for
// the speed when what comes is garble or nothing.
func (w *catchWork) Do(ctx context.Context, run *engine.Run, s *runbook.PreparedStep) error {
	mode, err := fill(run, w.mode)
	if err != nil {
		return err
	}
	c := &catcher{Run: run, step: s, want: mode}
	run.Now(s, "Looks for the device on the line", "a prompt of mode "+run.Prepared.Dialect.ModeTitle(c.want),
		s.Timeout)
	if err := run.EndReceiver(ctx); err != nil {
		return err
	}
	for round := 0; ; round++ {
		caught, err := c.once(ctx, round)
		if errors.Is(err, engine.ErrReturned) { // the operator had the helm
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
	*engine.Run
	step    *runbook.PreparedStep
	want    string
	pressed int // the proof that a key was pressed at: each is interrupted once
	asked   string
}

// act does what is known at once: at a prompt, at a receiver, in a mode with a key of its own.
func (c *catcher) act(ctx context.Context, v sense.State) (caught, acted bool, err error) {
	switch {
	case v.AtPrompt && v.Mode == c.want:
		return true, true, nil
	case v.AtPrompt && c.Prepared.Dialect.MoveFrom(v.Mode, c.want) != nil:
		return true, true, c.Talk.EnsureMode(ctx, c.step, []string{c.want})
	case v.AtPrompt:
		c.Now(c.step, "The device is in mode "+c.Prepared.Dialect.ModeTitle(v.Mode),
			"it to restart: the mode "+c.want+" is reached no other way", c.step.Timeout)
		_, err := c.Console.Await(ctx, func(now sense.State) bool { return now.Count > v.Count })
		return false, true, err
	case v.Mode == sense.Receiving:
		return false, true, c.EndReceiver(ctx)
	case c.wantsKey(v):
		key, _ := c.Prepared.Dialect.KeyFor(v.Mode)
		c.pressed = v.Count
		return false, true, c.Console.Type(ctx, key, false)
	}
	return false, false, nil
}

func (c *catcher) wantsKey(v sense.State) bool {
	_, known := c.Prepared.Dialect.KeyFor(v.Mode)
	return known && v.Count > c.pressed
}

// press presses the wake; not behind a question that the dialect does not know, which may also be a start that has
// come so far.
func (c *catcher) press(ctx context.Context) error {
	asked := c.Console.Device().UnknownQuestion()
	switch {
	case asked == "":
		return c.Console.Type(ctx, c.Prepared.Dialect.Wake(), false)
	case asked != c.asked:
		c.Console.Emit(event.Note{
			Level: event.Warning,
			Text: fmt.Sprintf("the device shows %q, which may be a question: no key is pressed behind it; answer it by hand if it waits",
				asked),
		})
	}
	c.asked = asked
	return nil
}

// round presses the wake a few times, then breaks what runs, then looks for the speed.
func (c *catcher) round(ctx context.Context, round int) error {
	if c.Console.Device().Mode != sense.Garbled {
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
	if brk := c.Prepared.Dialect.Catch.Break; brk != "" && round > 0 {
		if err := c.Console.Type(ctx, brk, false); err != nil {
			return err
		}
		if v, err := c.listen(ctx, catchPress); err != nil || v.AtPrompt {
			return err
		}
	}
	v := c.Console.Device()
	if v.UnknownQuestion() == "" && !v.Legible(c.Console.Clock().Now()) &&
		(v.Mode == sense.Garbled || v.Mode == sense.Silent || round%2 == 1) {
		return catchHunt(c.Run, ctx, c.step, v)
	}
	return nil
}

// listen waits for something to act on, for at most that long.
func (c *catcher) listen(ctx context.Context, timeout time.Duration) (sense.State, error) {
	limited, cancel := c.Console.Clock().WithTimeout(ctx, timeout)
	defer cancel()
	v, err := c.Console.Await(limited, func(v sense.State) bool {
		return v.AtPrompt || v.Mode == sense.Garbled || v.Mode == sense.Receiving || c.wantsKey(v)
	})
	if err != nil && ctx.Err() == nil && errors.Is(err, context.DeadlineExceeded) {
		return c.Console.Device(), nil
	}
	return v, err
}

func catchHunt(run *engine.Run, ctx context.Context, s *runbook.PreparedStep, v sense.State) error {
	ours, can := run.Console.Speed()
	if !can {
		return nil
	}
	why := "no prompt comes"
	if v.Mode == sense.Garbled {
		why = fmt.Sprintf("%.0f %% of it is garble", 100*v.Garble)
	}
	run.Now(s, "Hunts for the speed: "+why, "a speed at which it makes sense", s.Timeout)
	found, err := run.Speed.Hunt(ctx)
	if errors.Is(err, sense.ErrNoSpeed) {
		run.Console.Emit(event.Note{Level: event.Info, Text: err.Error() + "; it is not hunted any more"})
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
		run.Console.Emit(event.Note{Level: event.Info, Text: text})
	}
	return nil
}
