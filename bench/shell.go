package bench

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"strings"
	"time"

	"pilotrix/core/carrier"
)

// Shell is a command line on a wire: echo, line editing, words.
type Shell struct {
	Wire   *Wire
	Prompt func() string
	Words  []Word
	// Idle, when set, is called when no key came for IdleAfter while nothing is typed.
	Idle      func(context.Context) error
	IdleAfter time.Duration
}

// Word is one command. Run gets what was typed after it.
type Word struct {
	Name, Usage, About string
	Run                func(ctx context.Context, rest []string) error
}

// What a word returns to end the shell it runs in.
var (
	ErrLeave   = errors.New("leave the shell")
	ErrRestart = errors.New("restart")
)

// Run reads and carries out lines until ctx ends or a word leaves; the word's other errors are shown
// to the user.
func (s *Shell) Run(ctx context.Context) error {
	for {
		if err := s.Say(ctx, s.Prompt()); err != nil {
			return err
		}
		text, err := s.ReadLine(ctx, true)
		if err != nil {
			return err
		}
		if err := s.obey(ctx, strings.Fields(text)); err != nil {
			return err
		}
	}
}

// obey finds the longest word that the line begins with.
func (s *Shell) obey(ctx context.Context, typed []string) error {
	if len(typed) == 0 {
		return nil
	}
	for n := min(len(typed), 2); n > 0; n-- {
		name := strings.Join(typed[:n], " ")
		for _, word := range s.Words {
			if word.Name != name {
				continue
			}
			err := word.Run(ctx, typed[n:])
			if err == nil || errors.Is(err, ErrLeave) || errors.Is(err, ErrRestart) || ctx.Err() != nil {
				return err
			}
			return s.Say(ctx, "  "+err.Error()+"\r\n")
		}
	}
	return s.Say(ctx, fmt.Sprintf("  no such word: %s; words lists them\r\n", typed[0]))
}

// Help lists the words.
func (s *Shell) Help(ctx context.Context) error {
	for _, word := range s.Words {
		if err := s.Sayf(ctx, "  %-24s %s\r\n", strings.TrimSpace(word.Name+" "+word.Usage), word.About); err != nil {
			return err
		}
	}
	return nil
}

// Say writes text as it is.
func (s *Shell) Say(ctx context.Context, text string) error { return s.Wire.Write(ctx, []byte(text)) }

// Sayf writes formatted text.
func (s *Shell) Sayf(ctx context.Context, format string, args ...any) error {
	return s.Say(ctx, fmt.Sprintf(format, args...))
}

// Dots shows progress: dots over that time, with texts around them.
func (s *Shell) Dots(ctx context.Context, before string, dots int, over time.Duration, after string) error {
	if err := s.Say(ctx, before); err != nil {
		return err
	}
	for range dots {
		if err := s.Wire.clock.Wait(ctx, over/time.Duration(dots)); err != nil {
			return err
		}
		if err := s.Say(ctx, "."); err != nil {
			return err
		}
	}
	return s.Say(ctx, after)
}

// Ask writes a question and returns the line typed.
func (s *Shell) Ask(ctx context.Context, question string) (string, error) {
	if err := s.Say(ctx, question); err != nil {
		return "", err
	}
	return s.ReadLine(ctx, true)
}

const keyWait = 100 * time.Millisecond

// Key waits for one key, for at most that long; ok is false when none came.
func (s *Shell) Key(ctx context.Context, wait time.Duration) (key byte, ok bool, err error) {
	var one [1]byte
	_, err = s.Wire.Read(ctx, one[:], wait)
	if errors.Is(err, io.ErrNoProgress) {
		return 0, false, nil
	}
	return one[0], err == nil, err
}

// ReadLine reads a line with the usual editing keys. Nothing is shown of it when echo is off.
func (s *Shell) ReadLine(ctx context.Context, echo bool) (string, error) {
	var typed []byte
	idle := time.Duration(0)
	for {
		key, ok, err := s.Key(ctx, keyWait)
		if err != nil {
			return "", err
		}
		if !ok {
			idle += keyWait
			if s.Idle != nil && len(typed) == 0 && idle >= s.IdleAfter {
				idle = 0
				if err := s.Idle(ctx); err != nil {
					return "", err
				}
			}
			continue
		}
		idle = 0
		shown := ""
		switch {
		case key == '\r' || key == '\n':
			return string(typed), s.Say(ctx, "\r\n")
		case key == 0x03: // Ctrl-C
			return "", s.Say(ctx, "^C\r\n")
		case key == 0x15 || key == 0x18: // Ctrl-U, Ctrl-X
			shown = strings.Repeat("\b \b", len(typed))
			typed = typed[:0]
		case key == 0x08 || key == 0x7f:
			if len(typed) > 0 {
				typed, shown = typed[:len(typed)-1], "\b \b"
			}
		case key >= 0x20 && key < 0x7f:
			typed, shown = append(typed, key), string(rune(key))
		}
		if echo && shown != "" {
			if err := s.Say(ctx, shown); err != nil {
				return "", err
			}
		}
	}
}

// Port lets a carrier of the program's own kind run on the device.
type Port struct{ *Wire }

// Read implements carrier.Port.
func (p Port) Read(ctx context.Context, out []byte, wait time.Duration) (int, error) {
	n, err := p.Wire.Read(ctx, out, wait)
	if errors.Is(err, io.ErrNoProgress) {
		err = carrier.ErrSilent
	}
	return n, err
}

// Unread implements carrier.Unreader: what follows a transfer is for the shell.
func (p Port) Unread(data []byte) { p.rest = append(bytes.Clone(data), p.rest...) }
