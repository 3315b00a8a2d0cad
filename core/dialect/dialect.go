// Package dialect is the language that describes how one device family talks: modes, dialogs,
// readings, actions, dangers. A dialect is loaded whole and checked whole; what is left to fail at
// the device is only what the device does.
package dialect

import (
	"fmt"
	"regexp"
	"slices"
	"strings"
	"time"

	"pilotrix/core/device"
	"pilotrix/core/expression"
	"pilotrix/core/image"
	"pilotrix/core/line"
	"pilotrix/core/screen"
	"pilotrix/core/sense"
	"pilotrix/core/source"
)

// DefaultLimit is how long a command may take when neither dialect nor runbook says.
const DefaultLimit = 15 * time.Second

// Dialect is a checked dialect.
type Dialect struct {
	Document
	readings map[string]*CompiledReading
	actions  map[string]*CompiledAction
	speeds   []*CompiledSpeed
	dialogs  []*CompiledDialog
	dangers  []compiledDanger
	saves    []compiledSave
	restarts []*regexp.Regexp
	fetch    float64 // bytes a second
	secrets  []*regexp.Regexp
	refused  []*regexp.Regexp
	headers  []image.Header
	sense    sense.Config
}

// CompiledDialog is a question with its answer ready to be filled in.
type CompiledDialog struct {
	Dialog
	Pattern *regexp.Regexp
	Reply   *expression.Template
}

// CompiledReading is a reading with its patterns ready.
type CompiledReading struct {
	Reading
	Type  *expression.Template
	facts []compiledFact
	rows  []compiledRow
	fail  *regexp.Regexp
}

type compiledFact struct {
	FactPattern
	pattern *regexp.Regexp
}

type compiledRow struct {
	list    string
	pattern *regexp.Regexp
}

// CompiledAction is an action with its patterns ready; a pattern that was not given is nil.
type CompiledAction struct {
	Action
	Type              *expression.Template
	Asks              []*CompiledDialog
	Ready, Done, Fail *regexp.Regexp
	Progress          *regexp.Regexp
}

// CompiledSpeed sets the device's end of the line.
type CompiledSpeed struct {
	SetSpeed
	Type        *expression.Template
	Moved, Fail *regexp.Regexp
}

type compiledDanger struct {
	pattern *regexp.Regexp
	says    string
}

// Load reads and checks a dialect file.
func Load(path string) (*Dialect, error) {
	var doc Document
	f, err := source.Read(path, &doc)
	if err != nil {
		return nil, err
	}
	return compile(doc, f)
}

// Parse does the same with text at hand; name is used in complaints.
func Parse(name string, data []byte) (*Dialect, error) {
	var doc Document
	f, err := source.Decode(name, data, &doc)
	if err != nil {
		return nil, err
	}
	return compile(doc, f)
}

// compiler collects the first complaint; later ones would often only follow from it.
type compiler struct {
	f   *source.File
	d   *Dialect
	err error
}

func (c *compiler) complain(path, format string, args ...any) {
	if c.err == nil {
		c.err = c.f.Errorf(path, format, args...)
	}
}

// pattern compiles RE2, nil for an empty one.
func (c *compiler) pattern(path, text string) *regexp.Regexp {
	if text == "" {
		return nil
	}
	re, err := regexp.Compile(text)
	if err != nil {
		c.complain(path, "bad pattern: %s", strings.TrimPrefix(err.Error(), "error parsing regexp: "))
	}
	return re
}

func (c *compiler) template(path, text string) *expression.Template {
	t, err := expression.CompileTemplate(text, nil)
	if err != nil {
		c.complain(path, "%v", err)
	}
	return t
}

func (c *compiler) need(path, value, what string) {
	if value == "" {
		c.complain(path, "%s is missing", what)
	}
}

func (c *compiler) modes(path string, names []string) {
	for i, name := range names {
		if !c.d.HasMode(name) {
			c.complain(fmt.Sprintf("%s[%d]", path, i), "no mode %q; there are %s", name, strings.Join(c.d.ModeNames(), ", "))
		}
	}
}

