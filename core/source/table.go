package source

import (
	"fmt"
	"reflect"
	"strings"
)

// KeyTable is the keys of a document's type for the documentation, as Markdown: what each says, in the words of the
// schema. A key that is needed is marked.
func KeyTable(of any) string {
	t := reflect.TypeOf(of)
	for t.Kind() == reflect.Pointer || t.Kind() == reflect.Slice {
		t = t.Elem()
	}
	if t.Kind() != reflect.Struct {
		return ""
	}
	var out strings.Builder
	out.WriteString("| key | what it says |\n|---|---|\n")
	for _, field := range fieldsOf(t) {
		rules := rulesOf(field.Tag.Get("jsonschema"))
		name := "`" + nameOf(field) + "`"
		if rules.Required {
			name = "**" + name + "**"
		}
		text := field.Tag.Get("jsonschema_description")
		if len(rules.Enum) > 0 {
			text = strings.TrimPrefix(text+"; `"+strings.Join(rules.Enum, "`, `")+"`", "; ")
		}
		fmt.Fprintf(&out, "| %s | %s |\n", name, text)
	}
	return out.String()
}
