// Package expression is what guards and ${…} are written in: github.com/expr-lang/expr over facts
// and inputs, with releases ordered as releases.
package expression

import (
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"github.com/expr-lang/expr"
	"github.com/expr-lang/expr/ast"
	"github.com/expr-lang/expr/builtin"
	"github.com/expr-lang/expr/file"
	"github.com/expr-lang/expr/vm"
	"github.com/expr-lang/expr/vm/runtime"

	"pilotrix/core/device"
	"pilotrix/core/units"
)

// Names says which dotted names an expression may use, by what is known before anything was read.
type Names interface {
	// Known reports whether the whole name is known, or is the beginning of one.
	Known(name string) bool
	// Order is how releases are ordered where this is used; it may be nil.
	Order() *device.Order
}

// Guard is a compiled expression.
type Guard struct {
	text    string
	program *vm.Program
	uses    []string
}

// Uses are the dotted names that the expression reads, the longest of each.
func (g *Guard) Uses() []string {
	if g == nil {
		return nil
	}
	return g.uses
}

// Compile checks and compiles an expression. An unknown name is an error when names is not nil.
func Compile(text string, names Names) (*Guard, error) {
	look := &lookup{names: names}
	var order *device.Order
	if names != nil {
		order = names.Order()
	}
	compare := func(want func(int) bool) func(...any) (any, error) {
		return func(a ...any) (any, error) { return compare(order, a, want) }
	}
	program, err := expr.Compile(
		text,
		expr.Env(map[string]any{}),
		expr.AllowUndefinedVariables(),
		expr.Patch(look),
		expr.Function("older", compare(func(n int) bool { return n < 0 }), new(func(any, any) bool)),
		expr.Function("newer", compare(func(n int) bool { return n > 0 }), new(func(any, any) bool)),
		expr.Function("same", compare(func(n int) bool { return n == 0 }), new(func(any, any) bool)),
		expr.Function(equal, func(a ...any) (any, error) { return equals(order, a[0], a[1]), nil },
			new(func(any, any) bool)),
		expr.Function("size", func(a ...any) (any, error) { return units.ParseSize(fmt.Sprint(a[0])) },
			new(func(any) float64)),
		expr.Function("hex", func(a ...any) (any, error) { return hexOf(a[0]) }, new(func(any) string)),
		expr.Function("words", func(a ...any) (any, error) { return words(fmt.Sprint(a[0])), nil },
			new(func(any) []string)),
	)
	if err != nil {
		return nil, shorten(err)
	}
	if look.err != nil {
		return nil, look.err
	}
	return &Guard{text: text, program: program, uses: look.longest()}, nil
}

// shorten puts a compile error into our words; the place in the file is shown with it.
func shorten(err error) error {
	placed, ok := err.(*file.Error)
	if !ok {
		return err
	}
	text := placed.Message
	if text == "unexpected token EOF" {
		return fmt.Errorf("it ends too soon (after character %d of it)", placed.Column)
	}
	if found := unexpected.FindStringSubmatch(text); found != nil {
		text = found[1] + " is not expected here"
	}
	return fmt.Errorf("%s (at character %d of it)", text, placed.Column+1)
}

var unexpected = regexp.MustCompile(`^unexpected token \w+\((".*?")\)`)

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
	answer, ok := value.(bool)
	if !ok {
		return false, fmt.Errorf("%s is %v, not a yes or no", g.text, value)
	}
	return answer, nil
}

// functions are the names that Compile adds.
var functions = map[string]bool{
	"older": true,
	"newer": true,
	"same":  true,
	"size":  true,
	"hex":   true,
	"words": true,
	equal:   true,
}

// equal is what == becomes, and != the opposite of: a release is the same as the text of one.
const equal = "equal"

// lookup collects the dotted names of an expression and complains about the first unknown one.
type lookup struct {
	names Names
	seen  []string
	err   error
}

// longest are the names that are no beginning of another one: in a.b the tree has a, too.
func (l *lookup) longest() (names []string) {
	for i, name := range l.seen {
		if functions[name] || slices.Contains(l.seen[:i], name) ||
			slices.ContainsFunc(l.seen, func(other string) bool { return strings.HasPrefix(other, name+".") }) {
			continue
		}
		names = append(names, name)
	}
	return names
}

func (l *lookup) Visit(node *ast.Node) {
	if n, ok := (*node).(*ast.BinaryNode); ok && (n.Operator == "==" || n.Operator == "!=") {
		var same ast.Node = &ast.CallNode{Callee: &ast.IdentifierNode{Value: equal}, Arguments: []ast.Node{n.Left, n.Right}}
		if n.Operator == "!=" {
			same = &ast.UnaryNode{Operator: "not", Node: same}
		}
		ast.Patch(node, same)
		return
	}
	name := dotted(*node)
	if name != "" {
		l.seen = append(l.seen, name)
	}
	if l.names == nil || l.err != nil {
		return
	}
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
		property, ok := n.Property.(*ast.StringNode)
		base := dotted(n.Node)
		if ok && base != "" {
			return base + "." + property.Value
		}
	case *ast.ChainNode:
		return dotted(n.Node)
	}
	return ""
}

func compare(order *device.Order, args []any, want func(int) bool) (any, error) {
	a, err := release(order, args[0])
	if err != nil {
		return false, err
	}
	b, err := release(order, args[1])
	if err != nil {
		return false, err
	}
	return want(a.Compare(b)), nil
}

func release(order *device.Order, value any) (device.Release, error) {
	if r, ok := value.(device.Release); ok {
		return r, nil
	}
	if value == nil {
		return device.Release{}, fmt.Errorf("a release to compare was not read")
	}
	return order.Parse(fmt.Sprint(value))
}

// equals is ==, by which a release is the same as a text that is one.
func equals(order *device.Order, a, b any) bool {
	_, isA := a.(device.Release)
	_, isB := b.(device.Release)
	if !isA && !isB {
		return runtime.Equal(a, b)
	}
	same, err := compare(order, []any{a, b}, func(n int) bool { return n == 0 })
	return err == nil && same == true
}

func hexOf(value any) (any, error) {
	n, err := units.ParseSize(Format(value))
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

// Reserved reports whether a word has a meaning of its own in expressions, so that nothing can be called so.
func Reserved(word string) bool {
	return functions[word] || slices.Contains(builtin.Names, word) || slices.Contains(keywords, word)
}

var keywords = []string{
	"in", "and", "or", "not", "true", "false", "nil", "let", "if", "else", "matches", "contains", "startsWith",
	"endsWith",
}
