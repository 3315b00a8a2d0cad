package dialect

import (
	"cmp"
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strings"

	"pilotrix/core/device"
	"pilotrix/core/expression"
	"pilotrix/core/image"
	"pilotrix/core/screen"
	"pilotrix/core/sense"
	"pilotrix/core/source"
)

// compiler checks a document and makes its patterns ready. Its complaints are kept in the file.
type compiler struct {
	f *source.File
	d *Dialect
}

func (c *compiler) complain(path, format string, args ...any) { c.f.Complain(path, format, args...) }

func (c *compiler) template(path, text string) *expression.Template {
	t, err := expression.CompileTemplate(text, nil)
	if err != nil {
		c.complain(path, "%v", err)
		return nil
	}
	return t
}

func (c *compiler) modes(path string, names []string) {
	for i, name := range names {
		c.mode(fmt.Sprintf("%s[%d]", path, i), name)
	}
}

func (c *compiler) mode(path, name string) {
	if name != "" && !c.d.HasMode(name) {
		c.complain(path, "no mode %q; there are %s", name, listed(c.d.ModeNames()))
	}
}

// once complains about a name that is a duplicate.
func once[T any](c *compiler, path, key string, list []T, name func(T) string) {
	seen := map[string]bool{}
	for i, item := range list {
		if n := name(item); n != "" && seen[n] {
			c.complain(fmt.Sprintf("%s[%d].%s", path, i, key), "%s %q is there twice", key, n)
		} else {
			seen[n] = true
		}
	}
}

func compile(doc Document, f *source.File) (*Dialect, error) {
	d := &Dialect{
		Document: doc, readings: map[string]*CompiledReading{}, actions: map[string]*CompiledAction{},
		values: values{device.NewOrder(doc.Releases.Earlier, doc.Releases.Later, doc.Releases.Pattern.RE())},
	}
	c := &compiler{f: f, d: d}
	if doc.Releases.Pattern != "" && doc.Releases.Pattern.RE().NumSubexp() == 0 {
		c.complain("releases.pattern", "the pattern has no group: put ( ) around the release")
	}
	once(c, "modes", "mode", doc.Modes, func(m Mode) string { return m.Mode })
	once(c, "readings", "reading", doc.Readings, func(r Reading) string { return r.Reading })
	once(c, "actions", "action", doc.Actions, func(a Action) string { return a.Action })
	once(c, "dialogs", "dialog", doc.Dialogs, func(q Dialog) string { return q.Dialog })
	once(c, "files", "files", doc.Files, func(f Files) string { return f.Files })
	once(c, "pending", "pending", doc.Pending, func(p Pending) string { return p.Pending })
	c.line()
	c.lineAndModes()
	for i, dialog := range doc.Dialogs {
		compiled := c.dialog(fmt.Sprintf("dialogs[%d]", i), dialog)
		d.dialogs = append(d.dialogs, compiled)
		d.sense.Dialogs = append(d.sense.Dialogs, sense.Dialog{Name: dialog.Dialog, Ask: compiled.Pattern})
	}
	for i, reading := range doc.Readings {
		c.reading(fmt.Sprintf("readings[%d]", i), reading)
	}
	c.factKinds()
	for i, action := range doc.Actions {
		c.action(fmt.Sprintf("actions[%d]", i), action)
	}
	c.rest()
	d.warnings = f.Warnings()
	if err := f.Err(); err != nil {
		return nil, err
	}
	d.sense.AsksSecret = d.AsksSecret
	return d, nil
}

func patterns(list []source.Pattern) (all []*regexp.Regexp) {
	for _, pattern := range list {
		if pattern != "" { // an empty one was complained of
			all = append(all, pattern.RE())
		}
	}
	return all
}

