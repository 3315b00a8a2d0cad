package image

import (
	"crypto/md5"
	"crypto/sha1"
	"crypto/sha256"
	"crypto/sha3"
	"crypto/sha512"
	"encoding/hex"
	"hash"
	"hash/crc32"
	"regexp"
	"slices"
	"strings"

	"golang.org/x/crypto/blake2b"
	"golang.org/x/crypto/blake2s"
)

// algorithm is a way of digesting.
type algorithm struct {
	name string
	size int // of the digest, in bytes
	make func() hash.Hash
}

func keyless(make func([]byte) (hash.Hash, error)) func() hash.Hash {
	return func() hash.Hash {
		h, err := make(nil)
		if err != nil { // there is no key that could be wrong
			panic(err)
		}
		return h
	}
}

// algorithms are those in use. Of several with one size a digest without a name is by the first.
var algorithms = []algorithm{
	{"crc32", 4, func() hash.Hash { return crc32.NewIEEE() }},
	{"md5", 16, md5.New},
	{"sha1", 20, sha1.New},
	{"sha224", 28, sha256.New224},
	{"sha256", 32, sha256.New},
	{"sha384", 48, sha512.New384},
	{"sha512", 64, sha512.New},
	{"sha512-224", 28, sha512.New512_224},
	{"sha512-256", 32, sha512.New512_256},
	{"sha3-224", 28, func() hash.Hash { return sha3.New224() }},
	{"sha3-256", 32, func() hash.Hash { return sha3.New256() }},
	{"sha3-384", 48, func() hash.Hash { return sha3.New384() }},
	{"sha3-512", 64, func() hash.Hash { return sha3.New512() }},
	{"blake2b", 64, keyless(blake2b.New512)},
	{"blake2b-384", 48, keyless(blake2b.New384)},
	{"blake2b-256", 32, keyless(blake2b.New256)},
	{"blake2s", 32, keyless(blake2s.New256)},
}

// usual are the algorithms that every image is digested by; any other one is, where a digest by it was published.
var usual = []string{"sha512", "md5", "sha256", "crc32"}

func algorithmNamed(name string) (algorithm, bool) {
	at := slices.IndexFunc(algorithms, func(a algorithm) bool { return a.name == name })
	if at < 0 {
		return algorithm{}, false
	}
	return algorithms[at], true
}

// algorithmOf is the one that a digest is by: the one that its list is known to be by, if its size agrees, or else the
// usual one of its size.
func algorithmOf(digest, hint string) (algorithm, bool) {
	family, _, _ := strings.Cut(hint, "-")
	for _, of := range []func(algorithm) bool{
		func(a algorithm) bool { return hint != "" && a.name == hint },
		func(a algorithm) bool { return hint != "" && family != "sha512" && strings.HasPrefix(a.name, family) },
		func(algorithm) bool { return true },
	} {
		at := slices.IndexFunc(algorithms, func(a algorithm) bool { return of(a) && 2*a.size == len(digest) })
		if at >= 0 {
			return algorithms[at], true
		}
	}
	return algorithm{}, false
}

var (
	sidecarAlgorithm = regexp.MustCompile(`(?i)\b(check ?sum|digest|hash|sum|fingerprint|value)s?\b`)
	truncatedSHA     = regexp.MustCompile(`^sha512[/_-](224|256)$`)
	wordSeparators   = strings.NewReplacer("-", "", "_", "", " ", "", "/", "")
)

// plainAlgorithm is our name for an algorithm as people write it, such as SHA-256, SHA2-256, SHA3_512, BLAKE2b512 or
// "SHA256 checksum"; empty for one that is not known.
func plainAlgorithm(written string) string {
	name := strings.ToLower(strings.TrimSpace(sidecarAlgorithm.ReplaceAllString(written, "")))
	if found := truncatedSHA.FindStringSubmatch(name); found != nil {
		return "sha512-" + found[1]
	}
	name = wordSeparators.Replace(name)
	name = strings.Replace(name, "sha2256", "sha256", 1)
	for _, bits := range []string{"224", "384", "512"} {
		name = strings.Replace(name, "sha2"+bits, "sha"+bits, 1)
	}
	switch name {
	case "sha", "sha1":
		return "sha1"
	case "b2", "blake2", "blake2b", "blake2b512", "b2sum":
		return "blake2b"
	case "blake2s256", "blake2s":
		return "blake2s"
	}
	if rest, ok := strings.CutPrefix(name, "sha3"); ok && len(rest) == 3 {
		if _, known := algorithmNamed("sha3-" + rest); known {
			return "sha3-" + rest
		}
	}
	if rest, ok := strings.CutPrefix(name, "blake2b"); ok {
		name = "blake2b-" + rest
	}
	if _, known := algorithmNamed(name); known {
		return name
	}
	return ""
}

func isHex(text string) bool {
	_, err := hex.DecodeString(text)
	return err == nil && text != ""
}
