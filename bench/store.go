package bench

import (
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"
)

// ErrFull is what a store without room answers.
var ErrFull = errors.New("no room in the store")

// File is a file of a store. A file whose writing was cut off is broken.
type File struct {
	Name   string
	Data   []byte
	Broken bool
}

// Store is what a device keeps without power. It may be looked at from outside while the device uses
// it.
type Store struct {
	Capacity int

	mu    sync.Mutex
	files []File
}

// Put keeps a file, replacing one of the same name.
func (s *Store) Put(f File) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	others := slices.DeleteFunc(slices.Clone(s.files), func(old File) bool { return old.Name == f.Name })
	if room := s.room(others); room < len(f.Data) {
		return fmt.Errorf("%w: %d B needed, %d free", ErrFull, len(f.Data), room)
	}
	s.files = append(others, f)
	slices.SortFunc(s.files, func(a, b File) int { return strings.Compare(a.Name, b.Name) })
	return nil
}

func (s *Store) room(files []File) int {
	room := s.Capacity
	for _, f := range files {
		room -= len(f.Data)
	}
	return room
}

// Get finds a file.
func (s *Store) Get(name string) (File, bool) {
	for _, f := range s.Files() {
		if f.Name == name {
			return f, true
		}
	}
	return File{}, false
}

// Drop removes one file and reports whether it was there.
func (s *Store) Drop(name string) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	before := len(s.files)
	s.files = slices.DeleteFunc(s.files, func(f File) bool { return f.Name == name })
	return len(s.files) < before
}

// Remember returns what puts the files back as they are now.
func (s *Store) Remember() (restore func()) {
	files := s.Files()
	return func() {
		s.mu.Lock()
		defer s.mu.Unlock()
		s.files = files
	}
}

// Empty removes everything.
func (s *Store) Empty() {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.files = nil
}

// Files lists the files by name.
func (s *Store) Files() []File {
	s.mu.Lock()
	defer s.mu.Unlock()
	return slices.Clone(s.files)
}

// Free is the room left, in bytes.
func (s *Store) Free() int { return s.room(s.Files()) }

// Keep writes a file into a store at so many bytes a second. A power cut meanwhile leaves it broken.
func (s *Shell) Keep(to *Store, f File, rate float64) error {
	broken := f
	broken.Broken = true
	if err := to.Put(broken); err != nil {
		return err
	}
	length := time.Duration(float64(len(f.Data)) / rate * float64(time.Second))
	if !s.Dots("  writing ", 20, length, " ") || !s.Stall() {
		return s.err
	}
	return to.Put(f)
}
