package bench

import (
	"context"
	"errors"
	"fmt"
	"math"
	"strings"
	"time"
)

// Shell is a command line on a wire: words, levels, and a conversation (see OK).
type Shell struct {
	Wire   *Wire
	Prompt func() string
	Text   []Word
	// Idle, when set, is called when no key came for IdleAfter while nothing is typed.
	Idle      func()
	IdleAfter time.Duration
	// Short says that words may be shortened as far as they stay the only one, and AnyCase that capitals do not
	// matter.
	Short, AnyCase bool
	// Split takes a line apart into commands of words; a line is one command unless it is set.
	Split func(line string) [][]string
	// Unknown is the answer to a word that is none, Usage that to one whose form is not kept, and Refusal what a word's
	// error is reported with.
	Unknown, Usage, Refusal string
	// LogsOut says that an awkward device ends this shell when nothing is typed for long.
	LogsOut bool
	// Level is what whoever types is allowed now; TooLow is the answer to a word that wants more.
	Level  int
	TooLow string

	ctx      context.Context  // ends with the power
	err      error            // the first one
	tail     string           // what was written since the last line end
	captured *strings.Builder // what is answered, where something else is said
	lines    int              // of the present output, for a pager
	paging   bool
	prompts  int // shown so far
	past     []string
}

// NewShell begins a conversation that lasts until the power goes.
func NewShell(ctx context.Context, w *Wire) *Shell {
	return &Shell{
		Wire:    w,
		ctx:     ctx,
		Unknown: "  no such word: %s; words lists them\r\n",
		Usage:   "it goes: %s",
		Refusal: "  %s\r\n",
	}
}

// Word is one command. Its form is what it is called, and its arguments in capitals; one in brackets need not be there,
// one with … may be several. Run gets as many as it says, and returns why it was not done; a word whose form is not
// kept is answered by that.
type Word struct {
	Form, About string
	Run         func(args []string) error
	// Level is what it wants whoever types to be allowed.
	Level int
	// Grave says that an awkward device may ask before it.
	Grave bool
}

// What a word returns to end the shell it runs in.
var (
	ErrLeave   = errors.New("leave the shell")
	ErrRestart = errors.New("restart")
)

// split takes a form apart.
func (w Word) split() (name []string, least, most int) {
	for _, part := range strings.Fields(w.Form) {
		switch {
		case strings.HasPrefix(part, "["):
			most++
		case strings.HasSuffix(part, "…"):
			least, most = least+1, math.MaxInt
		case !strings.HasPrefix(part, "-") && part == strings.ToUpper(part) && part != strings.ToLower(part):
			least, most = least+1, most+1
		default:
			name = append(name, part)
		}
	}
	return name, least, most
}

// Run reads and carries out lines until the power goes or a word leaves; what a word refuses is told to the user.
func (s *Shell) Run() error {
	for s.err == nil {
		s.write(s.prompt())
		text, bored := s.readLine(true, s.LogsOut && s.Wire.quirks.has(Idle))
		if bored {
			return ErrLeave
		}
		if err := s.lied(strings.TrimSpace(text), func() error { return s.Obey(text) }); err != nil {
			return err
		}
	}
	return s.err
}

// prompt is what stands before a line: in colour, and with another name now and then, where it is so.
func (s *Shell) prompt() string {
	text := s.Prompt()
	s.prompts++
	if s.Wire.quirks.has(Name) && s.prompts%3 == 0 {
		if name, rest, found := strings.Cut(text, " "); found && !strings.ContainsAny(name, ":=") {
			text = name + "-b " + rest
		}
	}
	if s.Wire.quirks.has(Colour) {
		text = "\x1b[1;36m" + text + "\x1b[0m"
	}
	return text
}

// Obey carries out a line as if it had been typed.
func (s *Shell) Obey(line string) error {
	if s.Split == nil {
		return s.obey(strings.Fields(line))
	}
	for _, words := range s.Split(line) {
		if err := s.obey(words); err != nil {
			return err
		}
	}
	return s.err
}

// obey finds the longest word that the line begins with.
func (s *Shell) obey(typed []string) error {
	if len(typed) == 0 || s.err != nil {
		return s.err
	}
	for n := min(len(typed), 3); n > 0; n-- {
		word, found := s.find(typed[:n])
		if !found {
			continue
		}
		err := s.carryOut(word, typed[n:])
		switch {
		case s.err != nil:
			return s.err
		case err == nil, errors.Is(err, ErrLeave), errors.Is(err, ErrRestart):
			return err
		}
		s.Sayf(s.Refusal, err)
		return s.err
	}
	s.Sayf(s.Unknown, typed[0])
	return s.err
}

// find is the command that was typed: the one that is spelt so, or else the only one that it is short for.
func (s *Shell) find(typed []string) (Word, bool) {
	var short []Word
	for _, word := range s.Text {
		names, _, _ := word.split()
		if len(names) != len(typed) {
			continue
		}
		same, begins := true, true
		for i, name := range names {
			said := typed[i]
			if s.AnyCase {
				said = strings.ToLower(said)
			}
			same, begins = same && name == said, begins && strings.HasPrefix(name, said)
		}
		switch {
		case same:
			return word, true
		case begins && s.Short:
			short = append(short, word)
		}
	}
	if len(short) == 1 {
		return short[0], true
	}
	return Word{}, false
}

func (s *Shell) carryOut(word Word, args []string) error {
	name, least, most := word.split()
	switch {
	case word.Level > s.Level:
		return errors.New(s.TooLow)
	case len(args) < least || len(args) > most:
		return fmt.Errorf(s.Usage, word.Form)
	}
	if q := s.Wire.quirks; word.Grave && q.has(Questions) && q.chance(2) &&
		!s.Yes("  "+strings.Join(name, " ")+", really?") {
		return errors.New("nothing done")
	}
	s.lines, s.paging = 0, s.Wire.quirks.has(Pager)
	defer func() { s.paging = false }()
	return word.Run(args)
}

// Help is the word that lists the words.
func (s *Shell) Help(name string) Word {
	return Word{Form: name, About: "list these", Run: func([]string) error {
		for _, word := range s.Text {
			s.Sayf("  %-24s %s\r\n", word.Form, word.About)
		}
		return nil
	}}
}

// Raise and its sibling below are the words that change what whoever types is allowed.
func (s *Shell) Raise(name string) Word {
	return Word{Form: name, About: "be allowed to change things", Run: func([]string) error { s.Level = 1; return nil }}
}

// Lower gives that up.
func (s *Shell) Lower(name string) Word {
	return Word{Form: name, About: "give that up", Run: func([]string) error { s.Level = 0; return nil }}
}

// Leave is the word that logs out.
func (s *Shell) Leave(name string) Word {
	return Word{Form: name, About: "log out", Run: func([]string) error { return ErrLeave }}
}
