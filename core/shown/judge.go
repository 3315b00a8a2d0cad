package shown

import (
	"bytes"
	"regexp"
	"slices"
)

// judgement is what was made of a line.
type judgement struct {
	noise bool   // it was written unasked
	asked bool   // nothing is on it but what a pager asked
	text  string // what the answer holds of it
}

// kept is the line as the answer holds it: without noise, and without what a pager asked.
func (j judgement) kept() (text string, kept bool) { return j.text, !j.noise && !j.asked }

// maxJudged and maxJudgedLine bound what is remembered of lines: more than two screens of them.
const (
	maxJudged     = 256
	maxJudgedLine = 512
)

// judge says what a line is. Every row of the screen is asked about again with each state that is sensed, so that what
// was made of a line is remembered.
func (m *Model) judge(line []byte) judgement {
	if j, known := m.judged[string(line)]; known {
		return j
	}
	j := m.opt.judge(line)
	if len(line) <= maxJudgedLine {
		if m.judged == nil || len(m.judged) >= maxJudged {
			m.judged = make(map[string]judgement, maxJudged)
		}
		m.judged[string(line)] = j
	}
	return j
}

func (o *Options) isNoise(line []byte) bool {
	return slices.ContainsFunc(o.Noise, func(noise *regexp.Regexp) bool { return noise.Match(line) })
}

func (o *Options) judge(line []byte) judgement {
	if o.isNoise(line) {
		return judgement{noise: true}
	}
	line = bytes.TrimRight(line, " ") // blanks cannot be told from what was erased by them
	if o.Pager == nil {
		return judgement{text: string(line)}
	}
	at := o.Pager.FindIndex(line)
	if at == nil {
		return judgement{text: string(line)}
	}
	rest := bytes.TrimRight(append(append([]byte(nil), line[:at[0]]...), line[at[1]:]...), " ")
	return judgement{text: string(rest), asked: len(rest) == 0}
}
