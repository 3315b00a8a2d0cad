package image

import (
	"bytes"
	"crypto/md5"
	"crypto/sha1"
	"crypto/sha256"
	"crypto/sha3"
	"crypto/sha512"
	"encoding/binary"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"unicode/utf16"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/blake2b"
	"golang.org/x/crypto/blake2s"
)

// sums are the digests of an image by every algorithm.
func sums(data []byte) map[string]string {
	b384 := blake2b.Sum384(data)
	return map[string]string{
		"md5":         fmt.Sprintf("%x", md5.Sum(data)),
		"sha1":        fmt.Sprintf("%x", sha1.Sum(data)),
		"sha224":      fmt.Sprintf("%x", sha256.Sum224(data)),
		"sha256":      fmt.Sprintf("%x", sha256.Sum256(data)),
		"sha384":      fmt.Sprintf("%x", sha512.Sum384(data)),
		"sha512":      fmt.Sprintf("%x", sha512.Sum512(data)),
		"sha512-256":  fmt.Sprintf("%x", sha512.Sum512_256(data)),
		"sha3-224":    fmt.Sprintf("%x", sha3.Sum224(data)),
		"sha3-256":    fmt.Sprintf("%x", sha3.Sum256(data)),
		"sha3-512":    fmt.Sprintf("%x", sha3.Sum512(data)),
		"blake2b":     fmt.Sprintf("%x", blake2b.Sum512(data)),
		"blake2b-256": fmt.Sprintf("%x", blake2b.Sum256(data)),
		"blake2b-384": fmt.Sprintf("%x", b384[:]),
		"blake2s":     fmt.Sprintf("%x", blake2s.Sum256(data)),
	}
}

func utf16Of(text string, order binary.ByteOrder, mark bool) string {
	var out bytes.Buffer
	units := utf16.Encode([]rune(text))
	if mark {
		units = append([]uint16{0xfeff}, units...)
	}
	for _, unit := range units {
		_ = binary.Write(&out, order, unit)
	}
	return out.String()
}

// lists are the forms in use, with the name of the list and what is in it. $ALGORITHM stands for a digest of lark.cgo.
var lists = map[string][2]string{
	"GNU":               {"SHA256SUMS", "$sha256  lark.cgo\n"},
	"GNU, binary":       {"sha256sums.txt", "$sha256 *lark.cgo\n"},
	"GNU, escaped":      {"SHA256SUMS", "\\$sha256  lark.cgo\n"},
	"GNU, comments":     {"SHA256SUMS", "# of release 7\n\n$sha256  lark.cgo\n"},
	"GNU, in capitals":  {"MD5SUM", "$MD5  lark.cgo\n"},
	"GNU, of a release": {"lark-7.4.2-SHA512SUMS", "$sha512  lark.cgo\n"},
	"GNU, signed": {
		"SHA256SUMS.asc",
		"-----BEGIN PGP SIGNED MESSAGE-----\nHash: SHA512\n\n$sha256  lark.cgo\n-----BEGIN PGP SIGNATURE-----\n\niQEzBAEBCgAdFiEE0000\n-----END PGP SIGNATURE-----\n",
	},
	"GNU, a folder of its own":   {"SHA256SUMS", "$sha256  ./lark.cgo\n"},
	"GNU, where it was made":     {"SHA256SUMS", "$sha256  /build/out/lark.cgo\n"},
	"GNU, a folder that is away": {"SHA256SUMS", "$sha256  dist/lark.cgo\n"},
	"a size before the name":     {"SHA256SUMS", "$sha256 1310720 lark.cgo\n"},
	"a size and a date":          {"checksums.txt", "$sha256  1,310,720  2026-03-02 14:05:01 lark.cgo\n"},
	"a date as people write it":  {"checksums.txt", "$sha256  02-Mar-2026 lark.cgo\n"},
	"BSD":                        {"CHECKSUM", "SHA256 (lark.cgo) = $sha256\n"},
	"BSD, SHA-512/256":           {"CHECKSUM", "SHA512/256 (lark.cgo) = $sha512-256\n"},
	"as openssl":                 {"digests.txt", "SHA2-256(lark.cgo)= $sha256\n"},
	"as openssl, SHA-3":          {"digests.txt", "SHA3-256(lark.cgo)= $sha3-256\n"},
	"as openssl, BLAKE2": {
		"digests.txt",
		"BLAKE2B-512(lark.cgo)= $blake2b\nBLAKE2S-256(lark.cgo)= $blake2s\n",
	},
	"labels behind the file": {"hashes.txt", "File: lark.cgo\nMD5: $md5\nSHA-1: $sha1\nSHA-256: $sha256\n"},
	"label, then the file":   {"hashes.txt", "SHA256: $sha256 lark.cgo\n"},
	"a table":                {"hashes.txt", "SHA256          $SHA256       C:\\build\\lark.cgo\n"},
	"one value a line": {
		"hashes.txt",
		"Algorithm : SHA256\r\nHash      : $SHA256\r\nPath      : C:\\build\\lark.cgo\r\n\r\nAlgorithm : MD5\r\nHash      : $MD5\r\nPath      : C:\\build\\lark.cgo\r\n",
	},
	"the name first":              {"checksums.txt", "lark.cgo  $sha256\n"},
	"the name first, with a size": {"checksums.txt", "lark.cgo: $md5\n"},
	"bare beside it":              {"lark.cgo.sha256", "$sha256\n"},
	"bare under its stem":         {"lark.md5", "$md5\n"},
	"bare, with a label":          {"lark.cgo.sha384", "SHA-384: $sha384\n"},
	"bare, SHA-1":                 {"lark.cgo.sha1", "$sha1\n"},
	"bare, SHA-224":               {"lark.cgo.sha224", "$sha224"},
	"bare, SHA-3":                 {"lark.cgo.sha3-256", "$sha3-256\n"},
	"SHA-3 by the list":           {"SHA3-512SUMS", "$sha3-512  lark.cgo\n"},
	"SHA-3, 224":                  {"sha3-224sums", "$sha3-224  lark.cgo\n"},
	"BLAKE2 by the list":          {"B2SUMS", "$blake2b  lark.cgo\n"},
	"BLAKE2b, 256":                {"blake2b-256sums", "$blake2b-256  lark.cgo\n"},
	"BLAKE2b, 384":                {"lark.cgo.b2", "$blake2b-384\n"},
	"BLAKE2s":                     {"blake2ssums", "$blake2s  lark.cgo\n"},
	"a stick's name":              {"SHA256SUMS", "$sha256  LARK.CGO\n"},
	"CRLF":                        {"SHA256SUMS", "$sha256  lark.cgo\r\n"},
	"UTF-8 with a mark":           {"SHA256SUMS", "\xef\xbb\xbf$sha256  lark.cgo\r\n"},
}

