package image

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"io"
	"regexp"
	"strings"
	"unicode/utf16"

	"pilotrix/core/plain"
)

// Published is a digest that somebody else says a file has.
type Published struct {
	Algorithm string `json:"algorithm"`
	Digest    string `json:"digest"` // lower-case hexadecimal
	Name      string `json:"name"`   // the file it is for, with folders where the list has them; empty when it does not say
	From      string `json:"from"`   // the file it stood in, or "pasted"

	bare string // the name without what looks like a size or a date before it, where there is such
}

// Holds reports whether the computed digests are what was published.
func (p Published) Holds(d Digests) bool { return d.Of(p.Algorithm) == p.Digest }

// DigestList is what was read of a list of digests.
type DigestList struct {
	Published []Published
	Odd       []OddLine // those that were not understood
}

// OddLine is a line of a list that was not understood.
type OddLine struct {
	Number int
	Text   string
}

// maxSidecar is how large a list may be, in bytes: that of some 700,000 files.
const maxSidecar = 64 << 20

// ParseDigests reads published digests in every form in use: those of the GNU and the BSD tools, "Algorithm: hex" and
// "Algorithm(file)= hex", with a size or a date before the name, the name first, or bare. Comments and signatures are
// passed over; what else is not understood is reported. From names the list: it may say which algorithm it is by.
func ParseDigests(text io.Reader, from string) (list DigestList, err error) {
	data, err := io.ReadAll(io.LimitReader(text, maxSidecar+1))
	if err != nil {
		return list, err
	}
	if len(data) > maxSidecar {
		return list, fmt.Errorf("it is larger than the %d B that a list of digests may have", maxSidecar)
	}
	p := listParser{from: from, hint: hintOf(from)}
	n := 0
	for line := range strings.Lines(decodeText(data)) {
		n++
		line = strings.TrimRight(line, "\r\n")
		if p.passesOver(line) {
			continue
		}
		if !p.line(line) {
			p.list.Odd = append(p.list.Odd, OddLine{n, plain.Clip(strings.TrimSpace(line), 80)})
		}
	}
	return p.list, nil
}

// decodeText makes UTF-8 of a text, by its mark or, without one, by the zeros in it.
func decodeText(data []byte) string {
	var order binary.ByteOrder
	switch {
	case bytes.HasPrefix(data, []byte("\xef\xbb\xbf")):
		return string(data[3:])
	case bytes.HasPrefix(data, []byte("\xff\xfe")):
		order, data = binary.LittleEndian, data[2:]
	case bytes.HasPrefix(data, []byte("\xfe\xff")):
		order, data = binary.BigEndian, data[2:]
	case len(data) >= 4 && data[1] == 0 && data[3] == 0 && data[0] != 0:
		order = binary.LittleEndian
	case len(data) >= 4 && data[0] == 0 && data[2] == 0 && data[1] != 0:
		order = binary.BigEndian
	default:
		return string(data)
	}
	units := make([]uint16, len(data)/2)
	for i := range units {
		units[i] = order.Uint16(data[2*i:])
	}
	return string(utf16.Decode(units))
}

// listParser reads a list line by line.
type listParser struct {
	from, hint string
	name       string // of the file that is spoken of, where the list says it on a line of its own
	nameless   bool   // the last digest has no name yet, which may follow
	skips      string // what ends the part that is passed over, empty outside of one
	list       DigestList
}

// passesOver reports whether a line is a comment, a signature, or empty.
func (p *listParser) passesOver(line string) bool {
	trimmed := strings.TrimSpace(line)
	switch {
	case p.skips == "blank":
		if trimmed == "" {
			p.skips = ""
		}
		return true
	case p.skips != "":
		if strings.HasPrefix(trimmed, p.skips) {
			p.skips = ""
		}
		return true
	case strings.HasPrefix(trimmed, "-----BEGIN PGP SIGNED MESSAGE"):
		p.skips = "blank"
	case strings.HasPrefix(trimmed, "-----BEGIN "):
		p.skips = "-----END"
	case trimmed == "" || strings.ContainsAny(trimmed[:1],
		"#;") || strings.HasPrefix(trimmed, "//") || strings.Trim(trimmed, "-=_* \t") == "":
	default:
		return false
	}
	return true
}

