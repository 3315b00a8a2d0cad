package expression

import (
	"fmt"
	"regexp"
	"strconv"
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

// CompileTemplate checks a text with ${…}. A dollar sign more, $${, is a plain ${.
func CompileTemplate(text string, names Names) (*Template, error) {
	t := &Template{text: text}
	for rest := text; rest != ""; {
		at := strings.Index(rest, "${")
		switch {
		case at < 0:
			t.plain(rest)
			return t, nil
		case at > 0 && rest[at-1] == '$':
			t.plain(rest[:at-1] + "${")
			rest = rest[at+2:]
			continue
		}
		t.plain(rest[:at])
		inner, tail, closed := closing(rest[at+2:])
		if !closed {
			return nil, fmt.Errorf("${ without its } in %q; write $${ for a plain ${", text)
		}
		guard, err := Compile(inner, names)
		if err != nil {
			return nil, fmt.Errorf("${%s}: %w", inner, err)
		}
		t.pieces = append(t.pieces, piece{guard: guard})
		rest = tail
	}
	return t, nil
}

func (t *Template) plain(text string) {
	if text != "" {
		t.pieces = append(t.pieces, piece{text: text})
	}
}

// closing finds the } that ends an expression; one in quotes, or that belongs to a { inside, does not.
func closing(text string) (inner, tail string, found bool) {
	depth, quote := 0, byte(0)
	for i := range len(text) {
		switch b := text[i]; {
		case quote != 0:
			if b == quote && text[i-1] != '\\' {
				quote = 0
			}
		case b == '"' || b == '\'' || b == '`':
			quote = b
		case b == '{':
			depth++
		case b == '}' && depth == 0:
			return text[:i], text[i+1:], true
		case b == '}':
			depth--
		}
	}
	return "", "", false
}

// Uses are the dotted names that the template's expressions read.
func (t *Template) Uses() (names []string) {
	if t == nil {
		return nil
	}
	for _, p := range t.pieces {
		names = append(names, p.guard.Uses()...)
	}
	return names
}

// Text is the template as written.
func (t *Template) Text() string { return t.text }

// Render fills the template for a reader. A value that was not read is an error.
func (t *Template) Render(env map[string]any) (string, error) { return t.render(env, set) }

// set holds that a value is there.
func set(name string, value any, err error) (string, error) {
	switch {
	case err != nil:
		return "", err
	case value == nil:
		return "", fmt.Errorf("${%s} is not set", name)
	}
	return Format(value), nil
}

// Command fills the template for a device: besides, a value may hold no control character and not be
// empty, since either would type something else than what the line says.
func (t *Template) Command(env map[string]any) (string, error) {
	return t.render(env, func(name string, value any, err error) (string, error) {
		text, err := set(name, value, err)
		if err == nil && text == "" {
			err = fmt.Errorf("${%s} is empty", name)
		}
		if i := strings.IndexFunc(text, unicode.IsControl); i >= 0 {
			err = fmt.Errorf("${%s} holds the control character %q, which is never typed to a device", name, text[i])
		}
		return text, err
	})
}

// Shown fills the template for a plan: what is not known yet stays as ${…}.
func (t *Template) Shown(env map[string]any) string {
	text, _ := t.render(env, func(name string, value any, err error) (string, error) {
		if err != nil || value == nil {
			return "${" + name + "}", nil
		}
		return Format(value), nil
	})
	return text
}

// render puts the pieces together; each value goes through one function.
func (t *Template) render(
	env map[string]any, through func(name string, value any, err error) (string, error),
) (string, error) {
	var out strings.Builder
	for _, p := range t.pieces {
		text := p.text
		if p.guard != nil {
			value, err := p.guard.Value(env)
			if text, err = through(p.guard.text, value, err); err != nil {
				return "", err
			}
		}
		out.WriteString(text)
	}
	return out.String(), nil
}

// Word is one word of what a template becomes. Pattern finds what of it the expressions called Names give, and is nil
// for one that stands as it is.
type Word struct {
	Text    string
	Pattern *regexp.Regexp
	Names   []string
}

var placeOf = regexp.MustCompile("\x00(\\d+)\x00")

// Words are the words of what the template becomes where no expression gives more than one.
func (t *Template) Words() (words []Word) {
	var text strings.Builder
	for i, p := range t.pieces {
		if p.guard == nil {
			text.WriteString(p.text)
		} else {
			fmt.Fprintf(&text, "\x00%d\x00", i)
		}
	}
	for _, one := range strings.Fields(text.String()) {
		word := Word{Text: one}
		pattern, from := "^", 0
		for _, at := range placeOf.FindAllStringSubmatchIndex(one, -1) {
			i, _ := strconv.Atoi(one[at[2]:at[3]])
			word.Names = append(word.Names, t.pieces[i].guard.text)
			pattern += regexp.QuoteMeta(one[from:at[0]]) + `(\S+)`
			from = at[1]
		}
		if len(word.Names) > 0 {
			word.Pattern = regexp.MustCompile(pattern + regexp.QuoteMeta(one[from:]) + "$")
		}
		words = append(words, word)
	}
	return words
}
