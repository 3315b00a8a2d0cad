package image

import (
	"cmp"
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"path"
	"path/filepath"
	"reflect"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/fsnotify/fsnotify"

	"pilotrix/core/device"
	"pilotrix/core/plain"
	"pilotrix/core/units"
)

// Item is one image on the shelf.
type Item struct {
	*Image
	Published []Checked // digests that others say it has
	Archive   Digests   // of the archive that it is in
	Kind      string    // of archive that it is itself, and is sent whole as; empty for any other file
	Lists     []string  // why a list beside it may hold a digest of it that was not read
	Problem   string    // why it could not be read
}

// Checked is a published digest held against the computed one.
type Checked struct {
	Published
	OfArchive bool // it is that of the archive, not of the image inside
	Holds     bool
}

// Differs says in words that the digest does not hold.
func (c Checked) Differs() string {
	whose := "its"
	if c.OfArchive {
		whose = "its archive's"
	}
	return fmt.Sprintf("%s %s is not the one published in %s: it is broken, or another file", whose, c.Algorithm,
		c.From)
}

// Broken reports whether a published digest says that this is another file.
func (i Item) Broken() bool {
	return slices.ContainsFunc(i.Published, func(p Checked) bool { return !p.Holds })
}

// Proved reports whether at least one digest was published, and all hold.
func (i Item) Proved() bool { return len(i.Published) > 0 && !i.Broken() }

// Release is the image's release in the order of its device's maker, nil for the usual one; said is false when it says
// none.
func (i Item) Release(order *device.Order) (r device.Release, said bool) {
	r, err := order.Parse(i.Says[SaysRelease])
	return r, err == nil
}

// orderOf is how a device's releases are ordered, as far as one was read.
func orderOf(facts *device.Facts) *device.Order {
	fact, _ := facts.Get(FactRelease)
	release, _ := fact.Value.(device.Release)
	return release.Order()
}

// Shelf is a set of folders. It may be used by several goroutines.
type Shelf struct {
	headers []Header
	endings []string
	marks   string
	cache   *cache
	pasted  map[string][]Published // by path, or path and place inside
	now     func() time.Time
	added   chan struct{} // a folder came that Watch does not know yet

	mu      sync.Mutex
	folders []string
	items   []Item
}

// ShelfOptions is what a shelf needs.
type ShelfOptions struct {
	Folders []string
	Headers []Header
	Endings []string               // of build descriptions, which lie beside their images: they are none themselves
	Cache   string                 // a file, empty keeps nothing
	Pasted  map[string][]Published // digests pasted for a path
	Now     func() time.Time
}

// NewShelf makes a shelf; Scan reads it.
func NewShelf(opt ShelfOptions) *Shelf {
	s := &Shelf{
		folders: slices.Clone(opt.Folders),
		headers: opt.Headers,
		endings: opt.Endings,
		cache:   openCache(opt.Cache),
		pasted:  opt.Pasted,
		now:     opt.Now,
		added:   make(chan struct{}, 1),
	}
	if s.now == nil {
		s.now = time.Now
	}
	marks := sha256.New()
	fmt.Fprintln(marks, "2") // of what is kept of a file
	for _, h := range opt.Headers {
		fmt.Fprintln(marks, h.Name, h.Pattern, h.InName)
	}
	s.marks = fmt.Sprintf("%x", marks.Sum(nil)[:8])
	return s
}

// Folders lists the shelf's folders.
func (s *Shelf) Folders() []string {
	s.mu.Lock()
	defer s.mu.Unlock()
	return slices.Clone(s.folders)
}

// Add puts a folder on the shelf. The next Scan reads it; a Watch that is under way does so at once.
func (s *Shelf) Add(folder string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if slices.Contains(s.folders, folder) {
		return
	}
	s.folders = append(s.folders, folder)
	select {
	case s.added <- struct{}{}:
	default: // it will look at all of them
	}
}

// Items lists what the last scan found: newest release first, then by name.
func (s *Shelf) Items() []Item {
	s.mu.Lock()
	defer s.mu.Unlock()
	return slices.Clone(s.items)
}

// Progress is how far a scan is.
type Progress struct {
	File         string
	Files, Total int
	Bytes        int64 // of this file
}

