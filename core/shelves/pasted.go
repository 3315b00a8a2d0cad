package shelves

import (
	"context"
	"fmt"
	"path/filepath"
	"slices"
	"strings"

	"pilotrix/core/image"
)

// Paste remembers a published digest, as it was copied, of an image: of the file at place, or of what is inside it. It
// gives where that is and which algorithm it is of. A file that does not have the digest is an error; the digest is
// remembered all the same, so that the shelf goes on saying it.
func Paste(ctx context.Context, place, text string) (at Pasted, err error) {
	if place, err = filepath.Abs(place); err != nil {
		return at, err
	}
	published, err := image.ParsePasted(text)
	if err != nil {
		return at, &NoDigest{err}
	}
	all, endings, err := Headers(nil)
	if err != nil {
		return at, err
	}
	pasted := map[string][]image.Published{place: {published}}
	items, err := image.NewShelf(image.ShelfOptions{Headers: all, Endings: endings, Pasted: pasted}).Look(ctx, place)
	if err != nil {
		return at, err
	}
	key, held := place, heldBy(items[0], published)
	for _, item := range items {
		if inside := item.Image.Place(); item.Packed() && !held {
			pasted[inside] = []image.Published{published}
			if held = published.Holds(item.Digests); held {
				key = inside
			}
		}
	}
	err = Change(func(r *Register) error {
		same := func(p image.Published) bool { return p.Algorithm == published.Algorithm }
		r.Pasted[key] = append(slices.DeleteFunc(r.Pasted[key], same), published)
		return nil
	})
	if err == nil && !held {
		err = fmt.Errorf("%s does not have that %s: it is broken, or another file", place, published.Algorithm)
	}
	return Pasted{Place: place, Inside: strings.TrimPrefix(strings.TrimPrefix(key, place), "!"), Algorithm: published.Algorithm}, err
}

// Pasted is an image that has the digest that was pasted for it.
type Pasted struct {
	Place     string // the file
	Inside    string // the name inside the archive that the file is, empty for the file itself
	Algorithm string
}

// NoDigest is why a text is no digest.
type NoDigest struct{ error }

// heldBy reports whether a file has a digest, or the archive that an image is in.
func heldBy(item image.Item, published image.Published) bool {
	if item.Packed() {
		return published.Holds(item.Archive)
	}
	return published.Holds(item.Digests)
}
