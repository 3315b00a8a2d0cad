package image

import "strings"

// Held is a file that the device itself has, as far as its listing says.
type Held struct {
	Name    string
	Size    int64             // in bytes, 0 when the device does not say
	Digests map[string]string // in hex, by algorithm
}

// Sameness is by what a file of the device is known to be one of ours.
type Sameness string

// By what a file is the same. Files of one name and size are taken to be one only by people.
const (
	Differs      Sameness = ""
	SameName     Sameness = "size and name" // no digest of it is known
	SameByDigest Sameness = "digest"
)

// Algorithms are those that an image has digests by, the strongest first.
var Algorithms = []string{"sha512", "sha256", "md5", "crc32"}

// SameAs holds a file of the device against the image: by the strongest digest that both have, whatever its name is;
// without one by size and name. A digest that differs is another file, whatever else agrees.
func (i *Image) SameAs(h Held) (by Sameness, algorithm string) {
	if h.Size != 0 && h.Size != i.Size {
		return Differs, ""
	}
	for _, algorithm := range Algorithms {
		theirs, ours := h.Digests[algorithm], i.Of(algorithm)
		if theirs == "" || ours == "" {
			continue
		}
		if !strings.EqualFold(theirs, ours) || algorithm == "crc32" && h.Size == 0 {
			return Differs, "" // so few bits alone say nothing
		}
		return SameByDigest, algorithm
	}
	if h.Size != 0 && h.Name == i.Name {
		return SameName, ""
	}
	return Differs, ""
}
