package line

import (
	"context"

	"pilotrix/core/clock"
)

func openExec(_ context.Context, t Target, _ clock.Clock) (Line, error) {
	return nil, &Error{
		Target: t,
		Reason: ErrCannot,
		Remedy: "a program on a pseudo-terminal is not available on Windows",
	}
}