func compile(doc Document, f *source.File) (*Dialect, error) {
	d := &Dialect{Document: doc, readings: map[string]*CompiledReading{}, actions: map[string]*CompiledAction{}}
	c := &compiler{f: f, d: d}
	c.need("dialect", doc.Dialect, "the dialect's name (dialect: …)")
	if len(doc.Modes) == 0 {
		c.complain("modes", "a dialect needs at least one mode with a prompt")
	}
	c.lineAndModes()
	for i, dialog := range doc.Dialogs {
		compiled := c.dialog(fmt.Sprintf("dialogs[%d]", i), dialog)
		d.dialogs = append(d.dialogs, compiled)
		d.sense.Dialogs = append(d.sense.Dialogs, sense.Dialog{Name: dialog.Dialog, Ask: compiled.Pattern})
	}
	for i, reading := range doc.Readings {
		c.reading(fmt.Sprintf("readings[%d]", i), reading)
	}
	for i, action := range doc.Actions {
		c.action(fmt.Sprintf("actions[%d]", i), action)
	}
	for i, speed := range doc.Speed {
		path := fmt.Sprintf("speed[%d]", i)
		c.modes(path+".in", speed.In)
		d.speeds = append(d.speeds, &CompiledSpeed{
			SetSpeed: speed, Type: c.template(path+".command", speed.Command),
			Moved: c.pattern(path+".moved", speed.Moved), Fail: c.pattern(path+".fail", speed.Fail),
		})
	}
	c.rest()
	c.lines()
	if c.err != nil {
		return nil, c.err
	}
	d.sense.AsksSecret = d.AsksSecret
	return d, nil
}

// lines compiles what a dialect says of the device's lines.
func (c *compiler) lines() {
	for i, noise := range c.d.Noise {
		if pattern := c.pattern(fmt.Sprintf("noise[%d]", i), noise); pattern != nil {
			if pattern.MatchString("") {
				c.complain(fmt.Sprintf("noise[%d]", i), "the pattern takes an empty line for noise, and so every one: begin it with what such a line begins with")
			}
			c.d.sense.Noise = append(c.d.sense.Noise, pattern)
		}
	}
	for i, refused := range c.d.Document.Refused {
		if pattern := c.pattern(fmt.Sprintf("refused[%d]", i), refused); pattern != nil {
			c.d.refused = append(c.d.refused, pattern)
		}
	}
	c.d.sense.Pager = c.pattern("pager.pattern", c.d.Document.Pager.Pattern)
	if c.d.sense.Pager == nil && c.d.Document.Pager.Key != "" {
		c.complain("pager.key", "a pager needs the pattern of what it asks with")
	}
	var err error
	if c.d.sense.Charset, err = screen.ParseCharset(c.d.Line.Charset); err != nil {
		c.complain("line.charset", "%v", err)
	}
	if _, _, err = line.ParseSize(c.d.Line.Size); err != nil {
		c.complain("line.size", "%v", err)
	}
	if c.d.Line.Framing != "" {
		if _, err := line.ParseFraming(c.d.Line.Framing); err != nil {
			c.complain("line.framing", "%v", err)
		}
	}
	if c.d.Line.Flow != "" && !slices.Contains(line.Flows, c.d.Line.Flow) {
		c.complain("line.flow", "no flow control %q; there are %s", c.d.Line.Flow, strings.Join(line.Flows, ", "))
	}
	if echo := c.d.Line.Echo; echo != "" && echo != "keys" && echo != "none" {
		c.complain("line.echo", "no echo %q; there are keys and none", echo)
	}
}

// Echoes reports whether what is typed comes back. It works on a nil dialect.
func (d *Dialect) Echoes() bool { return d == nil || d.Line.Echo != "none" }

// Empties is the key that empties the input line, empty when none is known. It works on a nil dialect.
func (d *Dialect) Empties() string {
	if d == nil {
		return ""
	}
	return d.Line.Empty
}

// Refuses finds the words by which an answer says that a line was not taken, empty when it does not say so. It
// works on a nil dialect.
func (d *Dialect) Refuses(answer string) string {
	if d == nil {
		return ""
	}
	for line := range strings.Lines(answer) {
		for _, refused := range d.refused {
			if words := strings.TrimSpace(refused.FindString(strings.TrimRight(line, "\n"))); words != "" {
				return words
			}
		}
	}
	return ""
}

