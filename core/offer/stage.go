package offer

import (
	"errors"
	"fmt"
	"io"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"

	"pilotrix/core/plain"
)

// File is a file that a step has staged: what a device may fetch, under exactly this name.
type File struct {
	Name   string
	Size   int64
	SHA256 string
	Open   func() (io.ReadSeekCloser, error)
}

// Slot is an upload that a step has opened: what a device may leave here, under exactly this name.
type Slot struct {
	Name   string
	Folder string
	Most   int64 // bytes
}

// Refusals of a stage. Test with errors.Is.
var (
	ErrNotStaged = errors.New("no such file is staged")
	ErrNoSlot    = errors.New("nothing may be left here under that name")
	ErrThere     = errors.New("a file of that name is there already and is never overwritten")
	ErrTooLarge  = errors.New("it is larger than this slot takes")
)

// Stage is what the servers serve: files staged and slots opened, and nothing else. A name that a
// device asks for is never looked up on the disk, so that none can lead out of a folder. It may be used
// by several goroutines; the zero value is empty.
type Stage struct {
	mu     sync.Mutex
	offers map[string]File
	slots  map[string]Slot
}

// File stages a file and returns what withdraws it.
func (s *Stage) Offer(o File) (withdraw func(), err error) {
	if err := plainName(o.Name); err != nil {
		return nil, err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if _, there := s.offers[o.Name]; there {
		return nil, fmt.Errorf("%s is staged already", o.Name)
	}
	if s.offers == nil {
		s.offers = map[string]File{}
	}
	s.offers[o.Name] = o
	return func() {
		s.mu.Lock()
		defer s.mu.Unlock()
		delete(s.offers, o.Name)
	}, nil
}

// OpenSlot lets one upload in and returns what closes it. The slot closes by itself when it was used.
func (s *Stage) OpenSlot(slot Slot) (closeSlot func(), err error) {
	if err := plainName(slot.Name); err != nil {
		return nil, err
	}
	if _, err := os.Lstat(filepath.Join(slot.Folder, slot.Name)); err == nil {
		return nil, fmt.Errorf("%s: %w", filepath.Join(slot.Folder, slot.Name), ErrThere)
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.slots == nil {
		s.slots = map[string]Slot{}
	}
	s.slots[slot.Name] = slot
	return func() { s.closeSlot(slot.Name) }, nil
}

func (s *Stage) closeSlot(name string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	delete(s.slots, name)
}

// plainName refuses what could not be a file in a folder: whatever else a device asks for has no name
// here.
func plainName(name string) error {
	if name == "" || name == "." || name == ".." || strings.ContainsAny(name, "/\\\x00") || strings.ContainsFunc(name, func(r rune) bool { return r < 0x20 || r == 0x7f }) {
		return fmt.Errorf("%q is no plain file name", name)
	}
	return nil
}

// Offers lists what is staged, by name.
func (s *Stage) Offers() (all []File) {
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, name := range slices.Sorted(maps.Keys(s.offers)) {
		all = append(all, s.offers[name])
	}
	return all
}

// Missing tells that a name is not staged, and how near it came to one that is.
type Missing struct {
	Asked string
	Near  string // the staged name it was probably meant for, empty when none is near
	How   string // what differs
}

func (m *Missing) Error() string {
	switch {
	case m.Near != "":
		return fmt.Sprintf("no %s here; %s is staged (%s)", m.Asked, m.Near, m.How)
	}
	return "no " + m.Asked + " here"
}

// Is makes a Missing an ErrNotStaged.
func (m *Missing) Is(target error) bool { return target == ErrNotStaged }

// Find finds the offer that a name means: the one of exactly this name, or else the only one that it names
// but for its letter case and a slash or a dot before it, as devices put there by themselves. Remark says
// what differed. The error is a *Missing.
func (s *Stage) Find(name string) (o File, remark string, err error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	found, remark := loosely(name, slices.Sorted(maps.Keys(s.offers)))
	if found != "" {
		return s.offers[found], remark, nil
	}
	missing := &Missing{Asked: plain.Clip(name, mostShown)}
	for _, staged := range slices.Sorted(maps.Keys(s.offers)) {
		if how := nearness(name, staged); how != "" {
			missing.Near, missing.How = staged, how
			break
		}
	}
	return File{}, "", missing
}

// loosely finds the one of the names that is meant, empty when there is none or more than one.
func loosely(asked string, names []string) (found, remark string) {
	if slices.Contains(names, asked) {
		return asked, ""
	}
	bare := asked
	for {
		rest := strings.TrimPrefix(strings.TrimPrefix(bare, "/"), "./")
		if rest == bare {
			break
		}
		bare = rest
	}
	var how []string
	if bare != asked {
		how = append(how, fmt.Sprintf("with %s before it", plain.Clip(asked[:len(asked)-len(bare)], mostShown)))
	}
	if slices.Contains(names, bare) {
		return bare, "asked for " + strings.Join(how, ", ")
	}
	for _, name := range names {
		if !strings.EqualFold(name, bare) {
			continue
		}
		if found != "" {
			return "", ""
		}
		found = name
	}
	return found, "asked for " + strings.Join(append(how, "in another letter case, "+plain.Clip(bare, mostShown)), ", ")
}

const mostShown = 80 // bytes of a name from outside

// nearness says in words by what a name that was asked for misses a staged one, empty when the two have
// nothing to do with each other.
func nearness(asked, staged string) string {
	folderless := asked[strings.LastIndexAny(asked, `/\`)+1:]
	bare := func(name string) string { return strings.TrimSuffix(name, filepath.Ext(name)) }
	var how []string
	if folderless != asked {
		how = append(how, "asked for with a folder before it")
	}
	switch {
	case folderless == staged:
	case strings.EqualFold(folderless, staged):
		how = append(how, "the letter case differs")
	case strings.EqualFold(folderless, bare(staged)):
		how = append(how, "asked for without "+filepath.Ext(staged))
	case strings.EqualFold(bare(folderless), staged):
		how = append(how, "asked for with "+plain.Clip(filepath.Ext(folderless), mostShown)+" after it")
	case strings.EqualFold(bare(folderless), bare(staged)):
		how = append(how, "asked for as "+plain.Clip(filepath.Ext(folderless), mostShown)+", not "+filepath.Ext(staged))
	case within(strings.ToLower(folderless), strings.ToLower(staged), 2):
		how = append(how, "a character or two differ")
	case begins(staged, folderless):
		how = append(how, fmt.Sprintf("asked for by its first %d characters: a name may have been cut short", len(folderless)))
	case begins(folderless, staged):
		how = append(how, "asked for with "+plain.Clip(folderless[len(staged):], mostShown)+" after it")
	default:
		return ""
	}
	return strings.Join(how, ", ")
}

// leastBeginning is how many characters a beginning has that says anything.
const leastBeginning = 5

// begins reports whether a name begins with another, whatever the letter case.
func begins(name, with string) bool {
	return len(with) >= leastBeginning && len(name) > len(with) && strings.EqualFold(name[:len(with)], with)
}

// within reports whether two short names are at most that many edits apart.
func within(a, b string, most int) bool {
	if len(a) > 80 || len(b) > 80 || len(a) < 2*most || max(len(a)-len(b), len(b)-len(a)) > most {
		return false
	}
	row := make([]int, len(b)+1)
	for j := range row {
		row[j] = j
	}
	for i := 1; i <= len(a); i++ {
		diagonal := row[0]
		row[0] = i
		for j := 1; j <= len(b); j++ {
			cost := 1
			if a[i-1] == b[j-1] {
				cost = 0
			}
			diagonal, row[j] = row[j], min(row[j]+1, row[j-1]+1, diagonal+cost)
		}
	}
	return row[len(b)] <= most
}

// Upload is a file that a device is leaving. It is written into its folder under its own name only when
// no file of that name is there, and removed again when the upload fails.
type Upload struct {
	Slot
	stage *Stage
	root  *os.Root
	file  *os.File
	size  int64
}

// Receive begins the upload for which a slot is open that the name means, as Find finds it. Size is what the sender says
// it will be, -1 when it does not say.
func (s *Stage) Receive(name string, size int64) (*Upload, error) {
	s.mu.Lock()
	found, _ := loosely(name, slices.Sorted(maps.Keys(s.slots)))
	slot, open := s.slots[found]
	delete(s.slots, found) // taken
	s.mu.Unlock()
	if !open {
		return nil, fmt.Errorf("%s: %w", plain.Clip(name, mostShown), ErrNoSlot)
	}
	u, err := s.begin(slot, size)
	if err != nil {
		s.reopen(slot)
	}
	return u, err
}

// Awaits reports whether a slot is open that the name means.
func (s *Stage) Awaits(name string) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	found, _ := loosely(name, slices.Sorted(maps.Keys(s.slots)))
	_, open := s.slots[found]
	return open
}

func (s *Stage) reopen(slot Slot) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.slots[slot.Name] = slot
}

func (s *Stage) begin(slot Slot, size int64) (*Upload, error) {
	if size > slot.Most {
		return nil, fmt.Errorf("%s, %d B: %w (%d B)", slot.Name, size, ErrTooLarge, slot.Most)
	}
	root, err := os.OpenRoot(slot.Folder)
	if err != nil {
		return nil, err
	}
	file, err := root.OpenFile(slot.Name, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if errors.Is(err, os.ErrExist) {
		err = fmt.Errorf("%s: %w", filepath.Join(slot.Folder, slot.Name), ErrThere)
	}
	if err != nil {
		return nil, errors.Join(err, root.Close())
	}
	return &Upload{Slot: slot, stage: s, root: root, file: file}, nil
}

// Write implements io.Writer, up to the slot's limit.
func (u *Upload) Write(p []byte) (int, error) {
	if u.size+int64(len(p)) > u.Most {
		return 0, fmt.Errorf("%s: %w (%d B)", u.Name, ErrTooLarge, u.Most)
	}
	n, err := u.file.Write(p)
	u.size += int64(n)
	return n, err
}

// Keep ends an upload that is whole.
func (u *Upload) Keep() error {
	err := errors.Join(u.file.Sync(), u.file.Close())
	if err != nil {
		err = errors.Join(err, u.root.Remove(u.Name))
	}
	return errors.Join(err, u.root.Close())
}

// Drop ends an upload that failed, and opens its slot again.
func (u *Upload) Drop() {
	_ = u.file.Close()
	_ = u.root.Remove(u.Name)
	_ = u.root.Close()
	u.stage.reopen(u.Slot)
}

// Path is where the file is kept.
func (u *Upload) Path() string { return filepath.Join(u.Folder, u.Name) }
