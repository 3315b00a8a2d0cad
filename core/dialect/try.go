package dialect

import (
	"cmp"
	"fmt"
	"regexp"
	"slices"
	"strings"
	"time"
	"unicode/utf8"

	"pilotrix/core/device"
	"pilotrix/core/event"
	"pilotrix/core/exchange"
	"pilotrix/core/expression"
	"pilotrix/core/shown"
)

// Tried is a line of a device's text, and what a dialect makes of it.
type Tried struct {
	Line    string
	Matches []string // what matched, in words; empty for a line that nothing knows
	Answer  string   // the command whose answer it stands in, where the dialect knows that
	Faults  []string // what did not match though it should have
}

// Known reports whether the dialect makes something of the line.
func (t Tried) Known() bool {
	return len(t.Matches) > 0 || t.Answer != "" || strings.TrimSpace(t.Line) == ""
}

// Trial holds a dialect against text that a device has written, line by line, as a session would without
// typing anything. It is used by one goroutine.
type Trial struct {
	d        *Dialect
	prompts  []*regexp.Regexp
	facts    device.Facts
	all      []*Tried
	command  *Tried   // the line with the command that is answered now
	answer   []*Tried // the lines of its answer so far
	typed    string
	readings []*CompiledReading
	ways     []*CompiledWay
	used     map[string]int
	made     map[*regexp.Regexp]shown.Prompts
}

// NewTrial begins with no text.
func (d *Dialect) NewTrial() *Trial {
	return &Trial{d: d, prompts: d.Prompts(), used: map[string]int{}, made: map[*regexp.Regexp]shown.Prompts{}}
}

func (t *Trial) match(line *Tried, kind, name, more string) {
	t.used[kind+" "+name]++
	line.Matches = append(line.Matches, strings.Join(strings.Fields(kind+" "+name+" "+more), " "))
}

// Exchange takes what was asked of a device and what it answered, as a record has it.
func (t *Trial) Exchange(x exchange.Recorded) {
	asked := strings.TrimRight(x.Prompt+x.Text, " ")
	mode, _, at := t.prompt(asked)
	if at {
		line := &Tried{Line: asked}
		t.all = append(t.all, line)
		t.match(line, "prompt", mode, "")
		t.begin(line, cmp.Or(x.Mode, mode), x.Text)
	} else { // the answer to a question that was asked outside of any, such as while a device starts
		t.answers(asked)
	}
	for _, noise := range x.Noise {
		t.Line(noise)
	}
	for _, row := range x.Answer {
		t.answers(row)
	}
	if at && x.Over.End != event.EndLed { // what a device writes while it starts is the answer to what had it start
		t.end()
	}
}

// Line takes a line that has ended. What stands on the present one is taken by it, too, when the text ends.
func (t *Trial) Line(text string) {
	line := &Tried{Line: strings.TrimRight(text, "\r\n")}
	if t.unasked(line) {
		t.all = append(t.all, line)
		return
	}
	if mode, command, at := t.prompt(line.Line); at {
		t.all = append(t.all, line)
		t.match(line, "prompt", mode, "")
		t.begin(line, mode, strings.TrimSpace(command))
		return
	}
	t.answers(text)
}

// unasked reports whether a line is noise, or no text.
func (t *Trial) unasked(line *Tried) bool {
	for i, noise := range t.d.sense.Noise {
		if noise.MatchString(line.Line) {
			t.match(line, "noise", string(t.d.Noise[i]), "")
			return true
		}
	}
	garble := strings.Count(line.Line, "\uFFFD")
	if garbled := garble > 0 && 2*garble >= utf8.RuneCountInString(line.Line); garbled {
		t.match(line, "garble", "", "at another speed")
		return true
	}
	return false
}

// answers takes a line of an answer, or one by itself.
func (t *Trial) answers(text string) {
	line := &Tried{Line: strings.TrimRight(text, "\r\n")}
	t.all = append(t.all, line)
	t.own(line)
	if t.command != nil {
		line.Answer = t.typed
		t.answer = append(t.answer, line)
	}
}

