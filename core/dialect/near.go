package dialect

import (
	"regexp"
	"regexp/syntax"
	"strings"

	"pilotrix/core/plain"
)

// A near miss is a line that a pattern matches but for its end, or its capitals: what a reading overlooks is often so,
// such as a word that nobody foresaw in a table's last column.

const (
	// maxNear is how many near misses of one pattern are reported, and maxSearched how many lines are looked at for
	// them.
	maxNear     = 3
	maxSearched = 2000
	// minNear is how much of a line has to fit, in characters that are no blanks; something has to follow that does
	// not.
	minNear = 3
)

// nearMisses are the lines that a pattern matches nearly, each with where it goes wrong. Taken are lines that it
// matches, by their number.
func nearMisses(pattern *regexp.Regexp, lines []string, taken map[int]bool) (words []string) {
	parts := beginnings(pattern.String())
	for n, line := range lines[:min(len(lines), maxSearched)] {
		line = strings.TrimRight(line, "\r\n")
		if taken[n] || strings.TrimSpace(line) == "" {
			continue
		}
		for _, part := range parts {
			at := part.re.FindStringIndex(line)
			if at == nil || len(strings.Join(strings.Fields(line[at[0]:at[1]]), "")) < minNear ||
				!part.whole && strings.TrimSpace(line[at[1]:]) == "" {
				continue
			}
			text := "“" + plain.Clip(strings.TrimSpace(line), maxOfLine) + "” is nearly one: "
			if part.whole {
				text += "but for capitals"
			} else {
				text += "it fits up to “" + plain.Clip(strings.TrimSpace(line[:at[1]]), maxOfLine) + "”"
			}
			words = append(words, text)
			break
		}
		if len(words) == maxNear {
			return words
		}
	}
	return words
}

// beginning is the first part of a pattern.
type beginning struct {
	re    *regexp.Regexp
	whole bool // all of it, in any capitals
}

// beginnings are those that have at least half of a pattern's pieces, the longest first.
func beginnings(pattern string) (all []beginning) {
	if re, err := regexp.Compile("(?i)" + pattern); err == nil {
		all = append(all, beginning{re, true})
	}
	tree, err := syntax.Parse(pattern, syntax.Perl)
	if err != nil || tree.Op != syntax.OpConcat {
		return all
	}
	for n := len(tree.Sub) - 1; 2*n >= len(tree.Sub) && n > 0; n-- {
		part := &syntax.Regexp{Op: syntax.OpConcat, Sub: tree.Sub[:n], Flags: tree.Flags}
		if re, err := regexp.Compile("(?m)" + part.String()); err == nil {
			all = append(all, beginning{re, false})
		}
	}
	return all
}