// line takes what a dialect says of the device's lines.
func (c *compiler) line() {
	d := c.d
	d.sense.Noise, d.refused = patterns(d.Noise), patterns(d.Document.Refused)
	if d.Document.Pager != nil {
		d.sense.Pager = d.Document.Pager.Pattern.RE()
	}
	d.sense.Charset, _ = screen.ParseCharset(d.Line.Charset)
	for i, speed := range d.Line.Speeds {
		if speed <= 0 {
			c.complain(fmt.Sprintf("line.speeds[%d]", i), "%d is no speed in baud", speed)
		}
	}
	if d.Line.Speed > 0 && len(d.Line.Speeds) > 0 && !slices.Contains(d.Line.Speeds, d.Line.Speed) {
		c.f.Warn("line.speed", "the usual speed %d is none of the speeds that it can be set to", d.Line.Speed)
	}
	if enter := d.Enter(); !strings.Contains(d.Ends(), enter[len(enter)-1:]) {
		c.complain("line.ends",
			"what ends a command here, %q, is not among the keys by which the device takes a line: no command would be looked at",
			enter)
	}
}

func (c *compiler) lineAndModes() {
	if len(c.d.Modes) == 0 {
		c.complain("modes", "a dialect needs at least one mode with a prompt")
	}
	for i, mode := range c.d.Modes {
		path := fmt.Sprintf("modes[%d]", i)
		if mode.Prompt == "" && mode.Text == "" && !c.f.Complained(path+".prompt") && !c.f.Complained(path+".text") {
			c.complain(path, "mode %q shows itself by nothing: give it a prompt or a text", mode.Mode)
		}
		if strings.Contains(string(mode.Prompt), `\r`) || strings.Contains(string(mode.Prompt), `\n`) {
			c.complain(path+".prompt", "a prompt is the last line alone: it has no line end in it")
		}
		c.d.sense.Modes = append(c.d.sense.Modes,
			sense.Mode{Name: mode.Mode, Prompt: mode.Prompt.RE(), Text: mode.Text.RE()})
	}
	for i, press := range c.d.Catch.Press {
		c.mode(fmt.Sprintf("catch.press[%d].mode", i), press.Mode)
	}
}

func (c *compiler) dialog(path string, dialog Dialog) *CompiledDialog {
	switch {
	case dialog.Enter && (dialog.Answer != "" || dialog.Operator || dialog.NoEnter):
		c.complain(path+".enter",
			"question %q is answered by Enter alone: no answer, operator or no-enter goes with that", dialog.Dialog)
	case dialog.Answer == "" && !dialog.Operator && !dialog.NoEnter && !dialog.Enter:
		c.complain(path, "question %q has no answer: give one, enter: true for Enter alone, or operator: true",
			dialog.Dialog)
	case dialog.Operator && dialog.Answer != "":
		c.complain(path+".answer", "the operator is asked this question, so it has no answer of its own")
	case dialog.Echo != "" && (dialog.Operator || dialog.Enter || dialog.NoEnter):
		c.complain(path+".echo", "nothing is waited for to come back of question %q: its answer has no text and Enter",
			dialog.Dialog)
	}
	return &CompiledDialog{Dialog: dialog, Pattern: dialog.Ask.RE(), Reply: c.template(path+".answer", dialog.Answer)}
}

var dottedName = regexp.MustCompile(`^[A-Za-z_]\w*(\.[A-Za-z_]\w*)*$`)

func (c *compiler) factName(path, name string) {
	if name != "" && !dottedName.MatchString(name) {
		c.complain(path,
			"%q cannot be a name: want words of letters, digits and _ with dots between, such as store.free", name)
	}
	if first, _, _ := strings.Cut(name, "."); expression.Reserved(first) {
		c.complain(path, "%s is a word of expressions: no name can begin with it", first)
	}
}

