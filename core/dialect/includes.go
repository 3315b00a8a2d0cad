package dialect

import (
	"cmp"
	"fmt"
	"os"
	"path/filepath"
	"reflect"
	"regexp"
	"slices"
	"strings"

	"pilotrix/core/source"
)

// A device may talk in more than one way: its bootloader like any other with that bootloader, its shell like any shell.
// A dialect includes those; what it says itself under the same name counts before what it includes, and of two that it
// includes the first one counts.

// Library finds the text of a dialect that another one includes.
type Library func(name string) ([]byte, error)

// maxIncluded bounds how many dialects one is put together from.
const maxIncluded = 16

var includedName = regexp.MustCompile(`^[\w][\w.-]*$`)

// Load reads and checks a dialect file. What it includes is looked for beside it, then in the library.
func (l Library) Load(path string) (*Dialect, error) {
	var doc Document
	f, err := source.Read(path, &doc)
	if err != nil {
		return nil, err
	}
	beside := Library(func(name string) ([]byte, error) {
		data, err := os.ReadFile(filepath.Join(filepath.Dir(path), name+".yaml"))
		if err == nil || l == nil {
			return data, err
		}
		return l(name)
	})
	return beside.compile(doc, f)
}

// Parse does the same with text available; name is used in complaints.
func (l Library) Parse(name string, data []byte) (*Dialect, error) {
	var doc Document
	f, err := source.Decode(name, data, &doc)
	if err != nil {
		return nil, err
	}
	return l.compile(doc, f)
}

func (l Library) compile(doc Document, f *source.File) (*Dialect, error) {
	left := maxIncluded
	return compile(l.gather(doc, f, []string{doc.Dialect}, &left), f)
}

// gather puts together what a document includes; what cannot be included is complained of. Within are the dialects that
// include this one.
func (l Library) gather(doc Document, f *source.File, within []string, left *int) Document {
	for i, name := range doc.Includes {
		at := fmt.Sprintf("includes[%d]", i)
		included, err := l.included(name, within, left)
		if err != nil {
			f.Complain(at, "%v", err)
			continue
		}
		doc = doc.with(included)
	}
	return doc
}

func (l Library) included(name string, within []string, left *int) (doc Document, err error) {
	switch *left--; {
	case slices.Contains(within, name):
		return doc, fmt.Errorf("dialect %s includes itself: %s", name, strings.Join(append(within, name), " includes "))
	case *left < 0:
		return doc, fmt.Errorf("more than %d dialects are included", maxIncluded)
	case !includedName.MatchString(name):
		return doc, fmt.Errorf("%q is no name of a dialect: want one like u-boot", name)
	case l == nil:
		return doc, fmt.Errorf("no dialect %q is at hand to include", name)
	}
	data, err := l(name)
	if err != nil {
		return doc, err
	}
	f, err := source.Decode(name+".yaml", data, &doc)
	if err != nil {
		return doc, err
	}
	doc = l.gather(doc, f, append(slices.Clone(within), name), left)
	return doc, f.Err()
}

// completed is a struct with what it does not say from another one.
func completed[T any](said, other T) T {
	all, more := reflect.ValueOf(&said).Elem(), reflect.ValueOf(other)
	for i := range all.NumField() {
		if all.Field(i).IsZero() {
			all.Field(i).Set(more.Field(i))
		}
	}
	return said
}

// with is the document and what another one says besides.
func (doc Document) with(o Document) Document {
	doc.Line, doc.Commands = completed(doc.Line, o.Line), completed(doc.Commands, o.Commands)
	doc.Catch.Wake, doc.Catch.Break = cmp.Or(doc.Catch.Wake, o.Catch.Wake), cmp.Or(doc.Catch.Break, o.Catch.Break)
	doc.Catch.Press = besides(doc.Catch.Press, o.Catch.Press, func(k CatchKey) string { return k.Mode })
	doc.Modes = besides(doc.Modes, o.Modes, func(m Mode) string { return m.Mode })
	doc.Moves = besides(doc.Moves, o.Moves, func(m Move) string { return m.From + " " + m.To })
	doc.Dialogs = besides(doc.Dialogs, o.Dialogs, func(d Dialog) string { return d.Dialog })
	doc.Noise, doc.Refused = slices.Concat(doc.Noise, o.Noise), slices.Concat(doc.Refused, o.Refused)
	doc.Pager, doc.Identity = cmp.Or(doc.Pager, o.Pager), cmp.Or(doc.Identity, o.Identity)
	doc.Readings = besides(doc.Readings, o.Readings, func(r Reading) string { return r.Reading })
	doc.Actions = besides(doc.Actions, o.Actions, func(a Action) string { return a.Action })
	doc.Speed = slices.Concat(doc.Speed, o.Speed)
	if doc.Releases.Pattern == "" && len(doc.Releases.Earlier)+len(doc.Releases.Later) == 0 {
		doc.Releases = o.Releases
	}
	doc.Dangers = besides(doc.Dangers, o.Dangers, func(d Danger) string { return string(d.Pattern) })
	doc.Pending = besides(doc.Pending, o.Pending, func(p Pending) string { return p.Pending })
	doc.Restarts, doc.Looks = slices.Concat(doc.Restarts, o.Restarts), slices.Concat(doc.Looks, o.Looks)
	doc.NextStart = cmp.Or(doc.NextStart, o.NextStart)
	doc.Busy = slices.Concat(doc.Busy, o.Busy)
	doc.Files = besides(doc.Files, o.Files, func(f Files) string { return f.Files })
	doc.Flash = cmp.Or(doc.Flash, o.Flash)
	doc.Fetch = cmp.Or(doc.Fetch, o.Fetch)
	doc.Image = besides(doc.Image, o.Image, func(h Header) string { return h.Name })
	doc.Description = cmp.Or(doc.Description, o.Description)
	doc.Provision = cmp.Or(doc.Provision, o.Provision)
	doc.Secrets = slices.Concat(doc.Secrets, o.Secrets)
	return doc
}

// besides are those of a list, and those of another one that are called otherwise.
func besides[T any](own, others []T, name func(T) string) []T {
	all := slices.Clone(own)
	for _, other := range others {
		if !slices.ContainsFunc(own, func(mine T) bool { return name(mine) == name(other) }) {
			all = append(all, other)
		}
	}
	return all
}
