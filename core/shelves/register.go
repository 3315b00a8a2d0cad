// Package shelves keeps which folders the shelf has and which digests were pasted, and makes the shelf of them.
package shelves

import (
	"cmp"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/adrg/xdg"

	"pilotrix/core/dialect"
	"pilotrix/core/image"
	"pilotrix/core/ownfile"
	"pilotrix/core/shipped"
	"pilotrix/core/source"
)

// Register is what the program remembers of the shelf: its folders, and digests that were pasted.
type Register struct {
	Folders []string                     `json:"folders"`
	Pasted  map[string][]image.Published `json:"pasted,omitempty"`
}

func registerPath() string { return filepath.Join(xdg.DataHome, "pilotrix", "shelf.json") }

// Load reads what is kept; nothing is kept where the file is not there.
func Load() (Register, error) {
	r := Register{Pasted: map[string][]image.Published{}}
	data, err := ownfile.Read(registerPath())
	if errors.Is(err, os.ErrNotExist) {
		return r, nil
	}
	if err == nil {
		err = json.Unmarshal(data, &r)
	}
	if err != nil {
		return r, fmt.Errorf("%s: %w; move it away to begin anew", registerPath(), err)
	}
	if r.Pasted == nil {
		r.Pasted = map[string][]image.Published{}
	}
	return r, nil
}

// Change changes it, one program at a time.
func Change(change func(*Register) error) error {
	return ownfile.Change(registerPath(), func([]byte) ([]byte, error) {
		r, err := Load()
		if err != nil {
			return nil, err
		}
		if err := change(&r); err != nil {
			return nil, err
		}
		return json.MarshalIndent(r, "", "  ")
	})
}

// patternFile holds a user's own patterns for what images say.
type patternFile struct {
	Image []dialect.Header `yaml:"image"`
}

func patternPath() string { return filepath.Join(xdg.ConfigHome, "pilotrix", "images.yaml") }

// Headers are the patterns of a dialect first, then of all that ship, then the user's own.
func Headers(d *dialect.Dialect) (all []image.Header, endings []string, err error) {
	know := func(d *dialect.Dialect) {
		all = append(all, d.Headers()...)
		if d.Document.Description != nil {
			endings = append(endings, d.Document.Description.Ending)
		}
	}
	if d != nil {
		know(d)
	}
	for _, name := range shipped.DialectNames() {
		shipped, err := shipped.Dialect(name)
		if err != nil {
			return nil, nil, err
		}
		know(shipped)
	}
	var own patternFile
	data, err := ownfile.Read(patternPath())
	switch {
	case errors.Is(err, os.ErrNotExist):
		return all, endings, nil
	case err != nil:
		return nil, nil, err
	}
	f, err := source.Decode(patternPath(), data, &own)
	if err != nil {
		return nil, nil, err
	}
	compiled, err := dialect.CompileHeaders(f, own.Image)
	return append(compiled, all...), endings, err
}

// New makes the shelf of some folders, or of those that are registered, without reading them.
func New(d *dialect.Dialect, folders []string) (*image.Shelf, error) {
	r, err := Load()
	if err != nil {
		return nil, err
	}
	if len(folders) == 0 {
		folders = r.Folders
	}
	all, endings, err := Headers(d)
	if err != nil {
		return nil, err
	}
	return image.NewShelf(image.ShelfOptions{
		Folders: folders,
		Headers: all,
		Endings: endings,
		Pasted:  r.Pasted,
		Cache:   filepath.Join(xdg.CacheHome, "pilotrix", "digests.json"),
	}), nil
}

// Add remembers a folder as one of the shelf's, and gives its whole path. One that is there
// already stays where it is.
func Add(place string) (string, error) {
	root, deep := strings.CutSuffix(place, image.Deep)
	root, err := filepath.Abs(root)
	if err != nil {
		return "", err
	}
	info, err := os.Stat(root)
	if err != nil {
		return "", err
	}
	if !info.IsDir() {
		return "", fmt.Errorf("%s is a file: a shelf is made of folders", root)
	}
	if deep {
		root += image.Deep
	}
	return root, Change(func(r *Register) error {
		if !slices.Contains(r.Folders, root) {
			r.Folders = append(r.Folders, root)
		}
		return nil
	})
}

// Forget takes a folder off the shelf, also one that is not there any more.
func Forget(place string) error {
	root, err := filepath.Abs(place)
	if err != nil {
		return err
	}
	return Change(func(r *Register) error {
		before := len(r.Folders)
		r.Folders = slices.DeleteFunc(r.Folders,
			func(one string) bool { return strings.TrimSuffix(one, image.Deep) == root })
		if len(r.Folders) == before {
			return fmt.Errorf("%s is %w; there are %s", root, ErrNotThere,
				cmp.Or(strings.Join(r.Folders, ", "), "none"))
		}
		return nil
	})
}

// ErrNotThere says that a folder is not on the shelf.
var ErrNotThere = errors.New("not on the shelf")
