package image

import (
	"archive/tar"
	"archive/zip"
	"bytes"
	"compress/bzip2"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path"
	"path/filepath"
	"strings"
	"time"

	"github.com/klauspost/compress/gzip"
	"github.com/ulikunitz/xz"
)

// member is one file of an archive.
type member struct {
	place    string // inside the archive, for humans and for finding it again
	size     int64  // -1 when the archive does not say
	modified time.Time
}

// errStop ends a walk early.
var errStop = errors.New("that is enough")

// mostMembers bounds the archives that are looked into: an image comes with a few files, not thousands.
const mostMembers = 2000

// kindOf tells an archive by its first bytes, whatever its name is; empty for anything else.
func kindOf(head []byte) string {
	switch {
	case bytes.HasPrefix(head, []byte("PK\x03\x04")):
		return "zip"
	case bytes.HasPrefix(head, []byte("\x1f\x8b")):
		return "gz"
	case bytes.HasPrefix(head, []byte("\xfd7zXZ\x00")):
		return "xz"
	case bytes.HasPrefix(head, []byte("BZh")) && len(head) > 3 && head[3] >= '1' && head[3] <= '9':
		return "bz2"
	case len(head) > 262 && bytes.Equal(head[257:262], []byte("ustar")):
		return "tar"
	}
	return ""
}

// walk visits the files of an archive in their order.
func walk(file *os.File, size int64, visit func(member, io.Reader) error) error {
	head := make([]byte, 512)
	n, err := io.ReadFull(file, head)
	if err != nil && !errors.Is(err, io.ErrUnexpectedEOF) {
		return err
	}
	if _, err := file.Seek(0, io.SeekStart); err != nil {
		return err
	}
	kind := kindOf(head[:n])
	switch kind {
	case "zip":
		return walkZip(file, size, visit)
	case "tar":
		return walkTar(file, visit)
	case "gz", "xz", "bz2":
		return walkStream(file, kind, visit)
	}
	return errors.New("it is no zip, tar, gz, xz or bz2 archive")
}

func walkZip(file *os.File, size int64, visit func(member, io.Reader) error) error {
	archive, err := zip.NewReader(file, size)
	if err != nil {
		return err
	}
	if len(archive.File) > mostMembers {
		return fmt.Errorf("it holds %d files, more than the %d that are looked at", len(archive.File), mostMembers)
	}
	for _, f := range archive.File {
		if !f.Mode().IsRegular() {
			continue
		}
		data, err := f.Open()
		if err == nil {
			err = errors.Join(visit(member{f.Name, int64(f.UncompressedSize64), f.Modified}, data), data.Close())
		}
		if err != nil {
			return stopped(err)
		}
	}
	return nil
}

func walkTar(from io.Reader, visit func(member, io.Reader) error) error {
	archive := tar.NewReader(from)
	for n := 0; ; n++ {
		header, err := archive.Next()
		switch {
		case errors.Is(err, io.EOF):
			return nil
		case err != nil:
			return err
		case n > mostMembers:
			return fmt.Errorf("it holds more than the %d files that are looked at", mostMembers)
		case header.Typeflag != tar.TypeReg:
			continue
		}
		if err := visit(member{header.Name, header.Size, header.ModTime}, archive); err != nil {
			return stopped(err)
		}
	}
}

func stopped(err error) error {
	if errors.Is(err, errStop) {
		return nil
	}
	return err
}

// walkStream unpacks one compressed stream: a tar, or a file by itself, whose name is the archive's less
// its ending.
func walkStream(file *os.File, kind string, visit func(member, io.Reader) error) error {
	stream, err := unpacker(file, kind)
	if err != nil {
		return err
	}
	head := make([]byte, 512)
	n, err := readHead(stream, head)
	if err != nil {
		return err
	}
	whole := io.MultiReader(bytes.NewReader(head[:n]), stream)
	if kindOf(head[:n]) == "tar" {
		return walkTar(whole, visit)
	}
	name := filepath.Base(file.Name())
	return stopped(visit(member{strings.TrimSuffix(name, filepath.Ext(name)), -1, time.Time{}}, whole))
}

// readHead fills head as far as there is something.
func readHead(from io.Reader, head []byte) (int, error) {
	n, err := io.ReadFull(from, head)
	if errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) {
		err = nil
	}
	return n, err
}

