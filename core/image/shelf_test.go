package image

import (
	"archive/tar"
	"archive/zip"
	"bytes"
	"compress/gzip"
	"context"
	"crypto/md5"
	"crypto/sha256"
	"fmt"
	"io"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/klauspost/compress/zstd"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"github.com/ulikunitz/xz"

	"pilotrix/core/device"
)

func headers() []Header {
	h := func(name, pattern string) Header {
		return Header{Name: name, Pattern: regexp.MustCompile(pattern)}
	}
	return []Header{
		h("maker", `(?m)^maker: (.+)$`),
		h("models", `(?m)^models: (.+)$`),
		h("release", `(?m)^release: (.+)$`),
		h("architecture", `(?m)^architecture: (.+)$`),
		h("boot", `(?m)^boot firmware: (.+)$`),
		h("licence", `(?m)^licence: (.+)$`),
		h("companion", `^CORMEL (LICENCE) `),
		h("for", `(?m)^for release: (.+)$`),
		{Name: "release", Pattern: regexp.MustCompile(`-(\d+\.\d+\.\d+)\.`), InName: true},
	}
}

func cargo(release string, more ...string) []byte {
	return []byte("CORMEL CARGO 1\nmaker: Cormel\nmodels: G2-4, G2-8\narchitecture: plover64\nrelease: " + release + "\n" + strings.Join(more, "\n") + "\n\n" + strings.Repeat(release, 2000))
}

func put(t *testing.T, folder, name string, data []byte) {
	t.Helper()
	require.NoError(t, os.WriteFile(filepath.Join(folder, name), data, 0o600))
}

func zipped(t *testing.T, files map[string][]byte) []byte {
	t.Helper()
	var out bytes.Buffer
	w := zip.NewWriter(&out)
	for name, data := range files {
		f, err := w.Create(name)
		require.NoError(t, err)
		_, _ = f.Write(data)
	}
	require.NoError(t, w.Close())
	return out.Bytes()
}

func tarred(t *testing.T, name string, data []byte) []byte {
	t.Helper()
	var out bytes.Buffer
	w := tar.NewWriter(&out)
	require.NoError(t, w.WriteHeader(&tar.Header{Name: name, Mode: 0o600, Size: int64(len(data))}))
	_, _ = w.Write(data)
	require.NoError(t, w.Close())
	return out.Bytes()
}

func compressed(t *testing.T, data []byte, with func(io.Writer) (io.WriteCloser, error)) []byte {
	t.Helper()
	var out bytes.Buffer
	w, err := with(&out)
	require.NoError(t, err)
	_, _ = w.Write(data)
	require.NoError(t, w.Close())
	return out.Bytes()
}

func toGzip(w io.Writer) (io.WriteCloser, error) { return gzip.NewWriter(w), nil }
func toZstd(w io.Writer) (io.WriteCloser, error) { return zstd.NewWriter(w) }
func toXZ(w io.Writer) (io.WriteCloser, error)   { return xz.NewWriter(w) }

func scanned(t *testing.T, folder string) *Shelf {
	t.Helper()
	s := NewShelf(
		ShelfOptions{Folders: []string{folder}, Headers: headers(), Cache: filepath.Join(t.TempDir(), "cache.json")})
	require.NoError(t, s.Scan(t.Context(), nil))
	return s
}

