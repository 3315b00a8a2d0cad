package engine

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strings"
	"time"

	"pilotrix/core/device"
	"pilotrix/core/dialect"
	"pilotrix/core/event"
	"pilotrix/core/runbook"
	"pilotrix/core/sense"
	"pilotrix/core/units"
)

// ReadAll types the commands of readings and keeps what they say as facts.
func (e *Run) ReadAll(ctx context.Context, s *runbook.PreparedStep, readings []*dialect.CompiledReading) error {
	for _, reading := range readings {
		if err := e.ReadOne(ctx, s, reading); err != nil {
			return err
		}
	}
	return nil
}

const readTries = 3

// ReadOne takes one reading, however often the helm goes forth and back meanwhile.
func (e *Run) ReadOne(ctx context.Context, s *runbook.PreparedStep, reading *dialect.CompiledReading) error {
	for {
		if err := e.readNow(ctx, s, reading); !errors.Is(err, ErrReturned) {
			return err
		}
	}
}

// RefusedError is a reading that the device refuses.
type RefusedError struct{ command, words string }

func (e *RefusedError) Error() string { return fmt.Sprintf("%s answered: %s", e.command, e.words) }

// readNow tries a few times: a bit error in the answer is no reason to stop.
func (e *Run) readNow(ctx context.Context, s *runbook.PreparedStep, reading *dialect.CompiledReading) error {
	if err := e.EnsureMode(ctx, s, reading.In); err != nil {
		return err
	}
	command, err := reading.Type.Command(e.Env())
	if err != nil {
		return err
	}
	if err := e.interlock(ctx, s, command); err != nil {
		return err
	}
	var facts []device.Fact
	var doubts Doubts
	for range readTries {
		doubts = e.Console.Doubts()
		e.Now(s, "Reads "+reading.Reading.Reading, "the answer to "+command, s.Timeout)
		output, answerErr := e.command(ctx, command)
		if answerErr != nil {
			return answerErr
		}
		if words := e.Prepared.Dialect.Refuses(output); words != "" { // no list is empty because of that
			err = &RefusedError{command, words}
		} else if facts, err = reading.Parse(output, command, e.Console.Clock().Now(), e.Console.Facts()); err == nil {
			if err = reading.Repeats(command, output, e.Env()); err == nil {
				err = e.known(reading, facts)
			}
			if err == nil {
				break
			}
		}
	}
	if err != nil {
		return err
	}
	for _, fact := range facts {
		before := e.Console.Learn(fact)
		told := event.Fact{Name: fact.Name, Value: fact.Text, Source: fact.Source, After: e.Console.Facts().Changes(), Rows: dialect.TextRows(fact.Value)}
		if before.Text != fact.Text {
			told.Was = before.Text
		}
		e.Console.Emit(told)
	}
	return e.identified(reading, facts, doubts)
}

// command types a command and returns what was answered until the next prompt, questions answered.
func (e *Run) command(ctx context.Context, command string) (string, error) {
	if err := e.Console.Command(ctx, command, Typing{Fresh: true}); err != nil {
		return "", err
	}
	ours := e.Console.Device().Commands
	for {
		v, err := e.Console.Await(ctx, func(v sense.State) bool { return v.AtPrompt || v.Dialog != "" || v.Commands != ours })
		switch {
		case errors.Is(err, context.DeadlineExceeded):
			return "", fmt.Errorf("no prompt after “%s”, %w", command, TimeoutError(err, e))
		case err != nil:
			return "", err
		case v.Commands != ours:
			return "", UnseenError(command)
		case v.AtPrompt:
			return v.Output(), nil
		}
		if err := e.Answer(ctx, nil, v, nil); err != nil {
			return "", err
		}
	}
}

// TimeoutError is the error of a wait that took too long, in words where it has none.
func TimeoutError(err error, e *Run) error {
	if errors.Is(err, ErrTimeout) {
		return err
	}
	return fmt.Errorf("%w: %s; %w", ErrTimeout, e.StateText(), err)
}

// UnseenError is the error of a command behind which another one was typed.
func UnseenError(command string) error {
	return fmt.Errorf("another command was typed behind “%s”: how that ended was not seen", command)
}

// Answer answers a question from the dialect, or asks the operator. Whoever calls it looks anew then: the hand may
// have had the helm, and answered it.
func (e *Run) Answer(ctx context.Context, own []*dialect.CompiledDialog, v sense.State, env map[string]any) error {
	if err := e.answerNow(ctx, own, v, env); !errors.Is(err, ErrReturned) {
		return err
	}
	return nil
}

