package session

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"
	"unicode/utf8"

	"pilotrix/core/event"
	"pilotrix/core/runbook/engine"
	"pilotrix/core/sense"
)

const (
	echoTries     = 4
	promptTries   = 4
	echoTimeLimit = 2500 * time.Millisecond // without a byte before an echo is taken as it is
	echoSilence   = 12 * time.Second        // before the first byte: a device may be busy, or flow control hold the line
	minOfWall     = 400 * time.Millisecond  // the same of the wall's time, where the device's runs faster
	wrongQuiet    = time.Second             // behind an echo that cannot become what was typed any more
	keyTimeLimit  = 400 * time.Millisecond  // for the echo of one key
	emptyLimit    = 5 * time.Second
)

// Command implements engine.Console: what is typed is ended only once it was seen to stand on the line as it
// was meant. A line that does not say so is emptied and typed again, key by key.
func (c console) Command(ctx context.Context, text string, how engine.Typing) error {
	d := c.s.Dialect()
	if how.Masks { // not even a piece of it is shown
		c.s.do(func() { c.s.secretTyped(false) })
		defer c.s.do(func() { c.s.secretTyped(true) })
	}
	if err := c.begins(ctx); err != nil {
		return err
	}
	if v := c.Device(); v.Pushed && v.AtPrompt && (v.Partial == "" || d.Clears() != "") {
		if err := c.promptAgain(ctx); err != nil {
			return err
		}
	}
	if how.Secret || how.Unseen || text == "" || !d.Echoes() {
		return c.send(ctx, text+d.Enter(), how, commandOf(text, how))
	}
	base := c.Device().Partial
	for try := 1; ; try++ {
		typedAt := c.Device().Bytes
		if err := c.keys(ctx, text, try > 1); err != nil {
			return err
		}
		v, err := c.awaitEcho(ctx, text, base, typedAt)
		switch {
		case err == nil && v.taken:
			c.s.do(func() { c.s.exchanges.Typed.Forget() })
			return nil
		case err == nil:
			return c.send(ctx, d.Enter(), how, commandOf(text, how))
		case !errors.Is(err, errEcho):
			return err
		}
		shown, _ := v.Typed()
		unseen := fmt.Errorf("“%s” was typed and not sent: no key of it came back; %s", text, unseenText(how))
		silent := c.Device().Bytes == typedAt
		if silent && (try == echoTries || d.Clears() == "") {
			return unseen
		}
		if try == echoTries || d.Clears() == "" {
			return fmt.Errorf("“%s” was typed and not sent: the device shows %q%s", text,
				sense.Sample([]byte(shown), 80), emptyText(d.Clears()))
		}
		c.Emit(event.Note{
			Level: event.Warning,
			Text: fmt.Sprintf("“%s” came back as %q: the line is emptied and it is typed again", text,
				sense.Sample([]byte(shown), 60)),
		})
		if err := c.empty(ctx, base, v.Partial); err != nil {
			if silent && ctx.Err() == nil &&
				!errors.Is(err, engine.ErrLineLost) { // nor did the key that empties the line
				return unseen
			}
			return err
		}
		if left := c.Device().Partial; left == strings.TrimRight(base, " ") {
			base = left // where a letter's echo was lost, the key has taken a blank of the prompt
		}
	}
}

// unseenText are what there is to say of a device that echoes no key.
func unseenText(how engine.Typing) string {
	if how.Fresh {
		return "where the device never echoes, the dialect says so (line: {echo: none})"
	}
	return "where this answer comes back only at its Enter, or not at all, the dialect says so at the question (echo: enter, or echo: none)"
}

func emptyText(key string) string {
	if key == "" {
		return "; the dialect knows no key that empties the line (line: clear)"
	}
	return ""
}

func commandOf(text string, how engine.Typing) string {
	if how.Secret {
		return ""
	}
	return text
}

