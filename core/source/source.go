// Package source reads the program's own YAML files so that every complaint, about their form or
// their meaning, shows file, line, column and the line itself with a caret, and so that all of a file's
// complaints are reported at once.
package source

import (
	"cmp"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/goccy/go-yaml"
	"github.com/goccy/go-yaml/ast"
	"github.com/goccy/go-yaml/parser"
)

// File is one file of ours, kept with its text so that positions can be shown, and with what is wrong
// with it.
type File struct {
	Name       string
	text       string
	places     map[string]place // of the values, by paths such as modes[2].prompt
	complaints []*Complaint
	warnings   []*Complaint
}

type place struct{ line, column int }

// Complaint is one remark about one place of a file. Line and Column count from 1; they are 0 when it is
// about the file as a whole.
type Complaint struct {
	File         string
	Line, Column int
	Message      string
	Text         string // the line itself
	path         string
}

func (c *Complaint) Error() string {
	if c.Line == 0 {
		return c.File + ": " + c.Message
	}
	text := fmt.Sprintf("%s:%d:%d: %s", c.File, c.Line, c.Column, c.Message)
	if c.Text == "" {
		return text
	}
	gutter := fmt.Sprintf("%5d | ", c.Line)
	pad := strings.Map(func(r rune) rune {
		if r == '\t' {
			return '\t'
		}
		return ' '
	}, c.Text[:min(len(c.Text), c.Column-1)])
	return text + "\n" + gutter + c.Text + "\n" + strings.Repeat(" ", len(gutter)-2) + "| " + pad + "^"
}

// Complaints are all that is wrong with a file, from its beginning to its end.
type Complaints []*Complaint

func (c Complaints) Error() string {
	texts := make([]string, len(c))
	for i, one := range c {
		texts[i] = one.Error()
	}
	return strings.Join(texts, "\n")
}

// Unwrap lets errors.As find a single one.
func (c Complaints) Unwrap() []error {
	all := make([]error, len(c))
	for i, one := range c {
		all[i] = one
	}
	return all
}

// Read decodes a file from disk into the struct that to points to.
func Read(path string, to any) (*File, error) {
	data, err := os.ReadFile(path)
	if err != nil {
		return nil, err
	}
	return Decode(path, data, to)
}

// Decode does the same with text available. The error is of text that is no YAML at all; what is wrong with
// single values is kept as complaints, so that a caller can add its own and tell them all together. See Err.
func Decode(name string, data []byte, to any) (*File, error) {
	f := &File{Name: name, text: string(data), places: map[string]place{}}
	if line := hostile(f.text); line > 0 {
		return nil, f.at(place{line, 1}, "this is nested too deeply, or too long, to be one of our files")
	}
	tree, err := parser.ParseBytes(data, 0)
	if err != nil {
		return nil, f.wrap(err)
	}
	if len(tree.Docs) == 0 || tree.Docs[0].Body == nil {
		return nil, &Complaint{File: name, Message: "the file is empty"}
	}
	d := &decoder{file: f, anchors: map[string]ast.Node{}}
	d.into("", tree.Docs[0].Body, to)
	if len(tree.Docs) > 1 {
		f.Complain("", "one file holds one document; what follows --- is not read")
	}
	return f, nil
}

const (
	maxText   = 4 << 20
	maxNested = 400
)

// hostile finds what no file of ours has and what the YAML package takes hours for: very much text, or very deep
// nesting. It returns the line, 0 for a file that has neither.
func hostile(text string) (line int) {
	if len(text) > maxText {
		return 1
	}
	depth, n := 0, 0
	for row := range strings.Lines(text) {
		n++
		if len(row)-len(strings.TrimLeft(row, " ")) > maxNested {
			return n
		}
		for _, b := range []byte(row) {
			switch b {
			case '[', '{':
				depth++
			case ']', '}':
				depth = max(0, depth-1)
			}
			if depth > maxNested {
				return n
			}
		}
	}
	return 0
}

// wrap turns the YAML package's errors into ours.
func (f *File) wrap(err error) error {
	var placed yaml.Error
	if !errors.As(err, &placed) || placed.GetToken() == nil {
		return &Complaint{File: f.Name, Message: "this is no YAML: " + err.Error()}
	}
	at := placed.GetToken().Position
	return f.at(place{at.Line, at.Column}, "this is no YAML: "+placed.GetMessage())
}

func (f *File) at(at place, message string) *Complaint {
	c := &Complaint{File: f.Name, Line: at.line, Column: at.column, Message: message}
	if lines := strings.Split(f.text, "\n"); at.line >= 1 && at.line <= len(lines) {
		c.Text = strings.TrimRight(lines[at.line-1], "\r")
	}
	return c
}

// Complain keeps a complaint about the value at a path such as modes[2].prompt. A value that is complained
// of already is left alone: what follows from one fault is no second one.
func (f *File) Complain(path, format string, args ...any) {
	for _, c := range f.complaints {
		if c.path == path || strings.HasPrefix(path, c.path+".") && c.path != "" ||
			strings.HasPrefix(path, c.path+"[") && c.path != "" {
			return
		}
	}
	f.complaints = append(f.complaints, f.remark(path, format, args...))
}

// Warn keeps a remark about what is allowed but odd.
func (f *File) Warn(path, format string, args ...any) {
	f.warnings = append(f.warnings, f.remark(path, format, args...))
}

// remark places a message. A path that is not in the file is shortened until it is, so that a missing
// value is shown at what should hold it.
func (f *File) remark(path, format string, args ...any) *Complaint {
	message, at := fmt.Sprintf(format, args...), path
	for {
		if found, ok := f.places[at]; ok {
			c := f.at(found, message)
			c.path = path
			return c
		}
		cut := strings.LastIndexAny(at, ".[")
		if cut < 0 {
			c := f.at(place{1, 1}, message)
			c.path = path
			return c
		}
		at = at[:cut]
	}
}

// Where is the place of a value, or of what should hold it, as file:line.
func (f *File) Where(path string) string {
	at := f.remark(path, "")
	return fmt.Sprintf("%s:%d", filepath.Base(f.Name), at.Line)
}

// Err is everything that was complained of, nil when nothing was.
func (f *File) Err() error {
	if len(f.complaints) == 0 {
		return nil
	}
	return Complaints(inOrder(f.complaints))
}

// Warnings are the remarks about what is allowed but odd.
func (f *File) Warnings() []*Complaint { return inOrder(f.warnings) }

// Complained reports whether a value, or what holds it, is complained of already.
func (f *File) Complained(path string) bool {
	return slices.ContainsFunc(f.complaints, func(c *Complaint) bool {
		return c.path == path || strings.HasPrefix(path, c.path+".") || strings.HasPrefix(path, c.path+"[")
	})
}

func inOrder(all []*Complaint) []*Complaint {
	sorted := slices.Clone(all)
	slices.SortStableFunc(sorted, func(a, b *Complaint) int {
		return cmp.Or(cmp.Compare(a.Line, b.Line), cmp.Compare(a.Column, b.Column))
	})
	return sorted
}

// Again is the file without what was said of it so far, to be checked against something else.
func (f *File) Again() *File {
	again := *f
	again.complaints, again.warnings = nil, slices.Clone(f.warnings)
	return &again
}

// Reason is the first thing that was complained of, without its place; of other errors their text.
func Reason(err error) string {
	var complaint *Complaint
	if errors.As(err, &complaint) {
		return complaint.Message
	}
	return err.Error()
}
