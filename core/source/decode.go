package source

import (
	"fmt"
	"maps"
	"reflect"
	"slices"
	"strconv"
	"strings"

	"github.com/goccy/go-yaml/ast"
)

// decoder lays a YAML tree into Go values and complains in the words of our files rather than in those of a
// library. Fields are found by their yaml tags; a jsonschema tag may say required, enum=… and minimum=…,
// so that an editor and this program hold a file to the same.
type decoder struct {
	file    *File
	anchors map[string]ast.Node
	depth   int
}

// Scalar is a value of a kind of its own, written as one word or text. A complaint is shown at it.
type Scalar interface{ FromText(text string) error }

// Mapping is a value that reads its keys itself: it says which keys it has, which of them it needs, and what
// one that is there leads to. Field is asked once for each that is there.
type Mapping interface {
	Keys() []string
	Required() map[string]string // each with what it is for
	Field(key string) (to any, rules Rules)
}

// FieldOf finds the field of a struct by its key, for a Mapping that has some fields in a struct. The struct is
// given by its pointer; nil is returned for a key that it does not have.
func FieldOf(of any, key string) (to any, rules Rules) {
	v := reflect.ValueOf(of).Elem()
	for _, field := range fieldsOf(v.Type()) {
		if nameOf(field) == key {
			return v.FieldByIndex(field.Index).Addr().Interface(), rulesOf(field.Tag.Get("jsonschema"))
		}
	}
	return nil, Rules{}
}

// KeysOf are the keys of a struct, given by its pointer.
func KeysOf(of any) (keys []string) {
	for _, field := range fieldsOf(reflect.TypeOf(of).Elem()) {
		keys = append(keys, nameOf(field))
	}
	return keys
}

// Rules are what a jsonschema tag says of a field.
type Rules struct {
	Required bool
	Enum     []string
	Minimum  *int
}

func rulesOf(tag string) (r Rules) {
	for rule := range strings.SplitSeq(tag, ",") {
		name, value, _ := strings.Cut(rule, "=")
		switch name {
		case "required":
			r.Required = true
		case "enum":
			r.Enum = append(r.Enum, value)
		case "minimum":
			if n, err := strconv.Atoi(value); err == nil {
				r.Minimum = &n
			}
		}
	}
	return r
}

// into decodes into what a pointer points to.
func (d *decoder) into(path string, node ast.Node, to any) {
	d.value(path, node, reflect.ValueOf(to).Elem(), Rules{})
}

func (d *decoder) complain(path, format string, args ...any) { d.file.Complain(path, format, args...) }

const maxDepth = 64

func (d *decoder) value(path string, node ast.Node, to reflect.Value, rules Rules) {
	node = d.resolve(path, node)
	if node == nil {
		return
	}
	if at, known := placeOf(node); known {
		if _, there := d.file.places[path]; !there {
			d.file.places[path] = at
		}
	}
	if d.depth++; d.depth > maxDepth {
		d.complain(path, "this is nested too deeply")
		return
	}
	defer func() { d.depth-- }()
	if _, ok := node.(*ast.NullNode); ok {
		d.complain(path, "nothing is said here; leave the key out, or write '' for an empty text")
		return
	}
	if to.Kind() == reflect.Pointer {
		to.Set(reflect.New(to.Type().Elem()))
		d.value(path, node, to.Elem(), rules)
		return
	}
	if to.CanAddr() {
		switch own := to.Addr().Interface().(type) {
		case Scalar:
			d.scalar(path, node, own)
			return
		case Mapping:
			d.mapping(path, node, own)
			return
		}
	}
	switch to.Kind() {
	case reflect.Struct:
		d.structure(path, node, to)
	case reflect.Slice:
		d.list(path, node, to)
	case reflect.Map:
		d.table(path, node, to)
	default:
		d.plain(path, node, to, rules)
	}
}

// resolve follows anchors and aliases.
func (d *decoder) resolve(path string, node ast.Node) ast.Node {
	for range maxDepth {
		switch n := node.(type) {
		case *ast.AnchorNode:
			d.anchors[n.Name.GetToken().Value] = n.Value
			node = n.Value
		case *ast.AliasNode:
			name := n.Value.GetToken().Value
			if d.anchors[name] == nil {
				d.complain(path, "nothing before this is called &%s", name)
				return nil
			}
			node = d.anchors[name]
		case *ast.TagNode:
			d.complain(path, "tags such as %s are not used here", n.Start.Value)
			return nil
		default:
			return node
		}
	}
	d.complain(path, "an alias leads to itself")
	return nil
}

