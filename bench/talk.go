package bench

import (
	"context"
	"fmt"
	"strings"
	"time"
)

// A Shell is a conversation whose first error sticks: the power is gone, and nothing that comes after it is said, asked
// or waited for. What must not happen without what was said before it, stands behind the true that this returned.

// OK reports whether the conversation goes on.
func (s *Shell) OK() bool { return s.err == nil }

// Context ends with the power.
func (s *Shell) Context() context.Context { return s.ctx }

// write puts text on the wire as it is.
func (s *Shell) write(text string) bool {
	if s.err != nil {
		return false
	}
	if at := strings.LastIndexAny(text, "\r\n"); at >= 0 {
		s.tail = text[at+1:]
	} else {
		s.tail += text
	}
	s.err = s.Wire.Write(s.ctx, []byte(text))
	return s.err == nil
}

// Say writes text as it is; an awkward device may have a log line to write first, and stops a long output.
func (s *Shell) Say(text string) bool {
	if s.captured != nil {
		s.captured.WriteString(text)
		return s.OK()
	}
	if q := s.Wire.quirks; q.has(Noise) && q.chance(oneInSays) {
		s.log()
	}
	if !s.paging {
		return s.write(text)
	}
	for _, line := range strings.SplitAfter(text, "\n") {
		s.write(line)
		if !strings.HasSuffix(line, "\n") {
			continue
		}
		if s.lines++; s.lines < pageLines {
			continue
		}
		s.lines = 0
		s.pause()
	}
	return s.OK()
}

// Sayf writes formatted text.
func (s *Shell) Sayf(format string, args ...any) bool { return s.Say(fmt.Sprintf(format, args...)) }

// Fields writes names and values below each other.
func (s *Shell) Fields(namesAndValues ...any) bool {
	width := 0
	for i := 0; i < len(namesAndValues); i += 2 {
		width = max(width, len(namesAndValues[i].(string)))
	}
	var out strings.Builder
	for i := 0; i+1 < len(namesAndValues); i += 2 {
		fmt.Fprintf(&out, "  %-*s  %v\r\n", width, namesAndValues[i], namesAndValues[i+1])
	}
	return s.Say(out.String())
}

const (
	pagerAsks = "  (more) "
	pagerWait = 5 * time.Minute
)

// pause is the pager: a blank goes on.
func (s *Shell) pause() {
	s.write(pagerAsks)
	for s.OK() {
		key, ok := s.Key(pagerWait)
		if !ok || key == ' ' || key == '\r' {
			break
		}
	}
	s.write("\r" + strings.Repeat(" ", len(pagerAsks)) + "\r")
}

// log writes a line unasked, on a line of its own.
func (s *Shell) log() {
	text := s.Wire.quirks.logLine(s.Wire.clock.Now()) + "\r\n"
	if s.tail != "" {
		text = "\r\n" + text
	}
	s.write(text)
}

// Wait lets time pass.
func (s *Shell) Wait(d time.Duration) bool {
	if s.err == nil {
		s.err = s.Wire.clock.Wait(s.ctx, d)
	}
	return s.err == nil
}

// Hang does nothing any more until the power goes.
func (s *Shell) Hang() {
	<-s.ctx.Done()
	s.err = s.ctx.Err()
}

// Dots shows progress: dots over that time, with texts around them.
func (s *Shell) Dots(before string, dots int, over time.Duration, after string) bool {
	s.Say(before)
	for range dots {
		if !s.Wait(over / time.Duration(dots)) {
			return false
		}
		s.Say(".")
	}
	return s.Say(after)
}

// Phase is a part of a start: what it is called, how long it takes, and what it ends with.
type Phase struct {
	Text  string
	Takes time.Duration
	End   string
}

// Phases go through the parts of a start, a dot every so often.
func (s *Shell) Phases(dots int, phases ...Phase) bool {
	for _, p := range phases {
		s.Dots(p.Text, dots, p.Takes, p.End+"\r\n")
	}
	return s.OK()
}

// Stall is a flash memory that takes its time, where the device has one of those.
func (s *Shell) Stall() bool { return !s.Wire.quirks.has(Flash) || s.Wait(flashStall) }

// Ask writes a question and returns the line typed.
func (s *Shell) Ask(question string) string {
	s.Say(question)
	return s.ReadLine(true)
}

// Yes asks a question that wants a y.
func (s *Shell) Yes(question string) bool { return s.Ask(question+" (y/n) ") == "y" }

// Secret writes a question whose answer does not show.
func (s *Shell) Secret(question string) string {
	s.Say(question)
	return s.ReadLine(false)
}

// StallOnce is that for what writes beside the conversation.
func (s *Shell) StallOnce() func(context.Context) error {
	if !s.Wire.quirks.has(Flash) {
		return nil
	}
	return func(ctx context.Context) error { return s.Wire.clock.Wait(ctx, flashStall) }
}
