package sense

import (
	"regexp"
	"strings"
)

// question is how a line ends that asks something. It is looked for where no question is known: an Enter would
// answer it, with what the device takes for yes.
var question = regexp.MustCompile(`^[ -~]*[A-Za-z]{2}[ -~]*(\?|\?? ?[\[(][ -~]{1,16}[\])]\??) ?:? *$`)

// Question is what the device asks now, whether that is known or only looks like it; empty for nothing.
func (v State) Question() string {
	if v.Dialog != "" || v.UnknownQuestion() != "" {
		return v.Asked
	}
	return ""
}

// UnknownQuestion is a question that the device waits with and that is none of the known ones; empty for none. A prompt
// that something was typed at, which never went out, is none, however much it looks like one.
func (v State) UnknownQuestion() string {
	if v.promptsWith(v.Asked) || v.AtPrompt || v.Dialog != "" || v.Secret || !v.Free || !question.MatchString(v.Asked) {
		return ""
	}
	return strings.TrimSpace(v.Asked)
}
