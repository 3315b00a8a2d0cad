package transfer

import (
	"cmp"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
)

// Create makes the file that is received, which was not there: at the path, or where the protocol says names in that
// folder, under the last part of the name that the sender said.
func Create(to, said string, named bool) (*os.File, error) {
	path := to
	if named {
		name := said[strings.LastIndexAny(said, `/\`)+1:]
		if name == "" || name == "." || name == ".." {
			return nil, fmt.Errorf("the sender calls the file %q, which is no name", said)
		}
		path = filepath.Join(cmp.Or(to, "."), name)
	}
	file, err := os.OpenFile(path, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o644)
	if errors.Is(err, os.ErrExist) {
		return nil, fmt.Errorf("%s is there already and is not overwritten; move it away or choose another --to", path)
	}
	return file, err
}

// partly ends the name of what is left of a transfer that failed: a file that is cut short must not pass for
// a whole one.
const partly = ".part"

// KeepPart gives what a failed transfer left a name that says so; what holds nothing is removed.
func KeepPart(path string, failure error) error {
	info, err := os.Stat(path)
	switch {
	case err != nil:
		return failure
	case info.Size() == 0:
		return errors.Join(failure, os.Remove(path))
	}
	if err := os.Rename(path, path+partly); err != nil {
		return errors.Join(failure, err)
	}
	return fmt.Errorf("%w; the %d B that came are kept as %s", failure, info.Size(), path+partly)
}