func (d *decoder) structure(path string, node ast.Node, to reflect.Value) {
	fields := map[string]reflect.StructField{}
	for _, field := range fieldsOf(to.Type()) {
		fields[nameOf(field)] = field
	}
	seen := d.entries(path, node, slices.Sorted(maps.Keys(fields)), func(at, key string, value ast.Node) {
		field := fields[key]
		d.value(at, value, to.FieldByIndex(field.Index), rulesOf(field.Tag.Get("jsonschema")))
	})
	if seen == nil {
		return
	}
	for _, field := range fieldsOf(to.Type()) {
		if rulesOf(field.Tag.Get("jsonschema")).Required && !seen[nameOf(field)] {
			d.complain(path+"."+nameOf(field), "%s is missing%s", nameOf(field), describes(field))
		}
	}
}

// describes is what the field is for, in the words of the schema.
func describes(field reflect.StructField) string {
	if text := field.Tag.Get("jsonschema_description"); text != "" {
		first, _, _ := strings.Cut(text, ";")
		return ": " + strings.ToLower(first[:1]) + first[1:]
	}
	return ""
}

// fieldsOf are the fields with a key, those of inlined structs too.
func fieldsOf(t reflect.Type) (all []reflect.StructField) {
	for _, field := range reflect.VisibleFields(t) {
		if name := nameOf(field); name != "" && name != "-" && !field.Anonymous {
			all = append(all, field)
		}
	}
	return all
}

func nameOf(field reflect.StructField) string {
	name, _, _ := strings.Cut(field.Tag.Get("yaml"), ",")
	return name
}

func (d *decoder) mapping(path string, node ast.Node, to Mapping) {
	seen := d.entries(path, node, to.Keys(), func(at, key string, value ast.Node) {
		field, rules := to.Field(key)
		d.value(at, value, reflect.ValueOf(field).Elem(), rules)
	})
	if seen == nil {
		return
	}
	for key, words := range to.Required() {
		if !seen[key] {
			d.complain(path+"."+key, "%s is missing: %s", key, words)
		}
	}
}

// entries visits the keys of a mapping that are known, and complains about the others and about those that
// are there twice. It returns the keys that were there, nil for what is no mapping.
func (d *decoder) entries(
	path string, node ast.Node, keys []string, visit func(at, key string, value ast.Node),
) map[string]bool {
	values, ok := valuesOf(node)
	if !ok {
		d.complain(path, "this wants keys and values (%s), and %s stands here", strings.Join(shortly(keys), ", "),
			kindOf(node))
		return nil
	}
	seen := map[string]bool{}
	for _, entry := range values {
		key := entry.Key.GetToken().Value
		at := join(path, key)
		if where, known := placeOf(entry.Key); known && d.file.places[at] == (place{}) {
			d.file.places[at+"\x00key"] = where
		}
		switch {
		case entry.Key.IsMergeKey():
			d.complain(path, "<< is not used here: write the keys out")
		case !slices.Contains(keys, key):
			d.file.places[at] = d.file.places[at+"\x00key"]
			d.complain(at, "no key %q here%s", key, nearest(key, keys))
		case seen[key]:
			d.complain(path, "%s is there twice", key)
		default:
			seen[key] = true
			visit(at, key, entry.Value)
		}
	}
	return seen
}

// valuesOf are the entries of a mapping: one with a single entry is a node of another kind.
func valuesOf(node ast.Node) ([]*ast.MappingValueNode, bool) {
	switch n := node.(type) {
	case *ast.MappingNode:
		return n.Values, true
	case *ast.MappingValueNode:
		return []*ast.MappingValueNode{n}, true
	}
	return nil, false
}

func join(path, key string) string {
	if path == "" {
		return key
	}
	return path + "." + key
}

const maxShown = 8

func shortly(keys []string) []string {
	if len(keys) > maxShown {
		return append(slices.Clone(keys[:maxShown]), "…")
	}
	return keys
}

// nearest says which key was probably meant, or which there are.
func nearest(key string, keys []string) string {
	best, distance := "", 3
	for _, known := range keys {
		if n := edits(key, known); n < distance {
			best, distance = known, n
		}
	}
	if best != "" {
		return "; did you mean " + best + "?"
	}
	return "; there are " + strings.Join(keys, ", ")
}

// edits is how many letters have to be changed, added or dropped to make one word of another.
func edits(a, b string) int {
	row := make([]int, len(b)+1)
	for j := range row {
		row[j] = j
	}
	for i := range len(a) {
		before := row[0]
		row[0] = i + 1
		for j := range len(b) {
			cost := before
			if a[i] != b[j] {
				cost++
			}
			before, row[j+1] = row[j+1], min(cost, row[j+1]+1, row[j]+1)
		}
	}
	return row[len(b)]
}