func (c *compiler) reading(path string, reading Reading) {
	c.modes(path+".in", reading.In)
	compiled := &CompiledReading{
		Reading: reading,
		Type:    c.template(path+".command", reading.Command),
		Where:   c.f.Where(path + ".timeout"),
		fail:    matcher(reading.Fail),
		echoes:  c.echoes(path, reading.Echoes),
		values:  c.d.values,
	}
	if len(reading.Facts)+len(reading.Rows) == 0 {
		c.f.Warn(path, "reading %q makes no facts: nothing is learnt from it", reading.Reading)
	}
	for i, fact := range reading.Facts {
		at := fmt.Sprintf("%s.facts[%d]", path, i)
		c.factName(at+".fact", fact.Fact)
		if fact.Pattern != "" && fact.Pattern.RE().NumSubexp() == 0 {
			c.complain(at+".pattern", "the pattern has no group: put ( ) around the value")
		}
		if fact.Default != nil {
			if _, err := c.d.values.convert(fact.Value, string(*fact.Default)); err != nil {
				c.complain(at+".default", "%v", err)
			}
		}
		compiled.facts = append(compiled.facts, compiledFact{fact, fact.Pattern.RE()})
	}
	for i, row := range reading.Rows {
		c.rows(fmt.Sprintf("%s.rows[%d]", path, i), row)
		if row.Count != "" &&
			!slices.ContainsFunc(reading.Facts,
				func(f FactPattern) bool { return f.Fact == row.Count && f.As == "number" }) {
			c.complain(fmt.Sprintf("%s.rows[%d].count", path, i), "reading %q makes no number %s", reading.Reading,
				row.Count)
		}
		compiled.rows = append(compiled.rows, compiledRow{row, row.Pattern.RE(), row.keyed()})
	}
	c.d.readings[reading.Reading] = compiled
}

func (c *compiler) rows(path string, row RowPattern) {
	c.factName(path+".list", row.List)
	groups := row.Pattern.Groups()
	if row.Pattern != "" && len(groups) == 0 {
		c.complain(path+".pattern", "the pattern has no named group: write (?P<name>…) around each column")
		return
	}
	for _, column := range slices.Sorted(maps.Keys(row.Columns)) {
		if !slices.Contains(groups, column) {
			c.complain(path+".columns."+column, "the pattern has no group %q; it has %s", column,
				strings.Join(groups, ", "))
		}
	}
	if row.Join != "" && !slices.Contains(groups, row.Join) {
		c.complain(path+".join", "the pattern has no group %q to join by; it has %s", row.Join,
			strings.Join(groups, ", "))
	}
	for i, column := range row.Key {
		if !slices.Contains(groups, column) {
			c.complain(fmt.Sprintf("%s.key[%d]", path, i), "the pattern has no group %q to know rows by; it has %s",
				column, strings.Join(groups, ", "))
		}
	}
	if row.Steady && len(row.keyed()) == 0 {
		c.complain(path+".steady", "say by which columns a row is known (key: [%s])", groups[0])
	}
}

// factKinds holds that a fact is of one kind whichever reading makes it, and that none lies inside another.
func (c *compiler) factKinds() {
	kind, first := map[string]string{}, map[string]string{}
	add := func(path, reading, name, as string) {
		if before, there := kind[name]; there && before != as {
			c.complain(path, "%s is a %s here and a %s in reading %q: one fact has one kind", name, as, before,
				first[name])
		}
		for other := range kind {
			if strings.HasPrefix(name, other+".") || strings.HasPrefix(other, name+".") {
				c.complain(path, "%s and %s cannot both be facts: one lies inside the other", name, other)
			}
		}
		if _, there := kind[name]; !there {
			kind[name], first[name] = as, reading
		}
	}
	for i, reading := range c.d.Readings {
		for j, fact := range reading.Facts {
			add(fmt.Sprintf("readings[%d].facts[%d].fact", i, j), reading.Reading, fact.Fact, cmp.Or(fact.As, "text"))
		}
		for j, row := range reading.Rows {
			add(fmt.Sprintf("readings[%d].rows[%d].list", i, j), reading.Reading, row.List, "list")
		}
	}
}

