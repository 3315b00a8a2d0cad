// Package offertest makes files in memory for tests of what serves them.
package offertest

import (
	"bytes"
	"crypto/sha256"
	"fmt"
	"io"

	"pilotrix/core/offer"
)

// File is a file of that name and content.
func File(name string, data []byte) offer.File { return Changing(name, data, len(data), len(data)) }

// Shrunk is a file whose content ends sooner than it was staged with: somebody cuts it while it is sent.
func Shrunk(name string, data []byte, ends int) offer.File {
	return Changing(name, data, len(data), ends)
}

// Grown is a file of which only the beginning was staged: somebody adds to it while it is sent.
func Grown(name string, data []byte, staged int) offer.File {
	return Changing(name, data, staged, len(data))
}

// Changing is a file that has the length it was staged with while it is opened, and another one when it is read.
func Changing(name string, data []byte, staged, ends int) offer.File {
	return offer.File{
		Name:   name,
		Size:   int64(staged),
		SHA256: fmt.Sprintf("%x", sha256.Sum256(data)),
		Open: func() (io.ReadSeekCloser, error) {
			return &file{Reader: bytes.NewReader(data), staged: int64(staged), ends: int64(ends)}, nil
		},
	}
}

type file struct {
	*bytes.Reader
	staged, ends int64
}

// Seek knows the length that was staged.
func (f *file) Seek(offset int64, whence int) (int64, error) {
	if whence == io.SeekEnd {
		offset, whence = f.staged+offset, io.SeekStart
	}
	return f.Reader.Seek(offset, whence)
}

func (f *file) Read(p []byte) (int, error) {
	at := f.Size() - int64(f.Len())
	if at >= f.ends {
		return 0, io.EOF
	}
	return f.Reader.Read(p[:min(int64(len(p)), f.ends-at)])
}

// WriteTo hides that of bytes.Reader, which knows no earlier end.
func (f *file) WriteTo(w io.Writer) (int64, error) {
	return io.Copy(w, struct{ io.Reader }{f})
}

func (*file) Close() error { return nil }