// prompt cuts the prompt off a line: the mode it stands for, and what was typed after it.
func (t *Trial) prompt(line string) (mode, command string, at bool) {
	for _, m := range t.d.sense.Modes {
		if m.Prompt == nil {
			continue
		}
		for _, text := range []string{line, line + " "} { // a blank at the end may have been cut off
			if rest, found := t.promptsOf(m.Prompt).Behind(text, ""); found {
				return m.Name, rest, true
			}
		}
	}
	return "", "", false
}

// promptsOf makes prompts of a pattern once: every line is held to each.
func (t *Trial) promptsOf(pattern *regexp.Regexp) shown.Prompts {
	made, known := t.made[pattern]
	if !known {
		made = shown.NewPrompts(pattern)
		t.made[pattern] = made
	}
	return made
}

// own is what a line says by itself, in whatever it stands.
func (t *Trial) own(line *Tried) {
	if pager := t.d.sense.Pager; pager != nil && pager.MatchString(line.Line) {
		t.match(line, "pager", "", "")
	}
	dialogs := t.d.dialogs
	for _, way := range t.ways {
		dialogs = slices.Concat(way.Asks, dialogs)
	}
	for _, dialog := range dialogs {
		for _, text := range []string{line.Line, line.Line + " "} {
			if rest, found := t.promptsOf(dialog.Pattern).
				Behind(text, ""); found &&
				len(strings.Fields(rest)) < 2 {
				t.match(line, "question", dialog.Dialog.Dialog, "")
				break
			}
		}
	}
	if t.d.AsksSecret(line.Line+" ") || t.d.AsksSecret(line.Line) {
		t.match(line, "secret", "", "is asked for")
	}
	for _, mode := range t.d.sense.Modes {
		if mode.Text != nil && mode.Text.MatchString(line.Line) {
			t.match(line, "mode", mode.Name, "")
		}
	}
	if words := t.d.Refuses(line.Line); words != "" {
		t.match(line, "refused", "", words)
	}
}

// begin takes a command; the answer to the previous one it is whole.
func (t *Trial) begin(line *Tried, mode, command string) {
	t.end()
	t.command, t.typed, t.answer = nil, command, nil
	t.readings, t.ways = nil, nil
	if command == "" {
		return
	}
	m := t.d.Means(command, mode, nil)
	for _, k := range t.d.commandOf(command, mode).fits {
		switch {
		case k.reading != nil:
			t.readings = append(t.readings, k.reading)
			t.match(line, "reading", k.reading.Reading.Reading, "")
		case k.action != nil:
			t.ways = append(t.ways, k.way)
			t.match(line, "action", strings.TrimSpace(k.action.Action.Action+" "+k.by), "")
		case k.speed != nil:
			t.ways = append(t.ways, &CompiledWay{Done: k.speed.Moved, Fail: k.speed.Fail})
			t.match(line, "speed", "", "is set")
		}
	}
	if says := m.Danger(); says != "" {
		t.match(line, "danger", "", says)
	}
	for _, p := range t.d.pending {
		if slices.ContainsFunc(m.commands, func(c lineCommand) bool { return c.may(p.after) || c.may(p.until) }) {
			t.match(line, "pending", p.Pending.Pending, "")
		}
	}
	if len(t.readings)+len(t.ways) > 0 {
		t.command = line
	}
}

// end holds a whole answer against what its command's readings and actions look for.
func (t *Trial) end() {
	if t.command == nil {
		return
	}
	lines := make([]string, len(t.answer))
	for i, line := range t.answer {
		lines[i] = line.Line
	}
	output := strings.Join(lines, "\n") + "\n"
	for _, r := range t.readings {
		t.tryReading(r, output)
	}
	for _, way := range t.ways {
		for what, m := range map[string]*Matcher{"done": way.Done, "fail": way.Fail, "ready": way.Ready} {
			for _, line := range t.answer {
				if m != nil && m.Find(line.Line) != "" {
					t.match(line, what, "", "")
				}
			}
		}
	}
	t.command = nil
}

