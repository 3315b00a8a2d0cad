package transfer

import (
	"errors"
	"fmt"
	"io"
)

// Whole reads a file of a known size that is being sent, and fails where the file ends sooner or goes on
// longer: it was changed meanwhile, and a receiver would take what it got for the whole. A size below 0 is
// not known, and nothing is held to it.
func Whole(from io.Reader, size int64) io.Reader {
	if size < 0 {
		return from
	}
	return &whole{from: from, size: size, left: size}
}

// ErrChanged says that a file is not what was staged any more.
var ErrChanged = errors.New("it was changed meanwhile")

type whole struct {
	from       io.Reader
	size, left int64
}

func (w *whole) Read(p []byte) (int, error) {
	if len(p) == 0 {
		return 0, nil
	}
	n, err := w.from.Read(p[:min(int64(len(p)), w.left+1)])
	switch w.left -= int64(n); {
	case w.left < 0:
		w.left = 0
		return 0, fmt.Errorf("it goes on after its %d B: %w", w.size, ErrChanged)
	case err == io.EOF && w.left > 0:
		return n, fmt.Errorf("it ends %d B before its %d B: %w", w.left, w.size, ErrChanged)
	}
	return n, err
}