// PagerKey is the key that makes a pager go on.
func (d *Dialect) PagerKey() string { return or(d.Document.Pager.Key, " ") }

// Starts reports whether a mode is one that the device is in while it starts: it shows itself by a text and
// waits for nobody. It works on a nil dialect.
func (d *Dialect) Starts(mode string) bool {
	return d != nil && slices.ContainsFunc(d.Modes, func(m Mode) bool { return m.Mode == mode && m.Prompt == "" })
}

// Leads reports whether a command is known to bring the device into another mode.
func (d *Dialect) Leads(command string) bool {
	if d == nil {
		return false
	}
	command = strings.TrimSpace(command)
	for _, restart := range d.restarts {
		if restart.MatchString(command) {
			return true
		}
	}
	for _, action := range d.actions {
		if first, _, _ := strings.Cut(action.Command, "${"); action.To != "" && strings.TrimSpace(first) != "" && strings.HasPrefix(command, first) {
			return true
		}
	}
	return false
}

func (c *compiler) lineAndModes() {
	seen := map[string]bool{}
	for i, mode := range c.d.Modes {
		path := fmt.Sprintf("modes[%d]", i)
		c.need(path, mode.Mode, "the mode's name (mode: …)")
		if seen[mode.Mode] {
			c.complain(path+".mode", "mode %q is there twice", mode.Mode)
		}
		seen[mode.Mode] = true
		if mode.Prompt == "" && mode.Text == "" {
			c.complain(path, "mode %q shows itself by nothing: give it a prompt or a text", mode.Mode)
		}
		c.d.sense.Modes = append(c.d.sense.Modes, sense.Mode{
			Name: mode.Mode, Prompt: c.pattern(path+".prompt", mode.Prompt), Text: c.pattern(path+".text", mode.Text),
		})
	}
	for i, press := range c.d.Catch.Press {
		c.modes(fmt.Sprintf("catch.press[%d].mode", i), []string{press.Mode})
	}
}

func (c *compiler) dialog(path string, dialog Dialog) *CompiledDialog {
	c.need(path, dialog.Ask, "the question (ask: …)")
	if dialog.Answer == "" && !dialog.Operator && !dialog.Bare {
		c.complain(path, "question %q has no answer: give one, or operator: true", dialog.Dialog)
	}
	return &CompiledDialog{Dialog: dialog, Pattern: c.pattern(path+".ask", dialog.Ask), Reply: c.template(path+".answer", dialog.Answer)}
}

var factKinds = []string{"", "text", "size", "number", "release", "digest"}

func (c *compiler) reading(path string, reading Reading) {
	c.need(path, reading.Reading, "the reading's name (reading: …)")
	c.need(path, reading.Command, "the command")
	c.modes(path+".in", reading.In)
	if c.d.readings[reading.Reading] != nil {
		c.complain(path+".reading", "reading %q is there twice", reading.Reading)
	}
	compiled := &CompiledReading{Reading: reading, Type: c.template(path+".command", reading.Command), fail: c.pattern(path+".fail", reading.Fail)}
	for i, fact := range reading.Facts {
		at := fmt.Sprintf("%s.facts[%d]", path, i)
		if !slices.Contains(factKinds, fact.As) {
			c.complain(at+".as", "no kind of fact %q; there are text, size, number, release and digest", fact.As)
		}
		pattern := c.pattern(at+".pattern", fact.Pattern)
		if pattern != nil && pattern.NumSubexp() == 0 {
			c.complain(at+".pattern", "the pattern has no group: put ( ) around the value")
		}
		compiled.facts = append(compiled.facts, compiledFact{fact, pattern})
	}
	for i, row := range reading.Rows {
		at := fmt.Sprintf("%s.rows[%d]", path, i)
		pattern := c.pattern(at+".pattern", row.Pattern)
		if pattern != nil && pattern.NumSubexp() == 0 {
			c.complain(at+".pattern", "the pattern has no named group: write (?P<name>…)")
		}
		compiled.rows = append(compiled.rows, compiledRow{row.List, pattern})
	}
	c.d.readings[reading.Reading] = compiled
}

