package demo

import (
	"crypto/sha256"
	"crypto/sha512"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
)

// shelf is that of a scene, as it is made in a folder: files, and a list of the digests that are published of some.
type shelf struct {
	folder string
	list   strings.Builder
	err    error
}

// shelfIn begins the shelf of a scene.
func shelfIn(folder string) *shelf { return &shelf{folder: filepath.Join(folder, "shelf")} }

// put puts a file there.
func (s *shelf) put(name string, data []byte) {
	s.err = errors.Join(s.err, write(s.folder, name, data))
}

// publish puts a file there whose digest is published.
func (s *shelf) publish(name string, data []byte) {
	s.put(name, data)
	s.lists(name, data)
}

// lists publishes the digest of some data under a name.
func (s *shelf) lists(name string, data []byte) {
	fmt.Fprintf(&s.list, "%x  %s\n", sha256.Sum256(data), name)
}

// lists512 is lists by SHA-512.
func (s *shelf) lists512(name string, data []byte) {
	fmt.Fprintf(&s.list, "%x  %s\n", sha512.Sum512(data), name)
}

// with ends the shelf with its list under that name.
func (s *shelf) with(list string) error {
	s.put(list, []byte(s.list.String()))
	return s.err
}

// sha256Sums is what a list of digests is called.
const sha256Sums = "SHA256SUMS"

func write(folder, name string, data []byte) error {
	if err := os.MkdirAll(folder, 0o700); err != nil {
		return err
	}
	return os.WriteFile(filepath.Join(folder, name), data, 0o600)
}