func TestArchivesAreLookedInto(t *testing.T) {
	folder := t.TempDir()
	put(t, folder, "plain-7.4.2.cgo", cargo("7.4.2"))
	put(t, folder, "a.zip",
		zipped(t, map[string][]byte{"notes/readme.txt": []byte("read me"), "images/lark-7.5.0.cgo": cargo("7.5.0")}))
	put(t, folder, "b.tar", tarred(t, "lark-7.5.1.cgo", cargo("7.5.1")))
	put(t, folder, "c.tar.gz", compressed(t, tarred(t, "./lark-7.5.2.cgo", cargo("7.5.2")), toGzip))
	put(t, folder, "d.tar.xz", compressed(t, tarred(t, "lark-7.5.3.cgo", cargo("7.5.3")), toXZ))
	put(t, folder, "lark-7.5.4.cgo.gz", compressed(t, cargo("7.5.4"), toGzip))
	bz := filepath.Join(folder, "lark-7.5.5.cgo")
	require.NoError(t, os.WriteFile(bz, cargo("7.5.5"), 0o600))
	if _, err := exec.LookPath("bzip2"); err == nil {
		require.NoError(t, exec.Command("bzip2", bz).Run())
	}
	put(t, folder, "e.tar.zst", compressed(t, tarred(t, "lark-7.5.7.cgo", cargo("7.5.7")), toZstd))
	put(t, folder, "misnamed.cgo", compressed(t, cargo("7.5.6"), toGzip))
	put(t, folder, "empty.zip", zipped(t, map[string][]byte{"readme.txt": []byte("nothing here")}))
	put(t, folder, "cut.zip", zipped(t, map[string][]byte{"lark-9.9.9.cgo": cargo("9.9.9")})[:200])
	s := scanned(t, folder)
	var releases []string
	for _, item := range s.Items() {
		if item.Problem != "" {
			continue
		}
		releases = append(releases, item.Says["release"])
		assert.Equal(t, fmt.Sprintf("%x", sha256.Sum256(cargo(item.Says["release"]))), item.SHA256,
			"%s in %s: the digest is the image's, not the archive's", item.Name, item.Path)
		out, err := Unpack(t.Context(), item.Image, t.TempDir(), nil)
		require.NoError(t, err)
		data, err := os.ReadFile(out.Path)
		require.NoError(t, err)
		assert.Equal(t, cargo(item.Says["release"]), data)
	}
	assert.Equal(t, []string{"7.5.7", "7.5.6", "7.5.5", "7.5.4", "7.5.3", "7.5.2", "7.5.1", "7.5.0", "7.4.2"}, releases,
		"newest first")
	problems := map[string]string{}
	for _, item := range s.Items() {
		problems[item.Name] = item.Problem
	}
	assert.Contains(t, problems["empty.zip"], "no image is recognised")
	assert.NotEmpty(t, problems["cut.zip"])
}

func TestAnArchiveThatChangedIsNotUnpacked(t *testing.T) {
	folder := t.TempDir()
	put(t, folder, "a.zip", zipped(t, map[string][]byte{"lark.cgo": cargo("7.5.0")}))
	item := scanned(t, folder).Items()[0]
	put(t, folder, "a.zip", zipped(t, map[string][]byte{"lark.cgo": cargo("7.5.1")}))
	to := t.TempDir()
	_, err := Unpack(t.Context(), item.Image, to, nil)
	assert.ErrorContains(t, err, "changed since it was looked into")
	left, err := os.ReadDir(to)
	require.NoError(t, err)
	assert.Empty(t, left)
	put(t, folder, "a.zip", zipped(t, map[string][]byte{"other": []byte("x")}))
	_, err = Unpack(t.Context(), item.Image, to, nil)
	assert.ErrorContains(t, err, "does not hold lark.cgo any more")
}

// TestAnImageIsUnpackedOnceAndWhole asks for it from several sides at the same time.
func TestAnImageIsUnpackedOnceAndWhole(t *testing.T) {
	folder, in := t.TempDir(), t.TempDir()
	data := cargo("7.6.1", strings.Repeat("lark ", 1<<20))
	put(t, folder, "lark.zip", zipped(t, map[string][]byte{"lark.cgo": data}))
	item := scanned(t, folder).Items()[0]
	require.True(t, item.Packed())
	unpacker := &Unpacker{In: in}
	var began atomic.Int32
	var all sync.WaitGroup
	for range 8 {
		all.Go(func() {
			out, err := unpacker.Plain(t.Context(), item.Image, func() { began.Add(1) })
			if assert.NoError(t, err) {
				got, err := os.ReadFile(out.Path)
				assert.NoError(t, err)
				assert.Equal(t, len(data), len(got), "never a part of it")
			}
		})
	}
	all.Wait()
	assert.EqualValues(t, 1, began.Load())
	require.NoError(t, unpacker.Close())
	left, err := os.ReadDir(in)
	require.NoError(t, err)
	assert.Empty(t, left)
}

