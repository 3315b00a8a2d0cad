package image

import (
	"archive/tar"
	"archive/zip"
	"bytes"
	"compress/bzip2"
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/klauspost/compress/gzip"
	"github.com/klauspost/compress/zstd"
	"github.com/ulikunitz/xz"

	"pilotrix/core/units"
)

// member is one file of an archive.
type member struct {
	place    string // inside the archive, for humans and for finding it again
	size     int64  // -1 when the archive does not say
	modified time.Time
	sealed   string // why it cannot be read, empty where it can
}

// errStop ends a walk early.
var errStop = errors.New("that is enough")

// maxMembers bounds the archives that are looked into: an image comes with a few files, not thousands.
const maxMembers = 2000

// kindOf says an archive by its first bytes, whatever its name is; empty for anything else.
func kindOf(head []byte) string {
	switch {
	case bytes.HasPrefix(head, []byte("PK\x03\x04")):
		return "zip"
	case bytes.HasPrefix(head, []byte("\x1f\x8b\x08")): // RFC 1952, section 2.3.1: the one method there is
		return "gz"
	case bytes.HasPrefix(head, []byte("\x28\xb5\x2f\xfd")): // RFC 8878, section 3.1.1
		return "zst"
	case bytes.HasPrefix(head, []byte("\xfd7zXZ\x00")):
		return "xz"
	case bytes.HasPrefix(head, []byte("BZh")) && len(head) > 3 && head[3] >= '1' && head[3] <= '9':
		return "bz2"
	case len(head) > 262 && bytes.Equal(head[257:262], []byte("ustar")):
		return "tar"
	}
	return ""
}

// ownHead is the beginning of a file as far as it is its own: where an archive does not pack what it holds, a member's
// beginning stands in its own.
func ownHead(head []byte) []byte {
	const (
		tarBlock    = 512
		zipHead     = 30 // of a local header, without its name and its extra field, APPNOTE 4.3.7
		zipNameSize = 26
	)
	switch kindOf(head) {
	case "tar":
		return head[:min(tarBlock, len(head))]
	case "zip":
		if len(head) < zipHead {
			return head
		}
		size := zipHead + int(binary.LittleEndian.Uint16(head[zipNameSize:])) +
			int(binary.LittleEndian.Uint16(head[zipNameSize+2:]))
		return head[:min(size, len(head))]
	case "gz":
		return head[:gzipHead(head)]
	case "xz", "bz2", "zst":
		return nil
	}
	return head
}

// gzipHead is how long a gzip file's own head is, with its extra field, its name and its comment (RFC 1952, section
// 2.3).
func gzipHead(head []byte) int {
	const fixed, extra, name, comment = 10, 4, 8, 16
	if len(head) < fixed {
		return len(head)
	}
	at, flags := fixed, head[3]
	if flags&extra != 0 && len(head) >= at+2 {
		at += 2 + int(binary.LittleEndian.Uint16(head[at:]))
	}
	for _, flag := range []byte{name, comment} {
		if flags&flag != 0 && at < len(head) {
			at += bytes.IndexByte(append(head[at:len(head):len(head)], 0), 0) + 1
		}
	}
	return min(at, len(head))
}

// places says members of one name apart: the second one is called NAME#2.
type places map[string]int