// Scan reads the folders. What is known of a file by its identity is not computed again. A folder that
// cannot be read is an error; a file that cannot be is an Item with a Problem.
func (s *Shelf) Scan(ctx context.Context, progress func(Progress)) error {
	_, err := s.scan(ctx, progress, func(string) bool { return false })
	return err
}

// maxDeep is how far below a folder its subfolders are read, where they are.
const maxDeep = 8

// Deep ends the name of a folder whose subfolders are on the shelf as well.
const Deep = string(filepath.Separator) + "**"

// places are the folders that are read: those of the shelf, with their subfolders where these are on it.
func (s *Shelf) places() (all []string, failed error) {
	for _, folder := range s.Folders() {
		root, deep := strings.CutSuffix(folder, Deep)
		if !deep {
			all = append(all, folder)
			continue
		}
		err := filepath.WalkDir(root, func(place string, d fs.DirEntry, err error) error {
			switch {
			case err != nil:
				return err
			case !d.IsDir():
				return nil
			case place != root && strings.HasPrefix(d.Name(), "."),
				strings.Count(place[len(root):], string(filepath.Separator)) > maxDeep:
				return filepath.SkipDir
			}
			all = append(all, place)
			return nil
		})
		if err != nil {
			failed = errors.Join(failed, fmt.Errorf("shelf: %w", err))
		}
	}
	return all, failed
}

// neighbours are what lies beside the files of a scan.
type neighbours struct {
	folders map[string]*beside
	says    map[string][]Published // by path
}

// neighboursOf reads the lists of folders and finds their files.
func neighboursOf(folders, endings []string) (near neighbours, files []string, failed error) {
	near = neighbours{map[string]*beside{}, map[string][]Published{}}
	for _, folder := range folders {
		entries, err := os.ReadDir(folder)
		if err != nil {
			failed = errors.Join(failed, fmt.Errorf("shelf: %w", err))
			continue
		}
		var names []string
		for _, entry := range entries {
			if !strings.HasPrefix(entry.Name(), ".") && !entry.IsDir() {
				names = append(names, entry.Name())
			}
		}
		near.add(newExtra(folder, names))
		for _, name := range names {
			if !isSidecar(name) && !describes(name, names, endings) {
				files = append(files, filepath.Join(folder, name))
			}
		}
	}
	return near, files, failed
}

// describes reports whether a file is the build description of another one beside it, by the folder's names in their
// order.
func describes(name string, names, endings []string) bool {
	return slices.ContainsFunc(endings, func(ending string) bool {
		of, ok := strings.CutSuffix(name, ending)
		_, beside := slices.BinarySearch(names, of)
		return ok && of != "" && beside
	})
}

func (n neighbours) add(b *beside) {
	n.folders[b.folder] = b
	for place, says := range b.says {
		n.says[place] = append(n.says[place], says...)
	}
}

// needs are the algorithms, besides the usual ones, that a digest of a file was published by; of what is inside an
// archive any of its folder may be.
func (n neighbours) needs(place string, archive bool) (more []string) {
	add := func(all []Published) {
		for _, p := range all {
			if !slices.Contains(usual, p.Algorithm) && !slices.Contains(more, p.Algorithm) {
				more = append(more, p.Algorithm)
			}
		}
	}
	add(n.says[place])
	if b := n.folders[filepath.Dir(place)]; archive && b != nil {
		for _, all := range b.says {
			add(all)
		}
	}
	slices.Sort(more)
	return more
}

// scan is Scan without the files that change just now, and says whether there are any.
func (s *Shelf) scan(
	ctx context.Context, progress func(Progress), changes func(place string) bool,
) (changing bool, err error) {
	folders, failed := s.places()
	near, files, unread := neighboursOf(folders, s.endings)
	failed = errors.Join(failed, unread)
	pasted := s.pastedFor()
	var items []Item
	for n, place := range files {
		if ctx.Err() != nil {
			return false, ctx.Err()
		}
		if changes(place) {
			changing = true
			continue
		}
		report := func(bytes int64) {
			if progress != nil {
				progress(Progress{place, n, len(files), bytes})
			}
		}
		items = append(items, s.itemsIn(ctx, place, near, pasted, report)...)
	}
	if ctx.Err() != nil {
		return false, ctx.Err()
	}
	slices.SortStableFunc(items, newestFirst)
	s.mu.Lock()
	s.items = items
	s.mu.Unlock()
	if err := s.cache.save(s.now()); err != nil {
		failed = errors.Join(failed, fmt.Errorf("shelf: what was computed is not kept for the next time: %w", err))
	}
	return changing, failed
}