// The forms of lines. A digest has 8 to 128 hexadecimal digits.
var (
	// bsdLine is that of the BSD tools and of openssl: SHA256 (FILE) = hex, SHA2-256(FILE)= hex.
	bsdLine = regexp.MustCompile(`^\s*([A-Za-z0-9/_-]+)\s*\((.+)\)\s*=\s*([0-9A-Fa-f]{8,128})\s*$`)
	// labelLine is "SHA-256: hex", with the file behind or before it perhaps.
	labelLine = regexp.MustCompile(`^\s*(?:(\S.*?)[:,]?\s+)?((?i:md5|sha|blake|crc|b2)[A-Za-z0-9/_ -]*?)\s*[:=]\s*([0-9A-Fa-f]{8,128})(?:\s+\*?(\S.*?))?\s*$`)
	// tableLine is "SHA256   hex   FILE", as some shells print.
	tableLine = regexp.MustCompile(`^\s*((?i:md5|sha|blake)[A-Za-z0-9/_-]*)\s+([0-9A-Fa-f]{32,128})(?:\s+(\S.*?))?\s*$`)
	// gnuLine is that of the GNU tools: hex, two blanks or a blank and a star, the file.
	gnuLine = regexp.MustCompile(`^\s*(\\?)([0-9A-Fa-f]{8,128})(?:(\s+)(\*?)(\S.*?))?\s*$`)
	// nameLine has the file first.
	nameLine = regexp.MustCompile(`^\s*(\S.*?)[:,]?\s+([0-9A-Fa-f]{8,128})\s*$`)
	// fileLine says which file the next lines speak of.
	fileLine = regexp.MustCompile(`^\s*(?i:file ?name|file|name|image|path)\s*[:=]\s*(\S.*?)\s*$`)
	// headLine heads a signed list, or the digests of a file.
	headLine = regexp.MustCompile(`^\s*(?i:hash|algorithm)\s*[:=]\s*(\S.*?)\s*$`)
)