func (d *decoder) list(path string, node ast.Node, to reflect.Value) {
	sequence, ok := node.(*ast.SequenceNode)
	if !ok {
		d.complain(path, "this wants a list, such as [%s], and %s stands here", sample(node), kindOf(node))
		return
	}
	to.Set(reflect.MakeSlice(to.Type(), len(sequence.Values), len(sequence.Values)))
	for i, value := range sequence.Values {
		d.value(fmt.Sprintf("%s[%d]", path, i), value, to.Index(i), Rules{})
	}
}

// table decodes a mapping whose keys are free, such as the parameters of an action.
func (d *decoder) table(path string, node ast.Node, to reflect.Value) {
	to.Set(reflect.MakeMap(to.Type()))
	values, ok := valuesOf(node)
	if !ok {
		d.complain(path, "this wants names and values, such as {name: %s}, and %s stands here", sample(node),
			kindOf(node))
		return
	}
	for _, entry := range values {
		key := entry.Key.GetToken().Value
		value := reflect.New(to.Type().Elem()).Elem()
		if to.MapIndex(reflect.ValueOf(key)).IsValid() {
			d.complain(path, "%s is there twice", key)
			continue
		}
		d.value(join(path, key), entry.Value, value, Rules{})
		to.SetMapIndex(reflect.ValueOf(key), value)
	}
}

func (d *decoder) scalar(path string, node ast.Node, to Scalar) {
	text, ok := textOf(node)
	if !ok {
		d.complain(path, "this wants one value, and %s stands here", kindOf(node))
		return
	}
	if err := to.FromText(text); err != nil {
		d.complain(path, "%v", err)
	}
}

func (d *decoder) plain(path string, node ast.Node, to reflect.Value, rules Rules) {
	text, ok := textOf(node)
	if !ok {
		d.complain(path, "this wants one value, and %s stands here", kindOf(node))
		return
	}
	switch to.Kind() {
	case reflect.String:
		if len(rules.Enum) > 0 && !slices.Contains(rules.Enum, text) {
			d.complain(path, "%q is none of %s", text, strings.Join(rules.Enum, ", "))
			return
		}
		if rules.Required && text == "" {
			d.complain(path, "this is empty")
			return
		}
		to.SetString(text)
	case reflect.Bool:
		yes, isBool := node.(*ast.BoolNode)
		if !isBool {
			d.complain(path, "%q is neither true nor false", text)
			return
		}
		to.SetBool(yes.Value)
	case reflect.Int:
		n, err := strconv.Atoi(text)
		switch {
		case err != nil:
			d.complain(path, "%q is no whole number", text)
		case rules.Minimum != nil && n < *rules.Minimum:
			d.complain(path, "%d is too small: want %d or more", n, *rules.Minimum)
		default:
			to.SetInt(int64(n))
		}
	default:
		panic(fmt.Sprintf("source: no way to decode a %s at %s", to.Kind(), path))
	}
}

// textOf is what a single value says, as it is written.
func textOf(node ast.Node) (string, bool) {
	switch n := node.(type) {
	case *ast.StringNode:
		return n.Value, true
	case *ast.LiteralNode:
		return n.Value.Value, true
	case *ast.IntegerNode, *ast.FloatNode, *ast.BoolNode, *ast.InfinityNode, *ast.NanNode:
		return node.GetToken().Value, true
	}
	return "", false
}

func kindOf(node ast.Node) string {
	switch node.(type) {
	case *ast.SequenceNode:
		return "a list"
	case *ast.MappingNode, *ast.MappingValueNode:
		return "a set of keys"
	}
	if text, ok := textOf(node); ok {
		return fmt.Sprintf("%q", clip(text))
	}
	return "something else"
}

func sample(node ast.Node) string {
	if text, ok := textOf(node); ok && text != "" {
		return clip(text)
	}
	return "…"
}

func clip(text string) string {
	if runes := []rune(text); len(runes) > 24 {
		return string(runes[:24]) + "…"
	}
	return text
}

// placeOf is where a node begins: the token of a mapping is its first colon, which is not where a reader
// looks.
func placeOf(node ast.Node) (place, bool) {
	switch n := node.(type) {
	case *ast.MappingNode:
		if len(n.Values) > 0 {
			return placeOf(n.Values[0].Key)
		}
	case *ast.MappingValueNode:
		return placeOf(n.Key)
	}
	token := node.GetToken()
	if token == nil || token.Position == nil {
		return place{}, false
	}
	return place{token.Position.Line, token.Position.Column}, true
}