func TestPublishedDigestsAreCompared(t *testing.T) {
	folder := t.TempDir()
	good, bad, packed := cargo("7.4.2"), cargo("7.5.0"), zipped(t, map[string][]byte{"lark-7.6.0.cgo": cargo("7.6.0")})
	put(t, folder, "good.cgo", good)
	put(t, folder, "bad.cgo", bad)
	put(t, folder, "packed.zip", packed)
	put(t, folder, "quiet.cgo", cargo("7.7.0"))
	put(t, folder, "SHA256SUMS",
		[]byte(fmt.Sprintf("# published\n%x  good.cgo\n%x *packed.zip\n", sha256.Sum256(good), sha256.Sum256(packed))))
	put(t, folder, "good.cgo.md5", []byte(fmt.Sprintf("MD5 (dist/good.cgo) = %X\n", md5.Sum(good))))
	put(t, folder, "bad.cgo.sha256", []byte(fmt.Sprintf("%x\n", sha256.Sum256(good))))
	items := map[string]Item{}
	for _, item := range scanned(t, folder).Items() {
		items[item.Name] = item
	}
	assert.Len(t, items, 4, "sidecars are no images")
	assert.True(t, items["good.cgo"].Proved())
	assert.Len(t, items["good.cgo"].Published, 2)
	assert.True(t, items["bad.cgo"].Broken())
	assert.Contains(t, items["bad.cgo"].FitTo(&device.Facts{}).Text(), "is not the one published in bad.cgo.sha256")
	require.Len(t, items["lark-7.6.0.cgo"].Published, 1)
	assert.True(t, items["lark-7.6.0.cgo"].Published[0].OfArchive)
	assert.True(t, items["lark-7.6.0.cgo"].Proved())
	assert.False(t, items["quiet.cgo"].Proved() || items["quiet.cgo"].Broken())
}

func TestPastedDigests(t *testing.T) {
	sum := fmt.Sprintf("%X", sha256.Sum256([]byte("abc")))
	for _, text := range []string{sum, " " + strings.ToLower(sum) + "\n", "SHA256: " + sum, "sha256 (x.cgo) = " + sum, sum[:8] + " " + sum[8:32] + ":" + sum[32:], sum + "  x.cgo"} {
		p, err := ParsePasted(text)
		require.NoError(t, err, text)
		assert.Equal(t, Published{Algorithm: "sha256", Digest: strings.ToLower(sum), Name: p.Name, From: "pasted"}, p)
	}
	for _, text := range []string{"", "abc", sum + "0", "zz" + sum[2:]} {
		_, err := ParsePasted(text)
		assert.Error(t, err, text)
	}
}

// TestAFileIsReadOnce holds that a second shelf takes the digests from the cache, and computes again when
// the file is another one, of the same size and time too.
func TestAFileIsReadOnce(t *testing.T) {
	folder, cachePath := t.TempDir(), filepath.Join(t.TempDir(), "deep", "cache.json")
	place := filepath.Join(folder, "lark.cgo")
	put(t, folder, "lark.cgo", cargo("7.4.2"))
	read := 0
	scan := func() Item {
		s := NewShelf(ShelfOptions{Folders: []string{folder}, Headers: headers(), Cache: cachePath})
		read = 0
		require.NoError(t, s.Scan(t.Context(), func(Progress) { read++ }))
		return s.Items()[0]
	}
	first := scan()
	assert.Positive(t, read)
	assert.Equal(t, first, scan())
	assert.Zero(t, read, "nothing was read again")
	info, err := os.Stat(place)
	require.NoError(t, err)
	put(t, folder, "other", cargo("7.4.3"))
	require.NoError(t, os.Rename(filepath.Join(folder, "other"), place))
	require.NoError(t, os.Chtimes(place, info.ModTime(), info.ModTime()))
	assert.Equal(t, "7.4.3", scan().Says["release"])
	require.NoError(t, os.WriteFile(cachePath, []byte("{broken"), 0o600))
	assert.Equal(t, "7.4.3", scan().Says["release"], "a broken cache is begun anew")
}

