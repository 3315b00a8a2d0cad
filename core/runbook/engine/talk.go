package engine

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"pilotrix/core/dialect"
	"pilotrix/core/event"
	"pilotrix/core/runbook"
	"pilotrix/core/sense"
)

// talk is what is typed and answered.
type talk struct{ run *Run }

// command types a command and returns what was answered until the next prompt, questions answered.
func (tk *talk) command(ctx context.Context, command string) (string, error) {
	if err := tk.run.Console.Command(ctx, command, Typing{Fresh: true}); err != nil {
		return "", err
	}
	ours := tk.run.Console.Device().Commands
	for {
		v, err := tk.run.Console.Await(ctx,
			func(v sense.State) bool { return v.AtPrompt || v.Dialog != "" || v.Commands != ours })
		switch {
		case errors.Is(err, context.DeadlineExceeded):
			return "", fmt.Errorf("no prompt after “%s”, %w", command, TimeoutError(err, tk.run))
		case err != nil:
			return "", err
		case v.Commands != ours:
			return "", UnseenError(command)
		case v.AtPrompt:
			return v.Output(), nil
		}
		if err := tk.Answer(ctx, nil, v, nil); err != nil {
			return "", err
		}
	}
}

// TimeoutError is the error of a wait that took too long, in words where it has none.
func TimeoutError(err error, run *Run) error {
	if errors.Is(err, ErrTimeout) {
		return err
	}
	return fmt.Errorf("%w: %s; %w", ErrTimeout, run.StateText(), err)
}

// UnseenError is the error of a command behind which another one was typed.
func UnseenError(command string) error {
	return fmt.Errorf("another command was typed behind “%s”: %w", command, ErrUnseen)
}

// InTurn types a command in its turn and returns what was answered until the next prompt. What the device asks
// meanwhile is the operator's to answer.
func (tk *talk) InTurn(ctx context.Context, command string) (answer string, err error) {
	ours := 0
	err = tk.run.Console.InTurn(ctx, func(ctx context.Context) error {
		err := tk.run.Console.Command(ctx, command, Typing{Fresh: true})
		ours = tk.run.Console.Device().Commands
		return err
	})
	if err != nil {
		return "", err
	}
	v, err := tk.run.Console.Await(ctx, func(v sense.State) bool { return v.AtPrompt || v.Commands != ours })
	switch {
	case err != nil:
		return "", err
	case v.Commands != ours:
		return "", UnseenError(command)
	}
	return v.Output(), nil
}

// Answer answers a question from the dialect, or asks the operator. Whoever calls it looks again then: the operator may
// have had the helm, and answered it.
func (tk *talk) Answer(ctx context.Context, own []*dialect.CompiledDialog, v sense.State, env map[string]any) error {
	if err := tk.answerNow(ctx, own, v, env); !errors.Is(err, ErrReturned) {
		return err
	}
	return nil
}

func (tk *talk) answerNow(ctx context.Context, own []*dialect.CompiledDialog, v sense.State, env map[string]any) error {
	dialog := tk.run.Prepared.Dialect.Dialog(own, v.Asked)
	if dialog == nil {
		return fmt.Errorf("the device asks %q, which the dialect has no answer for", strings.TrimSpace(v.Asked))
	}
	if env == nil {
		env = tk.run.Env()
	}
	if dialog.Operator {
		return tk.leaveToOperator(ctx, v)
	}
	reply, err := dialog.Reply.Command(env)
	if err != nil {
		return fmt.Errorf("answering %q: %w", strings.TrimSpace(v.Asks), err)
	}
	if dialog.Because != "" {
		tk.run.Console.Emit(event.Note{
			Level: event.Info,
			Text: fmt.Sprintf("answers “%s” to “%s”: %s", shownReply(dialog, reply), strings.TrimSpace(v.Asked),
				dialog.Because),
		})
	}
	if dialog.NoEnter {
		return tk.run.Console.Type(ctx, reply, dialog.Secret)
	}
	return tk.run.Console.Command(ctx, reply, Typing{Secret: dialog.Secret, Unseen: dialog.Unseen()})
}

// leaveToOperator asks for an answer to be typed by hand.
func (tk *talk) leaveToOperator(ctx context.Context, v sense.State) error {
	answer, err := tk.run.Console.Ask(ctx,
		event.Ask{Form: event.FormDialog, Text: strings.TrimSpace(v.Asks), Answers: []string{DoneByMe, StopHere}})
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
func (tk *talk) EnsureMode(ctx context.Context, s *runbook.PreparedStep, modes []string) error {
	for range 8 {
		v := tk.run.Console.Device()
		if !v.AtPrompt {
			var err error
			if v, err = tk.wake(ctx, 3, 2*time.Second); err != nil {
				return err
			}
		}
		if len(modes) == 0 || slices.Contains(modes, v.Mode) {
			return nil
		}
		move := tk.moveTo(v.Mode, modes)
		if move == nil {
			return fmt.Errorf("this needs mode %s; the device is in %s, and the dialect knows no way there",
				strings.Join(modes, " or "), v.Mode)
		}
		if err := tk.run.Actions.Perform(ctx, s,
			&runbook.CompiledCall{Action: tk.run.Prepared.Dialect.Action(move.Action)}); err != nil &&
			!errors.Is(err, ErrReturned) {
			return fmt.Errorf("going from %s to %s: %w", move.From, move.To, err)
		}
	}
	return fmt.Errorf("could not get to mode %s", strings.Join(modes, " or "))
}

func (tk *talk) moveTo(from string, modes []string) *dialect.Move {
	for _, to := range modes {
		if move := tk.run.Prepared.Dialect.MoveFrom(from, to); move != nil {
			return move
		}
	}
	return nil
}

// wake presses the harmless key until there is a prompt.
func (tk *talk) wake(ctx context.Context, times int, each time.Duration) (sense.State, error) {
	var err error
	for range times {
		if asked := tk.run.Console.Device().UnknownQuestion(); asked != "" {
			return sense.State{}, fmt.Errorf(
				"the device asks %q, which the dialect does not know; Enter would answer it: answer it by hand", asked)
		}
		if err = tk.run.Console.Type(ctx, tk.run.Prepared.Dialect.Wake(), false); err != nil &&
			!errors.Is(err, ErrReturned) {
			return sense.State{}, err
		}
		limited, cancel := tk.run.Console.Clock().WithTimeout(ctx, each)
		var v sense.State
		v, err = tk.run.Console.Await(limited, func(v sense.State) bool { return v.AtPrompt })
		cancel()
		if err == nil {
			return v, nil
		}
		if ctx.Err() != nil || !errors.Is(err, context.DeadlineExceeded) {
			return v, err
		}
	}
	return sense.State{}, fmt.Errorf("no prompt after %d key presses: %s", times, tk.run.StateText())
}

// LastLines are the last two lines of an answer, in one.
func LastLines(output string) string {
	lines := strings.Split(strings.TrimSpace(output), "\n")
	return strings.Join(lines[max(0, len(lines)-2):], " / ")
}
