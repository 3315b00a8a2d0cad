package device

import (
	"cmp"
	"fmt"
	"regexp"
	"slices"
	"strings"
)

// Release is a software release as the trade writes them. It is ordered part by part: numbers as numbers; a word such
// as rc or beta makes it an earlier one than the release that it stands behind, any other word, a letter or a build
// number a later one, though not as late as a further number. A v before it and zeros behind its numbers mean nothing,
// letters before it are its train.
type Release struct {
	text  string
	order *Order
}

// Order is how one maker's releases are ordered. A nil one is the usual order.
type Order struct {
	part           *regexp.Regexp
	earlier, later []string // lower-case
}

// NewOrder is the usual order, except that the words given make a release an earlier or a later one, and that only what
// the first group of a pattern finds counts; a nil pattern takes all of it.
func NewOrder(earlier, later []string, part *regexp.Regexp) *Order {
	o := &Order{part: part}
	for _, word := range earlier {
		o.earlier = append(o.earlier, strings.ToLower(word))
	}
	for _, word := range later {
		o.later = append(o.later, strings.ToLower(word))
	}
	return o
}

// earlierText are those of releases that come before the one they are called after, the earliest first.
var earlierText = []string{
	"dev", "devel", "nightly", "snapshot", "draft", "experimental", "eval", "test", "trial", "alpha", "beta", "preview",
	"prerelease", "pre", "milestone", "candidate", "rc",
}

// buildText stand before a build number and say nothing else.
var buildText = []string{"build", "bld"}

// written is how a release looks: a train of a few letters perhaps, then a digit.
var written = regexp.MustCompile(`^(?:[A-Za-z]{1,8}[.\-_]?)?[0-9]`)

// maxRelease is how long a release may be, in characters.
const maxRelease = 120

// Parse takes a release as written, such as 4.2.1, v7.6.0-rc2, 12.3(4)B5 or Q.15.08.
func (o *Order) Parse(text string) (Release, error) {
	text = strings.TrimSpace(text)
	counts := text
	if o != nil && o.part != nil {
		found := o.part.FindStringSubmatch(text)
		if len(found) < 2 {
			return Release{}, fmt.Errorf("%q is no release: want one that %s finds", text, o.part)
		}
		counts = found[1]
	}
	if !written.MatchString(counts) || len(text) > maxRelease {
		return Release{}, fmt.Errorf("%q is no release: want one like 4.2.1", text)
	}
	return Release{withoutV(text), o}, nil
}

// withoutV takes the v off that stands for version.
func withoutV(text string) string {
	if len(text) > 1 && (text[0] == 'v' || text[0] == 'V') && isDigit(text[1]) {
		return text[1:]
	}
	return text
}

// ParseRelease does the same in the usual order.
func ParseRelease(text string) (Release, error) { return (*Order)(nil).Parse(text) }

func (r Release) String() string { return r.text }

// Order is how it is ordered, nil for the usual order.
func (r Release) Order() *Order { return r.order }

// Pre reports whether it is one that comes before the release it is called after: a candidate, a trial.
func (r Release) Pre() bool {
	return slices.ContainsFunc(r.order.parts(r.text), func(p releasePart) bool { return p.rank < 0 })
}

// Compare is negative when r is older than other, 0 when they are the same, positive when newer. It is a total order.
func (r Release) Compare(other Release) int {
	order := r.order
	if order == nil {
		order = other.order
	}
	a, b := order.parts(r.text), order.parts(other.text)
	for i := range max(len(a), len(b)) {
		if n := partAt(a, i).compare(partAt(b, i)); n != 0 {
			return n
		}
	}
	return 0
}

// releasePart is a number or a word. What comes first in the order has the lower rank.
type releasePart struct {
	rank int
	text string // a number without zeros before it, a word in lower case
}

// The ranks of parts at one place: words that make it an earlier one have negative ones.
const (
	partEnd    = 0 // nothing
	partWord   = 1
	partNumber = 2
)

func partAt(parts []releasePart, i int) releasePart {
	if i < len(parts) {
		return parts[i]
	}
	return releasePart{}
}

func (p releasePart) compare(other releasePart) int {
	if n := cmp.Compare(p.rank, other.rank); n != 0 {
		return n
	}
	if p.rank == partNumber {
		return cmp.Or(cmp.Compare(len(p.text), len(other.text)), strings.Compare(p.text, other.text))
	}
	return strings.Compare(p.text, other.text)
}

func isDigit(b byte) bool  { return b >= '0' && b <= '9' }
func isLetter(b byte) bool { return b >= 'a' && b <= 'z' || b >= 'A' && b <= 'Z' }

// parts splits a release: at punctuation, and between digits and letters. Its train is always its first part.
func (o *Order) parts(text string) (parts []releasePart) {
	if o != nil && o.part != nil {
		if found := o.part.FindStringSubmatch(text); len(found) > 1 {
			text = found[1]
		}
	}
	text = withoutV(text)
	train := 0
	for train < len(text) && isLetter(text[train]) {
		train++
	}
	parts = append(parts, releasePart{partWord, strings.ToLower(text[:train])})
	for i := train; i < len(text); {
		at := i
		switch {
		case isDigit(text[i]):
			for i < len(text) && isDigit(text[i]) {
				i++
			}
			parts = o.number(parts, text[:at], text[at:i])
		case isLetter(text[i]):
			for i < len(text) && isLetter(text[i]) {
				i++
			}
			parts = o.word(parts, strings.ToLower(text[at:i]))
		default:
			i++
		}
	}
	return withoutZeros(parts)
}

// number adds a number. One that stands behind a hyphen, a plus or a blank is that of a build.
func (o *Order) number(parts []releasePart, before, digits string) []releasePart {
	if last := parts[len(parts)-1]; last.rank == partNumber && strings.ContainsAny(before[len(before)-1:], "-+_ ") {
		parts = o.word(parts, "")
	}
	return append(parts, releasePart{partNumber, strings.TrimLeft(digits, "0")})
}

// word adds a word, behind which zeros say nothing.
func (o *Order) word(parts []releasePart, word string) []releasePart {
	if slices.Contains(buildText, word) {
		word = ""
	}
	return append(withoutZeros(parts), releasePart{o.rank(word), word})
}

// withoutZeros takes the zeros at the end of a run of numbers off: 4.2 and 4.2.0 are the same.
func withoutZeros(parts []releasePart) []releasePart {
	for len(parts) > 0 && parts[len(parts)-1] == (releasePart{rank: partNumber}) {
		parts = parts[:len(parts)-1]
	}
	return parts
}

// rank is negative for a word that makes a release an earlier one.
func (o *Order) rank(word string) int {
	if o != nil && slices.Contains(o.later, word) {
		return partWord
	}
	if at := slices.Index(earlierText, word); at >= 0 {
		return at - len(earlierText)
	}
	if o != nil && slices.Contains(o.earlier, word) {
		return -len(earlierText) - 1 + slices.Index(o.earlier, word) - len(o.earlier)
	}
	return partWord
}