// promptAgain asks for the prompt that log lines have pushed away.
func (c console) promptAgain(ctx context.Context) error {
	for range promptTries {
		c.s.do(func() {
			if c.s.helm.who == c.as && c.s.wire.line != nil {
				c.s.wake()
			}
		})
		limited, cancel := c.Clock().WithTimeout(ctx,
			max(emptyLimit, time.Duration(float64(minOfWall)*c.Clock().Scale())))
		v, err := c.Await(limited, func(v sense.State) bool { return v.AtPrompt })
		cancel()
		switch {
		case err != nil && ctx.Err() == nil && errors.Is(err, context.DeadlineExceeded):
			return errNoPrompt
		case err != nil || !v.Pushed: // one that is spoiled by noise is asked for again
			return err
		}
	}
	return errNoPrompt
}

var errNoPrompt = errors.New("log lines or noise spoiled the prompt, and Enter did not bring it back")

// keys types without an Enter; one by one, each after the echo of the previous one, when that is wanted.
func (c console) keys(ctx context.Context, text string, each bool) error {
	how := engine.Typing{}
	if !each {
		return c.send(ctx, text, how, "")
	}
	for _, key := range text {
		had := c.Device().Bytes
		if err := c.send(ctx, string(key), how, ""); err != nil {
			return err
		}
		limited, cancel := c.Clock().WithTimeout(ctx, keyTimeLimit)
		_, err := c.Await(limited, func(v sense.State) bool { return v.Bytes > had })
		cancel()
		if err != nil && (ctx.Err() != nil || !errors.Is(err, context.DeadlineExceeded)) {
			return err
		}
	}
	return nil
}

var errEcho = errors.New("the line does not show what was typed")

// echoed is the line after something was typed; taken says that the device has ended the line by itself.
type echoed struct {
	sense.State
	taken bool
}

// awaitEcho waits until the line shows what was typed, for as long as something comes.
func (c console) awaitEcho(ctx context.Context, text, base string, typedAt int64) (echoed, error) {
	v := c.Device()
	for {
		had := v.Bytes
		timeLimit := max(echoTimeLimit, time.Duration(float64(minOfWall)*c.Clock().Scale()))
		switch shown, known := v.Typed(); {
		case had == typedAt:
			timeLimit = max(timeLimit, echoSilence)
		case known && !strings.HasPrefix(text, strings.TrimRight(shown, " ")):
			timeLimit = max(wrongQuiet, time.Duration(float64(minOfWall/2)*c.Clock().Scale()))
		}
		limited, cancel := c.Clock().WithTimeout(ctx, timeLimit)
		now, err := c.Await(limited, func(v sense.State) bool { return v.Free && v.Shows(text, base) || v.Bytes > had })
		cancel()
		switch {
		case err != nil && ctx.Err() == nil && errors.Is(err, context.DeadlineExceeded):
			now = c.Device()
			if strings.TrimSpace(base) != "" && now.ShowsBefore(text, base) {
				return echoed{now, true}, nil // the question took its key at once
			}
			return echoed{now, false}, errEcho
		case err != nil:
			return echoed{}, err
		case now.Free && now.Shows(text, base):
			return echoed{now, false}, nil
		}
		v = now
	}
}

// empty empties the input line, and sees that it is. Noise on the line leaves marks on it that the device does
// not know of: where its key has taken away what else stood there, Enter brings a clean prompt.
func (c console) empty(ctx context.Context, base, before string) error {
	had := c.Device().Bytes
	if err := c.send(ctx, c.s.Dialect().Clears(), engine.Typing{}, ""); err != nil {
		return err
	}
	limited, cancel := c.Clock().WithTimeout(ctx, emptyLimit)
	defer cancel()
	_, err := c.Await(limited, func(v sense.State) bool {
		if v.Bytes == had {
			return false // what is there may only not have shown itself yet
		}
		typed, known := v.Typed()
		return v.Free && (known && strings.TrimSpace(typed) == "" || base != "" && v.Shows("", base))
	})
	if err == nil || ctx.Err() != nil || !errors.Is(err, context.DeadlineExceeded) {
		return err
	}
	v := c.Device()
	typed, known := v.Typed()
	if known && strings.TrimSpace(typed) == "" || base != "" && v.Shows("", base) {
		return nil // it was empty, and there was nothing to take away
	}
	if shrank := len(v.Partial) < len(before); shrank &&
		strings.ContainsFunc(typed, func(r rune) bool { return r >= utf8.RuneSelf }) {
		return c.promptAgain(ctx)
	}
	return fmt.Errorf("the line could not be emptied; it shows %q", sense.Sample([]byte(typed), 80))
}