// pastedDigest is a digest that was pasted for a file, by whichever path it is come to.
type pastedDigest struct {
	path, inside string
	info         fs.FileInfo // nil where the file is not there now
	all          []Published
}

func (s *Shelf) pastedFor() (all []pastedDigest) {
	for _, place := range slices.Sorted(maps.Keys(s.pasted)) {
		one := pastedDigest{all: s.pasted[place]}
		one.path, one.inside, _ = strings.Cut(place, "!")
		if info, err := os.Stat(place); err == nil { // a name may hold the mark
			one.path, one.inside, one.info = place, "", info
		} else {
			one.info, _ = os.Stat(one.path)
		}
		all = append(all, one)
	}
	return all
}

// of are the digests that were pasted for a file, or for one inside it.
func pastedOf(all []pastedDigest, place, inside string, info fs.FileInfo) (found []Published) {
	for _, one := range all {
		if one.inside == inside &&
			(one.path == place || one.info != nil && info != nil && os.SameFile(one.info, info)) {
			found = append(found, one.all...)
		}
	}
	return found
}

// settle is how long a file is left alone after it was changed: one that is being copied in changes many
// times.
const settle = 500 * time.Millisecond

// isChanging reports whether a file was changed a moment ago, and is not known as it is now.
func (s *Shelf) isChanging(place string) bool {
	info, err := os.Stat(place)
	if err != nil {
		return false // scan says
	}
	if _, known := s.cache.get(identity(place, info)); known {
		return false
	}
	age := s.now().Sub(info.ModTime())
	return age >= 0 && age < settle
}

func newestFirst(a, b Item) int {
	x, isX := a.Release(nil)
	y, isY := b.Release(nil)
	switch {
	case isX && isY:
		return cmp.Or(y.Compare(x), strings.Compare(a.Name, b.Name))
	case isX:
		return -1
	case isY:
		return 1
	}
	return strings.Compare(a.Name, b.Name)
}

// addPublished joins an item with the digests published for it, and for the archive it is in.
func addPublished(item *Item, near neighbours, pasted []pastedDigest, info fs.FileInfo) {
	add := func(all []Published, d Digests, ofArchive bool) {
		for _, p := range all {
			item.Published = append(item.Published, Checked{p, ofArchive, p.Holds(d)})
		}
	}
	if item.Packed() {
		add(near.says[item.Path], item.Archive, true)
		add(pastedOf(pasted, item.Path, "", info), item.Archive, true)
		add(near.says[filepath.Join(filepath.Dir(item.Path), path.Base(item.Inside))], item.Digests, false)
		add(pastedOf(pasted, item.Path, item.Inside, info), item.Digests, false)
	} else {
		add(near.says[item.Path], item.Digests, false)
		add(pastedOf(pasted, item.Path, "", info), item.Digests, false)
	}
	if b := near.folders[filepath.Dir(item.Path)]; b != nil && len(item.Published) == 0 {
		item.Lists = b.reasons(item.Path)
	}
}

// itemsIn are the items of one file: itself, or what is in it.
func (s *Shelf) itemsIn(
	ctx context.Context, place string, near neighbours, pasted []pastedDigest, progress func(int64),
) []Item {
	info, err := os.Stat(place)
	if err != nil {
		return []Item{
			{Image: &Image{Path: place, Name: plainName(place), Says: map[string]string{}}, Problem: err.Error()},
		}
	}
	if !info.Mode().IsRegular() {
		return nil // nothing is opened that may wait for ever
	}
	key := identity(place, info)
	entry, known := s.cache.get(key)
	more := needed(near, pasted, place, info, entry.Kind != "")
	if !known || entry.Marks != s.marks || !entry.has(more) {
		progress(0)
		entry = s.compute(ctx, place, entry, more, progress)
		if entry.Kind != "" { // what is inside is looked for by more
			if more = needed(near, pasted, place, info, true); !entry.has(more) {
				entry = s.compute(ctx, place, entry, more, progress)
			}
		}
		if ctx.Err() != nil {
			return nil
		}
		entry.Seen, entry.Marks = s.now(), s.marks
		if now, err := os.Stat(place); err != nil || identity(place, now) != key {
			entry = cached{Problem: "it changed while it was hashed: it is looked at again when it is quiet"}
		} else {
			s.cache.put(key, entry)
		}
	}
	items := s.itemsOf(place, info, entry)
	for i := range items {
		addPublished(&items[i], near, pasted, info)
	}
	return items
}

