package arithmetic

import (
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"pilotrix/core/units"
)

// A flash is erased in sectors and written in bytes; what lies in it is known as parts. Nobody types an address: a part
// and a file say what is meant, and what follows from that is computed here and nowhere else.

// Sectors are so many sectors of one size, in bytes, one behind the other.
type Sectors struct{ Count, Size int64 }

// Part is a range of a flash that is called something. A protected one is never erased or written.
type Part struct {
	Name      string
	At, Size  int64 // from the flash's beginning, in bytes
	Protected bool
}

// End is the first byte after it.
func (p Part) End() int64 { return p.At + p.Size }

// Flash is a map of one: where it stands among a device's addresses, its sectors from its beginning on, and its parts.
type Flash struct {
	Base    int64
	Sectors []Sectors
	Parts   []Part
}

// Size is how many bytes it has.
func (f Flash) Size() (size int64) {
	for _, run := range f.Sectors {
		size += run.Count * run.Size
	}
	return size
}

// maxFlash bounds what is taken for a flash: no board of the kind has more, and sums of less do not overflow.
const maxFlash = 1 << 40

// Check says what is wrong with the map: sectors of no size, parts that are outside of it, that overlap, that share a
// name, or that are protected while a sector is another part's, too.
func (f Flash) Check() error {
	var wrong []error
	if f.Base < 0 || f.Base > maxFlash {
		wrong = append(wrong, fmt.Errorf("0x%x is no address of a flash", f.Base))
	}
	if len(f.Sectors) == 0 {
		wrong = append(wrong, errors.New("the flash has no sectors"))
	}
	for i, run := range f.Sectors {
		if run.Count <= 0 || run.Size <= 0 || run.Size > maxFlash || run.Count > maxFlash/run.Size {
			wrong = append(wrong,
				fmt.Errorf("%d sectors of %d B, the %d. of the flash, are none", run.Count, run.Size, i+1))
		}
	}
	if len(wrong) > 0 {
		return errors.Join(wrong...)
	}
	parts := slices.Clone(f.Parts)
	slices.SortStableFunc(parts, func(a, b Part) int { return int(min(1, max(-1, a.At-b.At))) })
	for i, p := range parts {
		wrong = append(wrong, f.checkPart(p))
		if i > 0 && parts[i-1].End() > p.At {
			wrong = append(wrong,
				fmt.Errorf("part %s ends at 0x%x, and %s begins at 0x%x: they overlap", parts[i-1].Name,
					parts[i-1].End(), p.Name, p.At))
		}
		if slices.ContainsFunc(parts[:i], func(other Part) bool { return other.Name == p.Name }) {
			wrong = append(wrong, fmt.Errorf("part %s is there twice", p.Name))
		}
	}
	return errors.Join(wrong...)
}

func (f Flash) checkPart(p Part) error {
	switch {
	case p.Name == "":
		return fmt.Errorf("the part at 0x%x has no name", p.At)
	case p.At < 0 || p.Size <= 0 || p.At > maxFlash || p.Size > maxFlash:
		return fmt.Errorf("part %s: 0x%x B at 0x%x are no range", p.Name, p.Size, p.At)
	case p.End() > f.Size():
		return fmt.Errorf("part %s ends at 0x%x, the flash at 0x%x", p.Name, p.End(), f.Size())
	}
	return nil
}

// Part finds a part by its name.
func (f Flash) Part(name string) (Part, error) {
	var known []string
	for _, p := range f.Parts {
		if p.Name == name {
			return p, nil
		}
		known = append(known, p.Name)
	}
	return Part{}, fmt.Errorf("the flash has no part %q; it has %s", name, strings.Join(known, ", "))
}

// Span is a range of a flash, in bytes from its beginning; To is the first byte after it.
type Span struct{ From, To int64 }

// Size is how many bytes it has.
func (s Span) Size() int64 { return s.To - s.From }

// Holds reports whether another one lies in it whole.
func (s Span) Holds(other Span) bool { return s.From <= other.From && other.To <= s.To }

// Meets reports whether they share a byte.
func (s Span) Meets(other Span) bool { return s.From < other.To && other.From < s.To }

// Span is the part's.
func (p Part) Span() Span { return Span{p.At, p.End()} }

