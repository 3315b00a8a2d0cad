// Package expression is what guards and ${…} are written in: github.com/expr-lang/expr over facts
// and inputs, with releases ordered as releases.
package expression

import (
	"fmt"
	"strconv"
	"strings"

	"github.com/expr-lang/expr"
	"github.com/expr-lang/expr/ast"
	"github.com/expr-lang/expr/file"
	"github.com/expr-lang/expr/vm"

	"pilotrix/core/device"
)

// Names tells which dotted names an expression may use, by what is known before anything was read.
type Names interface {
	// Known reports whether the whole name is known, or is the beginning of one.
	Known(name string) bool
}

// Guard is a compiled expression.
type Guard struct {
	text    string
	program *vm.Program
}

// Compile checks and compiles an expression. An unknown name is an error when names is not nil.
func Compile(text string, names Names) (*Guard, error) {
	look := &lookup{names: names}
	program, err := expr.Compile(text,
		expr.Env(map[string]any{}), expr.AllowUndefinedVariables(),
		expr.Patch(look),
		expr.Function("older", func(a ...any) (any, error) { return compare(a, func(n int) bool { return n < 0 }) }, new(func(any, any) bool)),
		expr.Function("newer", func(a ...any) (any, error) { return compare(a, func(n int) bool { return n > 0 }) }, new(func(any, any) bool)),
		expr.Function("same", func(a ...any) (any, error) { return compare(a, func(n int) bool { return n == 0 }) }, new(func(any, any) bool)),
		expr.Function("size", func(a ...any) (any, error) { return device.ParseSize(fmt.Sprint(a[0])) }, new(func(any) float64)),
		expr.Function("hex", func(a ...any) (any, error) { return hexOf(a[0]) }, new(func(any) string)),
		expr.Function("words", func(a ...any) (any, error) { return words(fmt.Sprint(a[0])), nil }, new(func(any) []string)),
	)
	if err != nil {
		return nil, shorten(err)
	}
	if look.err != nil {
		return nil, look.err
	}
	return &Guard{text: text, program: program}, nil
}

// shorten keeps the message of a compile error; the place is shown by the file it stands in.
func shorten(err error) error {
	if placed, is := err.(*file.Error); is {
		return fmt.Errorf("%s (at character %d of it)", placed.Message, placed.Column+1)
	}
	return err
}

// Text is the expression as written.
func (g *Guard) Text() string { return g.text }

// Value evaluates over nested maps.
func (g *Guard) Value(env map[string]any) (any, error) {
	value, err := expr.Run(g.program, env)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", g.text, shorten(err))
	}
	return value, nil
}

// Holds evaluates to a yes or no.
func (g *Guard) Holds(env map[string]any) (bool, error) {
	value, err := g.Value(env)
	if err != nil {
		return false, err
	}
	answer, is := value.(bool)
	if !is {
		return false, fmt.Errorf("%s is %v, not a yes or no", g.text, value)
	}
	return answer, nil
}

// functions are the names that Compile adds.
var functions = map[string]bool{"older": true, "newer": true, "same": true, "size": true, "hex": true, "words": true}

// lookup collects the dotted names of an expression and complains about the first unknown one.
type lookup struct {
	names Names
	err   error
}

func (l *lookup) Visit(node *ast.Node) {
	if l.names == nil || l.err != nil {
		return
	}
	name := dotted(*node)
	if name != "" && !functions[name] && !l.names.Known(name) {
		l.err = fmt.Errorf("no fact or input is called %s", name)
	}
}

// dotted is the name that a chain of members spells, empty for anything else.
func dotted(node ast.Node) string {
	switch n := node.(type) {
	case *ast.IdentifierNode:
		return n.Value
	case *ast.MemberNode:
		property, is := n.Property.(*ast.StringNode)
		base := dotted(n.Node)
		if is && base != "" {
			return base + "." + property.Value
		}
	case *ast.ChainNode:
		return dotted(n.Node)
	}
	return ""
}

func compare(args []any, want func(int) bool) (any, error) {
	a, err := release(args[0])
	if err != nil {
		return false, err
	}
	b, err := release(args[1])
	if err != nil {
		return false, err
	}
	return want(a.Compare(b)), nil
}

func release(value any) (device.Release, error) {
	if r, is := value.(device.Release); is {
		return r, nil
	}
	if value == nil {
		return device.Release{}, fmt.Errorf("a release to compare was not read")
	}
	return device.ParseRelease(fmt.Sprint(value))
}

func hexOf(value any) (any, error) {
	n, err := device.ParseSize(Format(value))
	return strconv.FormatUint(uint64(n), 16), err
}

// words splits a list as devices and image headers write it: by commas and spaces.
func words(text string) []string {
	return strings.FieldsFunc(text, func(r rune) bool { return r == ',' || r == ' ' || r == ';' })
}

// Format writes a value as it is typed: whole numbers without a point.
func Format(value any) string {
	switch v := value.(type) {
	case float64:
		return strconv.FormatFloat(v, 'f', -1, 64)
	case nil:
		return ""
	}
	return fmt.Sprint(value)
}