func unpacker(from io.Reader, kind string) (io.Reader, error) {
	switch kind {
	case "gz":
		return gzip.NewReader(from)
	case "xz":
		return xz.NewReader(from)
	}
	return bzip2.NewReader(from), nil
}

// mostUnpacked is the largest file that is taken out of an archive.
const mostUnpacked = 8 << 30

// look reads an archive once and returns the images inside: the files that the patterns recognise.
func look(ctx context.Context, archive string, headers []Header, progress func(int64)) (images []*Image, err error) {
	file, err := os.Open(archive)
	if err != nil {
		return nil, err
	}
	defer file.Close()
	info, err := file.Stat()
	if err != nil {
		return nil, err
	}
	err = walk(file, info.Size(), func(m member, data io.Reader) error {
		if ctx.Err() != nil {
			return ctx.Err()
		}
		head := make([]byte, HeaderSize)
		n, err := readHead(data, head)
		if err != nil {
			return fmt.Errorf("%s in it: %w", m.place, err)
		}
		img := &Image{Path: archive, Inside: m.place, Name: path.Base(m.place), Modified: m.modified}
		img.Says = read(headers, head[:n], img.Name)
		if img.Says[SaysRelease] == "" && img.Says[SaysCompanion] == "" {
			return nil
		}
		bounded := &bounded{from: io.MultiReader(bytes.NewReader(head[:n]), data), left: mostUnpacked}
		img.Digests, _, err = Digest(ctx, bounded, nil, progress)
		if err != nil {
			return fmt.Errorf("%s in it: %w", m.place, err)
		}
		images = append(images, img)
		return nil
	})
	if err != nil {
		return nil, fmt.Errorf("%s: %w", archive, err)
	}
	return images, nil
}

// bounded ends with an error where a stream is longer than it may be.
type bounded struct {
	from io.Reader
	left int64
}

func (b *bounded) Read(p []byte) (int, error) {
	n, err := b.from.Read(p[:min(int64(len(p)), b.left+1)])
	if b.left -= int64(n); b.left < 0 {
		return 0, fmt.Errorf("it unpacks to more than %d B", int64(mostUnpacked))
	}
	return n, err
}

// Unpack makes a plain file of a packed image in a folder, and checks its digest on the way. An image
// that is plain is returned as it is.
func Unpack(ctx context.Context, img *Image, folder string, progress func(int64)) (*Image, error) {
	if !img.Packed() {
		return img, nil
	}
	file, err := os.Open(img.Path)
	if err != nil {
		return nil, err
	}
	defer file.Close()
	info, err := file.Stat()
	if err != nil {
		return nil, err
	}
	place := filepath.Join(folder, img.Name)
	found := false
	err = walk(file, info.Size(), func(m member, data io.Reader) error {
		if m.place != img.Inside {
			return nil
		}
		found = true
		if err := unpackTo(ctx, place, img, data, progress); err != nil {
			return err
		}
		return errStop
	})
	switch {
	case err != nil:
		return nil, fmt.Errorf("unpacking %s from %s: %w", img.Inside, img.Path, err)
	case !found:
		return nil, fmt.Errorf("%s does not hold %s any more", img.Path, img.Inside)
	}
	_ = os.Chtimes(place, time.Time{}, img.Modified) // a nicety: the file is as old as it was when packed
	if info, err = os.Stat(place); err != nil {
		return nil, err
	}
	out := *img
	out.Path, out.Inside, out.Modified = place, "", info.ModTime()
	return &out, nil
}

func unpackTo(ctx context.Context, place string, img *Image, data io.Reader, progress func(int64)) (err error) {
	out, err := os.OpenFile(place, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	defer func() {
		if err = errors.Join(err, out.Close()); err != nil {
			_ = os.Remove(place)
		}
	}()
	got, _, err := Digest(ctx, io.TeeReader(&bounded{from: data, left: mostUnpacked}, out), nil, progress)
	if err == nil && got.SHA256 != img.SHA256 {
		err = fmt.Errorf("it changed since it was looked into (sha256 %.12s…, was %.12s…)", got.SHA256, img.SHA256)
	}
	return err
}
