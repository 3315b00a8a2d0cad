package dialect

import (
	"cmp"
	"fmt"
	"regexp"
	"slices"
	"strings"

	"pilotrix/core/expression"
)

// What a typed line means to the device: one answer for the interlocks, for what is pending, for the readings and
// actions that the operator types, and for texts that are tried.

// Alters says whether a line changes what the device keeps.
type Alters int

// The answers.
const (
	AltersNot   Alters = iota // it only looks
	AltersMaybe               // nothing knows it, where things can be changed
	AltersSure
)

// Meaning is what a typed line means.
type Meaning struct {
	// Readings are those whose command it is exactly, as their templates render with what is known; none where it is
	// short for something else too, or one of several commands.
	Readings []*CompiledReading
	// Action is the one that it surely is, by Way, with the values of its parameters; nil for none.
	Action *CompiledAction
	Way    *CompiledWay
	With   map[string]string
	Speed  *CompiledSpeed
	Alters Alters

	d        *Dialect
	line     string
	commands []lineCommand // that stand on the line, in their order
}

// lineCommand is one of the commands of a line.
type lineCommand struct {
	text  string   // as it stands
	spelt []string // what it may be short for, itself first
	many  bool     // for too many to say
	fits  []*known // whose words it may stand for
	exact bool     // it is spelt as they are
}

// known is a command of the dialect.
type known struct {
	in      []string
	words   []expression.Word
	reading *CompiledReading
	action  *CompiledAction
	way     *CompiledWay
	by      string
	speed   *CompiledSpeed
}

// knownCommands are those of the readings, the actions and the speeds, in the order of their names.
func (d *Dialect) knownCommands() (all []*known) {
	for _, name := range d.ReadingNames() {
		if r := d.readings[name]; r.Type != nil {
			all = append(all, &known{in: r.In, words: r.Type.Words(), reading: r})
		}
	}
	for _, name := range d.ActionNames() {
		action := d.actions[name]
		for _, by := range action.WayNames() {
			if way := action.ways[by]; way.Type != nil {
				all = append(all, &known{in: action.In, words: way.Type.Words(), action: action, way: way, by: by})
			}
		}
	}
	for _, speed := range d.speeds {
		if speed.Type != nil {
			all = append(all, &known{in: speed.In, words: speed.Type.Words(), speed: speed})
		}
	}
	return all
}

// fits reports whether words may stand for the command's, and whether they are spelt as those.
func (k *known) fits(s *spelling, typed []string) (exact, so bool) {
	if len(typed) != len(k.words) {
		return false, false
	}
	exact = true
	for i, word := range k.words {
		switch {
		case word.Pattern != nil:
			if !word.Pattern.MatchString(typed[i]) {
				return false, false
			}
		case s.same(word.Text, typed[i]):
		case s.shortFor(typed[i], word.Text):
			exact = false
		default:
			return false, false
		}
	}
	return exact, true
}

// begins reports whether words may stand for what the command begins with, up to its first parameter.
func (k *known) begins(s *spelling, typed []string) bool {
	for i, word := range k.words {
		switch {
		case word.Pattern != nil:
			return i > 0
		case i >= len(typed) || !s.same(word.Text, typed[i]) && !s.shortFor(typed[i], word.Text):
			return false
		}
	}
	return true
}

// given are the values that words give the command's parameters.
func (k *known) given(typed []string) map[string]string {
	given := map[string]string{}
	for i, word := range k.words {
		if word.Pattern == nil {
			continue
		}
		for n, value := range word.Pattern.FindStringSubmatch(typed[i])[1:] {
			given[word.Names[n]] = value
		}
	}
	return given
}

// rendersTo reports whether the command's words are those that are typed once its expressions have the values of env.
func (k *known) rendersTo(t *expression.Template, typed []string, env map[string]any) bool {
	if len(t.Uses()) == 0 {
		return true
	}
	text, err := t.Command(env)
	words := strings.Fields(text)
	if err != nil || len(words) != len(typed) {
		return false
	}
	for i, word := range k.words {
		if word.Pattern != nil && words[i] != typed[i] {
			return false
		}
	}
	return true
}

