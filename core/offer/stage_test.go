package offer

import (
	"errors"
	"fmt"
	"io"
	"net/netip"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"

	"pilotrix/core/transfer"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

var anybody = netip.MustParseAddr("192.0.2.99")

func TestOnlyTheExactNameIsFound(t *testing.T) {
	s := &Stage{}
	for _, name := range []string{"lark-8.1.0.cgo", "lark-7.6.1.cgo"} {
		_, err := s.Offer(File{Name: name})
		require.NoError(t, err)
	}
	_, err := s.Offer(File{Name: "lark-8.1.0.cgo"})
	assert.ErrorContains(t, err, "staged already")
	same := File{Name: "same.cgo", SHA256: "aa", Size: 5}
	first, err := s.Offer(same)
	require.NoError(t, err)
	second, err := s.Offer(same)
	require.NoError(t, err, "the same file is offered twice")
	_, err = s.Offer(File{Name: "same.cgo", SHA256: "bb", Size: 5})
	assert.ErrorContains(t, err, "another file")
	first()
	first()
	assert.Len(t, s.Offers(), 3, "the other still offers it")
	second()
	assert.Len(t, s.Offers(), 2)
	for asked, remark := range map[string]string{
		"lark-8.1.0.cgo":    "",
		"/lark-8.1.0.cgo":   "asked for with / before it",
		"./lark-8.1.0.cgo":  "asked for with ./ before it",
		"//lark-8.1.0.cgo":  "asked for with // before it",
		"/./lark-8.1.0.cgo": "asked for with /./ before it",
		"Lark-8.1.0.CGO":    "asked for in another letter case, Lark-8.1.0.CGO",
		"/Lark-8.1.0.cgo":   "asked for with / before it, in another letter case, Lark-8.1.0.cgo",
		// What their own store, or another server, is called by. None of it is looked up anywhere.
		`\lark-8.1.0.cgo`:            `asked for with \ before it`,
		`C:\LARK-8.1.0.CGO`:          `asked for with C:\ before it, in another letter case, LARK-8.1.0.CGO`,
		"C:lark-8.1.0.cgo":           "asked for with C: before it",
		"flash:/lark-8.1.0.cgo":      "asked for with flash:/ before it",
		"/tftpboot/lark-8.1.0.cgo":   "asked for with /tftpboot/ before it",
		"../../lark-8.1.0.cgo":       "asked for with ../../ before it",
		"/var/lib//./lark-8.1.0.cgo": "asked for with /var/lib//./ before it",
		"lark-8.1.0.cgo\r\n":         `asked for with "\r\n" after it`,
		"/lark-8.1.0.cgo ":           `asked for with / before it, with " " after it`,
	} {
		found, said, err := s.Find(asked)
		require.NoError(t, err, asked)
		assert.Equal(t, "lark-8.1.0.cgo", found.Name)
		assert.Equal(t, remark, said)
	}
	for asked, want := range map[string][2]string{
		"tftpboot/lark-8.1.0.img": {"lark-8.1.0.cgo", "asked for with a folder before it, asked for as .img, not .cgo"},
		"/etc/hostname":           {"", ""},
		"lark-8.1.0.cgo/":         {"", ""},
		"lark-8.1.0":              {"lark-8.1.0.cgo", "asked for without .cgo"},
		"lark-8.1.0.bin":          {"lark-8.1.0.cgo", "asked for as .bin, not .cgo"},
		"lrak-8.1.0.cgo":          {"lark-8.1.0.cgo", "a character or two differ"},
		"LARK-8.1":                {"lark-8.1.0.cgo", "asked for by its first 8 characters: a name may have been cut short"},
		"lark-8.1.0.cgo.part":     {"lark-8.1.0.cgo", "asked for with .part after it"},
		"lark":                    {"", ""},
		"":                        {"", ""},
		"x":                       {"", ""},
		strings.Repeat("y", 99):   {"", ""},
	} {
		_, _, err := s.Find(asked)
		var missing *Missing
		require.ErrorAs(t, err, &missing, asked)
		assert.ErrorIs(t, err, ErrNotStaged)
		assert.Equal(t, want, [2]string{missing.Near, missing.How}, asked)
		assert.Less(t, len(err.Error()), 250, "what was asked for is shown short")
	}
	assert.Len(t, s.Offers(), 2)
	assert.Equal(t, "lark-7.6.1.cgo", s.Offers()[0].Name, "by name")
}

// TestALetterCaseThatMeansTwoFilesMeansNone leaves the choice to whoever asks.
func TestALetterCaseThatMeansTwoFilesMeansNone(t *testing.T) {
	s := &Stage{}
	for _, name := range []string{"a.cgo", "A.cgo"} {
		_, err := s.Offer(File{Name: name})
		require.NoError(t, err)
	}
	_, _, err := s.Find("a.CGO")
	assert.ErrorIs(t, err, ErrNotStaged)
	found, _, err := s.Find("A.cgo")
	require.NoError(t, err)
	assert.Equal(t, "A.cgo", found.Name)
}

func TestNamesThatAreNoFilesCannotBeStaged(t *testing.T) {
	s := &Stage{}
	for _, name := range []string{"", ".", "..", "a/b", `a\b`, "a\x00b", "a\nb", "a\x1b[2J"} {
		_, err := s.Offer(File{Name: name})
		assert.Error(t, err, "%q", name)
		_, err = s.OpenSlot(Slot{Name: name, Folder: t.TempDir(), Most: 1})
		assert.Error(t, err, "%q", name)
	}
}

func TestAnUploadIsKeptWholeOrNotAtAll(t *testing.T) {
	s, folder := &Stage{}, t.TempDir()
	slot := Slot{Name: "setup.txt", Folder: folder, Most: 10}
	closeSlot, err := s.OpenSlot(slot)
	require.NoError(t, err)
	_, err = s.Receive("other.txt", anybody, 1)
	assert.ErrorIs(t, err, ErrNoSlot)
	_, err = s.Receive("setup.txt", anybody, 11)
	assert.ErrorIs(t, err, ErrTooLarge, "by what it says")
	u, err := s.Receive("setup.txt", anybody, -1)
	require.NoError(t, err, "a refusal leaves the slot open")
	_, err = s.Receive("setup.txt", anybody, 1)
	assert.ErrorIs(t, err, ErrNoSlot, "one at a time")
	_, err = u.Write([]byte("12345678901"))
	assert.ErrorIs(t, err, ErrTooLarge, "by what comes")
	u.Drop()
	assert.NoFileExists(t, u.Path())
	u, err = s.Receive("setup.txt", anybody, 5)
	require.NoError(t, err, "a broken-off upload may be tried again")
	_, err = u.Write([]byte("hello"))
	require.NoError(t, err)
	require.NoError(t, u.Keep())
	kept, err := os.ReadFile(filepath.Join(folder, "setup.txt"))
	require.NoError(t, err)
	assert.Equal(t, "hello", string(kept))
	_, err = s.OpenSlot(slot)
	assert.ErrorIs(t, err, ErrThere)
	closeSlot()
}

// TestAClosedSlotStaysClosed lets an upload that is under way fail after its slot was closed.
func TestAClosedSlotStaysClosed(t *testing.T) {
	s := &Stage{}
	closeSlot, err := s.OpenSlot(Slot{Name: "setup.txt", Folder: t.TempDir(), Most: 10})
	require.NoError(t, err)
	u, err := s.Receive("setup.txt", anybody, -1)
	require.NoError(t, err)
	closeSlot()
	u.Drop()
	_, err = s.Receive("setup.txt", anybody, -1)
	assert.ErrorIs(t, err, ErrNoSlot)
}

// TestAnUploadGivesWayToTheDeviceThatIsWaitedFor keeps nothing of the stranger's, and lets neither end the other's.
func TestAnUploadGivesWayToTheDeviceThatIsWaitedFor(t *testing.T) {
	s, device := &Stage{}, netip.MustParseAddr("192.0.2.40")
	s.Expect(device)
	_, err := s.OpenSlot(Slot{Name: "setup.txt", Folder: t.TempDir(), Most: 10})
	require.NoError(t, err)
	theirs, err := s.Receive("setup.txt", anybody, -1)
	require.NoError(t, err)
	_, err = theirs.Write([]byte("evil"))
	require.NoError(t, err)
	ours, err := s.Receive("setup.txt", device, -1)
	require.NoError(t, err)
	_, err = theirs.Write([]byte("more"))
	assert.ErrorIs(t, err, ErrTakenOver)
	assert.ErrorIs(t, theirs.Keep(), ErrTakenOver)
	theirs.Drop()
	_, err = s.Receive("setup.txt", anybody, -1)
	assert.ErrorIs(t, err, ErrNoSlot)
	_, err = ours.Write([]byte("mine"))
	require.NoError(t, err)
	require.NoError(t, ours.Keep())
	kept, err := os.ReadFile(ours.Path())
	require.NoError(t, err)
	assert.Equal(t, "mine", string(kept))
}

// TestAFileThatAppearsMeanwhileIsNotOverwritten puts one there between the slot and the upload.
func TestAFileThatAppearsMeanwhileIsNotOverwritten(t *testing.T) {
	s, folder := &Stage{}, t.TempDir()
	_, err := s.OpenSlot(Slot{Name: "setup.txt", Folder: folder, Most: 10})
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(folder, "setup.txt"), []byte("mine"), 0o600))
	_, err = s.Receive("setup.txt", anybody, 5)
	assert.ErrorIs(t, err, ErrThere)
	outside := filepath.Join(t.TempDir(), "outside")
	require.NoError(t, os.Remove(filepath.Join(folder, "setup.txt")))
	require.NoError(t, os.Symlink(outside, filepath.Join(folder, "setup.txt")))
	_, err = s.Receive("setup.txt", anybody, 5)
	assert.Error(t, err, "nor does a link lead out of the folder")
	assert.NoFileExists(t, outside)
}