func filled(text string, data []byte) string {
	for name, sum := range sums(data) {
		text = strings.ReplaceAll(strings.ReplaceAll(text, "$"+name+" ", sum+" "), "$"+strings.ToUpper(name)+" ",
			strings.ToUpper(sum)+" ")
		text = strings.ReplaceAll(strings.ReplaceAll(text, "$"+name+"\n", sum+"\n"), "$"+name+"\r", sum+"\r")
		text = strings.ReplaceAll(text, "$"+strings.ToUpper(name)+"\r", strings.ToUpper(sum)+"\r")
		text = strings.TrimSuffix(text, "$"+name) + map[bool]string{true: sum}[strings.HasSuffix(text, "$"+name)]
	}
	return text
}

// sidecarItem is the item of an image with a list beside it.
func sidecarItem(t *testing.T, list, text string, data []byte) Item {
	t.Helper()
	folder := t.TempDir()
	put(t, folder, "lark.cgo", data)
	put(t, folder, list, []byte(text))
	items := scanned(t, folder).Items()
	require.Len(t, items, 1, "%s is no image", list)
	return items[0]
}

// TestEveryFormOfListIsRead holds each form against the image that it is of, against another one, and with a folder
// that is not on the shelf.
func TestEveryFormOfListIsRead(t *testing.T) {
	right, wrong := cargo("7.4.2"), cargo("7.4.3")
	for _, order := range []binary.ByteOrder{binary.LittleEndian, binary.BigEndian} {
		for _, mark := range []bool{true, false} {
			text := filled("$sha256  lark.cgo\r\n", right)
			assert.True(t, sidecarItem(t, "SHA256SUMS", utf16Of(text, order, mark), right).Proved(), "%v %v", order,
				mark)
		}
	}
	for name, list := range lists {
		t.Run(name, func(t *testing.T) {
			text := filled(list[1], right)
			require.NotContains(t, text, "$", "the test's own text")
			item := sidecarItem(t, list[0], text, right)
			assert.True(t, item.Proved(), "%s\n%v", text, item.Published)
			assert.Empty(t, item.Lists)
			assert.True(t, sidecarItem(t, list[0], text, wrong).Broken(), text)

			folder := t.TempDir()
			put(t, folder, "lark.cgo", right)
			put(t, folder, list[0], []byte(text))
			looked, err := NewShelf(
				ShelfOptions{Headers: headers()}).Look(t.Context(), filepath.Join(folder, "lark.cgo"))
			require.NoError(t, err)
			assert.True(t, looked[0].Proved(), "an image given by its path")
		})
	}
}