// sectorsOf is a range rounded outwards to whole sectors, and how many those are.
func (f Flash) sectorsOf(s Span) (rounded Span, count int64) {
	at := int64(0)
	rounded = Span{-1, -1}
	for _, run := range f.Sectors {
		end := at + run.Count*run.Size
		if s.From < end && at < s.To {
			first := max(0, (s.From-at)/run.Size)
			behind := min(run.Count, (s.To-at+run.Size-1)/run.Size)
			if rounded.From < 0 {
				rounded.From = at + first*run.Size
			}
			rounded.To = at + behind*run.Size
			count += behind - first
		}
		at = end
	}
	return rounded, count
}

// Burn is what writing a file into a part takes: the sectors that are erased before, and where the file's bytes land.
// Addresses are the device's.
type Burn struct {
	Part    Part
	Erase   Span // whole sectors
	Sectors int64
	Write   Span // one byte of the file after the other
	Left    int64
	Base    int64
}

// EraseAt and its siblings are where it begins and ends among the device's addresses; the last is the last byte of it,
// which some loaders want.
func (b Burn) EraseAt() (from, last int64) { return b.Base + b.Erase.From, b.Base + b.Erase.To - 1 }

// WriteAt is where the file's first and last byte land.
func (b Burn) WriteAt() (from, last int64) { return b.Base + b.Write.From, b.Base + b.Write.To - 1 }

// Burns computes what writing a file of that size, in bytes, into a part takes. It is refused where the part is
// protected, where the file is larger than it, and where the sectors that would be erased are not the part's alone:
// something else would go with them.
func (f Flash) Burns(part string, size int64) (Burn, error) {
	if err := f.Check(); err != nil {
		return Burn{}, err
	}
	p, err := f.Part(part)
	switch {
	case err != nil:
		return Burn{}, err
	case p.Protected:
		return Burn{}, fmt.Errorf("part %s is protected: it is never erased", p.Name)
	case size <= 0:
		return Burn{}, fmt.Errorf("there is nothing to write into part %s: %d B", p.Name, size)
	case size > p.Size:
		return Burn{}, fmt.Errorf("the file has %d B, and part %s holds %d B: %d B too many", size, p.Name, p.Size,
			size-p.Size)
	}
	b := Burn{Part: p, Write: Span{p.At, p.At + size}, Left: p.Size - size, Base: f.Base}
	b.Erase, b.Sectors = f.sectorsOf(b.Write)
	for _, other := range f.Parts {
		if other.Name != p.Name && b.Erase.Meets(other.Span()) {
			return Burn{}, fmt.Errorf(
				"erasing for part %s takes whole sectors, 0x%x to 0x%x, and with them bytes of part %s", p.Name,
				b.Erase.From, b.Erase.To-1, other.Name)
		}
	}
	if !p.Span().Holds(b.Erase) {
		return Burn{}, fmt.Errorf("erasing for part %s takes whole sectors, 0x%x to 0x%x, and the part is 0x%x to 0x%x: it does not fill its sectors",
			p.Name, b.Erase.From, b.Erase.To-1, p.At, p.End()-1)
	}
	return b, nil
}

// ParseSectors reads runs of sectors as people write them: 8x8KiB,127x64KiB.
func ParseSectors(text string) (runs []Sectors, err error) {
	for one := range strings.SplitSeq(text, ",") {
		count, size, found := strings.Cut(strings.TrimSpace(one), "x")
		n, countErr := strconv.ParseInt(strings.TrimSpace(count), 10, 64)
		bytes, sizeErr := units.ParseSize(size)
		if !found || countErr != nil || sizeErr != nil || bytes != float64(int64(bytes)) {
			return nil, fmt.Errorf("%q is no run of sectors: want one like 127x64KiB", one)
		}
		runs = append(runs, Sectors{n, int64(bytes)})
	}
	return runs, nil
}

// ParsePart reads a part as people write it: system=0x10000+0x700000, its name, where it begins and its size.
func ParsePart(text string) (Part, error) {
	name, where, found := strings.Cut(text, "=")
	begin, size, both := strings.Cut(where, "+")
	at, atErr := ParseAddress(begin)
	length, sizeErr := ParseAddress(size)
	if !found || !both || name == "" || atErr != nil || sizeErr != nil {
		return Part{}, fmt.Errorf("%q is no part: want one like system=0x10000+0x700000", text)
	}
	return Part{Name: name, At: at, Size: length}, nil
}