func (c *compiler) action(path string, action Action) {
	c.modes(path+".in", action.In)
	c.mode(path+".to", action.To)
	compiled := &CompiledAction{
		Action:   action,
		Progress: action.Progress.RE(),
		Where:    c.f.Where(path + ".timeout"),
		ways:     map[string]*CompiledWay{},
	}
	if action.Progress != "" {
		if n := action.Progress.RE().NumSubexp(); n < 1 || n > 2 {
			c.complain(path+".progress", "want one group for per cent, or two for so many of so many")
		}
	}
	c.gate(path, action)
	for name, way := range action.ways() {
		at := path
		if name != "" {
			at = path + ".by." + name
		}
		compiled.ways[name] = c.way(at, action, way)
	}
	c.d.actions[action.Action] = compiled
}

// gate checks from and until which release an action is there.
func (c *compiler) gate(path string, action Action) {
	order := c.d.Order()
	since, sinceErr := order.Parse(action.Since)
	until, untilErr := order.Parse(action.Until)
	switch {
	case action.Since != "" && sinceErr != nil:
		c.complain(path+".since", "%v", sinceErr)
	case action.Until != "" && untilErr != nil:
		c.complain(path+".until", "%v", untilErr)
	case action.Since != "" && action.Until != "" && since.Compare(until) >= 0:
		c.complain(path+".until", "no release has it: it is there from %s on, and before %s", action.Since,
			action.Until)
	case action.Instead != "" && action.Since == "" && action.Until == "":
		c.complain(path+".instead", "every release has it: say from which on (since) or before which (until)")
	case action.Since+action.Until != "" && !c.d.Knows(image.FactRelease):
		c.complain(path, "whether it is there depends on the release that runs, and no reading makes %s",
			image.FactRelease)
	}
}

func (c *compiler) way(path string, action Action, way Way) *CompiledWay {
	if way.Command == "" {
		c.complain(path+".command", "command is missing: what action %q types", action.Action)
	}
	compiled := &CompiledWay{
		Way:    way,
		Type:   c.template(path+".command", way.Command),
		Ready:  matcher(way.Ready),
		Done:   matcher(way.Done),
		Fail:   matcher(way.Fail),
		echoes: c.echoes(path, way.Echoes),
	}
	for i, dialog := range way.Dialogs {
		compiled.Asks = append(compiled.Asks, c.dialog(fmt.Sprintf("%s.dialogs[%d]", path, i), dialog))
	}
	if way.Done == "" && action.To == "" {
		c.complain(path,
			"action %q does not say what success looks like: give it done: PATTERN, or to: MODE where it leads to one",
			action.Action)
	}
	if way.Done != "" && way.Fail != "" { // a failure is looked for first
		if says, _ := way.Done.RE().LiteralPrefix(); says != "" && way.Fail.RE().MatchString(says) {
			c.complain(path+".fail", "action %q says %q when it succeeds, and that counts as a failure, too",
				action.Action, says)
		}
	}
	c.parameters(path, action, way, compiled)
	return compiled
}

// parameters holds that each one is used.
func (c *compiler) parameters(path string, action Action, way Way, compiled *CompiledWay) {
	used := compiled.Type.Uses()
	for _, ask := range compiled.Asks {
		used = append(used, ask.Reply.Uses()...)
	}
	for _, parameter := range way.With {
		if !slices.ContainsFunc(used,
			func(name string) bool { return name == parameter || strings.HasPrefix(name, parameter+".") }) {
			c.f.Warn(path+".with", "parameter %q of action %q is typed nowhere", parameter, action.Action)
		}
	}
	for i, secret := range way.Secret {
		if !slices.Contains(way.With, secret) {
			c.complain(fmt.Sprintf("%s.secret[%d]", path, i),
				"action %q has no parameter %q: what is secret is given to it (with: [%s])", action.Action, secret,
				secret)
		}
	}
}

