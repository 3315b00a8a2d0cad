package bench

import (
	"errors"
	"fmt"
	"slices"
	"strings"
)

// ErrFull is what a store without room answers.
var ErrFull = errors.New("no room in the store")

// File is a file of a store. A file whose writing was cut off is broken.
type File struct {
	Name   string
	Data   []byte
	Broken bool
}

// Store is what a device keeps without power.
type Store struct {
	Capacity int
	files    []File
}

// Put keeps a file, replacing one of the same name.
func (s *Store) Put(f File) error {
	if s.Free()+s.sizeOf(f.Name) < len(f.Data) {
		return fmt.Errorf("%w: %d B needed, %d free", ErrFull, len(f.Data), s.Free()+s.sizeOf(f.Name))
	}
	s.Drop(f.Name)
	s.files = append(s.files, f)
	slices.SortFunc(s.files, func(a, b File) int { return strings.Compare(a.Name, b.Name) })
	return nil
}

func (s *Store) sizeOf(name string) int {
	f, _ := s.Get(name)
	return len(f.Data)
}

// Get finds a file.
func (s *Store) Get(name string) (File, bool) {
	for _, f := range s.files {
		if f.Name == name {
			return f, true
		}
	}
	return File{}, false
}

// Drop removes one file and reports whether it was there.
func (s *Store) Drop(name string) bool {
	before := len(s.files)
	s.files = slices.DeleteFunc(s.files, func(f File) bool { return f.Name == name })
	return len(s.files) < before
}

// Empty removes everything.
func (s *Store) Empty() { s.files = nil }

// Files lists the files by name.
func (s *Store) Files() []File { return slices.Clone(s.files) }

// Free is the room left, in bytes.
func (s *Store) Free() int {
	free := s.Capacity
	for _, f := range s.files {
		free -= len(f.Data)
	}
	return free
}
