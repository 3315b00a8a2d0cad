package device

import (
	"cmp"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"unicode"
)

// Release is a software release, ordered part by part: numbers as numbers, words as words, and a
// release with a word after it (4.2.1-rc2) before the one without, unless its Order says otherwise.
type Release struct {
	text  string
	order *Order
}

// Order is how one maker's releases are ordered. A nil one is the usual order.
type Order struct {
	later []string
}

// NewOrder is the usual order, except that the words given make a release a later one: with p, 4.2p1
// comes behind 4.2.
func NewOrder(later []string) *Order {
	o := &Order{}
	for _, word := range later {
		o.later = append(o.later, strings.ToLower(word))
	}
	return o
}

// Parse takes a release as written, such as 4.2.1 or v7.6.0-rc2.
func (o *Order) Parse(text string) (Release, error) {
	text = strings.TrimSpace(text)
	plain := strings.TrimPrefix(strings.TrimPrefix(text, "v"), "V")
	if plain == "" || !unicode.IsDigit(rune(plain[0])) {
		return Release{}, fmt.Errorf("%q is no release: want one like 4.2.1", text)
	}
	return Release{plain, o}, nil
}

// ParseRelease does the same in the usual order.
func ParseRelease(text string) (Release, error) { return (*Order)(nil).Parse(text) }

func (r Release) String() string { return r.text }

// Compare is negative when r is older than other, 0 when they are the same, positive when newer.
func (r Release) Compare(other Release) int {
	order := r.order
	if order == nil {
		order = other.order
	}
	a, b := releaseParts(r.text), releaseParts(other.text)
	for i := range max(len(a), len(b)) {
		if n := order.comparePart(part(a, i), part(b, i)); n != 0 {
			return n
		}
	}
	return 0
}

// releaseParts splits at punctuation and between digits and letters.
func releaseParts(text string) (parts []string) {
	begin := 0
	kind := func(r byte) int {
		switch {
		case r >= '0' && r <= '9':
			return 1
		case r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z':
			return 2
		}
		return 0
	}
	for i := 1; i <= len(text); i++ {
		if i < len(text) && kind(text[i]) == kind(text[begin]) {
			continue
		}
		if kind(text[begin]) != 0 {
			parts = append(parts, text[begin:i])
		}
		begin = i
	}
	return parts
}

// part is part i; a missing one is "0", so that 4.2 and 4.2.0 are the same.
func part(parts []string, i int) string {
	if i < len(parts) {
		return parts[i]
	}
	return "0"
}

// comparePart orders words before numbers, since a word after a release makes it an earlier one; a word that
// makes it a later one comes between nothing and the next number.
func (o *Order) comparePart(a, b string) int {
	x, errA := strconv.Atoi(a)
	y, errB := strconv.Atoi(b)
	switch {
	case errA == nil && errB == nil:
		return cmp.Compare(x, y)
	case errA != nil && errB != nil:
		return cmp.Or(cmp.Compare(o.rank(a), o.rank(b)), cmp.Compare(strings.ToLower(a), strings.ToLower(b)))
	case errA != nil:
		return o.wordToNumber(a, y)
	}
	return -o.wordToNumber(b, x)
}

func (o *Order) wordToNumber(word string, number int) int {
	if o.rank(word) > 0 && number == 0 {
		return 1
	}
	return -1
}

// rank is 1 for a word that makes a release a later one.
func (o *Order) rank(word string) int {
	if o != nil && slices.Contains(o.later, strings.ToLower(word)) {
		return 1
	}
	return 0
}
