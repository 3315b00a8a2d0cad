package session

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"regexp"
	"strings"
	"time"
	"unicode"

	"pilotrix/core/dialect"
	"pilotrix/core/event"
	"pilotrix/core/plain"
	"pilotrix/core/runbook/engine"
	"pilotrix/core/sense"
)

// PasteOptions say how a text is typed. The zero value types each line at once, sees it stand on the device's
// line, ends it, and awaits the prompt or else that the device is quiet.
type PasteOptions struct {
	Name      string         // of the text, as it is shown
	Character time.Duration  // pause after each character
	Line      time.Duration  // pause after each line
	Prompt    *regexp.Regexp // awaited after each line; the dialect's prompts unless said
	Blind     bool           // await nothing
	Dangers   bool           // type lines that the dialect calls a danger, too
	Timeout   time.Duration  // for each echo or prompt, 10 s unless said
	Fail      *regexp.Regexp // an answer that ends it, besides those of the dialect
	GoOn      bool           // type on after a line that the device did not take
	Progress  func(line, of int)
}

// Pasted is how far it came.
type Pasted struct {
	Lines, Typed int
	Refused      []string // what the device did not take, where that did not end it, and why
	Took         time.Duration
}

// PasteFailed says the line that a device refused or did not answer.
type PasteFailed struct {
	Number int // from 1
	Line   string
	Why    string
}

func (f *PasteFailed) Error() string {
	return fmt.Sprintf("line %d of the text (%q): %s", f.Number, plain.Clip(f.Line, 100), f.Why)
}

const (
	pasteLimit = 10 * time.Second
	pasteQuiet = 80 * time.Millisecond  // behind a line, where no prompt is known
	pasteLast  = 700 * time.Millisecond // after the last one: what it is answered may be slow to come
)

// Paste types a text line by line, through the same guard as a runbook's commands: each line is seen on the
// device before it is ended, a danger is not typed, and the first line that is refused stops it and is named.
// Control characters are refused before anything is sent; so is a tab, unless the dialect says that it is text.
func (s *Session) Paste(ctx context.Context, text string, opt PasteOptions) (Pasted, error) {
	typed, err := s.BeginPaste(text, opt)
	if err != nil {
		return Pasted{}, err
	}
	return typed(ctx)
}

// BeginPaste is Paste in its turn: whatever is typed after it stops the text. What it returns types that, and is to be
// called.
func (s *Session) BeginPaste(text string, opt PasteOptions) (typed func(context.Context) (Pasted, error), err error) {
	lines := strings.Split(strings.TrimRight(strings.NewReplacer("\r\n", "\n", "\r", "\n").Replace(text), "\n"), "\n")
	for i, line := range lines {
		if why := s.unpasteable(line); why != "" {
			return nil, &PasteFailed{i + 1, line, why}
		}
	}
	if err := s.takeForPaste(); err != nil {
		return nil, err
	}
	return func(ctx context.Context) (Pasted, error) { return s.typeText(ctx, text, lines, opt) }, nil
}

// unpasteable says why a line of a text is not typed to the device, empty where it is.
func (s *Session) unpasteable(line string) string {
	if strings.Contains(line, "\t") && !s.Dialect().TabIsText() {
		return "it holds a tab, which may complete a word; paste blanks instead, or say line: {tab: text} in the dialect"
	}
	for _, r := range line {
		if unicode.IsControl(r) && r != '\t' {
			return fmt.Sprintf("it holds the control character %q, which is never typed to a device", r)
		}
	}
	return ""
}

// PressPasted types one line that was pasted, as keys are, unless it holds what is not pasted.
func (s *Session) PressPasted(text string) error {
	text = strings.NewReplacer("\r\n", "\r", "\n", "\r").Replace(text)
	if why := s.unpasteable(strings.TrimRight(text, "\r")); why != "" {
		return errors.New(why) // the text itself may be a secret
	}
	s.Press([]byte(text))
	return nil
}