// Means is what a line means that is typed in a mode, in any where that is not known, with those values of facts. It
// works on a nil dialect, for which every line may do anything.
func (d *Dialect) Means(line, mode string, env map[string]any) Meaning {
	m := Meaning{d: d, line: line}
	if d == nil {
		m.Alters = AltersMaybe
		return m
	}
	for _, part := range d.spelling.parts(line) {
		m.commands = append(m.commands, d.commandOf(part, mode))
	}
	whole := d.commandOf(line, mode) // a reading's command may be several of the device's
	switch {
	case whole.exact:
		m.names(whole, env)
	case len(m.commands) == 1 && !d.redirects(line):
		m.names(m.commands[0], env)
	}
	for _, one := range m.commands {
		m.Alters = max(m.Alters, d.alters(one, mode))
	}
	if len(m.Readings) > 0 && m.Action == nil && whole.exact {
		m.Alters = AltersNot
	} else if d.redirects(line) || d.unread(line) != "" {
		m.Alters = max(m.Alters, d.unknownAlters(mode))
	}
	return m
}

func (d *Dialect) commandOf(text, mode string) (c lineCommand) {
	typed := d.spelling.withoutPrefixes(strings.Fields(text))
	c.text = strings.Join(typed, " ")
	c.spelt, c.many = d.spelling.spell(typed)
	for _, k := range d.known {
		if mode != "" && len(k.in) > 0 && !slices.Contains(k.in, mode) {
			continue
		}
		exact, so := k.fits(d.spelling, typed)
		switch {
		case mode == "" && k.words[0].Pattern != nil: // anything may be a name, but where one is asked for
		case !so || c.exact && !exact:
		case exact && !c.exact:
			c.exact, c.fits = true, []*known{k}
		default:
			c.fits = append(c.fits, k)
		}
	}
	return c
}

// names takes what a command surely is.
func (m *Meaning) names(c lineCommand, env map[string]any) {
	typed := strings.Fields(c.text)
	if !c.exact && !sameCommand(c.fits) {
		return // the device may take it for one or the other, or for neither
	}
	var actions []*known
	for _, k := range c.fits {
		switch {
		case k.reading != nil && k.rendersTo(k.reading.Type, typed, env):
			m.Readings = append(m.Readings, k.reading)
		case k.action != nil:
			actions = append(actions, k)
		case k.speed != nil:
			m.Speed = k.speed
		}
	}
	if len(actions) > 0 {
		k := plainest(actions)
		m.Action, m.Way, m.With = k.action, k.way, k.given(typed)
	}
}

// sameCommand reports whether commands are spelt alike but for their parameters.
func sameCommand(all []*known) bool {
	for _, k := range all {
		for i, word := range k.words {
			if (word.Pattern == nil) != (all[0].words[i].Pattern == nil) ||
				word.Pattern == nil && word.Text != all[0].words[i].Text {
				return false
			}
		}
	}
	return true
}

// plainest is the command with the fewest words that may be anything.
func plainest(all []*known) *known {
	literal := func(k *known) (n int) {
		for _, word := range k.words {
			if word.Pattern == nil {
				n++
			}
		}
		return n
	}
	return slices.MaxFunc(all, func(a, b *known) int { return cmp.Compare(literal(a), literal(b)) })
}

// alters says whether a command changes what the device keeps.
func (d *Dialect) alters(c lineCommand, mode string) Alters {
	if d.mayDo(c) {
		return AltersSure
	}
	worst, surely := AltersNot, true
	for _, k := range c.fits {
		if k.action != nil && k.action.Alters() {
			worst = AltersSure
		}
		surely = surely && (k.action != nil || k.reading != nil || k.speed != nil)
	}
	switch {
	case worst == AltersSure && (c.exact || sameCommand(c.fits)):
		return AltersSure
	case len(c.fits) > 0 && worst == AltersNot && surely, c.text == "", d.looksOnly(c):
		return AltersNot
	}
	return d.unknownAlters(mode)
}

