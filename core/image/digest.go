package image

import (
	"context"
	"encoding/hex"
	"hash"
	"io"
	"slices"
	"sync"
)

// Digests are the digests of a file, each in lower-case hexadecimal digits.
type Digests struct {
	Size   int64  `json:"size"`
	SHA256 string `json:"sha256"`
	SHA512 string `json:"sha512"`
	MD5    string `json:"md5"`
	CRC32  string `json:"crc32"` // IEEE

	More map[string]string `json:"more,omitempty"` // by other algorithms, where a digest by them was published
}

// Of is the digest by that algorithm.
func (d Digests) Of(algorithm string) string {
	switch algorithm {
	case "crc32":
		return d.CRC32
	case "md5":
		return d.MD5
	case "sha256":
		return d.SHA256
	case "sha512":
		return d.SHA512
	}
	return d.More[algorithm]
}

const (
	pieceSize = 256 << 10 // stays in a core's own cache while every hash reads it
	pieces    = 8
)

// piece is a part of a file on its way through every hash; the last one to be done gives it back.
type piece struct {
	data    []byte
	waiting sync.WaitGroup
}

// Digest reads everything once and computes all digests beside each other, those by the usual algorithms and more, so
// that a large file takes as long as the disk or the slowest hash. Head gets the first bytes, up to its length.
// Progress is reported the bytes so far; it may be nil.
func Digest(
	ctx context.Context, from io.Reader, head []byte, progress func(int64), more ...string,
) (Digests, int, error) {
	hashes := map[string]hash.Hash{}
	var feeds []chan *piece
	var hashing sync.WaitGroup
	for _, name := range slices.Concat(usual, more) {
		a, known := algorithmNamed(name)
		if !known || hashes[name] != nil {
			continue
		}
		h, f := a.make(), make(chan *piece, pieces)
		hashes[name], feeds = h, append(feeds, f)
		hashing.Go(func() {
			for p := range f {
				_, _ = h.Write(p.data)
				p.waiting.Done()
			}
		})
	}
	size, headLength, err := feed(ctx, from, head, feeds, progress)
	for _, f := range feeds {
		close(f)
	}
	hashing.Wait()
	text := func(name string) string { return hex.EncodeToString(hashes[name].Sum(nil)) }
	d := Digests{Size: size, SHA512: text("sha512"), MD5: text("md5"), SHA256: text("sha256"), CRC32: text("crc32")}
	for _, name := range more {
		if hashes[name] != nil && !slices.Contains(usual, name) {
			if d.More == nil {
				d.More = map[string]string{}
			}
			d.More[name] = text(name)
		}
	}
	return d, headLength, err
}

// feed reads pieces into a ring and hands each to every hash.
func feed(
	ctx context.Context, from io.Reader, head []byte, feeds []chan *piece, progress func(int64),
) (size int64, headLength int, err error) {
	ring := make([]*piece, pieces)
	for i := 0; ; i++ {
		if ctx.Err() != nil {
			return size, headLength, ctx.Err()
		}
		p := ring[i%pieces]
		if p == nil {
			p = &piece{data: make([]byte, pieceSize)}
			ring[i%pieces] = p
		}
		p.waiting.Wait()
		n, err := io.ReadFull(from, p.data[:pieceSize])
		p.data = p.data[:n]
		if n > 0 {
			if size < int64(len(head)) {
				headLength += copy(head[headLength:], p.data)
			}
			size += int64(n)
			p.waiting.Add(len(feeds))
			for _, f := range feeds {
				f <- p
			}
			if progress != nil {
				progress(size)
			}
		}
		switch err {
		case nil:
		case io.EOF, io.ErrUnexpectedEOF:
			return size, headLength, nil
		default:
			return size, headLength, err
		}
	}
}