func TestTheShelfIsWatched(t *testing.T) {
	folder := t.TempDir()
	s := scanned(t, folder)
	gone := filepath.Join(t.TempDir(), "gone")
	s.Add(gone) // the others are watched all the same
	ctx, cancel := context.WithTimeout(t.Context(), 30*time.Second)
	defer cancel()
	changed, ended := make(chan struct{}, 10), make(chan error, 1)
	go func() {
		ended <- s.Watch(ctx, func(err error) { assert.ErrorIs(t, err, fs.ErrNotExist); changed <- struct{}{} })
	}()
	for len(s.Items()) == 0 { // the watch may begin after the file came; then it is put there again
		put(t, folder, "lark.cgo", cargo("7.4.2"))
		select {
		case <-changed:
		case <-time.After(2 * time.Second):
		case <-ctx.Done():
			require.Fail(t, "never seen")
		}
	}
	other := t.TempDir()
	put(t, other, "lark-next.cgo", cargo("7.6.1"))
	s.Add(other)
	s.Add(other)
	for len(s.Items()) < 2 {
		select {
		case <-changed:
		case <-ctx.Done():
			require.Fail(t, "the folder that was added is not read")
		}
	}
	assert.Equal(t, []string{folder, gone, other}, s.Folders())
	cancel()
	require.NoError(t, <-ended)
}

// TestAFileThatIsBeingWrittenIsLeftAlone scans a moment after a file was changed, and later.
func TestAFileThatIsBeingWrittenIsLeftAlone(t *testing.T) {
	folder := t.TempDir()
	put(t, folder, "lark.cgo", cargo("7.4.2"))
	put(t, folder, "new.cgo", cargo("7.6.1"))
	now := time.Unix(1_800_000_000, 0)
	require.NoError(t, os.Chtimes(filepath.Join(folder, "lark.cgo"), now, now.Add(-time.Hour)))
	s := NewShelf(ShelfOptions{Folders: []string{folder}, Now: func() time.Time { return now }})
	for _, c := range []struct {
		age      time.Duration
		changing bool
		count    int
	}{{settle - 1, true, 1}, {settle, false, 2}, {-time.Minute, false, 2}, {0, true, 1}} { // the third is by another clock
		require.NoError(t, os.Chtimes(filepath.Join(folder, "new.cgo"), now, now.Add(-c.age)))
		changing, err := s.scan(t.Context(), nil, s.isChanging)
		require.NoError(t, err)
		assert.Equal(t, c.changing, changing, c.age)
		assert.Len(t, s.Items(), c.count, c.age)
	}
	require.NoError(t, s.Scan(t.Context(), nil))
	changing, err := s.scan(t.Context(), nil, s.isChanging)
	require.NoError(t, err)
	assert.False(t, changing, "it is known as it is")
	assert.Len(t, s.Items(), 2)
}

func TestNamesSpeakWhereHeadersDoNot(t *testing.T) {
	folder := t.TempDir()
	put(t, folder, "dunlin-2.1.0.pkg", []byte("no header"))
	put(t, folder, "lark-9.9.9.cgo", cargo("7.4.2"))
	items := map[string]Item{}
	for _, item := range scanned(t, folder).Items() {
		items[item.Name] = item
	}
	assert.Equal(t, "2.1.0", items["dunlin-2.1.0.pkg"].Says["release"])
	assert.Equal(t, "7.4.2", items["lark-9.9.9.cgo"].Says["release"], "the header counts before the name")
}

func facts(pairs ...string) *device.Facts {
	f := &device.Facts{}
	for i := 0; i < len(pairs); i += 2 {
		f.Set(device.Fact{Name: pairs[i], Text: pairs[i+1], Value: pairs[i+1]})
	}
	return f
}