func TestManyUploadsAtOnce(t *testing.T) {
	s, folder := &Stage{}, t.TempDir()
	var group sync.WaitGroup
	failed := make(chan error, 40)
	for i := range 20 {
		name := fmt.Sprintf("setup-%d", i)
		_, err := s.OpenSlot(Slot{Name: name, Folder: folder, Most: 100})
		require.NoError(t, err)
		group.Go(func() {
			u, err := s.Receive(name, anybody, 5)
			if err == nil {
				_, err = u.Write([]byte(name))
				err = errors.Join(err, u.Keep())
			}
			failed <- err
		})
	}
	group.Wait()
	close(failed)
	for err := range failed {
		assert.NoError(t, err)
	}
	entries, err := os.ReadDir(folder)
	require.NoError(t, err)
	assert.Len(t, entries, 20)
}

// TestAFileThatIsNotAsLongAsItWasStaged is on the disk, and changed between the staging and the asking.
func TestAFileThatIsNotAsLongAsItWasStaged(t *testing.T) {
	const staged = 300_000
	for _, now := range []int64{0, 1, staged - 1, staged, staged + 1, 2 * staged} {
		path := filepath.Join(t.TempDir(), "tern-4.2.1.brm")
		require.NoError(t, os.WriteFile(path, make([]byte, staged), 0o600))
		stage := &Stage{}
		_, err := stage.Offer(File{
			Name: "tern-4.2.1.brm", Size: staged, Open: func() (io.ReadSeekCloser, error) { return os.Open(path) },
		})
		require.NoError(t, err)
		require.NoError(t, os.Truncate(path, now))
		found, _, err := stage.Find("tern-4.2.1.brm")
		require.NoError(t, err)
		file, err := found.Open()
		if now != staged {
			require.ErrorIs(t, err, transfer.ErrChanged, "%d B", now)
			assert.ErrorContains(t, err, fmt.Sprintf("has %d B, and had 300000 B", now))
			continue
		}
		require.NoError(t, err)
		data, err := io.ReadAll(file)
		require.NoError(t, err)
		assert.Len(t, data, staged, "it is read from its beginning")
		require.NoError(t, file.Close())
	}
}