// typeText types a text that was given the line.
func (s *Session) typeText(
	ctx context.Context, text string, lines []string, opt PasteOptions,
) (result Pasted, err error) {
	defer s.do(func() { s.pasting = false; s.helm.giveBack("the text was typed") })
	held, release := s.deed().WithHelm(ctx)
	defer release()
	p := &pasting{console: s.deed(), opt: opt, of: len(lines)}
	if p.opt.Timeout == 0 {
		p.opt.Timeout = pasteLimit
	}
	begun := s.opt.Clock.Now()
	s.hub.Emit(event.TransferBegin{File: cmp.Or(opt.Name, "pasted text"), Size: int64(len(text)), Protocol: "paste"})
	for i, line := range lines {
		if err = p.line(held, i+1, line); err != nil {
			break
		}
		result.Lines, result.Typed = i+1, result.Typed+len(line)+1
		s.hub.Emit(event.Transfer{
			Bytes:  int64(min(result.Typed, len(text))),
			Size:   int64(len(text)),
			Blocks: i + 1,
			State:  fmt.Sprintf("line %d of %d", i+1, len(lines)),
		})
		if opt.Progress != nil {
			opt.Progress(i+1, len(lines))
		}
	}
	if err != nil && errors.Is(context.Cause(held), engine.ErrHelm) {
		err = engine.ErrHelm
	}
	result.Refused = p.refused
	result.Took = s.opt.Clock.Since(begun)
	end := event.TransferEnd{
		Outcome: event.Done,
		Bytes:   int64(min(result.Typed, len(text))),
		Blocks:  result.Lines,
		Took:    result.Took,
	}
	end.Outcome, end.Message = event.OutcomeOf(err)
	s.hub.Emit(end)
	return result, err
}

// takeForPaste gives the line to the text, unless a runbook has it.
func (s *Session) takeForPaste() (err error) {
	s.do(func() {
		switch {
		case s.wire.line == nil:
			err = fmt.Errorf("%w: %w", engine.ErrLineLost, s.wire.err)
		default:
			if err = s.helm.borrow("a text is typed"); err == nil {
				s.forgetHeld()
				s.pasting = true
			}
		}
	})
	return err
}

// pasting is one text under way.
type pasting struct {
	console
	opt PasteOptions
	of  int

	refused []string
}

func (p *pasting) line(ctx context.Context, number int, line string) error {
	shown := line
	if p.Device().Secret {
		shown = "[secret]"
	}
	fail := func(format string, args ...any) error {
		return &PasteFailed{number, shown, fmt.Sprintf(format, args...)}
	}
	if says := p.Stops(line); says != "" && !p.opt.Dangers {
		return fail("%s; neither it nor what follows was typed", says)
	}
	if err := p.recordsFirst(ctx, line); err != nil {
		return err
	}
	if err := p.enter(ctx, line); err != nil {
		if ctx.Err() == nil && !errors.Is(err, engine.ErrLineLost) {
			return fail("%v", err)
		}
		return err
	}
	if p.opt.Blind {
		return p.Clock().Wait(ctx, p.opt.Line)
	}
	v, err := p.answered(ctx, number)
	switch {
	case err != nil && ctx.Err() == nil && errors.Is(err, context.DeadlineExceeded):
		return fail("the prompt did not come within %s; the device shows %q", p.opt.Timeout,
			sense.Sample([]byte(p.Device().Partial), 60))
	case err != nil:
		return err
	}
	if words := p.refusal(v.Output()); words != "" {
		refused := fail("the device answered: %s", words)
		if !p.opt.GoOn {
			return refused
		}
		p.refused = append(p.refused, refused.Error())
		p.Emit(event.Note{Level: event.Warning, Text: refused.Error()})
	}
	return p.Clock().Wait(ctx, p.opt.Line)
}