func TestFitHasAReasonForEveryNo(t *testing.T) {
	folder := t.TempDir()
	put(t, folder, "lark.cgo", cargo("7.6.1", "boot firmware: 2.1", "licence: 8"))
	item := scanned(t, folder).Items()[0]
	whole := []string{
		"device.model", "G2-4", "device.architecture", "plover64", "device.boot", "2.1.3", "standby.room", "9,000,000",
		"running.release", "7.4.2", "device.licence", "7, 8",
	}
	assert.Equal(t, Yes, item.FitTo(facts(whole...)).Verdict)
	assert.Equal(t, "fits", item.FitTo(facts(whole...)).Text())
	for name, c := range map[string]struct {
		value   string
		verdict Verdict
		words   string
	}{
		"device.model":        {"G2-16", No, "made for G2-4, G2-8; the device is G2-16"},
		"device.architecture": {"wren32", No, "built for plover64; the device is wren32"},
		"device.boot":         {"2.0.9", No, "needs boot firmware 2.1; the device has 2.0.9"},
		"standby.room":        {"1,000", No, "1000 B are free"},
		"device.licence":      {"7", First, "needs a licence for release 8 first"},
	} {
		changed := append([]string{}, whole...)
		changed = append(changed, name, c.value)
		fit := item.FitTo(facts(changed...))
		assert.Equal(t, c.verdict, fit.Verdict, name)
		assert.Contains(t, fit.Text(), c.words)
	}
	assert.Equal(t, Unknown, item.FitTo(facts()).Verdict, "what was not read is not held to fit")

	full := facts(append(slices.Clone(whole), "standby.room", "1,000")...)
	full.Set(
		device.Fact{Name: factStoreImages, Value: []map[string]any{{"name": "old.cgo", "size": float64(item.Size)}}})
	assert.Equal(t, First, item.FitTo(full).Verdict, "images that are there may go")
	assert.Contains(t, item.FitTo(full).Text(), "something has to go first")
	full.Set(device.Fact{Name: factStoreImages, Value: []map[string]any{{"name": "old.cgo", "size": float64(5)}}})
	assert.Equal(t, No, item.FitTo(full).Verdict)
}

const paths = `
upgrade-paths: cormel-g2
steps:
  - {from: ['7.2', '7.4', '7.6'], to: ['7.6']}
  - {from: ['7.6'], to: ['8'], before: [licence], companion: {kind: licence, for: '8'}}
  - {from: ['8'], to: ['8'], after: [rebuild]}
`

func TestUpgradesArePlanned(t *testing.T) {
	folder := t.TempDir()
	for _, release := range []string{"7.4.2", "7.6.0", "7.6.1", "8.1.0", "8.2.0", "9.0.0"} {
		put(t, folder, "lark-"+release+".cgo", cargo(release))
	}
	put(t, folder, "pass", []byte("CORMEL LICENCE 1\nfor release: 8\n"))
	s := scanned(t, folder)
	p, err := ParseUpgradePaths("paths.yaml", []byte(paths))
	require.NoError(t, err)
	device := facts("device.model", "G2-4", "device.architecture", "plover64")
	plan := func(running, to string) (chain string, err error) {
		wanted, findErr := s.Find("lark-" + to + ".cgo")
		require.NoError(t, findErr)
		path, err := p.Plan(s.Items(), device, running, wanted)
		return chainText(path.Steps), err
	}
	for way, want := range map[[2]string]string{
		{"7.4.2", "8.1.0"}:    "7.6.1 8.1.0 (pass)",
		{"7.6.0", "8.2.0"}:    "8.2.0 (pass)",
		{"8.1.0", "8.2.0"}:    "8.2.0",
		{"8.2.0", "8.2.0"}:    "",
		{"7.4.2", "7.6.0"}:    "7.6.0",
		{"v7.6.0.0", "7.6.0"}: "",
	} {
		got, err := plan(way[0], way[1])
		require.NoError(t, err)
		assert.Equal(t, want, got, way)
	}
	_, err = plan("6.0", "8.1.0")
	assert.ErrorContains(t, err, "says nothing of steps from release 6.0")
	_, err = plan("7.4.2", "9.0.0")
	assert.ErrorContains(t, err, "knows no step that leads to release 9.0.0")
	_, err = plan("7.40.1", "8.1.0")
	assert.Error(t, err, "7.4 is not the beginning of 7.40")
	for _, release := range []string{"7.6.0", "7.6.1"} {
		put(t, folder, "lark-"+release+".cgo", bytes.Replace(cargo(release), []byte("G2-4, G2-8"), []byte("G2-16"), 1))
	}
	require.NoError(t, s.Scan(t.Context(), nil))
	_, err = plan("7.4.2", "8.1.0")
	assert.ErrorContains(t, err, "7.4.2 leads to 8.1.0 only by way of 7.6")
	assert.ErrorContains(t, err, "made for G2-16")
	require.NoError(t, os.Remove(filepath.Join(folder, "pass")))
	require.NoError(t, s.Scan(t.Context(), nil))
	_, err = plan("7.6.0", "8.2.0")
	assert.ErrorContains(t, err, "needs a licence for release 8, and none is on the shelf")
}

