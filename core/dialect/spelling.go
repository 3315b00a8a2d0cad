package dialect

import (
	"regexp"
	"slices"
	"strings"

	"pilotrix/core/source"
)

// Commands says how the device takes what is typed: what it takes one command for that is spelt otherwise. The
// interlocks judge by it.
type Commands struct {
	Shortened  int           `yaml:"shortened" jsonschema:"minimum=1" jsonschema_description:"It takes words that are shortened to so many letters; none unless said"`
	Case       string        `yaml:"case" jsonschema:"enum=any,enum=exact" jsonschema_description:"Whether capitals matter; exact unless said"`
	Prefixes   []source.Text `yaml:"prefixes" jsonschema_description:"Words that may stand before a command and change nothing of it"`
	Separators []source.Text `yaml:"separators" jsonschema_description:"What separates several commands on one line, such as [';']"`
	Quotes     source.Text   `yaml:"quotes" jsonschema_description:"The characters that words are quoted by: a separator between two of the same is none, and they are no part of a word"`
	Grammar    string        `yaml:"grammar" jsonschema:"enum=sh" jsonschema_description:"sh where lines are read by a shell: every command in lists, pipes, groups, conditions, loops and substitutions is looked at, and what cannot be read from here is held"`
}

// spelling finds what a typed line may mean to the device.
type spelling struct {
	Commands
	words []string // that the dialect knows, as it spells them
}

// maxSpellings bounds how many commands one typed line is tried as.
const maxSpellings = 512

// escaped are the parts of a pattern or a command that are no words.
var (
	escaped = regexp.MustCompile(`\\.|\[[^\]]*\]|\(\?[^)]*[:>]|\$\{[^}]*\}`)
	aWord   = regexp.MustCompile(`[A-Za-z][\w-]*`)
)

func (d *Dialect) newSpelling() *spelling {
	s := &spelling{Commands: d.Document.Commands}
	learn := func(text string) {
		for _, word := range aWord.FindAllString(escaped.ReplaceAllString(text, " "), -1) {
			if !slices.Contains(s.words, word) {
				s.words = append(s.words, word)
			}
		}
	}
	for _, danger := range d.Dangers {
		learn(string(danger.Pattern))
	}
	for _, restart := range d.Restarts {
		learn(string(restart))
	}
	for _, pending := range d.Document.Pending {
		learn(string(pending.After))
		learn(string(pending.Until))
	}
	for _, reading := range d.Readings {
		learn(reading.Command)
	}
	for _, action := range d.Actions {
		for _, way := range action.ways() {
			learn(way.Command)
		}
	}
	slices.Sort(s.words)
	return s
}

// spell are the commands that the device may take one for, as it stands first. Many reports that there are too many to
// say.
func (s *spelling) spell(typed []string) (all []string, many bool) {
	all = append(all, strings.Join(typed, " "))
	spelt := [][]string{{}}
	for _, word := range typed {
		var next [][]string
		for _, means := range s.means(word) {
			for _, before := range spelt {
				next = append(next, append(slices.Clip(before), means))
			}
		}
		if spelt = next; len(spelt) > maxSpellings {
			return all, true
		}
	}
	for _, words := range spelt {
		if command := strings.Join(words, " "); !slices.Contains(all, command) {
			all = append(all, command)
		}
	}
	return all, false
}

// parts are the commands that a line holds, in their order.
func (s *spelling) parts(line string) []string {
	if s.Grammar == GrammarShell {
		if commands := readShell(line).commands; len(commands) > 0 {
			return commands
		}
	}
	if len(s.Separators) == 0 && s.Quotes == "" {
		return []string{line}
	}
	return s.split(line)
}

// split takes a line apart at its separators and drops its quotes. A quote that is not closed is none.
func (s *spelling) split(line string) (parts []string) {
	var part strings.Builder
	for line != "" {
		if strings.ContainsRune(string(s.Quotes), rune(line[0])) {
			if end := strings.IndexByte(line[1:], line[0]); end >= 0 {
				part.WriteString(line[1 : 1+end])
				line = line[2+end:]
				continue
			}
		}
		if n := s.separates(line); n > 0 {
			parts, line = append(parts, part.String()), line[n:]
			part.Reset()
			continue
		}
		part.WriteByte(line[0])
		line = line[1:]
	}
	return append(parts, part.String())
}

// separates is how long the separator is that a line begins with, 0 for none.
func (s *spelling) separates(line string) (n int) {
	for _, separator := range s.Separators {
		if strings.HasPrefix(line, string(separator)) {
			n = max(n, len(separator))
		}
	}
	return n
}

func (s *spelling) withoutPrefixes(words []string) []string {
	for len(words) > 1 && slices.ContainsFunc(s.Prefixes,
		func(p source.Text) bool { return s.same(string(p), words[0]) }) {
		words = words[1:]
	}
	return words
}

func (s *spelling) same(a, b string) bool {
	return a == b || s.Case == "any" && strings.EqualFold(a, b)
}

// shortFor reports whether a device takes what was typed for the word that it begins.
func (s *spelling) shortFor(typed, word string) bool {
	return s.Shortened > 0 && len(typed) >= s.Shortened && len(word) > len(typed) && s.same(word[:len(typed)], typed)
}

// means are the words that one typed word may stand for.
func (s *spelling) means(typed string) []string {
	all := []string{typed}
	for _, word := range s.words {
		if word != typed && (s.same(word, typed) || s.shortFor(typed, word)) {
			all = append(all, word)
		}
	}
	return all
}
