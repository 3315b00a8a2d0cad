package line

import (
	"errors"
	"io"
	"sync"

	"pilotrix/core/clock"
)

// silence is the wire of a device that has no line: nothing comes, and nothing can be typed.
type silence struct {
	ended chan struct{}
	once  sync.Once
}

func newSilence() *silence { return &silence{ended: make(chan struct{})} }

// openNone opens none: what would be typed is answered by why it cannot be.
func openNone(t Target, c clock.Clock) Line {
	return newStream(t, newSilence(), c, func(err error) error {
		return &Error{
			Target: t,
			Reason: ErrCannot,
			Cause:  err,
			Remedy: "the device has no line here, so that nothing can be typed; open its console or a shell session for what types",
		}
	})
}

// errNoLine is the answer to everything that would be typed.
var errNoLine = errors.New("there is no line")

// Read implements io.Reader.
func (s *silence) Read([]byte) (int, error) {
	<-s.ended
	return 0, io.EOF
}

// Write implements io.Writer.
func (s *silence) Write([]byte) (int, error) { return 0, errNoLine }

// Close implements io.Closer.
func (s *silence) Close() error {
	s.once.Do(func() { close(s.ended) })
	return nil
}