// mayDo reports whether a command may be one that destroys, restarts, or makes something pending or deals with it.
func (d *Dialect) mayDo(c lineCommand) bool {
	may := func(pattern *regexp.Regexp) bool { return c.may(pattern) }
	return slices.ContainsFunc(d.restarts, may) ||
		slices.ContainsFunc(d.dangers, func(danger compiledDanger) bool { return may(danger.pattern) }) ||
		slices.ContainsFunc(d.pending, func(p compiledPending) bool { return may(p.after) || may(p.until) })
}

// looksOnly reports whether the dialect says of a command, as it stands, that it changes nothing.
func (d *Dialect) looksOnly(c lineCommand) bool {
	return slices.ContainsFunc(d.looks,
		func(look *regexp.Regexp) bool { return slices.ContainsFunc(c.spelt, look.MatchString) })
}

// unknownAlters says whether a command that nothing knows may change something: in a mode in which nothing can be
// changed it does not.
func (d *Dialect) unknownAlters(mode string) Alters {
	for _, action := range d.actions {
		if action.Alters() && (mode == "" || len(action.In) == 0 || slices.Contains(action.In, mode)) {
			return AltersMaybe
		}
	}
	return AltersNot
}

// redirects reports whether a shell writes or reads a file on a line.
func (d *Dialect) redirects(line string) bool {
	return d.Document.Commands.Grammar == GrammarShell && strings.ContainsAny(line, "<>")
}

// may reports whether a pattern matches what a command may mean.
func (c lineCommand) may(pattern *regexp.Regexp) bool {
	return c.many || slices.ContainsFunc(c.spelt, pattern.MatchString)
}

// Leads reports whether the line is known to bring the device into another mode.
func (m Meaning) Leads() bool { return m.Restarts() || m.Action != nil && m.Action.To != "" }

// Restarts reports whether the line may restart the device.
func (m Meaning) Restarts() bool {
	return m.d != nil && slices.ContainsFunc(m.commands, m.d.restartsBy)
}

func (d *Dialect) restartsBy(c lineCommand) bool { return slices.ContainsFunc(d.restarts, c.may) }

// Danger says what the line destroys, however it is spelt; empty when nothing known.
func (m Meaning) Danger() string {
	if m.d == nil {
		return ""
	}
	for _, c := range m.commands {
		for _, spelt := range c.spelt {
			for _, danger := range m.d.dangers {
				if !danger.pattern.MatchString(spelt) {
					continue
				}
				if spelt == spaced(m.line) {
					return danger.says
				}
				return fmt.Sprintf("may be taken for “%s”, which %s", spelt, danger.says)
			}
		}
		if c.many {
			return "may be short for more commands than can be told"
		}
	}
	return ""
}

// Denies reports whether an answer says that the line was not done: it was refused, it failed, or it did not say what
// its action succeeds with. Words are those that say so, empty where they are missing.
func (m Meaning) Denies(answer string) (denies bool, words string) {
	if m.d == nil {
		return false, ""
	}
	if words = m.d.Refuses(answer); words != "" {
		return true, words
	}
	if m.Way == nil {
		return false, ""
	}
	if words = m.Way.Fail.Find(answer); words != "" {
		return true, words
	}
	return m.Way.Done != nil && !m.Way.Done.Matches(answer), ""
}

// Named is what the line is, in words, such as “reading banks”; empty where nothing knows it.
func (m Meaning) Named() string {
	switch {
	case m.Action != nil:
		return "action " + m.Action.Action.Action
	case len(m.Readings) > 0:
		return "reading " + m.Readings[0].Reading.Reading
	case m.Speed != nil:
		return "speed"
	}
	return ""
}
