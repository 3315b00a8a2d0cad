// Package source reads the program's own YAML files so that every complaint, about their form or
// their meaning, shows file, line, column and the line itself with a caret.
package source

import (
	"errors"
	"fmt"
	"os"
	"strings"

	"github.com/goccy/go-yaml"
	"github.com/goccy/go-yaml/ast"
	"github.com/goccy/go-yaml/parser"
)

// File is one file of ours, kept with its text so that positions can be shown.
type File struct {
	Name string
	text string
	tree *ast.File
}

// Error is one complaint about one place of a file. Line and Column count from 1; they are 0 when
// the complaint is about the file as a whole.
type Error struct {
	File         string
	Line, Column int
	Message      string
	Text         string // the line itself
}

func (e *Error) Error() string {
	if e.Line == 0 {
		return e.File + ": " + e.Message
	}
	text := fmt.Sprintf("%s:%d:%d: %s", e.File, e.Line, e.Column, e.Message)
	if e.Text == "" {
		return text
	}
	gutter := fmt.Sprintf("%5d | ", e.Line)
	pad := strings.Map(func(r rune) rune {
		if r == '\t' {
			return '\t'
		}
		return ' '
	}, e.Text[:min(len(e.Text), e.Column-1)])
	return text + "\n" + gutter + e.Text + "\n" + strings.Repeat(" ", len(gutter)-2) + "| " + pad + "^"
}

// Read decodes a file from disk into the struct that to points to. Keys that the struct does not
// have are an error.
func Read(path string, to any) (*File, error) {
	data, err := os.ReadFile(path)
	if err != nil {
		return nil, err
	}
	return Decode(path, data, to)
}

// Decode does the same with text at hand.
func Decode(name string, data []byte, to any) (*File, error) {
	f := &File{Name: name, text: string(data)}
	tree, err := parser.ParseBytes(data, 0)
	if err != nil {
		return nil, f.wrap(err)
	}
	f.tree = tree
	if len(tree.Docs) == 0 || tree.Docs[0].Body == nil {
		return nil, &Error{File: name, Message: "the file is empty"}
	}
	if err := yaml.NewDecoder(strings.NewReader(f.text), yaml.DisallowUnknownField()).Decode(to); err != nil {
		return nil, f.wrap(err)
	}
	return f, nil
}

// wrap turns the YAML package's errors into ours.
func (f *File) wrap(err error) error {
	var placed yaml.Error
	if !errors.As(err, &placed) || placed.GetToken() == nil {
		return &Error{File: f.Name, Message: err.Error()}
	}
	at := placed.GetToken().Position
	return f.at(at.Line, at.Column, placed.GetMessage())
}

func (f *File) at(line, column int, message string) *Error {
	e := &Error{File: f.Name, Line: line, Column: column, Message: message}
	if lines := strings.Split(f.text, "\n"); line >= 1 && line <= len(lines) {
		e.Text = strings.TrimRight(lines[line-1], "\r")
	}
	return e
}

// Errorf complains about the value at a path such as modes[2].prompt. A path that is not in the file
// is shortened until it is, so that a missing value is shown at what should hold it.
func (f *File) Errorf(path, format string, args ...any) error {
	message := fmt.Sprintf(format, args...)
	for {
		line, column, found := f.locate(path)
		if found {
			return f.at(line, column, message)
		}
		cut := strings.LastIndexAny(path, ".[")
		if cut < 0 {
			return f.at(1, 1, message)
		}
		path = path[:cut]
	}
}

func (f *File) locate(path string) (line, column int, found bool) {
	compiled, err := yaml.PathString("$." + path)
	if err != nil || path == "" {
		return 0, 0, false
	}
	node, err := compiled.FilterFile(f.tree)
	if err != nil || node == nil || node.GetToken() == nil {
		return 0, 0, false
	}
	at := firstToken(node)
	return at.Line, at.Column, true
}

// firstToken is where a node begins: the token of a mapping is its first colon, which is not where a
// reader looks.
func firstToken(node ast.Node) (at struct{ Line, Column int }) {
	if mapping, is := node.(*ast.MappingNode); is && len(mapping.Values) > 0 {
		node = mapping.Values[0].Key
	}
	if value, is := node.(*ast.MappingValueNode); is {
		node = value.Key
	}
	position := node.GetToken().Position
	at.Line, at.Column = position.Line, position.Column
	return at
}
