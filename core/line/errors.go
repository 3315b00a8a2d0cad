package line

import (
	"context"
	"errors"
)

// Reasons for which a line cannot be opened or ended. Test with errors.Is.
var (
	ErrNoSuch     = errors.New("does not exist")
	ErrPermission = errors.New("may not be opened by this user")
	ErrInUse      = errors.New("is in use")
	ErrUnplugged  = errors.New("went away")
	ErrClosed     = errors.New("was closed")
	ErrRefused    = errors.New("did not take the connection")
	ErrCannot     = errors.New("cannot do that")
)

// Error says what happened to which target and what to do next.
type Error struct {
	Target Target
	Reason error  // one of the reasons above, or nil
	Cause  error  // what the system said, may be nil
	Remedy string // what to do next, may be empty
}

func (e *Error) Error() string {
	text := e.Target.Kind + ":" + e.Target.Address
	switch {
	case e.Reason != nil:
		text += " " + e.Reason.Error()
	case e.Cause != nil:
		text += ": " + e.Cause.Error()
	}
	if e.Remedy != "" {
		text += ": " + e.Remedy
	}
	return text
}

// Unwrap gives both the reason and the system's error to errors.Is.
func (e *Error) Unwrap() []error {
	var all []error
	for _, err := range []error{e.Reason, e.Cause} {
		if err != nil {
			all = append(all, err)
		}
	}
	return all
}

// ended reports whether err only says that the caller gave up.
func ended(err error) bool {
	return errors.Is(err, context.Canceled) || errors.Is(err, context.DeadlineExceeded)
}
