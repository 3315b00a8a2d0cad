package expression

import (
	"fmt"
	"strings"
	"unicode"
)

// Template is a text with ${…} in it.
type Template struct {
	text   string
	pieces []piece
}

type piece struct {
	text  string
	guard *Guard // nil for plain text
}

// CompileTemplate checks a text with ${…}.
func CompileTemplate(text string, names Names) (*Template, error) {
	t := &Template{text: text}
	rest := text
	for {
		before, after, found := strings.Cut(rest, "${")
		if before != "" {
			t.pieces = append(t.pieces, piece{text: before})
		}
		if !found {
			return t, nil
		}
		inner, tail, closed := strings.Cut(after, "}")
		if !closed {
			return nil, fmt.Errorf("${ without its } in %q", text)
		}
		guard, err := Compile(inner, names)
		if err != nil {
			return nil, fmt.Errorf("${%s}: %w", inner, err)
		}
		t.pieces = append(t.pieces, piece{guard: guard})
		rest = tail
	}
}

// Text is the template as written.
func (t *Template) Text() string { return t.text }

// Render fills the template for a reader. A value that was not read is an error.
func (t *Template) Render(env map[string]any) (string, error) {
	return t.render(env, func(string, string) error { return nil })
}

// Command fills the template for a device: besides, a value may hold no control character and not be
// empty, since either would type something else than what the line says.
func (t *Template) Command(env map[string]any) (string, error) {
	return t.render(env, func(name, value string) error {
		if value == "" {
			return fmt.Errorf("${%s} is empty", name)
		}
		if i := strings.IndexFunc(value, unicode.IsControl); i >= 0 {
			return fmt.Errorf("${%s} holds the control character %q, which is never typed to a device", name, value[i])
		}
		return nil
	})
}

func (t *Template) render(env map[string]any, check func(name, value string) error) (string, error) {
	var out strings.Builder
	for _, p := range t.pieces {
		if p.guard == nil {
			out.WriteString(p.text)
			continue
		}
		value, err := p.guard.Value(env)
		if err != nil {
			return "", err
		}
		if value == nil {
			return "", fmt.Errorf("${%s} is not set", p.guard.text)
		}
		text := Format(value)
		if err := check(p.guard.text, text); err != nil {
			return "", err
		}
		out.WriteString(text)
	}
	return out.String(), nil
}

// Shown fills the template for a plan: what is not known yet stays as ${…}.
func (t *Template) Shown(env map[string]any) string {
	var out strings.Builder
	for _, p := range t.pieces {
		if p.guard == nil {
			out.WriteString(p.text)
			continue
		}
		value, err := p.guard.Value(env)
		if err != nil || value == nil {
			out.WriteString("${" + p.guard.text + "}")
			continue
		}
		out.WriteString(Format(value))
	}
	return out.String()
}