// lineAt is the line of the answer that holds a place of its text.
func (t *Trial) lineAt(output string, at int) *Tried {
	n := strings.Count(output[:at], "\n")
	return t.answer[min(n, len(t.answer)-1)]
}

func (t *Trial) tryReading(r *CompiledReading, output string) {
	fault := func(format string, args ...any) {
		t.command.Faults = append(t.command.Faults, "reading "+r.Reading.Reading+": "+fmt.Sprintf(format, args...))
	}
	reported := false // of what Parse would say
	if len(t.answer) == 0 {
		fault("nothing was answered")
		return
	}
	if found := r.fail.Find(output); found != "" {
		t.command.Matches = append(t.command.Matches, "fails: "+found)
		return
	}
	lines, taken := strings.Split(output, "\n"), r.takenLines(output)
	near := func(pattern *regexp.Regexp) {
		for _, words := range nearMisses(pattern, lines, taken) {
			fault("%s", words)
		}
	}
	for _, fact := range r.facts {
		at := fact.pattern.FindStringSubmatchIndex(output)
		switch {
		case at != nil && at[2] >= 0:
			text, _ := fact.find(output)
			value, err := r.values.convert(fact.Value, text)
			if err != nil {
				fault("%s: %v", fact.Fact, err)
				reported = true
				continue
			}
			t.match(t.lineAt(output, at[2]), "fact", fact.Fact, "= "+expression.Format(value))
		case fact.Default == nil:
			fault("no %s (%s)", fact.Fact, fact.FactPattern.Pattern)
			reported = true
			near(fact.pattern)
		}
	}
	for _, row := range r.rows {
		all := row.pattern.FindAllStringIndex(output, -1)
		if len(all) == 0 && !row.Empty {
			fault("no row of %s (%s)", row.List, row.RowPattern.Pattern)
			reported = true
		}
		for i, at := range all {
			first := at[0]
			for first < at[1] && output[first] == '\n' {
				first++
			}
			t.match(t.lineAt(output, first), "row", fmt.Sprintf("%s[%d]", row.List, i), "")
		}
		near(row.pattern)
	}
	facts, err := r.Parse(output, t.typed, time.Time{}, &t.facts)
	if err != nil && !reported {
		fault("%v", err)
	}
	for _, f := range facts {
		t.facts.Set(f)
	}
}

// takenLines are the lines of an answer that any pattern of the reading matches, by their number.
func (r *CompiledReading) takenLines(output string) map[int]bool {
	taken := map[int]bool{}
	take := func(pattern *regexp.Regexp) {
		for _, at := range pattern.FindAllStringIndex(output, -1) {
			text := output[at[0]:at[1]]
			from := at[0] + len(text) - len(strings.TrimLeft(text, "\n"))
			for n := strings.Count(output[:from],
				"\n"); n <= strings.Count(output[:from]+strings.Trim(text, "\n"), "\n"); n++ {
				taken[n] = true
			}
		}
	}
	for _, fact := range r.facts {
		take(fact.pattern)
	}
	for _, row := range r.rows {
		take(row.pattern)
	}
	return taken
}

// Result is every line with what was made of it, and what of the dialect matched nothing.
func (t *Trial) Result() (lines []Tried, unused []string) {
	t.end()
	for _, line := range t.all {
		lines = append(lines, *line)
	}
	note := func(kind, name string) {
		if t.used[strings.TrimSpace(kind+" "+name)]+t.used[kind+" "+name] == 0 {
			unused = append(unused, strings.TrimSpace(kind+" "+name))
		}
	}
	for _, m := range t.d.Modes {
		if m.Prompt != "" {
			note("prompt", m.Mode)
		}
		if m.Text != "" {
			note("mode", m.Mode)
		}
	}
	for _, p := range t.d.Noise {
		note("noise", string(p))
	}
	for _, q := range t.d.dialogs {
		note("question", q.Dialog.Dialog)
	}
	for _, name := range t.d.ReadingNames() {
		note("reading", name)
	}
	for _, name := range t.d.ActionNames() {
		for _, by := range t.d.actions[name].WayNames() {
			note("action", strings.TrimSpace(name+" "+by))
		}
	}
	return lines, unused
}