func (c *compiler) action(path string, action Action) {
	c.need(path, action.Action, "the action's name (action: …)")
	c.modes(path+".in", action.In)
	if c.d.actions[action.Action] != nil {
		c.complain(path+".action", "action %q is there twice", action.Action)
	}
	if action.To != "" {
		c.modes(path+".to", []string{action.To})
	}
	compiled := &CompiledAction{
		Action: action, Type: c.template(path+".command", action.Command),
		Ready: c.pattern(path+".ready", action.Ready), Done: c.pattern(path+".done", action.Done),
		Fail: c.pattern(path+".fail", action.Fail), Progress: c.pattern(path+".progress", action.Progress),
	}
	for i, dialog := range action.Dialogs {
		compiled.Asks = append(compiled.Asks, c.dialog(fmt.Sprintf("%s.dialogs[%d]", path, i), dialog))
	}
	c.d.actions[action.Action] = compiled
}

func (c *compiler) rest() {
	for i, move := range c.d.Moves {
		path := fmt.Sprintf("moves[%d]", i)
		c.modes(path+".from", []string{move.From})
		c.modes(path+".to", []string{move.To})
		if c.d.actions[move.By] == nil {
			c.complain(path+".by", "no action %q; there are %s", move.By, strings.Join(c.d.ActionNames(), ", "))
		}
	}
	for i, danger := range c.d.Dangers {
		c.d.dangers = append(c.d.dangers, compiledDanger{c.pattern(fmt.Sprintf("dangers[%d].pattern", i), danger.Pattern), danger.Says})
	}
	for i, secret := range c.d.Secrets {
		c.d.secrets = append(c.d.secrets, c.pattern(fmt.Sprintf("secrets[%d]", i), secret))
	}
	for i, save := range c.d.Saves {
		path := fmt.Sprintf("saves[%d]", i)
		c.need(path, save.After, "the command that makes something to lose (after: …)")
		c.need(path, save.By, "the command that saves it (by: …)")
		c.d.saves = append(c.d.saves, compiledSave{c.pattern(path+".after", save.After), c.pattern(path+".by", save.By), save.Says})
	}
	for i, restart := range c.d.Restarts {
		c.d.restarts = append(c.d.restarts, c.pattern(fmt.Sprintf("restarts[%d]", i), restart))
	}
	if c.d.Fetch != "" {
		rate, err := device.ParseSize(c.d.Fetch)
		if err != nil {
			c.complain("fetch", "%v", err)
		}
		c.d.fetch = rate
	}
	for i, header := range c.d.Image {
		c.header(fmt.Sprintf("image[%d]", i), header)
	}
}

func (c *compiler) header(path string, header Header) {
	pattern := c.pattern(path+".pattern", header.Pattern)
	if pattern != nil && pattern.NumSubexp() == 0 {
		c.complain(path+".pattern", "the pattern has no group: put ( ) around the value")
	}
	if header.In != "" && header.In != "header" && header.In != "name" {
		c.complain(path+".in", "no place %q to look in; there are header and name", header.In)
	}
	c.d.headers = append(c.d.headers, image.Header{Name: header.Name, Pattern: pattern, InName: header.In == "name"})
}

// Enter is what ends a command. It works on a nil dialect.
func (d *Dialect) Enter() string {
	if d == nil {
		return "\r"
	}
	return or(d.Line.Enter, "\r")
}

// Nudge is the harmless key that brings a prompt.
func (d *Dialect) Nudge() string { return or(d.Catch.Nudge, "\r") }

func or(value, fallback string) string {
	if value == "" {
		return fallback
	}
	return value
}

// Sense is what the stream is read for.
func (d *Dialect) Sense() sense.Config { return d.sense }

// Headers are the patterns for image files.
func (d *Dialect) Headers() []image.Header { return d.headers }

// FetchRate is how much the device takes a second when it fetches a file, in bytes, 0 when not said.
func (d *Dialect) FetchRate() float64 { return d.fetch }

