package exchange

import (
	"regexp"
	"strings"
	"time"

	"pilotrix/core/sense"
)

// PromptMode is the one mode of a device that no dialect is known for, once its prompt was learnt.
const PromptMode = "prompt"

// Learner learns a prompt where none is known: a text that came back twice behind an Enter, and behind which the device
// was quiet. Later ones equal it but for digits and what stands between the device's name and the sign at the end.
type Learner struct {
	enters int    // lines that were ended so far
	last   string // the text that came back, less its digits
	at     int    // behind how many
}

// learnQuiet is how long a device is quiet behind a prompt for that to be one.
const learnQuiet = 300 * time.Millisecond

// maxLearnt is how long a prompt is that is learnt, in bytes.
const maxLearnt = 60

// Entered notes that a line was ended.
func (l *Learner) Entered() { l.enters++ }

// See takes note of what the line shows, and returns the mode that was learnt, nil for none. Secret reports whether a
// line asks for a secret.
func (l *Learner) See(v sense.State, now time.Time, secret func(line string) bool) *sense.Mode {
	text := v.Partial
	if l.enters == l.at || !v.Answered || !v.Free || now.Sub(v.LastByte) < learnQuiet {
		return nil
	}
	if strings.TrimSpace(text) == "" || len(text) > maxLearnt || secret(text) ||
		v.UnknownQuestion() != "" && strings.ContainsAny(text, "?(") {
		return nil
	}
	l.at = l.enters
	kind := Kind(text)
	if kind != l.last {
		l.last = kind
		return nil
	}
	pattern := likePrompt(text)
	if pattern == nil || !pattern.MatchString(text) {
		return nil
	}
	return &sense.Mode{Name: PromptMode, Prompt: pattern, Learnt: true}
}

// Next is when See is wanted though nothing may come, the zero time for never.
func (l *Learner) Next(v sense.State) time.Time {
	if l.enters == l.at || !v.Answered || v.Partial == "" {
		return time.Time{}
	}
	return v.LastByte.Add(learnQuiet)
}

var (
	promptShape = regexp.MustCompile(`^([^\w\s]?)([\w.@-]*)(.*?)([>#$%/:~\]})!=|]{1,3} ?)$`)
	digits      = regexp.MustCompile(`\d+`)
)

// What stands behind a device's name in a prompt: a mode's word in brackets, or a path, a word or a number, and a sign.
const (
	bracketed = ` ?[\[({<][\w./~:@+-]{0,40}[\])}>][>#$%/:~!=|]{0,2} ?`
	signed    = `(?:[:~][\w./~+-]{0,60}| \w{1,12})? ?[>#$%/:~\]})!=|]{1,3} ?`
)

// likePrompt is a pattern of a prompt and of those that differ from it by digits and a mode's word, nil where it does
// not look like one.
func likePrompt(text string) *regexp.Regexp {
	parts := promptShape.FindStringSubmatch(text)
	if parts == nil {
		return nil
	}
	name := digits.ReplaceAllString(regexp.QuoteMeta(parts[1]+parts[2]), `\d*`)
	if parts[2] == "" {
		return regexp.MustCompile(`^` + name + regexp.QuoteMeta(parts[3]) + `[>#$%/:~\]})!=|]{1,3} ?$`)
	}
	return regexp.MustCompile(`^` + name + `(?:` + bracketed + `|` + signed + `)$`)
}
