// Package ownfile reads and writes the small files that the program keeps for itself: the devices, the shelf, digests,
// leases. Whoever changes one has its lock, reads it then, and puts a whole new one in its place, so that of several
// programs none loses what another has written.
package ownfile

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"time"

	"github.com/gofrs/flock"
)

// Read is the whole file. One that is not there is fs.ErrNotExist; what is no file, such as a pipe, is refused: reading
// that may take for ever.
func Read(path string) ([]byte, error) {
	info, err := os.Stat(path)
	if err != nil {
		return nil, err
	}
	if !info.Mode().IsRegular() {
		return nil, fmt.Errorf("%s is no file", path)
	}
	return os.ReadFile(path)
}

// lockWait is how long another program that changes a file is waited for.
const lockWait = 10 * time.Second

// Change puts what change makes of a file in its place, nil for leaving it as it is. Old is nil where there is none.
// Whatever goes wrong, the old file stays.
func Change(path string, change func(old []byte) ([]byte, error)) error {
	place := path
	if linked, err := filepath.EvalSymlinks(path); err == nil {
		place = linked // a file that is kept elsewhere stays there
	}
	if err := os.MkdirAll(filepath.Dir(place), 0o700); err != nil {
		return err
	}
	lock := flock.New(place + ".lock")
	limited, cancel := context.WithTimeout(context.Background(), lockWait)
	defer cancel()
	if _, err := lock.TryLockContext(limited, 10*time.Millisecond); err != nil {
		if errors.Is(err, context.DeadlineExceeded) {
			return fmt.Errorf("%s: another program has held %s for %s; end that one, or try again", path, lock.Path(),
				lockWait)
		}
		return fmt.Errorf("%s: it cannot be locked: %w", path, err)
	}
	defer lock.Unlock() //nolint:errcheck // it ends with the file that holds it
	old, err := Read(place)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	data, err := change(old)
	if err != nil || data == nil {
		return err
	}
	return replace(place, data)
}

// Replace puts a new file in the place of one, whatever that held.
func Replace(path string, data []byte) error {
	return Change(path, func([]byte) ([]byte, error) { return data, nil })
}

// replace writes a file so that it is either the old one or the new one, whatever happens.
func replace(path string, data []byte) error {
	file, err := os.CreateTemp(filepath.Dir(path), ".new-*")
	if err != nil {
		return err
	}
	defer os.Remove(file.Name()) //nolint:errcheck // it is gone where it was given its name
	_, err = file.Write(data)
	if err = errors.Join(err, file.Sync(), file.Close()); err != nil {
		return err
	}
	return os.Rename(file.Name(), path)
}