func needed(near neighbours, pasted []pastedDigest, place string, info fs.FileInfo, archive bool) []string {
	more := near.needs(place, archive)
	for _, one := range pasted {
		if one.path != place && (one.info == nil || !os.SameFile(one.info, info)) {
			continue
		}
		for _, p := range one.all {
			if !slices.Contains(usual, p.Algorithm) && !slices.Contains(more, p.Algorithm) {
				more = append(more, p.Algorithm)
			}
		}
	}
	return more
}

// compute reads a file: its digests, unless they are known already, what it says, and what is inside when
// it is an archive.
func (s *Shelf) compute(
	ctx context.Context, place string, before cached, more []string, progress func(int64),
) (entry cached) {
	file, err := os.Open(place)
	if err != nil {
		return cached{Problem: err.Error()}
	}
	defer file.Close()
	head := make([]byte, HeaderSize)
	digests, n := before.Digests, 0
	if digests.SHA256 == "" || !digests.has(more) {
		digests, n, err = Digest(ctx, file, head, progress, more...)
	} else {
		n, err = readHead(file, head)
	}
	if err != nil {
		return cached{Problem: err.Error()}
	}
	own := ownHead(head[:n])
	entry = cached{Digests: digests, Says: read(s.headers, own, filepath.Base(place)), Kind: kindOf(head[:n])}
	if entry.Kind == "" {
		return entry
	}
	inside, err := look(ctx, place, s.headers, progress, more)
	entry.Problem = inside.words()
	entry.Whole = recognised(entry.Says) &&
		(!inside.sure || recognised(read(inHeader(s.headers), own, filepath.Base(place))))
	if err != nil {
		entry.Problem = err.Error()
	}
	for _, img := range inside.images {
		entry.Inside = append(entry.Inside, cachedInside{img.Inside, img.Modified, img.Digests, img.Says})
	}
	return entry
}

// itemsOf are a file itself, and what is inside it. An archive is an image itself where its own beginning says so, or
// its name, unless something inside says by its beginning that it is the image.
func (s *Shelf) itemsOf(place string, info fs.FileInfo, entry cached) (items []Item) {
	own := &Image{
		Path:     place,
		Name:     plainName(place),
		Modified: info.ModTime(),
		Digests:  entry.Digests,
		Says:     entry.Says,
	}
	switch {
	case entry.Kind == "":
		return []Item{{Image: own, Problem: entry.Problem}}
	case entry.Whole:
		items = append(items, Item{Image: own, Kind: entry.Kind})
	case len(entry.Inside) == 0:
		problem := entry.Problem
		if problem == "" {
			problem = "a " + entry.Kind + " archive in which no image is recognised"
		}
		return []Item{{Image: own, Problem: problem}}
	}
	for _, in := range entry.Inside {
		items = append(items, Item{Archive: entry.Digests, Image: &Image{
			Path:     place,
			Inside:   in.Place,
			Name:     plainName(in.Place),
			Modified: in.Modified,
			Digests:  in.Digests,
			Says:     in.Says,
		}})
	}
	if entry.Problem != "" && !entry.Whole { // what is in it may not be all that is
		items = append(items, Item{Image: own, Problem: entry.Problem})
	}
	return items
}

// plainName is the last part of a name, safe to be shown: names come out of archives, too.
func plainName(place string) string { return plain.Text(path.Base(filepath.ToSlash(place))) }

