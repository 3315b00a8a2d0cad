// Package paste moves text by typing it: line after line, slow enough for the device, awaiting its echo
// or its prompt before the next.
package paste

import (
	"context"
	"errors"
	"fmt"
	"regexp"
	"strings"
	"time"
	"unicode"

	"pilotrix/core/carrier"
	"pilotrix/core/clock"
)

// Options say how. The zero value types each line at once and awaits its echo.
type Options struct {
	Clock     clock.Clock
	Enter     string         // what ends a line, a carriage return unless said
	Character time.Duration  // pause after each character
	Line      time.Duration  // pause after each line
	Prompt    *regexp.Regexp // awaited after each line, instead of its echo
	Blind     bool           // await nothing
	Limit     time.Duration  // for each echo or prompt, 10 s unless said
	Fail      *regexp.Regexp // an answer that ends it
	Progress  func(carrier.Progress)
}

// Result is how far it came.
type Result struct {
	Lines, Typed int
	Took         time.Duration
}

// Failed tells the line that a device refused or did not answer.
type Failed struct {
	Number int // from 1
	Line   string
	Why    string
}

func (f *Failed) Error() string {
	return fmt.Sprintf("line %d of the text (%q): %s", f.Number, f.Line, f.Why)
}

const (
	usualLimit = 10 * time.Second
	quietAfter = 20 * time.Millisecond // a prompt is quiet for as long as the sensing wants it
)

// Send types a text. Control characters besides tabs are refused before anything is sent.
func Send(ctx context.Context, port carrier.Port, text string, opt Options) (Result, error) {
	if opt.Enter == "" {
		opt.Enter = "\r"
	}
	if opt.Limit == 0 {
		opt.Limit = usualLimit
	}
	lines := strings.Split(strings.TrimRight(strings.ReplaceAll(text, "\r\n", "\n"), "\n"), "\n")
	for i, line := range lines {
		if at := strings.IndexFunc(line, func(r rune) bool { return unicode.IsControl(r) && r != '\t' }); at >= 0 {
			return Result{}, &Failed{i + 1, line, fmt.Sprintf("it holds the control character %q, which is never typed to a device", line[at])}
		}
	}
	began := opt.Clock.Now()
	meter := carrier.NewMeter(opt.Clock)
	meter.Start()
	result := Result{}
	for i, line := range lines {
		if err := opt.line(ctx, port, i+1, line); err != nil {
			result.Took = opt.Clock.Since(began)
			return result, err
		}
		result.Lines, result.Typed = i+1, result.Typed+len(line)+len(opt.Enter)
		if opt.Progress != nil {
			p := carrier.Progress{Bytes: int64(result.Typed), Size: int64(len(text)), Blocks: i + 1, State: fmt.Sprintf("line %d of %d", i+1, len(lines))}
			meter.Fill(&p)
			opt.Progress(p)
		}
	}
	result.Took = opt.Clock.Since(began)
	return result, nil
}

func (o Options) line(ctx context.Context, port carrier.Port, number int, line string) error {
	if o.Character == 0 {
		if err := port.Write(ctx, []byte(line+o.Enter)); err != nil {
			return err
		}
	} else {
		for _, r := range line + o.Enter {
			if err := port.Write(ctx, []byte(string(r))); err != nil {
				return err
			}
			if err := o.Clock.Wait(ctx, o.Character); err != nil {
				return err
			}
		}
	}
	if !o.Blind {
		if err := o.answer(ctx, port, number, line); err != nil {
			return err
		}
	}
	return o.Clock.Wait(ctx, o.Line)
}

// answer awaits the line's echo or the prompt.
func (o Options) answer(ctx context.Context, port carrier.Port, number int, line string) error {
	deadline := o.Clock.Now().Add(o.Limit)
	var heard []byte
	buffer := make([]byte, 4096)
	for {
		wait := deadline.Sub(o.Clock.Now())
		quiet := o.Prompt != nil && o.Prompt.MatchString(lastLine(string(heard)))
		if quiet {
			wait = min(wait, quietAfter)
		}
		n, err := port.Read(ctx, buffer, wait)
		heard = append(heard, buffer[:n]...)
		text := string(heard)
		switch {
		case o.Fail != nil && o.Fail.MatchString(text):
			return &Failed{number, line, "the device answered: " + strings.TrimSpace(o.Fail.FindString(text))}
		case errors.Is(err, carrier.ErrSilent) && quiet:
			return nil
		case errors.Is(err, carrier.ErrSilent):
			what := "its echo"
			if o.Prompt != nil {
				what = "the prompt"
			}
			return &Failed{number, line, fmt.Sprintf("%s did not come within %s", what, o.Limit)}
		case err != nil:
			return err
		case o.Prompt == nil && echoed(text, line):
			return nil
		}
	}
}

// echoed reports whether a line came back whole, with its end.
func echoed(heard, line string) bool {
	at := strings.Index(heard, line)
	return at >= 0 && strings.ContainsAny(heard[at+len(line):], "\r\n")
}

func lastLine(text string) string {
	text = text[strings.LastIndex(text, "\n")+1:]
	return text[strings.LastIndex(text, "\r")+1:]
}
