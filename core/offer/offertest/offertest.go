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
func File(name string, data []byte) offer.File {
	return Shrunk(name, data, len(data))
}

// Shrunk is a file whose content ends sooner than it was staged with: somebody cuts it while it is sent.
func Shrunk(name string, data []byte, ends int) offer.File {
	return offer.File{
		Name:   name,
		Size:   int64(len(data)),
		SHA256: fmt.Sprintf("%x", sha256.Sum256(data)),
		Open: func() (io.ReadSeekCloser, error) {
			return &file{Reader: bytes.NewReader(data), ends: int64(ends)}, nil
		},
	}
}

type file struct {
	*bytes.Reader
	ends int64
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