func chainText(steps []UpgradeStep) (chain string) {
	for _, upgrade := range steps {
		chain += upgrade.Release + " "
		if upgrade.Companion != nil {
			chain += "(" + upgrade.Companion.Name + ") "
		}
	}
	return strings.TrimSpace(chain)
}

// made are images that say their releases, of which those with a star have a published digest that holds.
func made(releases ...string) (items []Item) {
	for i, release := range releases {
		plain, proved := strings.CutSuffix(release, "*")
		item := Item{Image: &Image{Name: fmt.Sprintf("lark-%s-%d.cgo", plain, i), Says: Says{SaysRelease: plain}}}
		if proved {
			item.Published = []Checked{{Holds: true}}
		}
		items = append(items, item)
	}
	return items
}

// TestWhichWayIsTaken has several ways, and rows that forbid and prefer.
func TestWhichWayIsTaken(t *testing.T) {
	const usual = "{from: ['7'], to: ['7.6', '7.7', '7.8']}, {from: ['7.6', '7.7', '7.8'], to: ['8']}"
	for name, c := range map[string]struct {
		rows, more string
		items      []Item
		want       string
		others     []string
		says       string
	}{
		"the newest": {usual, "", made("7.6.1", "7.7.2",
			"8.1"), "7.7.2 8.1", []string{"7.6.1 8.1"}, ""},
		"no candidate on the way":    {usual, "", made("7.6.1", "7.7.2-rc1", "8.1"), "7.6.1 8.1", nil, ""},
		"a candidate that is wanted": {usual, "", made("7.6.1", "8.1-rc1"), "7.6.1 8.1-rc1", nil, ""},
		"a release that is preferred": {usual, "prefer: ['7.6']", made("7.6.1", "7.7.2",
			"8.1"), "7.6.1 8.1", []string{"7.7.2 8.1"}, ""},
		"a step that is preferred": {usual + ", {from: ['7'], to: ['7.65'], prefer: true}, {from: ['7.65'], to: ['8']}", "", made("7.65", "7.7.2", "8.1"), "7.65 8.1", []string{"7.7.2 8.1"}, ""},
		"preferred, and longer": {usual + ", {from: ['7.1'], to: ['8']}", "prefer: ['7.6']", made("7.6.1",
			"8.1"), "8.1", nil, ""},
		"a release that is never taken": {usual, "never: ['7.7.2', '7.8']", made("7.6.1", "7.7.2", "7.8.9",
			"8.1"), "7.6.1 8.1", nil, ""},
		"a step that is forbidden":      {usual + ", {from: ['7.7.2'], to: ['8'], never: it loses its licences}", "", made("7.6.1", "7.7.2", "8.1"), "7.6.1 8.1", nil, ""},
		"the only step is forbidden":    {"{from: ['7'], to: ['8']}, {from: ['7'], to: ['8'], never: it loses its licences}", "", made("8.1"), "", nil, "forbids the step from 7.1 to 8.1: it loses its licences"},
		"the one with a digest":         {usual, "", made("7.7.2", "7.7.2*", "7.7.2", "8.1"), "7.7.2 8.1", nil, ""},
		"one release, written two ways": {usual, "", made("7.7.2.0*", "v7.7.2", "8.1"), "7.7.2.0 8.1", nil, ""},
		"not farther than wanted":       {usual + ", {from: ['7'], to: ['8.5']}, {from: ['8.5'], to: ['8']}", "", made("7.6.1", "8.5", "8.1"), "7.6.1 8.1", nil, ""},
		"farther where nothing else is": {"{from: ['7'], to: ['8.5']}, {from: ['8.5'], to: ['8']}", "", made("7.6.1",
			"8.5", "8.1"), "8.5 8.1", nil, ""},
		"never over what runs": {"{from: ['7'], to: ['7']}, {from: ['7'], to: ['8']}", "", made("7.1", "7.1.0",
			"8.1"), "8.1", nil, ""},
	} {
		t.Run(name, func(t *testing.T) {
			p, err := ParseUpgradePaths("paths.yaml", []byte("upgrade-paths: x\n"+c.more+"\nsteps: ["+c.rows+"]\n"))
			require.NoError(t, err)
			path, err := p.Plan(c.items, facts("device.model", "G2-4"), "7.1", c.items[len(c.items)-1])
			if c.says != "" {
				assert.ErrorContains(t, err, c.says)
				return
			}
			require.NoError(t, err)
			assert.Equal(t, c.want, chainText(path.Steps))
			var others []string
			for _, other := range path.Others {
				others = append(others, chainText(other))
			}
			assert.Equal(t, c.others, others)
			if strings.Contains(name, "digest") {
				assert.True(t, path.Steps[0].Item.Proved())
			}
		})
	}
}

