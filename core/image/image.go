// Package image reads image files on the laptop: their size and digests, computed by the program,
// and what their header says of maker, model, release and architecture.
package image

import (
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"hash/crc32"
	"io"
	"os"
	"path/filepath"
	"regexp"
	"time"
)

// Header is a pattern for one thing that a header says; its first group is the value.
type Header struct {
	Name    string
	Pattern *regexp.Regexp
}

// HeaderSize is how much of a file the patterns see, in bytes.
const HeaderSize = 4 << 10

// Image is one file.
type Image struct {
	Path     string
	Name     string // of the file, without its folder
	Size     int64
	Modified time.Time
	SHA256   string
	CRC32    string // IEEE, eight hexadecimal digits
	Says     map[string]string
}

// Open reads a file once and returns what is known of it.
func Open(path string, headers []Header) (*Image, error) {
	file, err := os.Open(path)
	if err != nil {
		return nil, fmt.Errorf("image: %w", err)
	}
	defer file.Close()
	info, err := file.Stat()
	if err != nil {
		return nil, fmt.Errorf("image: %w", err)
	}
	if !info.Mode().IsRegular() {
		return nil, fmt.Errorf("image %s: it is not a file", path)
	}
	img := &Image{Path: path, Name: filepath.Base(path), Size: info.Size(), Modified: info.ModTime(), Says: map[string]string{}}
	head := make([]byte, HeaderSize)
	n, err := io.ReadFull(file, head)
	if err != nil && err != io.ErrUnexpectedEOF && err != io.EOF {
		return nil, fmt.Errorf("image %s: %w", path, err)
	}
	head = head[:n]
	long, short := sha256.New(), crc32.NewIEEE()
	both := io.MultiWriter(long, short)
	_, _ = both.Write(head)
	if _, err := io.Copy(both, file); err != nil {
		return nil, fmt.Errorf("image %s: %w", path, err)
	}
	img.SHA256, img.CRC32 = hex.EncodeToString(long.Sum(nil)), fmt.Sprintf("%08x", short.Sum32())
	for _, header := range headers {
		if found := header.Pattern.FindSubmatch(head); len(found) > 1 {
			img.Says[header.Name] = string(found[1])
		}
	}
	return img, nil
}

// Tree lays the image out for guards: name, path, size, sha256, crc32 and what the header says.
func (i *Image) Tree() map[string]any {
	tree := map[string]any{"name": i.Name, "path": i.Path, "size": float64(i.Size), "sha256": i.SHA256, "crc32": i.CRC32}
	for name, value := range i.Says {
		tree[name] = value
	}
	return tree
}

// Fields are the names that Tree always has.
var Fields = []string{"name", "path", "size", "sha256", "crc32"}