// recordsFirst notes the change that a line makes, and waits until that is on record where it surely is one.
func (p *pasting) recordsFirst(ctx context.Context, line string) error {
	v := p.Device()
	if v.Secret || v.Question() != "" {
		return nil
	}
	var m dialect.Meaning
	shown := line
	if !v.AtPrompt {
		shown = hiddenLine
	}
	p.s.do(func() {
		if m = p.s.means(line, v.Mode); m.Alters != dialect.AltersNot && strings.TrimSpace(line) != "" {
			p.s.facts.Change()
			p.s.hub.Emit(event.Change{Command: shown, Hand: true, Maybe: m.Alters == dialect.AltersMaybe})
		}
	})
	if m.Alters == dialect.AltersSure {
		return p.Settle(ctx)
	}
	return nil
}

// refusal finds the words of an answer by which the device did not take the line.
func (p *pasting) refusal(answer string) string {
	if p.opt.Fail != nil {
		if words := strings.TrimSpace(p.opt.Fail.FindString(answer)); words != "" {
			return words
		}
	}
	return p.s.Dialect().Refuses(answer)
}

// enter types a line and ends it.
func (p *pasting) enter(ctx context.Context, line string) error {
	how := engine.Typing{Fresh: true, Leads: p.s.Dialect().Means(line, "", nil).Leads(), Secret: p.Device().Secret}
	switch {
	case how.Secret:
		return p.send(ctx, line+p.s.Dialect().Enter(), how, "")
	case p.opt.Blind && p.opt.Character == 0:
		p.s.do(func() { how.Secret = !p.s.seen([]byte(line+"\r"), p.s.sense.State()) })
		return p.send(ctx, line+p.s.Dialect().Enter(), how, line)
	case p.opt.Character > 0:
		for _, key := range line {
			if err := p.send(ctx, string(key), engine.Typing{}, ""); err != nil {
				return err
			}
			if err := p.Clock().Wait(ctx, p.opt.Character); err != nil {
				return err
			}
		}
		return p.send(ctx, p.s.Dialect().Enter(), how, line)
	}
	return p.Command(ctx, line, how)
}

// answered waits until the device is done with a line: at its prompt, or quiet where none is known.
func (p *pasting) answered(ctx context.Context, number int) (sense.State, error) {
	limited, cancel := p.Clock().WithTimeout(ctx, p.opt.Timeout)
	defer cancel()
	switch {
	case p.opt.Prompt != nil:
		for {
			v, err := p.Await(limited,
				func(v sense.State) bool { return v.Answered && v.Free && p.opt.Prompt.MatchString(v.Asked) })
			if err != nil {
				return v, err
			}
			if now, err := p.quiet(limited, v.Bytes, sense.Settle); err != nil || now.Bytes == v.Bytes {
				return now, err
			}
		}
	case p.s.Dialect() != nil || p.promptLearnt():
		return p.Await(limited, func(v sense.State) bool { return v.AtPrompt || v.Dialog != "" })
	}
	quiet := pasteQuiet
	if number == p.of {
		quiet = pasteLast
	}
	for {
		v := p.Device()
		if now, err := p.quiet(limited, v.Bytes, quiet); err != nil || now.Bytes == v.Bytes {
			return now, err
		}
	}
}

// promptLearnt reports whether a prompt is known though no dialect is.
func (p *pasting) promptLearnt() (so bool) {
	p.s.do(func() { so = p.s.learnt })
	return so
}

// quiet waits for more than so many bytes, and no longer than that.
func (p *pasting) quiet(ctx context.Context, had int64, wait time.Duration) (sense.State, error) {
	limited, cancel := p.Clock().WithTimeout(ctx, wait)
	defer cancel()
	_, err := p.Await(limited, func(v sense.State) bool { return v.Bytes > had })
	if err != nil && ctx.Err() == nil && errors.Is(err, context.DeadlineExceeded) {
		err = nil
	}
	return p.Device(), err
}