// line takes one in. It reports whether it was understood.
func (p *listParser) line(line string) bool {
	if found := bsdLine.FindStringSubmatch(line); found != nil {
		return p.by(found[1], found[3], found[2])
	}
	if found := tableLine.FindStringSubmatch(line); found != nil && plainAlgorithm(found[1]) != "" {
		return p.by(found[1], found[2], found[3])
	}
	if found := labelLine.FindStringSubmatch(line); found != nil && plainAlgorithm(found[2]) != "" {
		name := found[4]
		if name == "" {
			name = found[1]
		}
		return p.by(found[2], found[3], name)
	}
	if found := headLine.FindStringSubmatch(line); found != nil {
		if isHex(found[1]) && p.plain(found[1], "", "") {
			p.nameless = p.name == ""
			return true
		}
		p.hint = plainAlgorithm(found[1])
		return p.hint != ""
	}
	if found := fileLine.FindStringSubmatch(line); found != nil {
		if p.nameless { // it stands behind its digest
			p.list.Published[len(p.list.Published)-1].Name = strings.ReplaceAll(found[1], `\`, "/")
			p.nameless = false
			return true
		}
		p.name = found[1]
		return true
	}
	if found := gnuLine.FindStringSubmatch(line); found != nil {
		return p.gnu(found[1] != "", found[2], found[3], found[4] != "", found[5])
	}
	if found := nameLine.FindStringSubmatch(line); found != nil {
		return p.plain(found[2], found[1], "")
	}
	return false
}

func (p *listParser) gnu(escaped bool, digest, blanks string, star bool, name string) bool {
	if escaped {
		name = strings.NewReplacer(`\\`, `\`, `\n`, "\n", `\r`, "\r").Replace(name)
	}
	bare := ""
	if exact := star || blanks == "  "; !exact || len(strings.Fields(name)) > 1 {
		bare = withoutColumns(name)
	}
	return p.plain(digest, name, bare)
}

// plain takes a digest whose line does not say its algorithm.
func (p *listParser) plain(digest, name, bare string) bool {
	algorithm, known := algorithmOf(digest, p.hint)
	if !known || algorithm.name == "crc32" && p.hint != "crc32" { // eight digits may be anything
		return false
	}
	p.add(algorithm.name, digest, name, bare)
	return true
}

// by takes a digest whose line says its algorithm.
func (p *listParser) by(written, digest, name string) bool {
	algorithm, known := algorithmNamed(plainAlgorithm(written))
	if !known || 2*algorithm.size != len(digest) {
		return false
	}
	p.add(algorithm.name, digest, name, "")
	return true
}

func (p *listParser) add(algorithm, digest, name, bare string) {
	if name == "" {
		name = p.name
	}
	name, bare = strings.ReplaceAll(name, `\`, "/"), strings.ReplaceAll(bare, `\`, "/")
	if bare == name {
		bare = ""
	}
	p.list.Published = append(p.list.Published,
		Published{Algorithm: algorithm, Digest: strings.ToLower(digest), Name: name, From: p.from, bare: bare})
}

// column is a size, a date or a time before a file's name.
var column = regexp.MustCompile(`^(?:[0-9][0-9.,_]*(?:[kKMGT]?i?B)?|[0-9]{4}[-/.][0-9]{1,2}[-/.][0-9]{1,2}(?:T\S+)?|[0-9]{1,2}[-/.][0-9A-Za-z]{1,3}[-/.][0-9]{2,4}|[0-9]{1,2}:[0-9]{2}(?::[0-9]{2}(?:\.[0-9]+)?)?(?:[AaPp][Mm])?|[AaPp][Mm]|[+-][0-9]{4}|(?:Jan|Feb|Mar|Apr|May|Jun|Jul|Aug|Sep|Oct|Nov|Dec)[a-z]*|(?:Mon|Tue|Wed|Thu|Fri|Sat|Sun)[a-z]*,?|B|bytes|UTC|GMT)$`)

// withoutColumns takes sizes, dates and times off that stand before a name.
func withoutColumns(text string) string {
	rest := text
	for {
		first, behind, more := strings.Cut(strings.TrimLeft(rest, " \t"), " ")
		if !more || strings.TrimSpace(behind) == "" || !column.MatchString(strings.TrimSpace(first)) {
			return strings.TrimLeft(rest, " \t*")
		}
		rest = behind
	}
}

// hintOf is the algorithm that the name of a list says.
func hintOf(name string) string {
	low := strings.ToLower(name)
	if strings.HasSuffix(low, ".sfv") {
		return "crc32"
	}
	hint := ""
	for _, found := range algorithmInName.FindAllString(low,
		-1) { // the last one counts: what is before it is the image's
		if name := plainAlgorithm(
			strings.TrimSuffix(strings.TrimSuffix(strings.TrimLeft(found, "._-"), "s"), "sum")); name != "" {
			hint = name
		}
	}
	return hint
}

var algorithmInName = regexp.MustCompile(`(?:sha3[-_]?[0-9]{3}|sha512[-_]2(?:24|56)|sha[0-9]{1,3}|md5|crc32|blake2[bs](?:[-_]?[0-9]{3})?|(?:^|[._-])b2)(?:sums?)?`)

// ParsePasted reads one digest as people paste it: with spaces or colons in it, its algorithm before it,
// or a whole line of a list.
func ParsePasted(text string) (Published, error) {
	if list, err := ParseDigests(strings.NewReader(text), "pasted"); err == nil && len(list.Published) > 0 {
		return list.Published[0], nil
	}
	bare := strings.ToLower(strings.NewReplacer(" ", "", ":", "", "-", "", "\t", "", "\r", "", "\n", "").Replace(text))
	for _, a := range algorithms {
		rest, ok := strings.CutPrefix(bare, strings.ReplaceAll(a.name, "-", ""))
		if ok && isHex(rest) && len(rest) == 2*a.size {
			return Published{Algorithm: a.name, Digest: rest, From: "pasted"}, nil
		}
	}
	if a, known := algorithmOf(bare, ""); known && isHex(bare) {
		return Published{Algorithm: a.name, Digest: bare, From: "pasted"}, nil
	}
	return Published{}, fmt.Errorf("%q is no digest: want 8 (CRC-32), 32 (MD5), 40 (SHA-1), 56, 64 (SHA-256), 96 or 128 (SHA-512) hexadecimal digits",
		plain.Clip(text, 200))
}