func (e *Run) answerNow(ctx context.Context, own []*dialect.CompiledDialog, v sense.State, env map[string]any) error {
	dialog := e.Prepared.Dialect.Dialog(own, v.Asked)
	if dialog == nil {
		return fmt.Errorf("the device asks %q, which the dialect has no answer for", strings.TrimSpace(v.Asked))
	}
	if env == nil {
		env = e.Env()
	}
	if dialog.Operator {
		return e.leaveToOperator(ctx, v)
	}
	reply, err := dialog.Reply.Command(env)
	if err != nil {
		return fmt.Errorf("answering %q: %w", strings.TrimSpace(v.Asks), err)
	}
	if dialog.Because != "" {
		e.Console.Emit(event.Note{Level: event.Info, Text: fmt.Sprintf("answers “%s” to “%s”: %s", shownReply(dialog, reply), strings.TrimSpace(v.Asked), dialog.Because)})
	}
	if dialog.NoEnter {
		return e.Console.Type(ctx, reply, dialog.Secret)
	}
	return e.Console.Command(ctx, reply, Typing{Secret: dialog.Secret, Unseen: dialog.Unseen()})
}

// leaveToOperator asks for an answer to be typed by hand.
func (e *Run) leaveToOperator(ctx context.Context, v sense.State) error {
	answer, err := e.Console.Ask(ctx, event.Ask{Form: event.FormDialog, Text: strings.TrimSpace(v.Asks), Answers: []string{DoneByMe, StopHere}})
	if err == nil && answer != DoneByMe {
		err = fmt.Errorf("%w at a question of the device", ErrStopped)
	}
	return err
}

func shownReply(d *dialect.CompiledDialog, reply string) string {
	switch {
	case d.Secret:
		return "[secret]"
	case d.Enter:
		return "Enter"
	}
	return reply
}

// EnsureMode makes sure that the device waits at a prompt of one of the modes, moving there if there is a way.
func (e *Run) EnsureMode(ctx context.Context, s *runbook.PreparedStep, modes []string) error {
	for range 8 {
		v := e.Console.Device()
		if !v.AtPrompt {
			var err error
			if v, err = e.wake(ctx, 3, 2*time.Second); err != nil {
				return err
			}
		}
		if len(modes) == 0 || slices.Contains(modes, v.Mode) {
			return nil
		}
		move := e.moveTo(v.Mode, modes)
		if move == nil {
			return fmt.Errorf("this needs mode %s; the device is in %s, and the dialect knows no way there", strings.Join(modes, " or "), v.Mode)
		}
		if err := e.Perform(ctx, s, &runbook.CompiledCall{Action: e.Prepared.Dialect.Action(move.Action)}); err != nil && !errors.Is(err, ErrReturned) {
			return fmt.Errorf("going from %s to %s: %w", move.From, move.To, err)
		}
	}
	return fmt.Errorf("could not get to mode %s", strings.Join(modes, " or "))
}

func (e *Run) moveTo(from string, modes []string) *dialect.Move {
	for _, to := range modes {
		if move := e.Prepared.Dialect.MoveFrom(from, to); move != nil {
			return move
		}
	}
	return nil
}

// wake presses the harmless key until there is a prompt.
func (e *Run) wake(ctx context.Context, times int, each time.Duration) (sense.State, error) {
	var err error
	for range times {
		if asked := e.Console.Device().UnknownQuestion(); asked != "" {
			return sense.State{}, fmt.Errorf("the device asks %q, which the dialect does not know; Enter would answer it: answer it by hand", asked)
		}
		if err = e.Console.Type(ctx, e.Prepared.Dialect.Wake(), false); err != nil && !errors.Is(err, ErrReturned) {
			return sense.State{}, err
		}
		limited, cancel := e.Console.Clock().WithTimeout(ctx, each)
		var v sense.State
		v, err = e.Console.Await(limited, func(v sense.State) bool { return v.AtPrompt })
		cancel()
		if err == nil {
			return v, nil
		}
		if ctx.Err() != nil || !errors.Is(err, context.DeadlineExceeded) {
			return v, err
		}
	}
	return sense.State{}, fmt.Errorf("no prompt after %d key presses: %s", times, e.StateText())
}

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
func (e *Run) Perform(ctx context.Context, s *runbook.PreparedStep, d *runbook.CompiledCall) error {
	b, err := e.TypeAction(ctx, s, d)
	if err != nil {
		return err
	}
	e.Now(s, cmp.Or(b.Action.Title, b.Action.Action.Action), "the end of "+b.Command, s.Timeout)
	if err := e.Follow(ctx, s, b); err != nil {
		if errors.Is(err, context.DeadlineExceeded) {
			err = fmt.Errorf("“%s” did not end, %w", b.Command, TimeoutError(err, e))
		}
		return err
	}
	if b.Way.Done != nil {
		e.Console.lasted(b.doubts)
	}
	e.Account.Change(b.Action.Alters())
	return e.followSpeed(ctx, b.Action)
}

