package runbook

import (
	"context"
	"errors"
	"fmt"
	"time"

	"pilotrix/core/event"
)

// Whether it is still the same device: after a lost line, a restart, or on the way back in a run.

const identityTimeout = 20 * time.Second

// sameDevice holds, after the line was lost, that the device behind it is still the one that was read before.
// Where that cannot be read now it is said, and nothing more.
func (e *Engine) sameDevice(ctx context.Context, s *PreparedStep) error {
	for {
		held, release := e.console.WithHelm(ctx)
		err := e.identify(held, s)
		release()
		if !errors.Is(err, ErrHelm) || ctx.Err() != nil {
			return err
		}
		switch wish, err := e.console.AwaitHelm(ctx); {
		case err != nil:
			return err
		case wish == Stop:
			return fmt.Errorf("%w before the device was known to be the same", errStopped)
		}
	}
}

// sameDeviceHere holds the same where the device may have restarted, or the run goes back; it is read only where
// nothing has to be typed to get there.
func (e *Engine) sameDeviceHere(ctx context.Context, s *PreparedStep) error {
	if id := e.p.Dialect.Identity; id == nil || !e.readable(e.p.Dialect.Reading(id.Read)) {
		return nil
	}
	return e.identify(ctx, s)
}

func (e *Engine) identify(ctx context.Context, s *PreparedStep) error {
	id := e.p.Dialect.Identity
	if id == nil {
		return nil
	}
	before, known := e.facts.Get(id.Fact)
	if !known {
		return nil
	}
	limited, cancel := e.console.Clock().WithTimeout(ctx, identityTimeout)
	defer cancel()
	if err := e.readOne(limited, s, e.p.Dialect.Reading(id.Read)); err != nil {
		if ctx.Err() != nil {
			return causeOf(ctx, err)
		}
		e.console.Emit(event.Note{Level: event.Warning, Text: "whether this is still " + before.Text + " cannot be read now"})
		return nil
	}
	if now, _ := e.facts.Get(id.Fact); now.Text != before.Text {
		return fmt.Errorf("%w: another device is on the line now: %s reads %s, was %s", errStopped, id.Fact, now.Text, before.Text)
	}
	return nil
}
