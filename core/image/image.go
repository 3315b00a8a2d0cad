// Package image is the shelf: the image files that this laptop has, looked into where they are packed,
// with their digests, computed here and published, what their header or name says, whether they fit a
// device, and the releases that lead from one to another.
package image

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"time"

	"pilotrix/core/plain"
)

// Header is a pattern for one thing that an image says of itself; its first group is the value. It is
// looked for at the beginning of the file, or in the file's name.
type Header struct {
	Name    string
	Pattern *regexp.Regexp
	InName  bool
}

// HeaderSize is how much of a file the patterns see, in bytes.
const HeaderSize = 4 << 10

// Image is one file, as it is on the disk or inside an archive.
type Image struct {
	Path     string // of the file, or of the archive
	Inside   string // the file's place inside the archive, empty for a plain file
	Name     string // the file's own, without its folder
	Modified time.Time
	Digests
	Says map[string]string
}

// Packed reports whether the image has to be unpacked before it can be used.
func (i *Image) Packed() bool { return i.Inside != "" }

// Place is where the image is: its path, or that of its archive with the place inside. A digest pasted for
// it is kept under this.
func (i *Image) Place() string {
	if i.Packed() {
		return i.Path + "!" + i.Inside
	}
	return i.Path
}

// Reader opens a plain image to be sent. A file that is not the one that was hashed any more is an error.
func (i *Image) Reader() (*os.File, error) {
	file, err := os.Open(i.Path)
	if err != nil {
		return nil, fmt.Errorf("image: %w", err)
	}
	info, err := file.Stat()
	if err == nil && (info.Size() != i.Size || !info.ModTime().Equal(i.Modified)) {
		err = fmt.Errorf("%s changed since it was hashed (%d B of %s, was %d B of %s)", i.Path,
			info.Size(), info.ModTime().Format(time.DateTime), i.Size, i.Modified.Format(time.DateTime))
	}
	if err != nil {
		return nil, errors.Join(err, file.Close())
	}
	return file, nil
}

// Open reads a plain file once and returns what is known of it.
func Open(path string, headers []Header) (*Image, error) {
	return open(context.Background(), path, headers, nil)
}

func open(ctx context.Context, path string, headers []Header, progress func(int64)) (*Image, error) {
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
	img := &Image{Path: path, Name: filepath.Base(path), Modified: info.ModTime()}
	head := make([]byte, HeaderSize)
	digests, n, err := Digest(ctx, file, head, progress)
	if err != nil {
		return nil, fmt.Errorf("image %s: %w", path, err)
	}
	img.Digests, img.Says = digests, read(headers, head[:n], img.Name)
	return img, nil
}

// Describe reads a text file that is published beside an image, by patterns.
func Describe(path string, patterns []Header) (map[string]string, error) {
	file, err := os.Open(path)
	if err != nil {
		return nil, fmt.Errorf("build description: %w", err)
	}
	defer file.Close()
	text, err := io.ReadAll(io.LimitReader(file, maxDescription))
	if err != nil {
		return nil, fmt.Errorf("build description %s: %w", path, err)
	}
	return read(patterns, text, filepath.Base(path)), nil
}

// maxDescription bounds a build description, in bytes.
const maxDescription = 64 << 10

// maxSaid is how much of what an image says is kept, in characters.
const maxSaid = 400

// read applies the patterns: the header's words count before the name's.
func read(headers []Header, head []byte, name string) map[string]string {
	says := map[string]string{}
	for _, inName := range []bool{false, true} {
		for _, h := range headers {
			if _, known := says[h.Name]; known || h.InName != inName {
				continue
			}
			text := head
			if inName {
				text = []byte(name)
			}
			if found := h.Pattern.FindSubmatch(text); len(found) > 1 {
				says[h.Name] = plain.Clip(strings.TrimSpace(string(found[1])), maxSaid)
			}
		}
	}
	return says
}

// What images say, by the names that the fit and the upgrades know.
const (
	SaysMaker        = "maker"
	SaysModels       = "models"
	SaysArchitecture = "architecture"
	SaysRelease      = "release"
	SaysBoot         = "boot"      // the least boot firmware
	SaysCompanion    = "companion" // what kind of companion a file is, such as licence
	SaysFor          = "for"       // which releases a companion is for
	SaysLicence      = "licence"   // which licence an image asks for
)

// Tree lays the image out for guards: its Fields and what it says.
func (i *Image) Tree() map[string]any {
	tree := map[string]any{
		"name": i.Name, "path": i.Path, "size": float64(i.Size),
		"sha256": i.SHA256, "sha512": i.SHA512, "md5": i.MD5, "crc32": i.CRC32,
	}
	for name, value := range i.Says {
		tree[name] = value
	}
	return tree
}

// Fields are the names that Tree always has.
var Fields = []string{"name", "path", "size", "sha256", "sha512", "md5", "crc32"}