func TestAWayBackIsSaidToBeOne(t *testing.T) {
	items := made("7.4.2", "8.1")
	p, err := ParseUpgradePaths("paths.yaml",
		[]byte("upgrade-paths: x\nsteps: [{from: ['8'], to: ['7']}, {from: ['7'], to: ['8']}]\n"))
	require.NoError(t, err)
	for running, down := range map[string]bool{"8.1": true, "7.1": false} {
		path, err := p.Plan(items, facts(), running, items[0])
		if down {
			require.NoError(t, err)
			assert.Equal(t, "7.4.2", chainText(path.Steps))
		}
		assert.Equal(t, down, path.Downgrade)
	}
	for _, running := range []string{"", "unknown"} {
		_, err = p.Plan(items, facts(), running, items[0])
		assert.ErrorContains(t, err, "the running release is not known")
	}
}

// TestAShelfOfThousands plans over as many releases as a maker has ever had.
func TestAShelfOfThousands(t *testing.T) {
	var releases []string
	for i := range 20_000 {
		releases = append(releases, fmt.Sprintf("7.%d.%d", i/100, i%100))
	}
	items := made(append(releases, "8.1")...)
	p, err := ParseUpgradePaths("paths.yaml",
		[]byte("upgrade-paths: x\nsteps: [{from: ['7'], to: ['7']}, {from: ['7.150'], to: ['8']}]\n"))
	require.NoError(t, err)
	path, err := p.Plan(items, facts(), "7.1.1", items[len(items)-1])
	require.NoError(t, err)
	assert.Equal(t, "7.150.99 8.1", chainText(path.Steps))
}

func TestPathFilesAreChecked(t *testing.T) {
	_, err := ParseUpgradePaths("p.yaml", []byte("upgrade-paths: x\nsteps:\n  - {from: [oops], to: ['8']}\n"))
	assert.ErrorContains(t, err, "p.yaml:3:13:")
	_, err = ParseUpgradePaths("p.yaml", []byte("upgrade-paths: x\nsteps:\n  - {from: ['7']}\n"))
	assert.ErrorContains(t, err, "to is missing: releases that this leads to")
}

// TestABuildDescriptionIsNoImage: it lies beside one, and by itself it is a file like any other.
func TestABuildDescriptionIsNoImage(t *testing.T) {
	folder := t.TempDir()
	for _, name := range []string{"system.img", "system.img.build", "lonely.build"} {
		require.NoError(t, os.WriteFile(filepath.Join(folder, name), []byte("Release: 2.6\n"), 0o600))
	}
	s := NewShelf(ShelfOptions{Folders: []string{folder}, Endings: []string{".build"}})
	require.NoError(t, s.Scan(t.Context(), nil))
	var names []string
	for _, item := range s.Items() {
		names = append(names, item.Name)
	}
	assert.ElementsMatch(t, []string{"system.img", "lonely.build"}, names)
	says, err := Describe(filepath.Join(folder, "system.img.build"),
		[]Header{{Name: "release", Pattern: regexp.MustCompile(`Release: (\S+)`)}})
	require.NoError(t, err)
	assert.Equal(t, map[string]string{"release": "2.6"}, says)
	_, err = Describe(filepath.Join(folder, "none"), nil)
	assert.ErrorIs(t, err, os.ErrNotExist)
}
