package ownfile

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
)

// WriteNew writes a file that was not there: beside its place first, so that no half file stays, and never over one
// that has come meanwhile.
func WriteNew(out string, mode fs.FileMode, write func(io.Writer) error) error {
	taken := fmt.Errorf("%s exists already: choose another name, or move it away", out)
	if _, err := os.Lstat(out); err == nil {
		return taken
	}
	file, err := os.CreateTemp(filepath.Dir(out), ".new-*")
	if err != nil {
		return fmt.Errorf("%s: %w", out, reason(err))
	}
	defer os.Remove(file.Name()) //nolint:errcheck // it is gone where it was given its name
	if err := errors.Join(write(file), file.Chmod(mode), file.Close()); err != nil {
		return fmt.Errorf("%s: %w", out, reason(err))
	}
	switch err := os.Link(file.Name(), out); {
	case err == nil:
		return nil
	case errors.Is(err, fs.ErrExist):
		return taken
	}
	return os.Rename(file.Name(), out) // a file system without links
}

// reason is why a file could not be written, without the name of the one beside it, which nobody has asked for.
func reason(err error) error {
	var path *fs.PathError
	if errors.As(err, &path) {
		return path.Err
	}
	return err
}
