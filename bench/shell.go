package bench

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"strings"
	"time"

	"pilotrix/core/transfer"
)

// Shell is a command line on a wire: echo, line editing, words.
type Shell struct {
	Wire   *Wire
	Prompt func() string
	Words  []Word
	// Idle, when set, is called when no key came for IdleAfter while nothing is typed.
	Idle      func(context.Context) error
	IdleAfter time.Duration
	// Short says that words may be shortened as far as they stay the only one, and AnyCase that capitals do not
	// matter.
	Short, AnyCase bool
	// LogsOut says that an awkward device ends this shell when nothing is typed for long.
	LogsOut bool

	tail    string // what was written since the last line end
	lines   int    // of the present output, for a pager
	paging  bool
	prompts int // shown so far
	past    []string
}

// Word is one command. Run gets what was typed after it.
type Word struct {
	Name, Usage, About string
	Run                func(ctx context.Context, rest []string) error
	// Grave says that an awkward device may ask before it.
	Grave bool
}

// What a word returns to end the shell it runs in.
var (
	ErrLeave   = errors.New("leave the shell")
	ErrRestart = errors.New("restart")
)

// Run reads and carries out lines until ctx ends or a word leaves; the word's other errors are shown
// to the user.
func (s *Shell) Run(ctx context.Context) error {
	for {
		if err := s.write(ctx, s.prompt()); err != nil {
			return err
		}
		text, err := s.readLine(ctx, true, s.LogsOut && s.Wire.quirks.has(Idle))
		if err != nil {
			return err
		}
		if err := s.lied(ctx, strings.TrimSpace(text), func() error { return s.obey(ctx, strings.Fields(text)) }); err != nil {
			return err
		}
	}
}

// prompt is what stands before a line: in colour, and with another name now and then, where it is so.
func (s *Shell) prompt() string {
	text := s.Prompt()
	s.prompts++
	if s.Wire.quirks.has(Name) && s.prompts%3 == 0 {
		if name, rest, found := strings.Cut(text, " "); found && !strings.Contains(name, ":") {
			text = name + "-b " + rest
		}
	}
	if s.Wire.quirks.has(Colour) {
		text = "\x1b[1;36m" + text + "\x1b[0m"
	}
	return text
}

// obey finds the longest word that the line begins with.
func (s *Shell) obey(ctx context.Context, typed []string) error {
	if len(typed) == 0 {
		return nil
	}
	for n := min(len(typed), 2); n > 0; n-- {
		word, found := s.find(typed[:n])
		if !found {
			continue
		}
		err := s.carryOut(ctx, word, typed[n:])
		if err == nil || errors.Is(err, ErrLeave) || errors.Is(err, ErrRestart) || ctx.Err() != nil {
			return err
		}
		return s.Say(ctx, "  "+err.Error()+"\r\n")
	}
	return s.Say(ctx, fmt.Sprintf("  no such word: %s; words lists them\r\n", typed[0]))
}