// HasMode reports whether the dialect, or the sensing itself, knows a mode.
func (d *Dialect) HasMode(name string) bool {
	return slices.Contains(d.ModeNames(), name)
}

// ModeNames lists the dialect's modes.
func (d *Dialect) ModeNames() []string {
	names := make([]string, len(d.Modes))
	for i, mode := range d.Modes {
		names[i] = mode.Mode
	}
	return names
}

// ModeTitle is a mode in words.
func (d *Dialect) ModeTitle(name string) string {
	for _, mode := range d.Modes {
		if mode.Mode == name {
			return or(mode.Title, name)
		}
	}
	return name
}

// Hunt is how the device's speed is looked for: the speeds it is known to have come first. It works on
// a nil dialect.
func (d *Dialect) Hunt() sense.Hunt {
	if d == nil {
		return sense.Hunt{}
	}
	return sense.Hunt{First: append([]int{d.Line.Speed}, d.Line.Speeds...), Prompts: d.Prompts(), Key: d.Nudge()}
}

// Prompts are the patterns of all prompts.
func (d *Dialect) Prompts() []*regexp.Regexp {
	var all []*regexp.Regexp
	for _, mode := range d.sense.Modes {
		if mode.Prompt != nil {
			all = append(all, mode.Prompt)
		}
	}
	return all
}

// Reading finds a reading by name, nil when there is none.
func (d *Dialect) Reading(name string) *CompiledReading { return d.readings[name] }

// Action finds an action by name, nil when there is none.
func (d *Dialect) Action(name string) *CompiledAction { return d.actions[name] }

// ReadingNames lists the readings.
func (d *Dialect) ReadingNames() []string { return sortedNames(d.readings) }

// ActionNames lists the actions.
func (d *Dialect) ActionNames() []string { return sortedNames(d.actions) }

func sortedNames[T any](m map[string]T) []string {
	names := make([]string, 0, len(m))
	for name := range m {
		names = append(names, name)
	}
	slices.Sort(names)
	return names
}

// Dialog finds the question that the text asks: one of the action's own first, then any.
func (d *Dialect) Dialog(own []*CompiledDialog, asks string) *CompiledDialog {
	for _, list := range [][]*CompiledDialog{own, d.dialogs} {
		for _, dialog := range list {
			if dialog.Pattern.MatchString(asks) {
				return dialog
			}
		}
	}
	return nil
}

// SpeedIn is how the device's speed is set in a mode, nil when it cannot be.
func (d *Dialect) SpeedIn(mode string) *CompiledSpeed {
	for _, speed := range d.speeds {
		if slices.Contains(speed.In, mode) {
			return speed
		}
	}
	return nil
}

// MoveFrom is the next move on the way between two modes, nil when there is no way.
func (d *Dialect) MoveFrom(from, to string) *Move {
	before := map[string]*Move{from: nil}
	for queue := []string{from}; len(queue) > 0; queue = queue[1:] {
		for i := range d.Moves {
			move := &d.Moves[i]
			if _, seen := before[move.To]; seen || move.From != queue[0] {
				continue
			}
			before[move.To] = move
			queue = append(queue, move.To)
		}
	}
	move := before[to]
	for move != nil && move.From != from {
		move = before[move.From]
	}
	return move
}

// KeyFor is the key that interrupts a mode, if there is one.
func (d *Dialect) KeyFor(mode string) (string, bool) {
	for _, press := range d.Catch.Press {
		if press.Mode == mode {
			return press.Key, true
		}
	}
	return "", false
}

// DangerOf says what a typed command destroys, empty when nothing known.
func (d *Dialect) DangerOf(command string) string {
	for _, danger := range d.dangers {
		if danger.pattern.MatchString(strings.TrimSpace(command)) {
			return danger.says
		}
	}
	return ""
}

// genericSecret covers devices without a dialect.
var genericSecret = regexp.MustCompile(`(?i)(password|passphrase|passcode|secret|pin)\b[^\n]{0,24}:\s*$`)

