package sshsettings

import (
	"errors"
	"strings"
)

const blank = " \t\r"

// keyword cuts the first word of a line, as ssh_config(5) has it: blanks or one = end it. Rest is what follows.
func keyword(line string) (word, rest string) {
	line = strings.TrimRight(strings.TrimLeft(line, blank), blank+"\n\f")
	if line == "" || line[0] == '#' {
		return "", ""
	}
	if line[0] == '"' {
		if end := strings.IndexByte(line[1:], '"'); end >= 0 {
			return line[1 : end+1], afterWord(line[end+2:])
		}
	}
	end := strings.IndexAny(line, blank+"=")
	if end < 0 {
		return line, ""
	}
	return line[:end], afterWord(line[end:])
}

// afterWord skips blanks and at most one =.
func afterWord(rest string) string {
	rest = strings.TrimLeft(rest, blank)
	if after, ok := strings.CutPrefix(rest, "="); ok {
		rest = strings.TrimLeft(after, blank)
	}
	return rest
}

var errQuotes = errors.New("a quote has no end")

// arguments splits what follows a keyword: at blanks, with quotes of both kinds and backslashes before quotes,
// backslashes and blanks; an argument that begins with # begins a comment.
func arguments(text string) (all []string, err error) {
	for {
		text = strings.TrimLeft(text, " \t")
		if text == "" || text[0] == '#' {
			return all, nil
		}
		var word strings.Builder
		quote, i := byte(0), 0
		for ; i < len(text); i++ {
			c := text[i]
			switch {
			case c == '\\' && i+1 < len(text) && (strings.IndexByte(`'"\`,
				text[i+1]) >= 0 || quote == 0 && text[i+1] == ' '):
				i++
				word.WriteByte(text[i])
				continue
			case quote == 0 && (c == ' ' || c == '\t'):
			case quote == 0 && (c == '"' || c == '\''):
				quote = c
				continue
			case quote != 0 && c == quote:
				quote = 0
				continue
			default:
				word.WriteByte(c)
				continue
			}
			break
		}
		if quote != 0 {
			return nil, errQuotes
		}
		all, text = append(all, word.String()), text[i:]
	}
}

// matches holds a text to a pattern with * and ?.
func matches(pattern, text string) bool {
	for len(pattern) > 0 {
		switch pattern[0] {
		case '*':
			pattern = strings.TrimLeft(pattern, "*")
			if pattern == "" {
				return true
			}
			for i := range len(text) {
				if matches(pattern, text[i:]) {
					return true
				}
			}
			return false
		case '?':
			if text == "" {
				return false
			}
		default:
			if text == "" || text[0] != pattern[0] {
				return false
			}
		}
		pattern, text = pattern[1:], text[1:]
	}
	return text == ""
}

// MatchesList holds a text to a list of patterns with commas between: one with ! before it that matches refuses it.
func MatchesList(patterns, text string, anyCase bool) bool {
	found := false
	if anyCase {
		patterns, text = strings.ToLower(patterns), strings.ToLower(text)
	}
	for pattern := range strings.SplitSeq(patterns, ",") {
		bare, not := strings.CutPrefix(pattern, "!")
		if matches(bare, text) {
			if not {
				return false
			}
			found = true
		}
	}
	return found
}
