package line

import (
	"errors"
	"io"
	"sync"
)

// silence is the wire of a device that has no line: nothing comes, and nothing can be typed.
type silence struct {
	ended chan struct{}
	once  sync.Once
}

func newSilence() *silence { return &silence{ended: make(chan struct{})} }

// errNoLine is the answer to everything that would be typed.
var errNoLine = errors.New("this device has no line here: nothing can be typed")

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
