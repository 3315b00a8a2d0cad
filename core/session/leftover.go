package session

import (
	"context"
	"fmt"
	"strings"

	"pilotrix/core/event"
	"pilotrix/core/runbook/engine"
	"pilotrix/core/sense"
)

// What either writer has left on the device's line belongs to the next Enter, whoever presses it: it is emptied
// before the runbook types a line of its own, and what the runbook has left is where the operator's line begins.

// takeOver notes that the operator may do anything from here on. What the runbook has half typed is the beginning of
// its line.
func (s *Session) takeOver() { s.doubts.add("you had the helm") }

// runs follows what the runbook types: what it empties the line with takes all of it away.
func (s *Session) runs(text string, v sense.State) {
	line := &s.exchanges.Typed
	if text == s.Dialect().Clears() {
		line.Forget()
		s.guard.stranded = ""
		return
	}
	line.Begin(s.writer(), v, s.opt.Clock.Now())
	line.Keys = append(line.Keys, text...)
}

// left is what was left on the line and not ended, in words; empty when nothing was. A line is over when the device
// has put a prompt, or a mode that has none, since, and shows nothing after it. What the device does not show may be
// a password, and is not named.
func (k *guard) left(v sense.State) string {
	shown, known := v.Typed()
	shown = strings.TrimSpace(shown)
	switch {
	case k.held != nil:
		return "“" + k.command + "”"
	case k.stranded != "":
		return "“" + strings.TrimSpace(k.whole(string(k.line.Keys))) + "”"
	case k.line.Empty():
		return ""
	case known && shown != "":
		return "“" + shown + "”"
	case k.line.Ended(v):
		return ""
	}
	return "something that the device does not show"
}

// clearLeft empties the line of what was left on it, before the runbook types. What cannot be emptied is not typed
// behind.
func (c console) clearLeft(ctx context.Context) error {
	var left string
	var v sense.State
	c.s.do(func() {
		v = c.s.sense.State()
		if c.s.helm.who == c.as {
			left = c.s.guard.left(v)
		}
	})
	if left == "" {
		return nil
	}
	if c.s.Dialect().Clears() == "" {
		return fmt.Errorf("%s stands on the line and was not sent%s; take the helm, send or erase it, then go on", left,
			emptyText(""))
	}
	c.Emit(event.Note{
		Level: event.Warning,
		Text:  fmt.Sprintf("%s stands on the line and was not sent: it is emptied before the runbook types", left),
	})
	if err := c.wipe(ctx, v); err != nil {
		return fmt.Errorf("%s stands on the line and was not sent: %w", left, err)
	}
	c.s.do(func() {
		if c.s.helm.who == c.as {
			c.s.forgetHeld()
			c.s.exchanges.Typed.Forget()
			c.s.guard.stranded = ""
		}
	})
	return nil
}

// Tidy implements engine.Console.
func (c console) Tidy(ctx context.Context) error {
	if shown, known := c.Device().Typed(); !known || strings.TrimSpace(shown) == "" {
		return nil // what the device does not show may be the beginning of a start, which no key is to stop
	}
	return c.clearLeft(ctx)
}

// wipe empties the line and sees that it is. Where nothing of it is shown there is nothing to see: the device may be
// off. The key goes before whatever is typed then.
func (c console) wipe(ctx context.Context, v sense.State) error {
	if shown, known := v.Typed(); !known || strings.TrimSpace(shown) == "" {
		return c.send(ctx, c.s.Dialect().Clears(), engine.Typing{}, "")
	}
	return c.empty(ctx, "", v.Partial)
}

// GiveHelm gives the helm back to a runbook that waits for it. While an interlock holds an Enter only a stop is
// taken: the Enter is the operator's to send or to change.
func (s *Session) GiveHelm(as engine.Wish) {
	s.do(func() {
		if s.guard.held != nil && as != engine.Stop {
			s.hub.Emit(event.Note{
				Level: event.Warning,
				Text: fmt.Sprintf(
					"the helm is not given back while the Enter behind “%s” is held: send it, or change the line",
					s.guard.command),
			})
			return
		}
		s.helm.back(as)
	})
}