// find is the command that was typed: the one that is spelt so, or else the only one that it is short for.
func (s *Shell) find(typed []string) (Word, bool) {
	var short []Word
	for _, word := range s.Words {
		names := strings.Fields(word.Name)
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

func (s *Shell) carryOut(ctx context.Context, word Word, rest []string) error {
	if q := s.Wire.quirks; word.Grave && q.has(Questions) && q.chance(2) {
		answer, err := s.Ask(ctx, "  "+word.Name+", really? (y/n) ")
		if err != nil {
			return err
		}
		if answer != "y" {
			return errors.New("nothing done")
		}
	}
	s.lines, s.paging = 0, s.Wire.quirks.has(Pager)
	defer func() { s.paging = false }()
	return word.Run(ctx, rest)
}

// Help lists the words.
func (s *Shell) Help(ctx context.Context) error {
	for _, word := range s.Words {
		if err := s.Sayf(ctx, "  %-24s %s\r\n", strings.TrimSpace(word.Name+" "+word.Usage), word.About); err != nil {
			return err
		}
	}
	return nil
}

// write puts text on the wire as it is.
func (s *Shell) write(ctx context.Context, text string) error {
	if at := strings.LastIndexAny(text, "\r\n"); at >= 0 {
		s.tail = text[at+1:]
	} else {
		s.tail += text
	}
	return s.Wire.Write(ctx, []byte(text))
}

// Say writes text as it is; an awkward device may have a log line to write first, and stops a long output.
func (s *Shell) Say(ctx context.Context, text string) error {
	if q := s.Wire.quirks; q.has(Noise) && q.chance(oneInSays) {
		if err := s.log(ctx); err != nil {
			return err
		}
	}
	if !s.paging {
		return s.write(ctx, text)
	}
	for _, line := range strings.SplitAfter(text, "\n") {
		if err := s.write(ctx, line); err != nil {
			return err
		}
		if !strings.HasSuffix(line, "\n") {
			continue
		}
		if s.lines++; s.lines < pageLines {
			continue
		}
		s.lines = 0
		if err := s.pause(ctx); err != nil {
			return err
		}
	}
	return nil
}

const (
	pagerAsks = "  (more) "
	pagerWait = 5 * time.Minute
)

// pause is the pager: a blank goes on.
func (s *Shell) pause(ctx context.Context) error {
	if err := s.write(ctx, pagerAsks); err != nil {
		return err
	}
	for {
		key, ok, err := s.Key(ctx, pagerWait)
		if err != nil {
			return err
		}
		if !ok || key == ' ' || key == '\r' {
			break
		}
	}
	return s.write(ctx, "\r"+strings.Repeat(" ", len(pagerAsks))+"\r")
}

// log writes a line unasked, on a line of its own.
func (s *Shell) log(ctx context.Context) error {
	text := s.Wire.quirks.logLine(s.Wire.clock.Now()) + "\r\n"
	if s.tail != "" {
		text = "\r\n" + text
	}
	return s.write(ctx, text)
}

// Sayf writes formatted text.
func (s *Shell) Sayf(ctx context.Context, format string, args ...any) error {
	return s.Say(ctx, fmt.Sprintf(format, args...))
}

// Dots shows progress: dots over that time, with texts around them.
func (s *Shell) Dots(ctx context.Context, before string, dots int, over time.Duration, after string) error {
	if err := s.Say(ctx, before); err != nil {
		return err
	}
	for range dots {
		if err := s.Wire.clock.Wait(ctx, over/time.Duration(dots)); err != nil {
			return err
		}
		if err := s.Say(ctx, "."); err != nil {
			return err
		}
	}
	return s.Say(ctx, after)
}

// Stall is a flash memory that takes its time, where the device has one of those.
func (s *Shell) Stall(ctx context.Context) error {
	if !s.Wire.quirks.has(Flash) {
		return nil
	}
	return s.Wire.clock.Wait(ctx, flashStall)
}

// Ask writes a question and returns the line typed.
func (s *Shell) Ask(ctx context.Context, question string) (string, error) {
	if err := s.Say(ctx, question); err != nil {
		return "", err
	}
	return s.ReadLine(ctx, true)
}

const keyWait = 100 * time.Millisecond

// Key waits for one key, for at most that long; ok is false when none came.
func (s *Shell) Key(ctx context.Context, wait time.Duration) (key byte, ok bool, err error) {
	var one [1]byte
	_, err = s.Wire.Read(ctx, one[:], wait)
	if errors.Is(err, io.ErrNoProgress) {
		return 0, false, nil
	}
	return one[0], err == nil, err
}

// ReadLine reads a line with the usual editing keys. Nothing is shown of it when echo is off.
func (s *Shell) ReadLine(ctx context.Context, echo bool) (string, error) {
	return s.readLine(ctx, echo, false)
}

// input is a line that is being typed.
type input struct {
	*Shell
	begin  string // what stands before it
	typed  []byte
	echo   bool
	recall int // lines back in the past
	escape int // inside a sequence of a key: 1 after ESC, 2 after ESC [
}

func (s *Shell) readLine(ctx context.Context, echo, logsOut bool) (string, error) {
	l := &input{Shell: s, begin: s.tail, echo: echo && !s.Wire.quirks.has(Mute)}
	s.lines = 0
	idle, quiet := time.Duration(0), time.Duration(0)
	for {
		key, ok, err := s.Key(ctx, keyWait)
		if err != nil {
			return "", err
		}
		if !ok {
			idle, quiet = idle+keyWait, quiet+keyWait
			switch {
			case s.Idle != nil && len(l.typed) == 0 && idle >= s.IdleAfter:
				idle = 0
				err = s.Idle(ctx)
			case logsOut && idle >= idleLimit:
				return "", errors.Join(ErrLeave, s.write(ctx, "\r\n  nothing was typed for long, good-bye\r\n"))
			case s.Wire.quirks.has(Noise) && quiet >= logEvery:
				quiet = 0
				err = l.interrupt(ctx)
			}
			if err != nil {
				return "", err
			}
			continue
		}
		idle = 0
		done, err := l.key(ctx, key)
		if err != nil || done {
			if err == nil && len(l.typed) > 0 && echo {
				s.past = append(s.past, string(l.typed))
			}
			return string(l.typed), err
		}
	}
}

// interrupt writes a log line in the middle of the line, which is drawn again below, or goes on there.
func (l *input) interrupt(ctx context.Context) error {
	if err := l.log(ctx); err != nil {
		return err
	}
	if l.Wire.quirks.chance(2) {
		return l.redraw(ctx)
	}
	return nil
}

// redraw writes the whole line again.
func (l *input) redraw(ctx context.Context) error {
	text := "\r" + l.begin
	if l.echo {
		text += string(l.typed)
	}
	return l.write(ctx, text+"\x1b[K")
}

// key takes one; done tells that the line ended.
func (l *input) key(ctx context.Context, key byte) (done bool, err error) {
	q := l.Wire.quirks
	switch {
	case l.escape == 1:
		l.escape = 0
		if key == '[' {
			l.escape = 2
		}
		return false, nil
	case l.escape == 2:
		if key < 0x40 {
			return false, nil
		}
		l.escape = 0
		return false, l.arrow(ctx, key)
	case key == 0x1b:
		l.escape = 1
		return false, nil
	}
	if l.echo && q.has(SlowEcho) {
		if err := l.Wire.clock.Wait(ctx, q.between(10*time.Millisecond, 100*time.Millisecond)); err != nil {
			return false, err
		}
	}
	shown := ""
	switch {
	case key == '\r' || key == '\n':
		return true, l.write(ctx, "\r\n")
	case key == 0x03: // Ctrl-C
		l.typed = nil
		return true, l.write(ctx, "^C\r\n")
	case key == 0x15 || key == 0x18: // Ctrl-U, Ctrl-X
		shown = strings.Repeat("\b \b", len(l.typed))
		l.typed = l.typed[:0]
		if l.echo && len(l.typed) == 0 && (q.has(Wrap) || q.has(History)) {
			return false, l.anew(ctx)
		}
	case key == 0x08 || key == 0x7f:
		if len(l.typed) > 0 {
			l.typed, shown = l.typed[:len(l.typed)-1], "\b \b"
		}
	case key >= 0x20 && key < 0x7f:
		l.typed, shown = append(l.typed, key), string(rune(key))
	}
	if !l.echo || shown == "" {
		return false, nil
	}
	if q.has(Wrap) && len(plainText(l.begin))+len(l.typed) >= ownWidth && (len(plainText(l.begin))+len(l.typed))%ownWidth == 0 {
		shown += "\r\n"
	}
	if err := l.write(ctx, shown); err != nil {
		return false, err
	}
	if q.has(History) && !q.has(Wrap) && q.chance(oneInKeys) {
		return false, l.redraw(ctx)
	}
	if q.has(Noise) && q.chance(oneInKeys) {
		return false, l.interrupt(ctx)
	}
	return false, nil
}

// anew draws an emptied line: on a fresh one, since what was typed may be spread over several.
func (l *input) anew(ctx context.Context) error {
	return l.write(ctx, "\r\n"+l.begin)
}

// arrow recalls a line of the past.
func (l *input) arrow(ctx context.Context, key byte) error {
	if !l.Wire.quirks.has(History) || !l.echo {
		return nil
	}
	switch {
	case key == 'A' && l.recall < len(l.past):
		l.recall++
	case key == 'B' && l.recall > 0:
		l.recall--
	default:
		return nil
	}
	l.typed = l.typed[:0]
	if l.recall > 0 {
		l.typed = append(l.typed, l.past[len(l.past)-l.recall]...)
	}
	return l.redraw(ctx)
}

// plainText is text without its colours.
func plainText(text string) string {
	text = strings.ReplaceAll(text, "\x1b[1;36m", "")
	return strings.ReplaceAll(text, "\x1b[0m", "")
}

// Port lets a transfer of the program's own kind run on the device.
type Port struct{ *Wire }

// Read implements transfer.Duplex.
func (p Port) Read(ctx context.Context, out []byte, wait time.Duration) (int, error) {
	n, err := p.Wire.Read(ctx, out, wait)
	if errors.Is(err, io.ErrNoProgress) {
		err = transfer.ErrSilent
	}
	return n, err
}

// Unread implements transfer.Unreader: what follows a transfer is for the shell.
func (p Port) Unread(data []byte) {
	p.rest = append(bytes.Clone(data), p.rest...)
	p.unread.Add(int64(len(data)))
}