// TypeAction goes to the action's mode and types its command.
func (e *Run) TypeAction(ctx context.Context, s *runbook.PreparedStep, d *runbook.CompiledCall) (*Begun, error) {
	outer := e.Env()
	if running, known := e.Prepared.Running(e.Console.Facts()); known && d.Action.Gated() {
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
	if err := e.EnsureMode(ctx, s, d.Action.In); err != nil {
		return nil, err
	}
	command, err := way.Type.Command(env)
	if err != nil {
		return nil, err
	}
	if err := e.interlock(ctx, s, command); err != nil {
		return nil, err
	}
	if d.Action.Alters() {
		if err := e.Alters(ctx, s, command); err != nil {
			return nil, err
		}
		e.Wrote(s, d.Action.Action.Action, way.With...)
	}
	doubts := e.Console.Doubts()
	err = e.Console.Command(ctx, command, Typing{Fresh: true, Leads: d.Action.To != "", Masks: e.masks(way, env)})
	return &Begun{d.Action, way, env, command, e.Console.Device().Commands, doubts}, err
}

// Alters notes that the device is about to be changed, and waits until that is kept: neither a program that is killed
// afterwards nor a machine that loses its power can forget it.
func (e *Run) Alters(ctx context.Context, s *runbook.PreparedStep, command string) error {
	if err := e.thisDevice(ctx, s); err != nil {
		return err
	}
	e.Console.Emit(event.Change{Step: s.ID, Command: command})
	if err := e.onRecord(ctx, s, command); err != nil {
		return err
	}
	if err := e.thisDevice(ctx, s); err != nil { // it may have taken the operator
		return err
	}
	e.Account.Try()
	e.Console.Changed()
	e.Account.Own()
	return nil
}

// Follow waits for what tells that an action succeeded or failed, answering questions meanwhile.
func (e *Run) Follow(ctx context.Context, s *runbook.PreparedStep, b *Begun) error {
	to := b.Action.To
	reached := func(v sense.State) bool { return to != "" && slices.Contains(v.Passed, to) }
	answered, drawn := "", e.progressOf(s, b)
	for {
		v, err := e.Console.Await(ctx, func(v sense.State) bool {
			drawn(v)
			return b.Way.Fail.Matches(v.Output()) || v.AtPrompt || v.Dialog != "" || b.AsksOwn(v, answered) || reached(v) || v.Commands != b.Commands
		})
		if err != nil {
			return err
		}
		if text := b.Way.Fail.Find(v.Output()); text != "" && v.Commands == b.Commands {
			if b.Action.Alters() && !e.rollingBack {
				e.Account.refused()
			}
			return fmt.Errorf("“%s” was answered: %s", b.Command, text)
		}
		switch {
		case v.Commands != b.Commands:
			return UnseenError(b.Command)
		case reached(v):
			return nil
		case v.Dialog != "" || b.AsksOwn(v, answered):
			answered = v.Asked
			if err := e.Answer(ctx, b.Way.Asks, v, b.Env); err != nil {
				return err
			}
		case to != "" && !slices.Contains(b.Action.In, v.Mode):
			return fmt.Errorf("“%s” led to mode %s instead of %s", b.Command, v.Mode, to)
		case to != "":
			return fmt.Errorf("“%s” left the device in mode %s: %s", b.Command, v.Mode, LastLines(v.Output()))
		case b.Way.Done != nil && !b.Way.Done.Matches(v.Output()):
			return fmt.Errorf("“%s” did not say that it succeeded (looked for %s): %s", b.Command, b.Way.Way.Done, LastLines(v.Output()))
		default:
			return b.Way.Repeats(b.Command, v.Output(), b.Env)
		}
	}
}

// progressOf tells how far an action is, by what the device draws: per cent, or so many of so many.
func (e *Run) progressOf(s *runbook.PreparedStep, b *Begun) func(sense.State) {
	if b.Action.Progress == nil {
		return func(sense.State) {}
	}
	since, last := e.Console.Clock().Now(), -1.0
	return func(v sense.State) {
		part, known := partDone(b.Action.Progress, v.Output())
		if !known || part == last {
			return
		}
		last = part
		now := event.StepNow{ID: s.ID, Doing: cmp.Or(b.Action.Title, b.Action.Action.Action), Awaiting: "the end of " + b.Command, Timeout: s.Timeout, Part: part}
		if gone := e.Console.Clock().Since(since); part > 0 && part < 1 {
			now.Left = time.Duration(float64(gone) * (1 - part) / part)
		}
		e.Console.Emit(now)
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
	return slices.ContainsFunc(b.Way.Asks, func(d *dialect.CompiledDialog) bool { return d.Pattern.MatchString(v.Asked) })
}

func LastLines(output string) string {
	lines := strings.Split(strings.TrimSpace(output), "\n")
	return strings.Join(lines[max(0, len(lines)-2):], " / ")
}

// followSpeed goes with a device that changes its own speed.
func (e *Run) followSpeed(ctx context.Context, action *dialect.CompiledAction) error {
	ours, can := e.Console.Speed()
	if action.Speed == 0 || !can || ours == action.Speed {
		return nil
	}
	return e.Console.SetSpeed(ctx, action.Speed, "the device goes to it by itself")
}
