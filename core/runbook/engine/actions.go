package engine

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"regexp"
	"slices"
	"time"

	"pilotrix/core/dialect"
	"pilotrix/core/event"
	"pilotrix/core/runbook"
	"pilotrix/core/sense"
	"pilotrix/core/units"
)

// Wrote notes a change that goes out now, by an action with those parameters, which only a restart has none of.
func (acts *actions) Wrote(s *runbook.PreparedStep, action string, parameters ...string) {
	switch {
	case s.Verb != nil && s.Verb.Restarts && len(parameters) == 0: // what runs now is what the rollback is about
	case acts.run.rollingBack:
		acts.run.Account.putsBack(action)
	default:
		acts.run.Account.write(acts.run.Title(s), action)
	}
}

// actions are those of the dialect, from their command to what the device says of them.
type actions struct{ run *Run }

// Begun is an action whose command was typed.
type Begun struct {
	Action   *dialect.CompiledAction
	Way      *dialect.CompiledWay
	Env      map[string]any
	Command  string
	Commands int // how many commands had been begun with it
	doubts   Doubts
}

// Perform types an action's command and follows it to its end.
func (acts *actions) Perform(ctx context.Context, s *runbook.PreparedStep, d *runbook.CompiledCall) error {
	b, err := acts.Type(ctx, s, d)
	if err != nil {
		return err
	}
	acts.run.Now(s, cmp.Or(b.Action.Title, b.Action.Action.Action), "the end of "+b.Command, s.Timeout)
	if err := acts.Follow(ctx, s, b); err != nil {
		if errors.Is(err, context.DeadlineExceeded) {
			err = fmt.Errorf("“%s” did not end, %w", b.Command, TimeoutError(err, acts.run))
		}
		return err
	}
	if b.Way.Done != nil {
		acts.run.Console.lasted(b.doubts)
	}
	acts.run.Account.Change(b.Action.Alters())
	return acts.run.Speed.follow(ctx, b.Action)
}

// Type goes to the action's mode and types its command.
func (acts *actions) Type(ctx context.Context, s *runbook.PreparedStep, d *runbook.CompiledCall) (*Begun, error) {
	outer := acts.run.Env()
	if running, known := acts.run.Prepared.Running(acts.run.Console.Facts()); known && d.Action.Gated() {
		if why := d.Action.Lacks(running); why != "" {
			return nil, fmt.Errorf("not typed: %s", why)
		}
	}
	way, err := d.Way(outer)
	if err != nil {
		return nil, err
	}
	env, err := d.Env(outer, way)
	if err != nil {
		return nil, err
	}
	if err := acts.run.Talk.EnsureMode(ctx, s, d.Action.In); err != nil {
		return nil, err
	}
	command, err := way.Type.Command(env)
	if err != nil {
		return nil, err
	}
	if err := acts.run.interlock(ctx, s, command); err != nil {
		return nil, err
	}
	if d.Action.Alters() {
		if err := acts.Alters(ctx, s, command); err != nil {
			return nil, err
		}
		acts.Wrote(s, d.Action.Action.Action, way.With...)
	}
	doubts := acts.run.Console.Doubts()
	err = acts.run.Console.Command(ctx, command,
		Typing{Fresh: true, Leads: d.Action.To != "", Masks: acts.masks(way, env)})
	return &Begun{d.Action, way, env, command, acts.run.Console.Device().Commands, doubts}, err
}

// Alters notes that the device is about to be changed, and waits until that is kept: neither a program that is killed
// afterwards nor a machine that loses its power can forget it.
func (acts *actions) Alters(ctx context.Context, s *runbook.PreparedStep, command string) error {
	if err := acts.run.Device.ensureSame(ctx, s); err != nil {
		return err
	}
	acts.run.Console.Emit(event.Change{Step: s.ID, Command: command})
	if err := acts.run.onRecord(ctx, s, command); err != nil {
		return err
	}
	if err := acts.run.Device.ensureSame(ctx, s); err != nil { // it may have taken the operator
		return err
	}
	acts.run.Account.Try()
	acts.run.Console.Changed()
	acts.run.Account.Own()
	return nil
}