// TestNoListIsDroppedInSilence has lists that are not understood, cannot be read, or are of something else.
func TestNoListIsDroppedInSilence(t *testing.T) {
	data := cargo("7.4.2")
	sum := sums(data)["sha256"]
	for name, c := range map[string]struct{ list, text, says string }{
		"a line":           {"SHA256SUMS", "# of 7\n\nlark.cgo is fine\n", "SHA256SUMS: line 3 not understood"},
		"a digest cut off": {"SHA256SUMS", sum[:60] + "  lark.cgo\n", "SHA256SUMS: line 1 not understood"},
		"several":          {"SHA256SUMS", "one\ntwo\nthree\n", "SHA256SUMS: line 1 not understood, and 2 more"},
		"not known":        {"SHA256SUMS", "TIGER (lark.cgo) = " + sum[:48] + "\n", "line 1 not understood"},
		"another size":     {"CHECKSUM", "MD5 (lark.cgo) = " + sum + "\n", "line 1 not understood"},
		"of another file":  {"lark.cgo.sha256", sum + "  tern.cgo\n", "lark.cgo.sha256 is for tern.cgo"},
		"nothing":          {"lark.cgo.sha256", "\n", "lark.cgo.sha256 holds no digest"},
		"eight digits":     {"checksums.txt", "20260302  lark.cgo\n", "line 1 not understood"},
	} {
		item := sidecarItem(t, c.list, c.text, data)
		assert.False(t, item.Proved() || item.Broken(), name)
		fit := item.FitTo(facts())
		assert.Contains(t, fit.Text(), c.says, name)
	}
	folder := t.TempDir()
	put(t, folder, "lark.cgo", data)
	require.NoError(t, os.Mkdir(filepath.Join(folder, "x"), 0o700))
	require.NoError(t, os.Symlink(filepath.Join(folder, "x"), filepath.Join(folder, "SHA256SUMS")))
	assert.Contains(t, scanned(t, folder).Items()[0].FitTo(facts()).Text(),
		"SHA256SUMS cannot be read: it is not a file")
}

// TestEntriesWithFoldersBelongToTheirFolders has two releases with a file of one name in one list.
func TestEntriesWithFoldersBelongToTheirFolders(t *testing.T) {
	root := t.TempDir()
	older, newer := cargo("7.4.2"), cargo("7.6.1")
	text := ""
	for folder, data := range map[string][]byte{"7.4": older, "7.6": newer} {
		require.NoError(t, os.Mkdir(filepath.Join(root, folder), 0o700))
		put(t, filepath.Join(root, folder), "lark.cgo", data)
		text += sums(data)["sha256"] + "  " + folder + "/lark.cgo\n"
	}
	put(t, root, "SHA256SUMS", []byte(text))
	put(t, root, "lark.cgo", cargo("8.1.0"))
	s := NewShelf(ShelfOptions{Folders: []string{root + Deep}, Headers: headers()})
	require.NoError(t, s.Scan(t.Context(), nil))
	proved := map[string]bool{}
	for _, item := range s.Items() {
		proved[item.Says["release"]] = item.Proved()
		assert.False(t, item.Broken(), item.Path)
	}
	assert.Equal(t, map[string]bool{"7.4.2": true, "7.6.1": true, "8.1.0": false}, proved,
		"neither is the one beside the list")
}

// TestAPastedDigestStaysWithItsFile comes to it by another path, and to its archive.
func TestAPastedDigestStaysWithItsFile(t *testing.T) {
	folder := t.TempDir()
	data := cargo("7.4.2")
	archive := zipped(t, map[string][]byte{"lark.cgo": data})
	put(t, folder, "lark.zip", archive)
	put(t, folder, "plain.cgo", data)
	other := filepath.Join(t.TempDir(), "by-link")
	require.NoError(t, os.Symlink(folder, other))
	pasted := map[string][]Published{
		filepath.Join(folder, "lark.zip"):  {{Algorithm: "sha384", Digest: sums(archive)["sha384"]}},
		filepath.Join(folder, "plain.cgo"): {{Algorithm: "sha1", Digest: sums(data)["sha1"]}},
	}
	s := NewShelf(ShelfOptions{Folders: []string{other}, Headers: headers(), Pasted: pasted})
	require.NoError(t, s.Scan(t.Context(), nil))
	require.Len(t, s.Items(), 2)
	for _, item := range s.Items() {
		assert.True(t, item.Proved(), item.Path)
		assert.Equal(t, item.Packed(), item.Published[0].OfArchive)
	}
}

func TestALongListIsReadWhole(t *testing.T) {
	var text strings.Builder
	for i := range 15_000 {
		fmt.Fprintf(&text, "%064x  other-%d.cgo\n", i, i)
	}
	data := cargo("7.4.2")
	text.WriteString(sums(data)["sha256"] + "  lark.cgo\n")
	assert.True(t, sidecarItem(t, "SHA256SUMS", text.String(), data).Proved())
	_, err := ParseDigests(bytes.NewReader(make([]byte, maxSidecar+1)), "x")
	assert.ErrorContains(t, err, "larger than")
}

func FuzzDigestList(f *testing.F) {
	for _, list := range lists {
		f.Add(filled(list[1], []byte("x")), list[0])
	}
	f.Fuzz(func(t *testing.T, text, name string) {
		list, err := ParseDigests(strings.NewReader(text), name)
		if err != nil {
			return
		}
		for _, p := range list.Published {
			a, known := algorithmNamed(p.Algorithm)
			if !known || len(p.Digest) != 2*a.size || !isHex(p.Digest) {
				t.Fatalf("%q: %+v", text, p)
			}
		}
	})
}
