package dialect

import (
	"slices"
	"strings"

	"pilotrix/core/device"
	"pilotrix/core/image"
)

// Hashed is the name under which a reading that hashes one file finds the file's name.
const Hashed = "file.name"

// CompiledFiles is a place of the device where files are.
type CompiledFiles struct {
	Files
	Reading *CompiledReading
	Hashing *CompiledReading // nil where no single file can be hashed
}

// FileStores are the places of the device where files are. It works on a nil dialect.
func (d *Dialect) FileStores() []*CompiledFiles {
	if d == nil {
		return nil
	}
	return d.files
}

// Held lists the files that were read of a place, and the fact that they come from; nothing before that.
func (f *CompiledFiles) Held(facts *device.Facts) (held []image.Held, from device.Fact) {
	from, _ = facts.Get(f.List)
	rows, _ := from.Value.([]map[string]any)
	for _, row := range rows {
		one := image.Held{Digests: map[string]string{}}
		one.Name, _ = row["name"].(string)
		size, _ := row["size"].(float64)
		one.Size = int64(size)
		for _, algorithm := range image.Algorithms {
			if digest, ok := row[algorithm].(string); ok && digest != "" {
				one.Digests[algorithm] = digest
			}
		}
		held = append(held, one)
	}
	return held, from
}

// HashedAs are the digests that the hashing of one file made.
func (f *CompiledFiles) HashedAs(facts *device.Facts) map[string]string {
	digests := map[string]string{}
	for _, name := range f.Hashing.Makes() {
		fact, known := facts.Get(name)
		if text, ok := fact.Value.(string); known && ok && algorithmOf(name) != "" {
			digests[algorithmOf(name)] = text
		}
	}
	return digests
}

// algorithmOf is the algorithm that a fact is a digest by, empty for any other fact.
func algorithmOf(fact string) string {
	last := fact[strings.LastIndexByte(fact, '.')+1:]
	if slices.Contains(image.Algorithms, last) {
		return last
	}
	return ""
}

// files checks one place of files.
func (c *compiler) files(path string, files Files) {
	reading := c.d.readings[files.Read]
	compiled := &CompiledFiles{Files: files, Reading: reading}
	c.d.files = append(c.d.files, compiled)
	switch {
	case files.Read == "":
	case reading == nil:
		c.complain(path+".read", "no reading %q; there are %s", files.Read, listed(c.d.ReadingNames()))
	default:
		c.fileList(path, files, reading)
	}
	if files.Hash == "" {
		return
	}
	if compiled.Hashing = c.d.readings[files.Hash]; compiled.Hashing == nil {
		c.complain(path+".hash", "no reading %q; there are %s", files.Hash, listed(c.d.ReadingNames()))
		return
	}
	if !slices.Contains(compiled.Hashing.Type.Uses(), Hashed) {
		c.complain(path+".hash", "reading %q does not say which file it hashes: write ${%s} where its name stands",
			files.Hash, Hashed)
	}
	if !slices.ContainsFunc(compiled.Hashing.Makes(), func(name string) bool { return algorithmOf(name) != "" }) {
		c.complain(path+".hash", "reading %q makes no digest: want a fact that ends in one of %s, such as file.sha256",
			files.Hash, strings.Join(image.Algorithms, ", "))
	}
}

// fileList holds that the list of files has the columns that are looked at.
func (c *compiler) fileList(path string, files Files, reading *CompiledReading) {
	for _, row := range reading.rows {
		if row.List != files.List {
			continue
		}
		groups := row.RowPattern.Pattern.Groups()
		if !slices.Contains(groups, "name") {
			c.complain(path+".list", "the rows of %s have no column name: write (?P<name>…) around the file's name",
				files.List)
		}
		if slices.Contains(groups, "size") && row.Columns["size"].As != "size" {
			c.complain(path+".list", "the column size of %s is text: say columns: {size: {as: size}}", files.List)
		}
		if !row.Empty {
			c.f.Warn(path+".list", "no file at all is a failure of reading %q: say empty: true at %s", files.Read,
				files.List)
		}
		return
	}
	c.complain(path+".list", "reading %q makes no list %q; it makes %s", files.Read, files.List,
		listed(reading.Makes()))
}