// Follow waits for what says that an action succeeded or failed, answering questions meanwhile.
func (acts *actions) Follow(ctx context.Context, s *runbook.PreparedStep, b *Begun) error {
	answered, drawn := "", acts.progressOf(s, b)
	for {
		v, err := acts.run.Console.Await(ctx, func(v sense.State) bool {
			drawn(v)
			return b.Way.Fail.Matches(v.Output()) || v.AtPrompt || v.Dialog != "" || b.AsksOwn(v, answered) ||
				b.reached(v) ||
				v.Commands != b.Commands
		})
		if err != nil {
			return err
		}
		if text := b.Way.Fail.Find(v.Output()); text != "" && v.Commands == b.Commands {
			if b.Action.Alters() && !acts.run.rollingBack {
				acts.run.Account.refused()
			}
			return fmt.Errorf("“%s” was answered: %s", b.Command, text)
		}
		switch {
		case v.Commands != b.Commands:
			return UnseenError(b.Command)
		case b.reached(v):
			return nil
		case v.Dialog != "" || b.AsksOwn(v, answered):
			answered = v.Asked
			if err := acts.run.Talk.Answer(ctx, b.Way.Asks, v, b.Env); err != nil {
				return err
			}
		default:
			return b.ended(v)
		}
	}
}

// reached reports that the mode that the action leads to was seen.
func (b *Begun) reached(v sense.State) bool {
	return b.Action.To != "" && slices.Contains(v.Passed, b.Action.To)
}

// ended is what is wrong with an action that has come back to a prompt, nil where it succeeded.
func (b *Begun) ended(v sense.State) error {
	to := b.Action.To
	switch {
	case to != "" && !slices.Contains(b.Action.In, v.Mode):
		return fmt.Errorf("“%s” led to mode %s instead of %s", b.Command, v.Mode, to)
	case to != "":
		return fmt.Errorf("“%s” left the device in mode %s: %s", b.Command, v.Mode, LastLines(v.Output()))
	case b.Way.Done != nil && !b.Way.Done.Matches(v.Output()):
		return fmt.Errorf("“%s” did not say that it succeeded (looked for %s): %s", b.Command, b.Way.Way.Done,
			LastLines(v.Output()))
	}
	return b.Way.Repeats(b.Command, v.Output(), b.Env)
}

// progressOf says how far an action is, by what the device draws: per cent, or so many of so many.
func (acts *actions) progressOf(s *runbook.PreparedStep, b *Begun) func(sense.State) {
	if b.Action.Progress == nil {
		return func(sense.State) {}
	}
	since, last := acts.run.Console.Clock().Now(), -1.0
	return func(v sense.State) {
		part, known := partDone(b.Action.Progress, v.Output())
		if !known || part == last {
			return
		}
		last = part
		now := event.StepNow{
			ID:       s.ID,
			Doing:    cmp.Or(b.Action.Title, b.Action.Action.Action),
			Awaiting: "the end of " + b.Command,
			Timeout:  s.Timeout,
			Part:     part,
		}
		if gone := acts.run.Console.Clock().Since(since); part > 0 && part < 1 {
			now.Left = time.Duration(float64(gone) * (1 - part) / part)
		}
		acts.run.Console.Emit(now)
	}
}

// partDone is the last progress that an output shows, from 0 to 1.
func partDone(progress *regexp.Regexp, output string) (part float64, known bool) {
	all := progress.FindAllStringSubmatch(output, -1)
	if len(all) == 0 {
		return 0, false
	}
	numbers := all[len(all)-1][1:]
	done, err := units.ParseNumber(numbers[0])
	of := 100.0
	if err == nil && len(numbers) > 1 {
		of, err = units.ParseNumber(numbers[1])
	}
	if err != nil || of <= 0 || done < 0 {
		return 0, false
	}
	return min(1, done/of), true
}

// AsksOwn reports that the device waits with a question of the action's own.
func (b *Begun) AsksOwn(v sense.State, answered string) bool {
	if v.Asked == "" || v.Asked == answered || v.AtPrompt || !v.Free {
		return false
	}
	return slices.ContainsFunc(b.Way.Asks,
		func(d *dialect.CompiledDialog) bool { return d.Pattern.MatchString(v.Asked) })
}

// masks makes the secrets known that stand in the command of a way, so that nobody is shown them, and reports whether
// there are any.
func (acts *actions) masks(way *dialect.CompiledWay, env map[string]any) bool {
	for _, name := range way.Secret {
		if value, ok := env[name].(string); ok {
			acts.run.Console.Emit(event.Secret{What: name, Value: value})
		}
	}
	return len(way.Secret) > 0
}
