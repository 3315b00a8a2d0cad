package image

import (
	"archive/tar"
	"archive/zip"
	"bytes"
	"compress/gzip"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// named are the items of one file by what they are shown as.
func named(t *testing.T, name string, data []byte) map[string]Item {
	t.Helper()
	folder := t.TempDir()
	put(t, folder, name, data)
	items := map[string]Item{}
	for _, item := range scanned(t, folder).Items() {
		items[item.Inside+"|"+item.Kind] = item
	}
	return items
}

// commented is a gzip file that says something itself.
func commented(t *testing.T, comment string, data []byte) []byte {
	t.Helper()
	var out bytes.Buffer
	w := gzip.NewWriter(&out)
	w.Name, w.Comment = "kernel", comment
	_, _ = w.Write(data)
	require.NoError(t, w.Close())
	return out.Bytes()
}

// stored is a gzip file in which the data stand as they are.
func stored(t *testing.T, data []byte) []byte {
	t.Helper()
	var out bytes.Buffer
	w, err := gzip.NewWriterLevel(&out, gzip.NoCompression)
	require.NoError(t, err)
	_, _ = w.Write(data)
	require.NoError(t, w.Close())
	return out.Bytes()
}

// TestWholeOrInside has archives that are images themselves, ones that hold some, and ones that are both.
func TestWholeOrInside(t *testing.T) {
	plainTar := tarred(t, "lark-7.5.1.cgo", cargo("7.5.1"))
	unnamed := zipped(t, map[string][]byte{"kernel-7.5.0.bin": []byte("no header"), "readme": []byte("x")})
	for name, c := range map[string]struct {
		file string
		data []byte
		want []string
	}{
		"an image inside": {"a.zip", zipped(t,
			map[string][]byte{"lark.cgo": cargo("7.5.0")}), []string{"lark.cgo|"}},
		"its own beginning": {"a.img", commented(t, "maker: Cormel\nrelease: 7.5.0\n",
			[]byte("kernel")), []string{"|gz"}},
		"what is packed is not its own": {"a.gz", stored(t, cargo("7.5.0")), []string{"a|"}},
		"its name, and nothing inside": {"lark-7.5.0.pkg", zipped(t,
			map[string][]byte{"readme": []byte("x")}), []string{"|zip"}},
		"its name, and a name inside":   {"lark-7.5.0.pkg", unnamed, []string{"|zip", "kernel-7.5.0.bin|"}},
		"its name, and an image inside": {"lark-7.5.1.tar", plainTar, []string{"lark-7.5.1.cgo|"}},
		"what is inside is not its own": {"a.tar", plainTar, []string{"lark-7.5.1.cgo|"}},
		"an archive inside is not an image": {"a.tar", tarred(t, "lark-7.5.0.zip",
			zipped(t, map[string][]byte{"lark.cgo": cargo("7.5.0")})), []string{"|"}},
	} {
		items := named(t, c.file, c.data)
		var got []string
		for key := range items {
			got = append(got, key)
		}
		assert.ElementsMatch(t, c.want, got, name)
	}
	nested := named(t, "a.tar",
		tarred(t, "lark-7.5.0.zip", zipped(t, map[string][]byte{"lark.cgo": cargo("7.5.0")})))["|"]
	assert.Equal(t, "it holds another archive, lark-7.5.0.zip, which is not looked into: unpack it once",
		nested.Problem)
}

// TestMembersOfOneNameAreToldApart unpacks each of two.
func TestMembersOfOneNameAreToldApart(t *testing.T) {
	var out bytes.Buffer
	w := zip.NewWriter(&out)
	for _, release := range []string{"7.5.1", "7.5.2"} {
		f, err := w.Create("lark.cgo")
		require.NoError(t, err)
		_, _ = f.Write(cargo(release))
	}
	require.NoError(t, w.Close())
	items := named(t, "a.zip", out.Bytes())
	for inside, release := range map[string]string{"lark.cgo": "7.5.1", "lark.cgo#2": "7.5.2"} {
		item := items[inside+"|"]
		require.NotNil(t, item.Image, inside)
		assert.Equal(t, release, item.Says["release"])
		plain, err := Unpack(t.Context(), item.Image, t.TempDir(), nil)
		require.NoError(t, err)
		data, err := os.ReadFile(plain.Path)
		require.NoError(t, err)
		assert.Equal(t, cargo(release), data)
	}
}

// TestOneSealedMemberDoesNotHideTheOthers marks one as encrypted, and one as packed by a method of the future.
func TestOneSealedMemberDoesNotHideTheOthers(t *testing.T) {
	for what, spoil := range map[string]func(*zip.FileHeader){
		"encrypted":                     func(h *zip.FileHeader) { h.Flags |= 1 },
		"by a method that is not known": func(h *zip.FileHeader) { h.Method = 99 },
	} {
		var out bytes.Buffer
		w := zip.NewWriter(&out)
		header := zip.FileHeader{Name: "sealed.cgo", Method: zip.Store, CompressedSize64: 4, UncompressedSize64: 4}
		spoil(&header)
		f, err := w.CreateRaw(&header)
		require.NoError(t, err)
		_, _ = f.Write([]byte("????"))
		f, err = w.Create("lark.cgo")
		require.NoError(t, err)
		_, _ = f.Write(cargo("7.5.0"))
		require.NoError(t, w.Close())
		items := named(t, "a.zip", out.Bytes())
		assert.Equal(t, "7.5.0", items["lark.cgo|"].Says["release"], what)

		var only bytes.Buffer
		w = zip.NewWriter(&only)
		f, err = w.CreateRaw(&header)
		require.NoError(t, err)
		_, _ = f.Write([]byte("????"))
		require.NoError(t, w.Close())
		assert.Contains(t, named(t, "a.zip", only.Bytes())["|"].Problem, what, what)
	}
}

// zeros is a stream of them.
type zeros struct{ left int64 }

func (z *zeros) Read(p []byte) (int, error) {
	if z.left == 0 {
		return 0, io.EOF
	}
	n := int(min(int64(len(p)), z.left))
	clear(p[:n])
	z.left -= int64(n)
	return n, nil
}

// TestABombIsRefused packs much that unpacks from little: by what it says of its size, and by what comes of it.
func TestABombIsRefused(t *testing.T) {
	var packed bytes.Buffer
	gz, err := gzip.NewWriterLevel(&packed, gzip.BestCompression)
	require.NoError(t, err)
	_, err = io.Copy(gz, io.MultiReader(bytes.NewReader(cargo("7.5.0")), &zeros{80 << 20}))
	require.NoError(t, err)
	require.NoError(t, gz.Close())
	assert.Contains(t, named(t, "lark.gz", packed.Bytes())["|"].Problem, "it unpacks to more than 400 times its size")

	for name, members := range map[string]int{"one member": 1, "many that are harmless alone": 12} {
		var zipped bytes.Buffer
		archive := zip.NewWriter(&zipped)
		for n := range members {
			w, err := archive.Create(fmt.Sprintf("lark-%d.cgo", n))
			require.NoError(t, err)
			_, err = io.Copy(w, io.MultiReader(bytes.NewReader(cargo("7.5.0")), &zeros{int64(80<<20) / int64(members)}))
			require.NoError(t, err)
		}
		require.NoError(t, archive.Close())
		var problems []string
		for _, item := range named(t, "lark.zip", zipped.Bytes()) {
			problems = append(problems, item.Problem)
		}
		assert.Contains(t, strings.Join(problems, "; "), "it unpacks to more than 400 times its size", name)
	}

	var declared bytes.Buffer
	w := tar.NewWriter(&declared)
	require.NoError(t, w.WriteHeader(&tar.Header{Name: "lark.cgo", Mode: 0o600, Size: maxUnpacked + 1}))
	_, _ = w.Write(cargo("7.5.0"))
	assert.Contains(t, named(t, "lark.tar", declared.Bytes())["|"].Problem,
		"more than the 8589934592 B that are taken out")
}

// TestLookingIntoAnArchiveIsEndedAtOnce has one that goes on for long.
func TestLookingIntoAnArchiveIsEndedAtOnce(t *testing.T) {
	folder := t.TempDir()
	file, err := os.Create(filepath.Join(folder, "long.tar.gz"))
	require.NoError(t, err)
	gz, err := gzip.NewWriterLevel(file, gzip.HuffmanOnly)
	require.NoError(t, err)
	w := tar.NewWriter(gz)
	require.NoError(t, w.WriteHeader(&tar.Header{Name: "noise", Mode: 0o600, Size: 24 << 20}))
	_, err = io.Copy(w, &zeros{24 << 20})
	require.NoError(t, err)
	require.NoError(t, errors.Join(w.Close(), gz.Close(), file.Close()))
	ctx, cancel := context.WithCancel(t.Context())
	calls := 0
	s := NewShelf(ShelfOptions{Folders: []string{folder}, Headers: headers()})
	err = s.Scan(ctx, func(Progress) { calls++; cancel() })
	assert.ErrorIs(t, err, context.Canceled)
	assert.Less(t, calls, 3)
	assert.Empty(t, s.Items(), "nothing half is on the shelf")
}

// TestNamesOutOfArchivesActOnNothing hides escape sequences in names and headers.
func TestNamesOutOfArchivesActOnNothing(t *testing.T) {
	data := bytes.Replace(cargo("7.5.0"), []byte("G2-4, G2-8"), []byte("G2\x1b[2J"), 1)
	for _, item := range named(t, "a.zip", zipped(t, map[string][]byte{"x/la\x1b]0;rk\n.cgo": data})) {
		assert.Equal(t, "la·]0;rk·.cgo", item.Name)
		assert.Equal(t, "G2·[2J", item.Says["models"])
		plain, err := Unpack(t.Context(), item.Image, t.TempDir(), nil)
		require.NoError(t, err, "it is found again by the name that it has")
		assert.Equal(t, "la·]0;rk·.cgo", filepath.Base(plain.Path))
	}
}

// TestWhatIsNoFileIsNotOpened has a pipe, which nobody writes to, beside an image and for a list.
func TestWhatIsNoFileIsNotOpened(t *testing.T) {
	folder := t.TempDir()
	put(t, folder, "lark.cgo", cargo("7.5.0"))
	for _, name := range []string{"pipe.cgo", "SHA256SUMS"} {
		require.NoError(t, syscall.Mkfifo(filepath.Join(folder, name), 0o600))
	}
	done := make(chan []Item, 1)
	go func() { done <- scanned(t, folder).Items() }()
	select {
	case items := <-done:
		require.Len(t, items, 1)
		assert.Contains(t, items[0].FitTo(facts()).Text(), "SHA256SUMS cannot be read")
	case <-time.After(20 * time.Second):
		require.Fail(t, "it waits for a pipe")
	}
}

// TestAFileThatChangesWhileItIsHashedHasNoDigest writes to it in the middle.
func TestAFileThatChangesWhileItIsHashedHasNoDigest(t *testing.T) {
	folder := t.TempDir()
	place := filepath.Join(folder, "lark.cgo")
	put(t, folder, "lark.cgo", append(cargo("7.5.0"), bytes.Repeat([]byte("x"), 4<<20)...))
	s := NewShelf(ShelfOptions{Folders: []string{folder}, Headers: headers()})
	var once bool
	require.NoError(t, s.Scan(t.Context(), func(Progress) {
		if !once {
			once = true
			require.NoError(t, os.WriteFile(place, []byte(strings.Repeat("y", 100)), 0o600))
		}
	}))
	require.Len(t, s.Items(), 1)
	assert.Contains(t, s.Items()[0].Problem, "it changed while it was hashed")
	assert.Empty(t, s.Items()[0].SHA256)
	require.NoError(t, s.Scan(t.Context(), nil))
	assert.Equal(t, int64(100), s.Items()[0].Size, "it is looked at again")
}

// TestAMembersNameIsCutAtEitherSlash packs names as another system does, and as somebody would who wants them to lead
// elsewhere.
func TestAMembersNameIsCutAtEitherSlash(t *testing.T) {
	for packed, want := range map[string]string{
		`lark.cgo`: "lark.cgo", `new\lark.cgo`: "lark.cgo", `..\..\lark.cgo`: "lark.cgo", `C:\lark.cgo`: "lark.cgo", `a/b\lark.cgo`: "lark.cgo", `\\host\share\lark.cgo`: "lark.cgo",
	} {
		var zipped bytes.Buffer
		archive := zip.NewWriter(&zipped)
		w, err := archive.Create(packed)
		require.NoError(t, err)
		_, err = w.Write(cargo("7.5.0"))
		require.NoError(t, err)
		require.NoError(t, archive.Close())
		names := []string{}
		for _, item := range named(t, "lark.zip", zipped.Bytes()) {
			names = append(names, item.Name)
			assert.NotContains(t, item.Inside, `\`)
		}
		assert.Equal(t, []string{want}, names, packed)
	}
}
