package image

import (
	"fmt"
	"os"
	"path"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
)

// listName are names of lists of a folder's digests.
var listName = regexp.MustCompile(`(?i)(?:^|[._-])(?:md5|sha[0-9]{0,3}|sha3[-_]?[0-9]{3}|sha512[-_]2(?:24|56)|b2|blake2[bs]?(?:[-_]?[0-9]{3})?|crc32)[-_]?sums?(?:[._-].*)?$|^(?:checksums?|digests?|hashes)(?:\.\w+)?$`)

// sidecarName are names of files with the digest of one image: its own with an ending, or its stem's.
var sidecarName = regexp.MustCompile(
	`(?i)\.(?:md5|sha[0-9]{1,3}|sha3-?[0-9]{3}|b2|blake2[bs]?(?:-?[0-9]{3})?|crc32|sfv|digest|checksum)(?:\.txt)?$`)

// isSidecar reports whether a file holds digests rather than an image.
func isSidecar(name string) bool { return listName.MatchString(name) || sidecarName.MatchString(name) }

// sidecar is one file with digests.
type sidecar struct {
	DigestList
	place string
	of    string            // the file that it is named after, with or without its ending; empty for a list
	err   error             // it could not be read
	bases map[string]string // by the last part of a name, the one name that has it, empty where several do
}

func readSidecar(place string) sidecar {
	base := filepath.Base(place)
	s := sidecar{place: place}
	if sidecarName.MatchString(base) && !listName.MatchString(base) {
		s.of = sidecarName.ReplaceAllString(base, "")
	}
	info, err := os.Stat(place)
	if err == nil && !info.Mode().IsRegular() {
		err = fmt.Errorf("it is not a file")
	}
	if err != nil {
		s.err = err
		return s
	}
	file, err := os.Open(place)
	if err != nil {
		s.err = err
		return s
	}
	defer file.Close()
	s.DigestList, s.err = ParseDigests(file, base)
	s.bases = map[string]string{}
	for _, p := range s.Published {
		name := path.Clean(p.Name)
		if other, there := s.bases[path.Base(name)]; there && other != name {
			name = ""
		}
		s.bases[path.Base(path.Clean(p.Name))] = name
	}
	return s
}

// beside are the files with digests of one folder, and what they say of each of its files.
type beside struct {
	folder string
	lists  []sidecar
	files  map[string]bool   // that are there, by name
	folded map[string]string // their names by those in small letters, empty where several are the same so
	says   map[string][]Published
}

// newExtra reads what lies in a folder. The names are those of its files.
func newExtra(folder string, names []string) *beside {
	b := &beside{folder: folder, files: map[string]bool{}, folded: map[string]string{}, says: map[string][]Published{}}
	for _, name := range names {
		b.files[name] = true
		low := strings.ToLower(name)
		if _, there := b.folded[low]; there {
			b.folded[low] = ""
		} else {
			b.folded[low] = name
		}
		if isSidecar(name) {
			b.lists = append(b.lists, readSidecar(filepath.Join(folder, name)))
		}
	}
	for _, list := range b.lists {
		for _, p := range list.Published {
			for _, of := range b.filesOf(list, p) {
				b.says[of] = append(b.says[of], p)
			}
		}
	}
	return b
}

// sidecarFile reads what lies beside one file.
func sidecarFile(place string) *beside {
	var names []string
	entries, _ := os.ReadDir(filepath.Dir(place)) // what cannot be listed has nothing beside it that could be read
	for _, entry := range entries {
		names = append(names, entry.Name())
	}
	return newExtra(filepath.Dir(place), names)
}

// filesOf are the paths of the files that a published digest is for. Without a name it is for the file that its list is
// named after, or those with that stem.
func (b *beside) filesOf(list sidecar, p Published) (places []string) {
	if p.Name == "" {
		for name := range b.files {
			if list.of != "" && !isSidecar(name) && (name == list.of || !b.files[list.of] && stem(name) == list.of) {
				places = append(places, filepath.Join(b.folder, name))
			}
		}
		return places
	}
	for _, name := range []string{p.Name, p.bare} {
		if name != "" {
			places = append(places, b.place(list, name))
		}
	}
	return slices.Compact(places)
}

func stem(name string) string { return strings.TrimSuffix(name, filepath.Ext(name)) }

// place is where the file of a name lies. One with folders lies there; where it does not, and the list has no other of
// that name, it is the one beside the list: lists are made in other places.
func (b *beside) place(list sidecar, name string) string {
	clean := path.Clean(name)
	base := path.Base(clean)
	if base == clean {
		return filepath.Join(b.folder, b.spelt(base))
	}
	inside := !path.IsAbs(clean) && clean != ".." && !strings.HasPrefix(clean, "../") && !driveLetter.MatchString(clean)
	if inside {
		at := filepath.Join(b.folder, filepath.FromSlash(clean))
		if _, err := os.Stat(at); err == nil || list.several(base) {
			return at
		}
	}
	if list.several(base) {
		return ""
	}
	return filepath.Join(b.folder, b.spelt(base))
}

var driveLetter = regexp.MustCompile(`^[A-Za-z]:`)

// spelt is a name as the folder has it: sticks keep no small letters.
func (b *beside) spelt(name string) string {
	if other := b.folded[strings.ToLower(name)]; other != "" && !b.files[name] {
		return other
	}
	return name
}

// several reports whether a list has several different files of one name.
func (s sidecar) several(base string) bool {
	name, there := s.bases[base]
	return there && name == ""
}

// reasons are why a file has no digest though there is something that may hold one.
func (b *beside) reasons(place string) (reasons []string) {
	if len(b.says[place]) > 0 {
		return nil
	}
	name := filepath.Base(place)
	for _, list := range b.lists {
		from := filepath.Base(list.place)
		if list.of != "" && list.of != name && list.of != stem(name) {
			continue
		}
		switch {
		case list.err != nil:
			reasons = append(reasons, fmt.Sprintf("%s cannot be read: %v", from, list.err))
		case len(list.Odd) > 0:
			reasons = append(reasons,
				fmt.Sprintf("%s: line %d not understood%s", from, list.Odd[0].Number, moreText(len(list.Odd)-1)))
		case list.of != "" && len(list.Published) > 0:
			reasons = append(reasons, fmt.Sprintf("%s is for %s", from, list.Published[0].Name))
		case len(list.Published) == 0:
			reasons = append(reasons, from+" holds no digest")
		}
	}
	return reasons
}

func moreText(n int) string {
	if n <= 0 {
		return ""
	}
	return fmt.Sprintf(", and %d more", n)
}
