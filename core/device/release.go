package device

import (
	"cmp"
	"fmt"
	"strconv"
	"strings"
	"unicode"
)

// Release is a software release, ordered part by part: numbers as numbers, words as words, and a
// release with a word after it (4.2.1-rc2) before the one without.
type Release struct{ text string }

// ParseRelease takes a release as written, such as 4.2.1 or v7.6.0-rc2.
func ParseRelease(text string) (Release, error) {
	text = strings.TrimSpace(text)
	bare := strings.TrimPrefix(strings.TrimPrefix(text, "v"), "V")
	if bare == "" || !unicode.IsDigit(rune(bare[0])) {
		return Release{}, fmt.Errorf("%q is no release: want one like 4.2.1", text)
	}
	return Release{bare}, nil
}

func (r Release) String() string { return r.text }

// Compare is negative when r is older than other, 0 when they are the same, positive when newer.
func (r Release) Compare(other Release) int {
	a, b := releaseParts(r.text), releaseParts(other.text)
	for i := range max(len(a), len(b)) {
		if order := comparePart(part(a, i), part(b, i)); order != 0 {
			return order
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

// comparePart orders words before numbers: a word after a release makes it an earlier one.
func comparePart(a, b string) int {
	x, errA := strconv.Atoi(a)
	y, errB := strconv.Atoi(b)
	switch {
	case errA == nil && errB == nil:
		return cmp.Compare(x, y)
	case errA != nil && errB != nil:
		return cmp.Compare(strings.ToLower(a), strings.ToLower(b))
	case errA != nil:
		return -1
	}
	return 1
}

// ParseSize reads a size in bytes: 8,388,608, 8388608 B, 8 MiB, 4.5MB, 0x4000.
func ParseSize(text string) (float64, error) {
	clean := strings.NewReplacer(",", "", "_", "", " ", "").Replace(strings.TrimSpace(text))
	if hex, found := strings.CutPrefix(strings.ToLower(clean), "0x"); found {
		n, err := strconv.ParseUint(hex, 16, 64)
		if err != nil {
			return 0, fmt.Errorf("%q is no size", text)
		}
		return float64(n), nil
	}
	end := len(clean)
	for end > 0 && unicode.IsLetter(rune(clean[end-1])) {
		end--
	}
	unit, known := sizeUnits[strings.ToLower(clean[end:])]
	n, err := strconv.ParseFloat(clean[:end], 64)
	if err != nil || !known || n < 0 {
		return 0, fmt.Errorf("%q is no size: want one like 8388608, 8 MiB or 4 MB", text)
	}
	return n * unit, nil
}

var sizeUnits = map[string]float64{
	"": 1, "b": 1, "bytes": 1, "byte": 1,
	"k": 1 << 10, "kib": 1 << 10, "kb": 1e3,
	"m": 1 << 20, "mib": 1 << 20, "mb": 1e6,
	"g": 1 << 30, "gib": 1 << 30, "gb": 1e9,
}
