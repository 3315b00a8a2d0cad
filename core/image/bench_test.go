package image

import (
	"crypto/md5"
	"crypto/sha256"
	"crypto/sha512"
	"fmt"
	"hash"
	"hash/crc32"
	"io"
	"os"
	"path/filepath"
	"runtime"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// BenchmarkDigest computes all digests of a file of 1 GiB and prints which share of the machine's limit
// that reaches: the slower of reading the file alone and of the hashes' own time spread over the cores.
func BenchmarkDigest(b *testing.B) {
	const size = 1 << 30
	path := filepath.Join(b.TempDir(), "large.img")
	file, err := os.Create(path)
	require.NoError(b, err)
	data := make([]byte, 16<<20)
	for i := range data {
		data[i] = byte(i * i >> 7)
	}
	for range size / len(data) {
		_, err = file.Write(data)
		require.NoError(b, err)
	}
	require.NoError(b, file.Close())
	var took, limit time.Duration
	for b.Loop() { // in turn, since the machine's speed drifts
		began := time.Now()
		img, err := Open(path, nil)
		require.NoError(b, err)
		require.EqualValues(b, size, img.Size)
		took += time.Since(began)
		limit += max(readTime(b, path), hashTime(data, size))
	}
	b.ReportMetric(float64(b.N)*size/1e6/took.Seconds(), "MB/s")
	b.ReportMetric(limit.Seconds()/took.Seconds(), "of-limit")
}

func readTime(b *testing.B, path string) time.Duration {
	file, err := os.Open(path)
	require.NoError(b, err)
	defer file.Close()
	began := time.Now()
	buffer := make([]byte, pieceSize)
	for {
		if _, err := file.Read(buffer); err == io.EOF {
			return time.Since(began)
		}
	}
}

// hashTime is the hashes' own time with nothing to wait for: all of them over the cores, or the slowest
// alone, whichever is longer.
func hashTime(data []byte, size int) time.Duration {
	var all, slowest time.Duration
	for _, h := range []hash.Hash{sha512.New(), md5.New(), sha256.New(), crc32.NewIEEE()} {
		began := time.Now()
		for range size / len(data) {
			_, _ = h.Write(data)
		}
		one := time.Since(began)
		all, slowest = all+one, max(slowest, one)
	}
	return max(slowest, all/time.Duration(runtime.NumCPU()))
}

// BenchmarkShelf lists a shelf of 2,000 images that was listed before, cache file and all, and prints the
// share of the 100 ms allowed.
func BenchmarkShelf(b *testing.B) {
	folder, cachePath := b.TempDir(), filepath.Join(b.TempDir(), "cache.json")
	for i := range 2000 {
		require.NoError(b,
			os.WriteFile(filepath.Join(folder, fmt.Sprintf("lark-7.%d.%d.cgo", i/50, i%50)),
				cargo(fmt.Sprintf("7.%d.%d", i/50, i%50)), 0o600))
	}
	list := func() time.Duration {
		began := time.Now()
		s := NewShelf(ShelfOptions{Folders: []string{folder}, Headers: headers(), Cache: cachePath})
		require.NoError(b, s.Scan(b.Context(), nil))
		require.Len(b, s.Items(), 2000)
		return time.Since(began)
	}
	list()
	for b.Loop() {
		took := list()
		b.ReportMetric(float64(took.Microseconds())/1000, "ms")
		b.ReportMetric(float64(took)/float64(100*time.Millisecond), "×allowed")
	}
}
