package serve

import (
	"archive/zip"
	"bytes"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"pilotrix/core/carrier"
	"pilotrix/core/event"
	"pilotrix/core/image"
	"pilotrix/core/transfer/tftp"
)

// shop is a folder on the disk whose files a dock offers.
type shop struct {
	t        *testing.T
	folder   string
	shelf    *image.Shelf
	offers   *Folder
	device   tftp.Client
	reported func() []event.Body
}

func openShop(t *testing.T, use func(s shop)) {
	dock(t, func(t *testing.T, d *Dock, device tftp.Client, report func() []event.Body) {
		unpacker := &image.Unpacker{In: t.TempDir()}
		defer unpacker.Close()
		folder := t.TempDir()
		_, err := d.Listen(carrier.TFTP, at)
		require.NoError(t, err)
		use(shop{
			t,
			folder,
			image.NewShelf(image.ShelfOptions{Folders: []string{folder}, Headers: []image.Header{inside}}),
			NewFolder(t.Context(), d, "tftp", unpacker),
			device,
			report,
		})
	})
}

// inside is the pattern by which an image in an archive is known.
var inside = image.Header{Name: image.SaysRelease, Pattern: regexp.MustCompile(`^(lark)\.cgo$`), InName: true}

func (s shop) put(name string, data []byte) {
	require.NoError(s.t, os.WriteFile(filepath.Join(s.folder, name), data, 0o600))
}

// look reads the folder again and returns how many files are offered now.
func (s shop) look() int {
	require.NoError(s.t, s.shelf.Scan(s.t.Context(), nil))
	return s.offers.Follow(s.shelf.Items())
}

func (s shop) get(name string) (string, error) {
	var got bytes.Buffer
	_, err := s.device.Get(s.t.Context(), at, name, &got)
	return got.String(), err
}

func (s shop) has(name, want string) {
	s.t.Helper()
	got, err := s.get(name)
	require.NoError(s.t, err)
	assert.Equal(s.t, want, got)
}

func (s shop) remarks() (all []string) {
	for _, note := range kinds[event.Note](s.reported()) {
		all = append(all, note.Text)
	}
	return all
}

func zipped(t *testing.T, name, data string) []byte {
	var out bytes.Buffer
	w := zip.NewWriter(&out)
	member, err := w.Create(name)
	require.NoError(t, err)
	_, err = member.Write([]byte(data))
	require.NoError(t, err)
	require.NoError(t, w.Close())
	return out.Bytes()
}

func TestAFolderIsFollowed(t *testing.T) {
	openShop(t, func(s shop) {
		assert.Zero(t, s.look())
		s.put("lark.cgo", []byte("first"))
		_, err := s.get("lark.cgo")
		require.Error(t, err, "not before it is hashed")
		assert.Equal(t, 1, s.look())
		s.has("lark.cgo", "first")
		s.put("lark.cgo", []byte("the second one"))
		_, err = s.get("lark.cgo")
		require.ErrorContains(t, err, "the file cannot be read", "it is not the one that was hashed")
		s.put("tern.cgo", []byte("another"))
		assert.Equal(t, 2, s.look())
		s.has("lark.cgo", "the second one")
		require.NoError(t, os.Remove(filepath.Join(s.folder, "lark.cgo")))
		assert.Equal(t, 1, s.look())
		_, err = s.get("lark.cgo")
		assert.ErrorContains(t, err, "no lark.cgo here")
		s.has("tern.cgo", "another")
	})
}

func TestATouchedFileIsTheSame(t *testing.T) {
	openShop(t, func(s shop) {
		s.put("lark.cgo", []byte("first"))
		s.look()
		require.NoError(t, os.Chtimes(filepath.Join(s.folder, "lark.cgo"), time.Time{}, time.Unix(1_000_000_000, 0)))
		assert.Equal(t, 1, s.look())
		s.has("lark.cgo", "first")
	})
}

func TestTwoFilesOfOneNameAreNotOffered(t *testing.T) {
	openShop(t, func(s shop) {
		s.put("lark.cgo", []byte("first"))
		s.put("lark.zip", zipped(t, "lark.cgo", "first"))
		assert.Equal(t, 1, s.look(), "the same file, packed and not")
		s.put("lark.zip", zipped(t, "lark.cgo", "second"))
		assert.Zero(t, s.look())
		s.look()
		remarks := s.remarks()
		require.Len(t, remarks, 1, "told once")
		assert.Contains(t, remarks[0], "lark.cgo is not offered: ")
		require.NoError(t, os.Remove(filepath.Join(s.folder, "lark.cgo")))
		assert.Equal(t, 1, s.look())
		s.has("lark.cgo", "second")
		s.put("lark.zip", zipped(t, "lark.cgo", "third, under the same name"))
		assert.Equal(t, 1, s.look())
		s.has("lark.cgo", "third, under the same name")
	})
}

func TestADigestThatDiffersIsReported(t *testing.T) {
	openShop(t, func(s shop) {
		s.put("lark.cgo", []byte("first"))
		s.put("SHA256SUMS", []byte(strings.Repeat("0", 64)+"  lark.cgo\n"))
		assert.Equal(t, 1, s.look(), "it is offered all the same")
		assert.Equal(t,
			[]string{"lark.cgo: its sha256 is not the one published in SHA256SUMS: it is broken, or another file"},
			s.remarks())
	})
}
