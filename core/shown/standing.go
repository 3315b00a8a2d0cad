package shown

import "strings"

// Standing are the last lines, noise left out, the present one first. What is typed may be spread over
// several: a device that wraps by itself, or a log line in the middle, breaks it.
type Standing struct {
	lines []string
	noisy []bool // of each, noise stands between it and the one after
}

// Present is the present line.
func (s Standing) Present() string { return s.lines[0] }

// Before is the line before the present one that is no noise; behindNoise says that only noise stands
// between the two.
func (s Standing) Before() (line string, behindNoise bool) {
	if len(s.lines) < 2 {
		return "", false
	}
	return s.lines[1], s.noisy[1]
}

// Any returns the first of the lines, less the prompt it stands behind, for which such holds.
func (s Standing) Any(prompt string, prompts Prompts, such func(typed string) bool) (typed string, found bool) {
	for _, line := range s.lines {
		if rest, behindPrompt := prompts.Behind(line, prompt); behindPrompt {
			line = rest
		}
		if such(line) {
			return line, true
		}
	}
	return "", false
}

// Above reports whether one of the few lines above the present one is such a line.
func (s Standing) Above(such func(string) bool) bool {
	const few = 6
	for _, line := range s.lines[1:min(len(s.lines), few)] {
		if such(line) {
			return true
		}
	}
	return false
}

// Shows reports whether what stands behind one of the prompts, or behind base, is text: typed and echoed,
// on one line or broken over several. Base is the line as it was before it was typed.
func (s Standing) Shows(text, base string, prompts Prompts) bool {
	want := Squeeze(text)
	for joined, n := "", 0; n < len(s.lines); n++ {
		joined = s.lines[n] + joined
		all := Squeeze(joined)
		if !strings.HasSuffix(all, want) {
			continue // no end of it is the text: the prompts, which cost most, need not be tried
		}
		if rest, found := prompts.Behind(joined, base); found && Squeeze(rest) == want {
			return true
		}
		if n > 0 && base == "" && all == want {
			return true
		}
	}
	return base == "" && Squeeze(s.lines[0]) == want
}

// ShowsBefore reports whether a line above the present one is base with text after it.
func (s Standing) ShowsBefore(text, base string) bool {
	for _, line := range s.lines[1:] {
		if rest, found := strings.CutPrefix(line, base); found && Squeeze(rest) == Squeeze(text) {
			return true
		}
	}
	return false
}

// Squeeze makes text comparable: a tab comes back as the blanks up to the next stop, and blanks at the end
// cannot be told from those that were erased.
func Squeeze(text string) string { return strings.Join(strings.Fields(text), " ") }

// Typed is what stands behind the prompt; known is false where no prompt was found, and the present line is
// given as it is.
func (s Standing) Typed(prompt string, prompts Prompts) (text string, known bool) {
	joined := ""
	for i, line := range s.lines {
		if i > 0 && !s.noisy[i] && len(line) < MinWidth {
			break // that line was ended: what came below is something else
		}
		joined = line + joined
		if rest, found := prompts.Behind(joined, prompt); found {
			return rest, true
		}
	}
	return s.lines[0], false
}

// MinWidth is the narrowest terminal that a device breaks its lines for, in columns.
const MinWidth = 38
