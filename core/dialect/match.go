package dialect

import (
	"regexp"
	"strings"

	"pilotrix/core/source"
)

// Matcher finds what means success or failure in an answer. A pattern is held against each line by itself,
// so that ^ and $ are a line's ends and no match runs over two lines; one that says (?s) or (?m), or has a
// line end in it, is held against the whole answer. A nil Matcher finds nothing.
type Matcher struct {
	re    *regexp.Regexp
	whole bool
}

var acrossLines = regexp.MustCompile(`\(\?[a-zA-Z]*[sm]|\\n`)

func matcher(p source.Pattern) *Matcher {
	if p == "" {
		return nil
	}
	return &Matcher{p.RE(), acrossLines.MatchString(string(p))}
}

// Find is the first match, empty when there is none.
func (m *Matcher) Find(answer string) string {
	if m == nil {
		return ""
	}
	if m.whole {
		return strings.TrimSpace(m.re.FindString(answer))
	}
	for line := range strings.Lines(answer) {
		line = strings.TrimRight(line, "\r\n")
		if at := m.re.FindStringIndex(line); at != nil {
			return strings.TrimSpace(line[at[0]:at[1]])
		}
	}
	return ""
}

// Matches reports whether there is a match.
func (m *Matcher) Matches(answer string) bool {
	if m == nil {
		return false
	}
	if m.whole {
		return m.re.MatchString(answer)
	}
	for line := range strings.Lines(answer) {
		if m.re.MatchString(strings.TrimRight(line, "\r\n")) {
			return true
		}
	}
	return false
}
