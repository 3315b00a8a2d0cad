package shown

import (
	"regexp"
	"regexp/syntax"
	"slices"
	"strings"
)

// Prompts find where a prompt ends that something stands behind. The zero value finds only one that is known as it was
// written.
type Prompts []prompt

// prompt is one pattern. Begins matches at the beginning of whatever begins like it, and is nil where that cannot be
// said.
type prompt struct{ whole, begins *regexp.Regexp }

// NewPrompts are the patterns of prompts, each of which matches one as a whole. Nil ones are left out.
func NewPrompts(patterns ...*regexp.Regexp) (all Prompts) {
	for _, whole := range patterns {
		if whole != nil {
			all = append(all, prompt{whole, withoutEnd(whole.String())})
		}
	}
	return all
}

// withoutEnd is a pattern without the anchor at its end, nil where it has none there.
func withoutEnd(pattern string) *regexp.Regexp {
	tree, err := syntax.Parse(pattern, syntax.Perl)
	if err != nil || tree.Op != syntax.OpConcat {
		return nil
	}
	last := len(tree.Sub) - 1
	if last < 1 || tree.Sub[0].Op != syntax.OpBeginText || tree.Sub[last].Op != syntax.OpEndText {
		return nil
	}
	text, cut := strings.CutSuffix(pattern, "$")
	if !cut { // it stands in other words there; to write the tree out takes milliseconds where a class is large
		tree.Sub = tree.Sub[:last]
		text = tree.String()
	}
	begins, err := regexp.Compile(text)
	if err != nil {
		return nil
	}
	return begins
}

// Are reports whether a line is a prompt, blanks at its end aside: they may be typed.
func (all Prompts) Are(line string) bool {
	bare := strings.TrimRight(line, " ")
	return slices.ContainsFunc(all, func(p prompt) bool {
		return p.whole.MatchString(line) || p.whole.MatchString(bare) || p.whole.MatchString(bare+" ")
	})
}

// longestPrompt is how long a prompt may be, in bytes.
const longestPrompt = 80

// Behind cuts a prompt off a line: the one that is known, or any that a pattern finds.
func (all Prompts) Behind(line, known string) (rest string, found bool) {
	if known != "" {
		if rest, found := strings.CutPrefix(line, known); found {
			return rest, true
		}
		if strings.TrimRight(known, " ") == line {
			return "", true
		}
	}
	for _, p := range all {
		if p.begins != nil && !p.begins.MatchString(line) {
			continue // most lines: what follows takes long
		}
		for n := 1; n <= min(len(line), longestPrompt); n++ {
			if !p.whole.MatchString(line[:n]) {
				continue
			}
			for n < len(line) && p.whole.MatchString(line[:n+1]) {
				n++
			}
			return line[n:], true
		}
	}
	return "", false
}
