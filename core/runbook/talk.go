package runbook

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
	"pilotrix/core/sense"
	"pilotrix/core/units"
)

// readAll types the commands of readings and keeps what they say as facts.
func (e *Engine) readAll(ctx context.Context, s *PreparedStep, readings []*dialect.CompiledReading) error {
	for _, reading := range readings {
		if err := e.readOne(ctx, s, reading); err != nil {
			return err
		}
	}
	return nil
}

const readTries = 3

// readOne takes one reading, however often the helm goes forth and back meanwhile.
func (e *Engine) readOne(ctx context.Context, s *PreparedStep, reading *dialect.CompiledReading) error {
	for {
		if err := e.readNow(ctx, s, reading); !errors.Is(err, errReturned) {
			return err
		}
	}
}

// notAnswered is a reading that the device refuses.
type notAnswered struct{ command, words string }

func (e *notAnswered) Error() string { return fmt.Sprintf("%s answered: %s", e.command, e.words) }

// readNow tries a few times: a bit error in the answer is no reason to stop.
func (e *Engine) readNow(ctx context.Context, s *PreparedStep, reading *dialect.CompiledReading) error {
	if err := e.be(ctx, s, reading.In); err != nil {
		return err
	}
	command, err := reading.Type.Command(e.env())
	if err != nil {
		return err
	}
	if err := e.interlock(ctx, s, command); err != nil {
		return err
	}
	var facts []device.Fact
	var doubts Doubts
	for range readTries {
		doubts = e.console.Doubts()
		e.now(s, "Reads "+reading.Reading.Reading, "the answer to "+command, s.Timeout)
		output, answerErr := e.command(ctx, command)
		if answerErr != nil {
			return answerErr
		}
		if words := e.p.Dialect.Refuses(output); words != "" { // no list is empty because of that
			err = &notAnswered{command, words}
		} else if facts, err = reading.Parse(output, command, e.console.Clock().Now(), e.console.Facts()); err == nil {
			if err = reading.Repeats(command, output, e.env()); err == nil {
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
		before := e.console.Learn(fact)
		told := event.Fact{Name: fact.Name, Value: fact.Text, Source: fact.Source, After: e.console.Facts().Changes(), Rows: dialect.TextRows(fact.Value)}
		if before.Text != fact.Text {
			told.Was = before.Text
		}
		e.console.Emit(told)
	}
	return e.identified(reading, facts, doubts)
}

// command types a command and returns what was answered until the next prompt, questions answered.
func (e *Engine) command(ctx context.Context, command string) (string, error) {
	if err := e.console.Command(ctx, command, Typing{Fresh: true}); err != nil {
		return "", err
	}
	ours := e.console.Device().Commands
	for {
		v, err := e.console.Await(ctx, func(v sense.State) bool { return v.AtPrompt || v.Dialog != "" || v.Commands != ours })
		switch {
		case errors.Is(err, context.DeadlineExceeded):
			return "", fmt.Errorf("no prompt after “%s”, %w", command, late(err, e))
		case err != nil:
			return "", err
		case v.Commands != ours:
			return "", unseen(command)
		case v.AtPrompt:
			return v.Output(), nil
		}
		if err := e.answer(ctx, nil, v, nil); err != nil {
			return "", err
		}
	}
}

// late is the error of a wait that took too long, in words where it has none.
func late(err error, e *Engine) error {
	if errors.Is(err, errTimeout) {
		return err
	}
	return fmt.Errorf("%w: %s; %w", errTimeout, e.stateWords(), err)
}

// unseen is the error of a command behind which another one was typed.
func unseen(command string) error {
	return fmt.Errorf("another command was typed behind “%s”: how that ended was not seen", command)
}

// answer answers a question from the dialect, or asks the operator. Whoever calls it looks anew then: the hand may
// have had the helm, and answered it.
func (e *Engine) answer(ctx context.Context, own []*dialect.CompiledDialog, v sense.State, env map[string]any) error {
	if err := e.answerNow(ctx, own, v, env); !errors.Is(err, errReturned) {
		return err
	}
	return nil
}

func (e *Engine) answerNow(ctx context.Context, own []*dialect.CompiledDialog, v sense.State, env map[string]any) error {
	dialog := e.p.Dialect.Dialog(own, v.Asked)
	if dialog == nil {
		return fmt.Errorf("the device asks %q, which the dialect has no answer for", strings.TrimSpace(v.Asked))
	}
	if env == nil {
		env = e.env()
	}
	if dialog.Operator {
		return e.leaveToOperator(ctx, v)
	}
	reply, err := dialog.Reply.Command(env)
	if err != nil {
		return fmt.Errorf("answering %q: %w", strings.TrimSpace(v.Asks), err)
	}
	if dialog.Because != "" {
		e.console.Emit(event.Note{Level: event.Info, Text: fmt.Sprintf("answers “%s” to “%s”: %s", shownReply(dialog, reply), strings.TrimSpace(v.Asked), dialog.Because)})
	}
	if dialog.NoEnter {
		return e.console.Type(ctx, reply, dialog.Secret)
	}
	return e.console.Command(ctx, reply, Typing{Secret: dialog.Secret, Unseen: dialog.Unseen()})
}

// leaveToOperator asks for an answer to be typed by hand.
func (e *Engine) leaveToOperator(ctx context.Context, v sense.State) error {
	answer, err := e.console.Ask(ctx, event.Ask{Form: event.FormDialog, Text: strings.TrimSpace(v.Asks), Answers: []string{DoneByMe, StopHere}})
	if err == nil && answer != DoneByMe {
		err = fmt.Errorf("%w at a question of the device", errStopped)
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

// be makes sure that the device waits at a prompt of one of the modes, moving there if there is a way.
func (e *Engine) be(ctx context.Context, s *PreparedStep, modes []string) error {
	for range 8 {
		v := e.console.Device()
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
		if err := e.perform(ctx, s, &doing{action: e.p.Dialect.Action(move.Action)}); err != nil && !errors.Is(err, errReturned) {
			return fmt.Errorf("going from %s to %s: %w", move.From, move.To, err)
		}
	}
	return fmt.Errorf("could not get to mode %s", strings.Join(modes, " or "))
}

func (e *Engine) moveTo(from string, modes []string) *dialect.Move {
	for _, to := range modes {
		if move := e.p.Dialect.MoveFrom(from, to); move != nil {
			return move
		}
	}
	return nil
}

// wake presses the harmless key until there is a prompt.
func (e *Engine) wake(ctx context.Context, times int, each time.Duration) (sense.State, error) {
	var err error
	for range times {
		if asked := e.console.Device().UnknownQuestion(); asked != "" {
			return sense.State{}, fmt.Errorf("the device asks %q, which the dialect does not know; Enter would answer it: answer it by hand", asked)
		}
		if err = e.console.Type(ctx, e.p.Dialect.Wake(), false); err != nil && !errors.Is(err, errReturned) {
			return sense.State{}, err
		}
		limited, cancel := e.console.Clock().WithTimeout(ctx, each)
		var v sense.State
		v, err = e.console.Await(limited, func(v sense.State) bool { return v.AtPrompt })
		cancel()
		if err == nil {
			return v, nil
		}
		if ctx.Err() != nil || !errors.Is(err, context.DeadlineExceeded) {
			return v, err
		}
	}
	return sense.State{}, fmt.Errorf("no prompt after %d key presses: %s", times, e.stateWords())
}

// begun is an action whose command was typed.
type begun struct {
	action  *dialect.CompiledAction
	way     *dialect.CompiledWay
	env     map[string]any
	command string
	ours    int // how many commands had been begun with it
	doubts  Doubts
}

// perform types an action's command and follows it to its end.
func (e *Engine) perform(ctx context.Context, s *PreparedStep, d *doing) error {
	b, err := e.typeAction(ctx, s, d)
	if err != nil {
		return err
	}
	e.now(s, cmp.Or(b.action.Title, b.action.Action.Action), "the end of "+b.command, s.Timeout)
	if err := e.follow(ctx, s, b); err != nil {
		if errors.Is(err, context.DeadlineExceeded) {
			err = fmt.Errorf("“%s” did not end, %w", b.command, late(err, e))
		}
		return err
	}
	if b.way.Done != nil {
		e.console.lasted(b.doubts)
	}
	e.Account.Change(b.action.Alters())
	return e.followSpeed(ctx, b.action)
}

// typeAction goes to the action's mode and types its command.
func (e *Engine) typeAction(ctx context.Context, s *PreparedStep, d *doing) (*begun, error) {
	outer := e.env()
	if running, known := e.p.running(e.console.Facts()); known && d.action.Gated() {
		if why := d.action.Lacks(running); why != "" {
			return nil, fmt.Errorf("not typed: %s", why)
		}
	}
	way, err := d.way(outer)
	if err != nil {
		return nil, err
	}
	env, err := d.env(outer, way)
	if err != nil {
		return nil, err
	}
	if err := e.be(ctx, s, d.action.In); err != nil {
		return nil, err
	}
	command, err := way.Type.Command(env)
	if err != nil {
		return nil, err
	}
	if err := e.interlock(ctx, s, command); err != nil {
		return nil, err
	}
	if d.action.Alters() {
		if err := e.alters(ctx, s, command); err != nil {
			return nil, err
		}
		e.wrote(s, d.action.Action.Action, way.With...)
	}
	doubts := e.console.Doubts()
	err = e.console.Command(ctx, command, Typing{Fresh: true, Leads: d.action.To != "", Masks: e.masks(way, env)})
	return &begun{d.action, way, env, command, e.console.Device().Commands, doubts}, err
}

// alters notes that the device is about to be changed, and waits until that is kept: neither a program that is killed
// afterwards nor a machine that loses its power can forget it.
func (e *Engine) alters(ctx context.Context, s *PreparedStep, command string) error {
	if err := e.thisDevice(ctx, s); err != nil {
		return err
	}
	e.console.Emit(event.Change{Step: s.ID, Command: command})
	if err := e.onRecord(ctx, s, command); err != nil {
		return err
	}
	if err := e.thisDevice(ctx, s); err != nil { // it may have taken the operator
		return err
	}
	e.Account.Try()
	e.console.Changed()
	e.Account.Own()
	return nil
}

// follow waits for what tells that an action succeeded or failed, answering questions meanwhile.
func (e *Engine) follow(ctx context.Context, s *PreparedStep, b *begun) error {
	to := b.action.To
	reached := func(v sense.State) bool { return to != "" && slices.Contains(v.Passed, to) }
	answered, drawn := "", e.progressOf(s, b)
	for {
		v, err := e.console.Await(ctx, func(v sense.State) bool {
			drawn(v)
			return b.way.Fail.Matches(v.Output()) || v.AtPrompt || v.Dialog != "" || b.asksOwn(v, answered) || reached(v) || v.Commands != b.ours
		})
		if err != nil {
			return err
		}
		if text := b.way.Fail.Find(v.Output()); text != "" && v.Commands == b.ours {
			if b.action.Alters() && !e.rollingBack {
				e.Account.refused()
			}
			return fmt.Errorf("“%s” was answered: %s", b.command, text)
		}
		switch {
		case v.Commands != b.ours:
			return unseen(b.command)
		case reached(v):
			return nil
		case v.Dialog != "" || b.asksOwn(v, answered):
			answered = v.Asked
			if err := e.answer(ctx, b.way.Asks, v, b.env); err != nil {
				return err
			}
		case to != "" && !slices.Contains(b.action.In, v.Mode):
			return fmt.Errorf("“%s” led to mode %s instead of %s", b.command, v.Mode, to)
		case to != "":
			return fmt.Errorf("“%s” left the device in mode %s: %s", b.command, v.Mode, lastLines(v.Output()))
		case b.way.Done != nil && !b.way.Done.Matches(v.Output()):
			return fmt.Errorf("“%s” did not say that it succeeded (looked for %s): %s", b.command, b.way.Way.Done, lastLines(v.Output()))
		default:
			return b.way.Repeats(b.command, v.Output(), b.env)
		}
	}
}

// progressOf tells how far an action is, by what the device draws: per cent, or so many of so many.
func (e *Engine) progressOf(s *PreparedStep, b *begun) func(sense.State) {
	if b.action.Progress == nil {
		return func(sense.State) {}
	}
	since, last := e.console.Clock().Now(), -1.0
	return func(v sense.State) {
		part, known := partDone(b.action.Progress, v.Output())
		if !known || part == last {
			return
		}
		last = part
		now := event.StepNow{ID: s.ID, Doing: cmp.Or(b.action.Title, b.action.Action.Action), Awaiting: "the end of " + b.command, Timeout: s.Timeout, Part: part}
		if gone := e.console.Clock().Since(since); part > 0 && part < 1 {
			now.Left = time.Duration(float64(gone) * (1 - part) / part)
		}
		e.console.Emit(now)
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

// asksOwn reports that the device waits with a question of the action's own.
func (b *begun) asksOwn(v sense.State, answered string) bool {
	if v.Asked == "" || v.Asked == answered || v.AtPrompt || !v.Free {
		return false
	}
	return slices.ContainsFunc(b.way.Asks, func(d *dialect.CompiledDialog) bool { return d.Pattern.MatchString(v.Asked) })
}

func lastLines(output string) string {
	lines := strings.Split(strings.TrimSpace(output), "\n")
	return strings.Join(lines[max(0, len(lines)-2):], " / ")
}

// followSpeed goes with a device that changes its own speed.
func (e *Engine) followSpeed(ctx context.Context, action *dialect.CompiledAction) error {
	ours, can := e.console.Speed()
	if action.Speed == 0 || !can || ours == action.Speed {
		return nil
	}
	return e.console.SetSpeed(ctx, action.Speed, "the device goes to it by itself")
}
