package source

import (
	"fmt"
	"regexp"
	"regexp/syntax"
	"strings"
	"time"

	"github.com/invopop/jsonschema"
)

// anyScalar is the schema of what may be written with or without quotes: a number or a yes is text here.
func anyScalar() *jsonschema.Schema {
	return &jsonschema.Schema{OneOf: []*jsonschema.Schema{{Type: "string"}, {Type: "number"}, {Type: "boolean"}}}
}

// Text is a text that may look like a number.
type Text string

// FromText implements Scalar.
func (t *Text) FromText(text string) error {
	*t = Text(text)
	return nil
}

// JSONSchema implements the schema package's interface.
func (Text) JSONSchema() *jsonschema.Schema { return anyScalar() }

// Expression is one of expr-lang, see core/expression.
type Expression string

// FromText implements Scalar.
func (e *Expression) FromText(text string) error {
	if strings.TrimSpace(text) == "" {
		return fmt.Errorf("the expression is empty")
	}
	*e = Expression(text)
	return nil
}

// JSONSchema implements the schema package's interface.
func (Expression) JSONSchema() *jsonschema.Schema { return anyScalar() }

// Duration is a time, written with its unit.
type Duration time.Duration

var durationForm = regexp.MustCompile(`^([0-9]+(\.[0-9]+)?(ms|s|m|h))+$`)

// FromText implements Scalar.
func (d *Duration) FromText(text string) error {
	if !durationForm.MatchString(text) {
		number := strings.TrimLeft(text, "-")
		if strings.HasPrefix(text, "-") {
			return fmt.Errorf("%q is below zero", text)
		}
		if strings.Trim(number, "0123456789.") == "" && number != "" {
			return fmt.Errorf("%s of what? Write %ss for seconds, %sm for minutes", text, text, text)
		}
		return fmt.Errorf("%q is no time: write one such as 5s, 1m30s or 2h", text)
	}
	parsed, err := time.ParseDuration(text)
	if err != nil {
		return fmt.Errorf("%q is no time: write one such as 5s, 1m30s or 2h", text)
	}
	*d = Duration(parsed)
	return nil
}

// JSONSchema implements the schema package's interface.
func (Duration) JSONSchema() *jsonschema.Schema {
	return &jsonschema.Schema{Type: "string", Pattern: durationForm.String(), Examples: []any{"5s", "1m30s", "2h"}}
}

// Pattern is an RE2 pattern of what a device writes. One that matches an empty text would match anything.
type Pattern string

// FromText implements Scalar.
func (p *Pattern) FromText(text string) error {
	re, err := regexp.Compile(text)
	switch {
	case text == "":
		return fmt.Errorf("the pattern is empty; leave the key out")
	case err != nil:
		return fmt.Errorf("bad pattern: %s", patternText(err))
	case re.MatchString(""):
		return fmt.Errorf("the pattern matches an empty text, and so everything: write what has to be there")
	}
	*p = Pattern(text)
	return nil
}

func patternText(err error) string {
	if placed, ok := err.(*syntax.Error); ok {
		return fmt.Sprintf("%s: `%s`", placed.Code, placed.Expr)
	}
	return err.Error()
}

// RE is the compiled pattern, nil for one that was not given.
func (p Pattern) RE() *regexp.Regexp {
	if p == "" {
		return nil
	}
	return regexp.MustCompile(string(p))
}

// Groups are the names of the pattern's named groups.
func (p Pattern) Groups() (names []string) {
	if p == "" {
		return nil
	}
	for _, name := range p.RE().SubexpNames() {
		if name != "" {
			names = append(names, name)
		}
	}
	return names
}

// JSONSchema implements the schema package's interface.
func (Pattern) JSONSchema() *jsonschema.Schema {
	return &jsonschema.Schema{Type: "string", MinLength: ptr(uint64(1)), Description: "An RE2 pattern"}
}

func ptr[T any](v T) *T { return &v }

// Schema is the JSON Schema of a document's type, for editors: it accepts what Decode accepts.
func Schema(document any) *jsonschema.Schema {
	r := &jsonschema.Reflector{FieldNameTag: "yaml", RequiredFromJSONSchemaTags: true}
	return r.Reflect(document)
}

// InlineSchema is the schema of a part of a document, without references to others.
func InlineSchema(part any) *jsonschema.Schema {
	r := &jsonschema.Reflector{
		FieldNameTag:               "yaml",
		RequiredFromJSONSchemaTags: true,
		DoNotReference:             true,
		Anonymous:                  true,
	}
	s := r.Reflect(part)
	s.Version = ""
	return s
}