// A backslash divides folders in what some systems pack, and in a path there.
func (p places) of(name string) string {
	name = strings.ReplaceAll(name, `\`, "/")
	p[name]++
	if n := p[name]; n > 1 {
		return fmt.Sprintf("%s#%d", name, n)
	}
	return name
}

// interruptible is a file whose reading ends with a context, and is counted.
type interruptible struct {
	*os.File
	ctx context.Context
	got int64
}

func (f *interruptible) Read(p []byte) (int, error) {
	if err := f.ctx.Err(); err != nil {
		return 0, err
	}
	n, err := f.File.Read(p)
	f.got += int64(n)
	return n, err
}

func (f *interruptible) ReadAt(p []byte, at int64) (int, error) {
	if err := f.ctx.Err(); err != nil {
		return 0, err
	}
	n, err := f.File.ReadAt(p, at)
	f.got += int64(n)
	return n, err
}

// walk visits the files of an archive in their order.
func walk(file *interruptible, size int64, visit func(member, io.Reader) error) error {
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
	case "gz", "xz", "bz2", "zst":
		return walkStream(file, kind, visit)
	}
	return errors.New("it is no zip, tar, gz, xz, bz2 or zst archive")
}

func walkZip(file *interruptible, size int64, visit func(member, io.Reader) error) error {
	archive, err := zip.NewReader(file, size)
	if err != nil {
		return err
	}
	if len(archive.File) > maxMembers {
		return fmt.Errorf("it holds %s, more than the %d that are looked at", units.Many(len(archive.File), "file"),
			maxMembers)
	}
	named := places{}
	all := &inflated{packed: func() int64 { return size }} // members may share what they are packed from
	for _, f := range archive.File {
		if !f.Mode().IsRegular() {
			continue
		}
		m := member{place: named.of(f.Name), size: int64(f.UncompressedSize64), modified: f.Modified}
		const encrypted = 1 // of the general purpose flags, APPNOTE 4.4.4
		data, err := f.Open()
		switch {
		case f.Flags&encrypted != 0:
			m.sealed = "it is encrypted"
		case errors.Is(err, zip.ErrAlgorithm):
			m.sealed = fmt.Sprintf("it is packed by a method that is not known (%d)", f.Method)
		case err != nil:
			m.sealed = err.Error()
		}
		if m.sealed != "" {
			data = io.NopCloser(strings.NewReader(""))
		}
		all.from = &inflated{from: data, packed: func() int64 { return int64(f.CompressedSize64) }}
		if err := errors.Join(visit(m, all), data.Close()); err != nil {
			return stopped(err)
		}
	}
	return nil
}

func walkTar(from io.Reader, visit func(member, io.Reader) error) error {
	archive := tar.NewReader(from)
	named := places{}
	for n := 0; ; n++ {
		header, err := archive.Next()
		switch {
		case errors.Is(err, io.EOF):
			return nil
		case err != nil:
			return err
		case n > maxMembers:
			return fmt.Errorf("it holds more than the %s that are looked at", units.Many(maxMembers, "file"))
		case header.Typeflag != tar.TypeReg:
			continue
		}
		if err := visit(member{place: named.of(header.Name), size: header.Size, modified: header.ModTime},
			archive); err != nil {
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
func walkStream(file *interruptible, kind string, visit func(member, io.Reader) error) error {
	stream, err := unpacker(file, kind)
	if err != nil {
		return err
	}
	stream = &inflated{from: stream, packed: func() int64 { return file.got }}
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
	return stopped(visit(member{place: strings.TrimSuffix(name, filepath.Ext(name)), size: -1}, whole))
}

// readHead fills head as far as there is something.
func readHead(from io.Reader, head []byte) (int, error) {
	n, err := io.ReadFull(from, head)
	if errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) {
		err = nil
	}
	return n, err
}

// maxZstdWindow is the memory that a zst stream may ask for, in bytes.
const maxZstdWindow = 256 << 20

func unpacker(from io.Reader, kind string) (io.Reader, error) {
	switch kind {
	case "gz":
		return gzip.NewReader(from)
	case "xz":
		return xz.NewReader(from)
	case "zst":
		return zstd.NewReader(from, zstd.WithDecoderConcurrency(1), zstd.WithDecoderMaxMemory(maxZstdWindow))
	}
	return bzip2.NewReader(from), nil
}

// maxUnpacked is the largest file that is taken out of an archive, in bytes.
const maxUnpacked = 8 << 30

// A stream that unpacks to so much more than it takes is no image: those are packed already.
const (
	maxRatio    = 400
	ratioBeyond = 64 << 20 // bytes: small files of zeros are harmless
)

// inflated is what a packed stream unpacks to. One that is made to fill a disk is an error.
type inflated struct {
	from   io.Reader
	packed func() int64 // what it was unpacked from so far, in bytes
	got    int64
}

func (i *inflated) Read(p []byte) (int, error) {
	n, err := i.from.Read(p)
	if i.got += int64(n); i.got > ratioBeyond && i.got/maxRatio > i.packed() {
		return 0, fmt.Errorf("it unpacks to more than %d times its size, which no image does", maxRatio)
	}
	return n, err
}

// found is what an archive holds.
type found struct {
	images []*Image
	sure   bool     // one of them is recognised by its own beginning
	nested []string // other archives inside, which are not looked into
	sealed []string // members that cannot be read, each with why
}

// words say what is inside that could not be looked into.
func (f found) words() string {
	var all []string
	if len(f.nested) > 0 {
		all = append(all,
			fmt.Sprintf("it holds another archive, %s, which is not looked into: unpack it once", f.nested[0]))
	}
	if len(f.sealed) > 0 {
		all = append(all, f.sealed[0]+moreText(len(f.sealed)-1))
	}
	return strings.Join(all, "; ")
}

// look reads an archive once and finds the images inside: the files that the patterns recognise. An archive in it is
// taken for one only where its own beginning says so.
func look(
	ctx context.Context, archive string, headers []Header, progress func(int64), more []string,
) (f found, err error) {
	file, err := os.Open(archive)
	if err != nil {
		return f, err
	}
	defer file.Close()
	info, err := file.Stat()
	if err != nil {
		return f, err
	}
	err = walk(&interruptible{File: file, ctx: ctx}, info.Size(), func(m member, data io.Reader) error {
		if m.sealed != "" {
			f.sealed = append(f.sealed, fmt.Sprintf("%s in it: %s", m.place, m.sealed))
			return nil
		}
		return f.lookAt(ctx, archive, m, data, headers, progress, more)
	})
	if err != nil {
		return f, fmt.Errorf("%s: %w", archive, err)
	}
	return f, nil
}

func (f *found) lookAt(
	ctx context.Context, archive string, m member, data io.Reader, headers []Header, progress func(int64),
	more []string,
) error {
	head := make([]byte, HeaderSize)
	n, err := readHead(data, head)
	if err != nil {
		if ctx.Err() != nil {
			return ctx.Err()
		}
		f.sealed = append(f.sealed, fmt.Sprintf("%s in it: %v", m.place, err))
		return nil
	}
	img := &Image{Path: archive, Inside: m.place, Name: path.Base(m.place), Modified: m.modified}
	img.Says = read(headers, head[:n], img.Name)
	sure := recognised(read(inHeader(headers), ownHead(head[:n]), img.Name))
	switch {
	case kindOf(head[:n]) != "" && !sure:
		f.nested = append(f.nested, m.place)
		return nil
	case !recognised(img.Says):
		return nil
	case m.size > maxUnpacked:
		return fmt.Errorf("%s in it unpacks to %d B, more than the %d B that are taken out", m.place, m.size,
			int64(maxUnpacked))
	}
	bounded := &bounded{from: io.MultiReader(bytes.NewReader(head[:n]), data), left: maxUnpacked}
	if img.Digests, _, err = Digest(ctx, bounded, nil, progress, more...); err != nil {
		return fmt.Errorf("%s in it: %w", m.place, err)
	}
	f.images, f.sure = append(f.images, img), f.sure || sure
	return nil
}

func recognised(says Says) bool { return says[SaysRelease] != "" || says[SaysCompanion] != "" }

// inHeader are the patterns that look into a file, not at its name.
func inHeader(headers []Header) []Header {
	return slices.DeleteFunc(slices.Clone(headers), func(h Header) bool { return h.InName })
}

// bounded ends with an error where a stream is longer than it may be.
type bounded struct {
	from io.Reader
	left int64
}

func (b *bounded) Read(p []byte) (int, error) {
	n, err := b.from.Read(p[:min(int64(len(p)), b.left+1)])
	if b.left -= int64(n); b.left < 0 {
		return 0, fmt.Errorf("it unpacks to more than %d B", int64(maxUnpacked))
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
	if free, known := freeSpace(folder); known && img.Size > free {
		return nil, fmt.Errorf("unpacking %s from %s: it needs %d B in %s, %d B are free", img.Inside, img.Path,
			img.Size, folder, free)
	}
	err = walk(&interruptible{File: file, ctx: ctx}, info.Size(), func(m member, data io.Reader) error {
		if m.place != img.Inside {
			return nil
		}
		if m.sealed != "" {
			return errors.New(m.sealed)
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
	got, _, err := Digest(ctx, io.TeeReader(&bounded{from: data, left: maxUnpacked}, out), nil, progress)
	if err == nil && got.SHA256 != img.SHA256 {
		err = fmt.Errorf("it changed since it was looked into (sha256 %.12s…, was %.12s…)", got.SHA256, img.SHA256)
	}
	return err
}