// Look reads one file, wherever it is: itself, or the images inside. It is held against what lies beside it.
func (s *Shelf) Look(ctx context.Context, place string) ([]Item, error) {
	place, err := filepath.Abs(place)
	if err != nil {
		return nil, fmt.Errorf("image: %w", err)
	}
	info, err := os.Stat(place)
	if err != nil {
		return nil, fmt.Errorf("image: %w", err)
	}
	if !info.Mode().IsRegular() {
		return nil, fmt.Errorf("image %s: it is not a file", place)
	}
	near := neighbours{map[string]*beside{}, map[string][]Published{}}
	near.add(sidecarFile(place))
	items := s.itemsIn(ctx, place, near, s.pastedFor(), func(int64) {})
	if ctx.Err() != nil {
		return nil, ctx.Err()
	}
	return items, nil
}

// Find finds an item by its name, its path, or the beginning of its SHA-256 (eight digits or more).
func (s *Shelf) Find(name string) (Item, error) {
	var found []Item
	for _, item := range s.Items() {
		if item.Name == name || item.Path == name || item.Packed() && item.Path+"!"+item.Inside == name ||
			item.Kind != "" && item.Path+"!" == name ||
			(len(name) >= 8 && strings.HasPrefix(item.SHA256, strings.ToLower(name))) {
			found = append(found, item)
		}
	}
	switch len(found) {
	case 1:
		return found[0], nil
	case 0:
		return Item{}, fmt.Errorf("no image %s on the shelf (%s)", name, strings.Join(s.Folders(), ", "))
	}
	for _, other := range found[1:] {
		if other.SHA256 != found[0].SHA256 {
			return Item{}, fmt.Errorf("%s are called %s; name one by its path or the beginning of its SHA-256",
				units.Many(len(found), "image"), name)
		}
	}
	return found[0], nil
}

// Watch scans when it begins and whenever a folder changes or is added, until ctx ends. It says when that
// changed what is on the shelf or what cannot be read. A file that is being written is not on the shelf
// until that has ended.
func (s *Shelf) Watch(ctx context.Context, changed func(error)) error {
	watcher, err := fsnotify.NewWatcher()
	if err != nil {
		return fmt.Errorf("shelf: its folders cannot be watched: %w", err)
	}
	defer watcher.Close()
	if err := s.watchAll(watcher); err != nil {
		changed(err)
	}
	w := &watch{shelf: s, timer: time.NewTimer(0), waiting: true, reported: fmt.Sprint(nil), changed: changed}
	for {
		select {
		case <-ctx.Done():
			return nil
		case _, open := <-watcher.Events:
			if !open {
				return nil
			}
			w.within(settle)
		case <-s.added:
			if err := s.watchAll(watcher); err != nil {
				changed(err)
			}
			w.within(0)
		case <-watcher.Errors:
			w.within(settle) // something was missed: look at all of it
		case <-w.timer.C:
			w.look(ctx)
			_ = s.watchAll(watcher) // folders below those of the shelf come, too; what cannot be watched was reported
		}
	}
}

// watch is a Watch under way.
type watch struct {
	shelf    *Shelf
	timer    *time.Timer // of the next look
	waiting  bool        // for it
	reported string      // what could not be read last
	changed  func(error)
}

// within has it look at the latest after d.
func (w *watch) within(d time.Duration) {
	if !w.waiting || d == 0 {
		w.waiting = true
		w.timer.Reset(d)
	}
}

func (w *watch) look(ctx context.Context) {
	w.waiting = false
	before := w.shelf.Items()
	changing, err := w.shelf.scan(ctx, nil, w.shelf.isChanging)
	if ctx.Err() != nil {
		return
	}
	if changing {
		w.within(settle)
	}
	if problem := fmt.Sprint(err); problem != w.reported || !reflect.DeepEqual(before, w.shelf.Items()) {
		w.reported = problem
		w.changed(err)
	}
}

// watchAll watches every folder that is there; one that is watched already stays so. Of one that is not
// there Scan says.
func (s *Shelf) watchAll(watcher *fsnotify.Watcher) (failed error) {
	folders, _ := s.places() // Scan says of those that cannot be read
	for _, folder := range folders {
		if err := watcher.Add(folder); err != nil && !errors.Is(err, fs.ErrNotExist) {
			failed = errors.Join(failed, fmt.Errorf("shelf: %s cannot be watched: %w", folder, err))
		}
	}
	return failed
}
