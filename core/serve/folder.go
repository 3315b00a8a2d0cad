package serve

import (
	"context"
	"fmt"
	"io"
	"maps"
	"slices"

	"pilotrix/core/event"
	"pilotrix/core/image"
	"pilotrix/core/offer"
)

// OfferOf offers a plain image under a name, as long as the file is the one that was hashed.
func OfferOf(img *image.Image, name string) offer.File {
	return offer.File{
		Name:     name,
		Size:     img.Size,
		Modified: img.Modified,
		SHA256:   img.SHA256,
		Open:     func() (io.ReadSeekCloser, error) { return img.Reader() },
	}
}

// Folder offers on a dock what a shelf holds, and follows it: a file that comes is offered, one that goes
// or is changed is withdrawn. It belongs to one goroutine.
type Folder struct {
	ctx      context.Context
	dock     *Dock
	by       string
	unpacker *image.Unpacker
	offered  map[string]standing // by name
	remarks  map[string]bool
}

// standing is an offer that stands.
type standing struct {
	img      *image.Image
	withdraw func()
}

// NewFolder makes one that offers by servers (in words). Images in archives are unpacked by unpacker when
// they are asked for, which ends with ctx.
func NewFolder(ctx context.Context, dock *Dock, by string, unpacker *image.Unpacker) *Folder {
	return &Folder{
		ctx:      ctx,
		dock:     dock,
		by:       by,
		unpacker: unpacker,
		offered:  map[string]standing{},
		remarks:  map[string]bool{},
	}
}

// Follow offers these items and no others, and returns how many that are. What is wrong with one is reported
// once: a file that cannot be read or is no image inside its archive, a name that two different files
// have (neither is offered), a digest that is not the published one (the file is offered all the same).
func (f *Folder) Follow(items []image.Item) int {
	remarks := map[string]bool{}
	wanted := f.wanted(items, remarks)
	for name, was := range f.offered {
		if now, still := wanted[name]; !still || !was.is(now.Image) {
			was.withdraw()
			delete(f.offered, name)
		}
	}
	for _, name := range slices.Sorted(maps.Keys(wanted)) {
		if _, stands := f.offered[name]; stands {
			continue
		}
		img := wanted[name].Image
		offer := OfferOf(img, name)
		if img.Packed() {
			offer.Open = func() (io.ReadSeekCloser, error) { return f.unpacked(img) }
		}
		withdraw, err := f.dock.Offer(offer, f.by)
		if err != nil {
			remarks[err.Error()] = true
			continue
		}
		f.offered[name] = standing{img, withdraw}
	}
	f.report(remarks)
	return len(f.offered)
}

// is reports whether an image is still the one that is offered.
func (s standing) is(img *image.Image) bool {
	return s.img.SHA256 == img.SHA256 && s.img.Modified.Equal(img.Modified) && s.img.Place() == img.Place()
}

// wanted are the items to offer, by name.
func (f *Folder) wanted(items []image.Item, remarks map[string]bool) map[string]image.Item {
	wanted, double := map[string]image.Item{}, map[string]bool{}
	for _, item := range items {
		if item.Problem != "" {
			remarks[item.Name+": "+item.Problem] = true
		}
		if item.SHA256 == "" {
			continue
		}
		for _, p := range item.Published {
			if !p.Holds {
				remarks[item.Name+": "+p.Differs()] = true
			}
		}
		other, there := wanted[item.Name]
		if there && other.SHA256 != item.SHA256 {
			double[item.Name] = true
			remarks[fmt.Sprintf("%s is not offered: %s and %s have different files of that name", item.Name, other.Path,
				item.Path)] = true
		}
		if !there || other.Packed() {
			wanted[item.Name] = item // a plain file is available sooner than a packed one
		}
	}
	maps.DeleteFunc(wanted, func(name string, _ image.Item) bool { return double[name] })
	return wanted
}

// unpacked opens an image that is inside an archive; it is unpacked the first time.
func (f *Folder) unpacked(img *image.Image) (io.ReadSeekCloser, error) {
	plain, err := f.unpacker.Plain(f.ctx, img, nil)
	if err != nil {
		return nil, err
	}
	return plain.Reader()
}

// report says what was not said before; what is no longer wrong may be said again later.
func (f *Folder) report(remarks map[string]bool) {
	for _, text := range slices.Sorted(maps.Keys(remarks)) {
		if !f.remarks[text] {
			f.dock.opt.Emit(event.Note{Level: event.Warning, Text: text})
		}
	}
	f.remarks = remarks
}
