package offer

import (
	"errors"
	"fmt"
	"io"
	"maps"
	"net/netip"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"pilotrix/core/plain"
	"pilotrix/core/transfer"
)

// File is a file that a step has staged: what a device may fetch, under exactly this name.
type File struct {
	Name     string
	Size     int64
	Modified time.Time // zero when not known
	SHA256   string
	Open     func() (io.ReadSeekCloser, error)
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
	mu       sync.Mutex
	offers   map[string]File
	uses     map[string]int // how often each is staged
	slots    map[string]Slot
	taken    map[string]*Upload // by the name of its slot
	expected map[netip.Addr]bool
}

// Expect says that a step waits for that address: the servers keep a place for it, and an upload of its own goes before
// a stranger's.
func (s *Stage) Expect(addr netip.Addr) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.expected == nil {
		s.expected = map[netip.Addr]bool{}
	}
	s.expected[addr] = true
}

// Expects reports whether a step waits for that address.
func (s *Stage) Expects(addr netip.Addr) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.expected[addr]
}

// Offer stages a file and returns what withdraws it. The same file may be staged several times under its name, and is
// there until all have withdrawn it.
func (s *Stage) Offer(o File) (withdraw func(), err error) {
	if err := plainName(o.Name); err != nil {
		return nil, err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	before, there := s.offers[o.Name]
	if there && (o.SHA256 == "" || before.SHA256 != o.SHA256 || before.Size != o.Size) {
		return nil, fmt.Errorf("%s is staged already, and it is another file", o.Name)
	}
	if s.offers == nil {
		s.offers, s.uses = map[string]File{}, map[string]int{}
	}
	if s.uses[o.Name]++; !there {
		o.Open = o.unchanged(o.Open)
		s.offers[o.Name] = o
	}
	return sync.OnceFunc(func() {
		s.mu.Lock()
		defer s.mu.Unlock()
		if s.uses[o.Name]--; s.uses[o.Name] == 0 {
			delete(s.offers, o.Name)
			delete(s.uses, o.Name)
		}
	}), nil
}

// unchanged opens a file that is as long as it was when it was staged: what is shorter or longer is not what was
// checked, and each protocol would hand out something else of it as the whole.
func (o File) unchanged(open func() (io.ReadSeekCloser, error)) func() (io.ReadSeekCloser, error) {
	return func() (io.ReadSeekCloser, error) {
		file, err := open()
		if err != nil {
			return nil, err
		}
		size, err := file.Seek(0, io.SeekEnd)
		if err == nil {
			_, err = file.Seek(0, io.SeekStart)
		}
		if err == nil && size != o.Size {
			err = fmt.Errorf("%s has %d B, and had %d B when it was staged: %w", o.Name, size, o.Size, transfer.ErrChanged)
		}
		if err != nil {
			_ = file.Close()
			return nil, err
		}
		return file, nil
	}
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
	if u := s.taken[name]; u != nil {
		u.closed = true
	}
}

// plainName refuses what could not be a file in a folder: whatever else a device asks for has no name
// here.
func plainName(name string) error {
	if name == "" || name == "." || name == ".." || strings.ContainsAny(name, "/\\\x00") ||
		strings.ContainsFunc(name, func(r rune) bool { return r < 0x20 || r == 0x7f }) {
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

// Missing says that a name is not staged, and how near it came to one that is.
type Missing struct {
	Asked string
	Near  string // the staged name it was probably for, empty when none is near
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
	missing := &Missing{Asked: plain.Clip(name, maxShown)}
	for _, staged := range slices.Sorted(maps.Keys(s.offers)) {
		if how := nearness(name, staged); how != "" {
			missing.Near, missing.How = staged, how
			break
		}
	}
	return File{}, "", missing
}

// loosely finds the one of the names that is meant, empty when there is none or more than one. Devices put before a
// name what their own store or another server is called by (a slash, flash:/, C:\, /tftpboot/), and some end it with a
// blank or a line's end: the last part is what counts. No name is looked up on the disk, so that none of it leads
// anywhere.
func loosely(asked string, names []string) (found, remark string) {
	if slices.Contains(names, asked) {
		return asked, ""
	}
	bare := strings.TrimRight(asked, " \t\r\n")
	before := strings.LastIndexAny(bare, `/\:`) + 1
	ending := asked[len(bare):]
	bare = bare[before:]
	var how []string
	if before > 0 {
		how = append(how, fmt.Sprintf("with %s before it", plain.Clip(asked[:before], maxShown)))
	}
	if ending != "" {
		how = append(how, fmt.Sprintf("with %q after it", ending[:min(len(ending), maxShown)]))
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
	return found, "asked for " + strings.Join(append(how, "in another letter case, "+plain.Clip(bare, maxShown)), ", ")
}

const maxShown = 80 // bytes of a name from outside

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
		how = append(how, "asked for with "+plain.Clip(filepath.Ext(folderless), maxShown)+" after it")
	case strings.EqualFold(bare(folderless), bare(staged)):
		how = append(how, "asked for as "+plain.Clip(filepath.Ext(folderless), maxShown)+", not "+filepath.Ext(staged))
	case within(strings.ToLower(folderless), strings.ToLower(staged), 2):
		how = append(how, "a character or two differ")
	case begins(staged, folderless):
		how = append(how,
			fmt.Sprintf("asked for by its first %d characters: a name may have been cut short", len(folderless)))
	case begins(folderless, staged):
		how = append(how, "asked for with "+plain.Clip(folderless[len(staged):], maxShown)+" after it")
	default:
		return ""
	}
	return strings.Join(how, ", ")
}

// minBeginning is how many characters a beginning has that says anything.
const minBeginning = 5

// begins reports whether a name begins with another, whatever the letter case.
func begins(name, with string) bool {
	return len(with) >= minBeginning && len(name) > len(with) && strings.EqualFold(name[:len(with)], with)
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
	from  netip.Addr
	moved atomic.Int64 // when something of it came, in nanoseconds
	// closed says that its slot was closed meanwhile: nothing is to be left there after it. Under the stage's lock.
	closed bool

	mu   sync.Mutex
	over bool
	root *os.Root
	file *os.File
	size int64
}

// ErrTakenOver ends an upload whose slot another sender has got.
var ErrTakenOver = errors.New("the slot was given to another sender")

// idleUpload is how long an upload may be silent before another one for the same slot takes its place.
const idleUpload = 20 * time.Second

// Receive begins the upload for which a slot is open that the name means, as Find finds it. Size is what the sender
// says it will be, -1 when it does not say. One that is under way ends for it when it comes from somebody that no step
// waits for and this one does not, or when nothing of it came for long.
func (s *Stage) Receive(name string, from netip.Addr, size int64) (*Upload, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.takeOver(name, from)
	found, _ := loosely(name, slices.Sorted(maps.Keys(s.slots)))
	slot, open := s.slots[found]
	if !open {
		return nil, fmt.Errorf("%s: %w", plain.Clip(name, maxShown), ErrNoSlot)
	}
	u, err := s.begin(slot, size)
	if err != nil {
		return nil, err
	}
	u.from = from
	u.moved.Store(time.Now().UnixNano())
	delete(s.slots, found)
	if s.taken == nil {
		s.taken = map[string]*Upload{}
	}
	s.taken[found] = u
	return u, nil
}

// takeOver ends the upload that another one may take the place of, and opens its slot again.
func (s *Stage) takeOver(name string, from netip.Addr) {
	found, _ := loosely(name, slices.Sorted(maps.Keys(s.taken)))
	u := s.taken[found]
	if u == nil {
		return
	}
	idle := time.Since(time.Unix(0, u.moved.Load())) >= idleUpload
	if !idle && (!s.expected[from] || s.expected[u.from]) {
		return
	}
	_ = u.end(true)
	s.giveBack(u)
}

// Awaits reports whether a slot is open that the name means.
func (s *Stage) Awaits(name string) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	found, _ := loosely(name, slices.Sorted(maps.Keys(s.slots)))
	_, open := s.slots[found]
	return open
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
	u.mu.Lock()
	defer u.mu.Unlock()
	if u.over {
		return 0, fmt.Errorf("%s: %w", u.Name, ErrTakenOver)
	}
	if u.size+int64(len(p)) > u.Most {
		return 0, fmt.Errorf("%s: %w (%d B)", u.Name, ErrTooLarge, u.Most)
	}
	n, err := u.file.Write(p)
	u.size += int64(n)
	u.moved.Store(time.Now().UnixNano())
	return n, err
}

// Keep ends an upload that is whole.
func (u *Upload) Keep() error {
	u.stage.mu.Lock()
	mine := u.stage.taken[u.Name] == u
	if mine { // nobody takes it over from here on
		delete(u.stage.taken, u.Name)
	}
	u.stage.mu.Unlock()
	if !mine {
		return fmt.Errorf("%s: %w", u.Name, ErrTakenOver)
	}
	return u.end(false) // which may take a while
}

// Drop ends an upload that failed, and opens its slot again.
func (u *Upload) Drop() {
	u.stage.mu.Lock()
	defer u.stage.mu.Unlock()
	if u.stage.taken[u.Name] != u {
		return
	}
	_ = u.end(true)
	u.stage.giveBack(u)
}

// giveBack opens the slot of an upload that is over again, unless it was closed meanwhile.
func (s *Stage) giveBack(u *Upload) {
	delete(s.taken, u.Name)
	if !u.closed {
		s.slots[u.Name] = u.Slot
	}
}

// end closes the file, and removes it when it is not to be kept or could not be written to the disk.
func (u *Upload) end(remove bool) error {
	u.mu.Lock()
	defer u.mu.Unlock()
	if u.over {
		return nil
	}
	u.over = true
	var err error
	if !remove {
		err = u.file.Sync()
	}
	if err = errors.Join(err, u.file.Close()); err != nil || remove {
		err = errors.Join(err, u.root.Remove(u.Name))
	}
	return errors.Join(err, u.root.Close())
}

// Path is where the file is kept.
func (u *Upload) Path() string { return filepath.Join(u.Folder, u.Name) }
