package image

import (
	"bufio"
	"fmt"
	"io"
	"os"
	"path"
	"path/filepath"
	"regexp"
	"strings"
)

// Published is a digest that somebody else says a file has.
type Published struct {
	Algorithm string `json:"algorithm"`
	Digest    string `json:"digest"` // lower-case hexadecimal
	Name      string `json:"name"`   // the file it is for, empty when the list does not say
	From      string `json:"from"`   // the file it stood in, or "pasted"
}

// Holds reports whether the computed digests are what was published.
func (p Published) Holds(d Digests) bool { return d.Of(p.Algorithm) == p.Digest }

// The two layouts: the one of the GNU tools, a digest, a blank, a blank or a star, the name; and the one
// of BSD, the algorithm, the name in parentheses, the digest.
var (
	gnuLine = regexp.MustCompile(`^\\?([0-9A-Fa-f]{8,128})(?:[ \t]+\*?(\S.*?))?\s*$`)
	bsdLine = regexp.MustCompile(`^([A-Za-z0-9-]+)\s*\((.+)\)\s*=\s*([0-9A-Fa-f]{8,128})\s*$`)
)

// ParseDigests reads published digests from text: a list in either layout, or one bare digest. Lines
// that are neither are passed over, as such lists hold comments and signatures.
func ParseDigests(text io.Reader, from string) (all []Published) {
	lines := bufio.NewScanner(io.LimitReader(text, mostSidecar))
	for lines.Scan() {
		line := strings.TrimSpace(lines.Text())
		var p Published
		if found := bsdLine.FindStringSubmatch(line); found != nil {
			p = Published{Algorithm: plainAlgorithm(found[1]), Name: path.Base(found[2]), Digest: found[3]}
			if algorithms[len(p.Digest)] != p.Algorithm {
				continue
			}
		} else if found := gnuLine.FindStringSubmatch(line); found != nil {
			p = Published{Algorithm: algorithms[len(found[1])], Digest: found[1]}
			if found[2] != "" {
				p.Name = path.Base(strings.ReplaceAll(found[2], `\`, "/"))
			}
		}
		if p.Algorithm == "" {
			continue
		}
		p.Digest, p.From = strings.ToLower(p.Digest), from
		all = append(all, p)
	}
	return all
}

const mostSidecar = 1 << 20

func plainAlgorithm(name string) string {
	return strings.ReplaceAll(strings.ToLower(name), "-", "")
}

// ParsePasted reads one digest as people paste it: with spaces or colons in it, its algorithm before it,
// or a whole line of a list.
func ParsePasted(text string) (Published, error) {
	bare := strings.ToLower(strings.NewReplacer(" ", "", ":", "", "-", "", "\t", "", "\r", "", "\n", "").Replace(text))
	for _, algorithm := range algorithms {
		bare = strings.TrimPrefix(bare, algorithm)
	}
	for _, candidate := range []string{bare, text} {
		if all := ParseDigests(strings.NewReader(candidate), "pasted"); len(all) > 0 {
			return all[0], nil
		}
	}
	return Published{}, fmt.Errorf("%q is no digest: want 8 (CRC-32), 32 (MD5), 64 (SHA-256) or 128 (SHA-512) hexadecimal digits", text)
}

// sidecarLists are files that hold digests of a folder's other files, by their lower-case name.
var sidecarLists = map[string]bool{"sha256sums": true, "sha512sums": true, "md5sums": true, "sha256sums.txt": true, "sha512sums.txt": true, "md5sums.txt": true, "checksums.txt": true, "digests.txt": true}

// sidecarEndings are those of files beside one image.
var sidecarEndings = []string{".sha256", ".sha512", ".md5", ".sha256sum", ".sha512sum", ".md5sum", ".crc32"}

// isSidecar reports whether a file holds digests rather than an image.
func isSidecar(name string) bool {
	low := strings.ToLower(name)
	if sidecarLists[low] {
		return true
	}
	for _, ending := range sidecarEndings {
		if strings.HasSuffix(low, ending) {
			return true
		}
	}
	return false
}

// readSidecar reads the digests of one sidecar file. A digest without a name is for the file that the
// sidecar is named after.
func readSidecar(place string) ([]Published, error) {
	file, err := os.Open(place)
	if err != nil {
		return nil, err
	}
	defer file.Close()
	all := ParseDigests(file, filepath.Base(place))
	for i := range all {
		if all[i].Name == "" {
			base := filepath.Base(place)
			all[i].Name = strings.TrimSuffix(base, filepath.Ext(base))
		}
	}
	return all, nil
}
