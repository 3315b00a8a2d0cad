package dialect

import (
	"errors"
	"fmt"
	"slices"

	"pilotrix/core/arithmetic"
	"pilotrix/core/device"
)

// flash takes what a dialect says of the device's flash.
func (c *compiler) flash() {
	said := c.d.Document.Flash
	if said == nil {
		return
	}
	f := &arithmetic.Flash{}
	var err error
	if said.Layout != "" {
		if f.Sectors, err = arithmetic.ParseSectors(string(said.Layout)); err != nil {
			c.complain("flash.layout", "%v", err)
		}
	}
	if said.Base != "" {
		if f.Base, err = arithmetic.ParseAddress(string(said.Base)); err != nil {
			c.complain("flash.base", "%v", err)
		}
	}
	for i, text := range said.Known {
		part, err := arithmetic.ParsePart(string(text))
		if err != nil {
			c.complain(fmt.Sprintf("flash.known[%d]", i), "%v", err)
			continue
		}
		f.Parts = append(f.Parts, part)
	}
	for key, name := range map[string]string{"sectors": said.Sectors, "size": said.Size, "parts": said.Parts} {
		if name != "" && !c.d.Knows(name) {
			c.complain("flash."+key, "no reading makes %s", name)
		}
	}
	switch {
	case said.Layout == "" && said.Sectors == "":
		c.complain("flash",
			"its sectors are not known: say them (layout), or the list that a reading makes of them (sectors)")
	case said.Sectors != "" && said.Size == "":
		c.complain("flash", "where its last sector ends is not known: say the fact that tells its size (size)")
	case len(said.Known) == 0 && said.Parts == "":
		c.complain("flash",
			"its parts are not known: say them (known), or the list that a reading makes of them (parts)")
	}
	c.d.flash = f
	if said.Layout != "" && len(said.Known) > 0 && c.f.Err() == nil {
		if err := c.d.protect(*f).Check(); err != nil {
			c.complain("flash", "%v", err)
		}
	}
}

// UsualFlash is the map as the dialect knows it, whatever a device would say: good for a plan, and for nothing that is
// typed.
func (d *Dialect) UsualFlash() (f arithmetic.Flash, known bool) {
	said := d.Document.Flash
	if said == nil || said.Layout == "" || len(said.Known) == 0 {
		return f, false
	}
	return d.protect(*d.flash), true
}

// FlashFacts are the facts that the flash's map is made from.
func (d *Dialect) FlashFacts() (names []string) {
	if said := d.Document.Flash; said != nil {
		for _, name := range []string{said.Sectors, said.Size, said.Parts} {
			if name != "" {
				names = append(names, name)
			}
		}
	}
	return names
}

// FlashMap is the map of the device's flash, by what it reported of itself and by what the dialect knows.
func (d *Dialect) FlashMap(facts *device.Facts) (arithmetic.Flash, error) {
	said := d.Document.Flash
	if said == nil {
		return arithmetic.Flash{}, fmt.Errorf("dialect %s knows of no flash", d.Dialect)
	}
	f := *d.flash
	for _, name := range d.FlashFacts() {
		if _, read := facts.Get(name); !read {
			return f, fmt.Errorf("the map of the flash is not known: %s was not read", name)
		}
	}
	if said.Sectors != "" {
		var err error
		if f.Base, f.Sectors, err = sectorsOf(rowsOf(facts, said.Sectors), sizeOf(facts, said.Size)); err != nil {
			return f, err
		}
	}
	if said.Parts != "" {
		f.Parts = partsOf(rowsOf(facts, said.Parts))
	}
	f = d.protect(f)
	for _, name := range said.Protected {
		if _, err := f.Part(name); err != nil {
			return f, fmt.Errorf(
				"the map of the flash is not to be trusted: dialect %s protects part %s, and the device tells of none",
				d.Dialect, name)
		}
	}
	return f, f.Check()
}

// protect marks the parts that are never touched.
func (d *Dialect) protect(f arithmetic.Flash) arithmetic.Flash {
	f.Parts = slices.Clone(f.Parts)
	for i, part := range f.Parts {
		f.Parts[i].Protected = part.Protected || slices.Contains(d.Document.Flash.Protected, part.Name)
	}
	return f
}

func rowsOf(facts *device.Facts, name string) []map[string]any {
	fact, _ := facts.Get(name)
	rows, _ := fact.Value.([]map[string]any)
	return rows
}

func sizeOf(facts *device.Facts, name string) int64 {
	fact, _ := facts.Get(name)
	n, _ := fact.Value.(float64)
	return int64(n)
}

func number(row map[string]any, column string) int64 {
	n, ok := row[column].(float64)
	if !ok {
		return -1
	}
	return int64(n)
}

// sectorsOf makes runs of sectors of what a device says of where each begins.
func sectorsOf(rows []map[string]any, size int64) (base int64, runs []arithmetic.Sectors, err error) {
	var starts []int64
	for _, row := range rows {
		starts = append(starts, number(row, "at"))
	}
	if len(starts) == 0 || size <= 0 {
		return 0, nil, errors.New("the device told of no sectors of its flash, or not how large it is")
	}
	if slices.Contains(starts, -1) {
		return 0, nil, errors.New("the device told where the sectors of its flash begin, and those are no numbers")
	}
	for i, at := range starts {
		end := starts[0] + size
		if i+1 < len(starts) {
			end = starts[i+1]
		}
		length := end - at
		if length <= 0 {
			return 0, nil, fmt.Errorf("the device told of a sector at 0x%x, and of the next one at 0x%x", at, end)
		}
		if n := len(runs); n > 0 && runs[n-1].Size == length {
			runs[n-1].Count++
		} else {
			runs = append(runs, arithmetic.Sectors{Count: 1, Size: length})
		}
	}
	return starts[0], runs, nil
}

// partsOf makes parts of what a device says of them.
func partsOf(rows []map[string]any) (parts []arithmetic.Part) {
	for _, row := range rows {
		name, _ := row["name"].(string)
		parts = append(parts, arithmetic.Part{
			Name:      name,
			At:        number(row, "at"),
			Size:      number(row, "size"),
			Protected: row["protected"] == "yes",
		})
	}
	return parts
}