// AsksSecret reports whether what is typed next is a secret, by the unfinished line. It works on a
// nil dialect.
func (d *Dialect) AsksSecret(partial string) bool {
	if genericSecret.MatchString(partial) {
		return true
	}
	if d == nil {
		return false
	}
	for _, secret := range d.secrets {
		if secret.MatchString(partial) {
			return true
		}
	}
	return slices.ContainsFunc(d.dialogs, func(dialog *CompiledDialog) bool {
		return dialog.Secret && dialog.Pattern.MatchString(partial)
	})
}

// Knows reports whether a reading of the dialect makes a fact of that name, or one that begins so.
func (d *Dialect) Knows(name string) bool {
	for _, reading := range d.readings {
		for _, fact := range reading.facts {
			if fact.Fact == name || strings.HasPrefix(fact.Fact, name+".") {
				return true
			}
		}
		for _, row := range reading.rows {
			if row.list == name || strings.HasPrefix(row.list, name+".") {
				return true
			}
		}
	}
	return false
}

// Parse parses the output of the reading's command.
func (r *CompiledReading) Parse(output, command string, at time.Time) ([]device.Fact, error) {
	if r.fail != nil {
		if found := r.fail.FindString(output); found != "" {
			return nil, fmt.Errorf("%s answered: %s", command, strings.TrimSpace(found))
		}
	}
	var facts []device.Fact
	for _, fact := range r.facts {
		text := ""
		found := fact.pattern.FindStringSubmatch(output)
		switch {
		case found != nil:
			text = strings.TrimSpace(found[1])
		case fact.Absent != nil:
			text = *fact.Absent
		default:
			return nil, fmt.Errorf("%s: the answer says no %s (looked for %s in %d characters)", command, fact.Fact, fact.Pattern, len(output))
		}
		value, err := convert(fact.As, text)
		if err != nil {
			return nil, fmt.Errorf("%s: %s: %w", command, fact.Fact, err)
		}
		facts = append(facts, device.Fact{Name: fact.Fact, Value: value, Text: text, Source: command, At: at})
	}
	for _, row := range r.rows {
		list := rows(row.pattern, output)
		facts = append(facts, device.Fact{Name: row.list, Value: list, Text: fmt.Sprintf("%d rows", len(list)), Source: command, At: at})
	}
	return facts, nil
}

func rows(pattern *regexp.Regexp, output string) []map[string]any {
	list := []map[string]any{}
	names := pattern.SubexpNames()
	for _, found := range pattern.FindAllStringSubmatch(output, -1) {
		row := map[string]any{}
		for i, name := range names {
			if name != "" {
				row[name] = strings.TrimSpace(found[i])
			}
		}
		list = append(list, row)
	}
	return list
}

// TextRows are the rows of a list as text, for those who are told of a fact.
func TextRows(value any) []map[string]string {
	rows, is := value.([]map[string]any)
	if !is {
		return nil
	}
	out := make([]map[string]string, len(rows))
	for i, row := range rows {
		out[i] = map[string]string{}
		for name, text := range row {
			out[i][name] = fmt.Sprint(text)
		}
	}
	return out
}

// convert gives a value its type. A digest loses its case and its separators.
func convert(kind, text string) (any, error) {
	if text == "" {
		return "", nil
	}
	switch kind {
	case "size", "number":
		return device.ParseSize(text)
	case "release":
		return device.ParseRelease(text)
	case "digest":
		return strings.ToLower(strings.NewReplacer(" ", "", ":", "", "-", "").Replace(text)), nil
	}
	return text, nil
}

// Makes reports whether the reading makes a fact of that name.
func (r *CompiledReading) Makes(name string) bool {
	return slices.ContainsFunc(r.facts, func(f compiledFact) bool { return f.Fact == name }) ||
		slices.ContainsFunc(r.rows, func(row compiledRow) bool { return row.list == name })
}

// CompileHeaders compiles patterns for image files that stand under the key image of a file of their own.
func CompileHeaders(f *source.File, headers []Header) ([]image.Header, error) {
	c := &compiler{f: f, d: &Dialect{}}
	for i, header := range headers {
		c.header(fmt.Sprintf("image[%d]", i), header)
	}
	return c.d.headers, c.err
}