func (c *compiler) rest() {
	d := c.d
	for i, move := range d.Moves {
		c.move(fmt.Sprintf("moves[%d]", i), move)
	}
	for i, speed := range d.Speed {
		path := fmt.Sprintf("speed[%d]", i)
		c.modes(path+".in", speed.In)
		t := c.template(path+".command", speed.Command)
		if t != nil && !slices.Contains(t.Uses(), "speed") {
			c.complain(path+".command", "the command does not say the speed: write ${speed} where it stands")
		}
		d.speeds = append(d.speeds,
			&CompiledSpeed{SetSpeed: speed, Type: t, Moved: matcher(speed.Moved), Fail: matcher(speed.Fail)})
	}
	for _, danger := range d.Dangers {
		if danger.Pattern != "" {
			d.dangers = append(d.dangers, compiledDanger{danger.Pattern.RE(), danger.Says})
		}
	}
	for i, pending := range d.Document.Pending {
		if pending.Within != nil && *pending.Within == 0 {
			c.complain(fmt.Sprintf("pending[%d].within", i), "this takes no time at all")
		}
		if pending.Left != "" && !d.Knows(pending.Left) {
			c.complain(fmt.Sprintf("pending[%d].left", i), "no reading makes a fact %s", pending.Left)
		}
		d.pending = append(d.pending, compiledPending{pending, pending.After.RE(), pending.Until.RE()})
	}
	d.secrets, d.restarts, d.looks = patterns(d.Secrets), patterns(d.Restarts), patterns(d.Looks)
	d.spelling, d.known = d.newSpelling(), d.knownCommands()
	for i, busy := range d.Document.Busy {
		c.busy(fmt.Sprintf("busy[%d]", i), busy)
	}
	c.nextStart()
	c.identity()
	for i, files := range d.Document.Files {
		c.files(fmt.Sprintf("files[%d]", i), files)
	}
	for i, header := range d.Image {
		d.headers = append(d.headers, c.header(fmt.Sprintf("image[%d]", i), header)...)
	}
	if d.Description != nil {
		for i, says := range d.Description.Says {
			d.described = append(d.described, c.header(fmt.Sprintf("description.says[%d]", i), says)...)
		}
	}
	c.flash()
	c.provision()
}

func (c *compiler) move(path string, move Move) {
	c.mode(path+".from", move.From)
	c.mode(path+".to", move.To)
	action := c.d.actions[move.Action]
	switch {
	case move.Action == "":
	case action == nil:
		c.complain(path+".action", "no action %q; there are %s", move.Action, listed(c.d.ActionNames()))
	case len(action.By) > 0:
		c.complain(path+".action", "action %q is done in several ways, and a move cannot choose one", move.Action)
	case len(action.With) > 0:
		c.complain(path+".action", "action %q needs %s, and a move gives no parameters", move.Action,
			strings.Join(action.With, ", "))
	case action.To != "" && action.To != move.To:
		c.complain(path+".to", "action %q leads to mode %s", move.Action, action.To)
	}
}

func (c *compiler) identity() {
	id := c.d.Document.Identity
	if id == nil || id.Read == "" {
		return
	}
	reading := c.d.readings[id.Read]
	switch {
	case reading == nil:
		c.complain("identity.read", "no reading %q; there are %s", id.Read, listed(c.d.ReadingNames()))
	case id.Fact != "" && !reading.MakesFact(id.Fact):
		c.complain("identity.fact", "reading %q makes no fact %q", id.Read, id.Fact)
	}
}

func (c *compiler) header(path string, header Header) []image.Header {
	if header.Pattern == "" {
		return nil
	}
	if header.Pattern.RE().NumSubexp() == 0 {
		c.complain(path+".pattern", "the pattern has no group: put ( ) around the value")
	}
	return []image.Header{{Name: header.Name, Pattern: header.Pattern.RE(), InName: header.In == "name"}}
}

// CompileHeaders compiles patterns for image files that stand under the key image of a file of their own.
func CompileHeaders(f *source.File, headers []Header) ([]image.Header, error) {
	c := &compiler{f: f, d: &Dialect{}}
	var all []image.Header
	for i, header := range headers {
		all = append(all, c.header(fmt.Sprintf("image[%d]", i), header)...)
	}
	return all, f.Err()
}

// listed are names for a complaint.
func listed(names []string) string {
	names = slices.DeleteFunc(slices.Clone(names), func(name string) bool { return name == "" })
	if len(names) == 0 {
		return "none"
	}
	return strings.Join(names, ", ")
}
