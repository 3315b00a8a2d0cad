package runbook

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"

	"pilotrix/core/dialect"
	"pilotrix/core/expression"
	"pilotrix/core/image"
	"pilotrix/core/source"
)

// PreparedStep is a step, checked and ready.
type PreparedStep struct {
	Common
	ID       string
	Phase    string
	Verb     *Verb // nil for a hold alone
	Expected time.Duration
	Timeout  time.Duration
	Work     Work

	baud       int                     // the line's speed then, 0 where that is not known
	PhaseIndex int                     // its phase's place in the file
	loop       *CompiledLoop           // of its phase, nil when there is none or when it was unrolled
	Vars       map[string]any          // what the loop's name stands for
	images     map[string]*image.Image // files that the loop brings, by name

	Guards                                         []*expression.Guard // of its phase, then its own
	TitleText, HoldText, RollbackText, SkippedText *expression.Template
	path                                           string        // in the file
	least                                          time.Duration // the timeout without what is computed from a file's size
	TimeoutFrom                                    string        // what sets the timeout: the verb, or a place in a file
	ops                                            []op
}

// VerbName is the name of the step's verb.
func (s *PreparedStep) VerbName() string {
	if s.Verb == nil {
		return "hold"
	}
	return s.Verb.Name
}

// Learns reports that the step changes nothing and is done again when a run begins at a later phase.
func (s *PreparedStep) Learns() bool { return s.Verb != nil && s.Verb.Learns }

// CompiledLoop is a phase's loop with its expressions compiled.
type CompiledLoop struct {
	Loop
	phase     int // of the document
	name      *expression.Template
	in, where *expression.Guard
}

// Compiler checks one step and makes it ready. A verb's body reaches its own keys by their names.
type Compiler struct {
	names  names
	file   *source.File
	step   *PreparedStep
	path   string // of the step
	verb   string
	ops    []op            // in the order in which the step does them
	burned string          // the first step that changes what the device keeps
	gone   map[string]bool // moves that were complained of: once is enough

	lasts bool          // the step changes what the device keeps
	takes time.Duration // what the longest of the step's actions and readings may take
	where string        // that is set
}

// Takes notes how long something in the step may take: the step may take as long, whatever it says itself.
func (c *Compiler) Takes(timeout *source.Duration, where string) {
	if timeout != nil && time.Duration(*timeout) > c.takes {
		c.takes, c.where = time.Duration(*timeout), where
	}
}

// At is the place of one of the verb's keys in the file; of the verb itself for an empty key.
func (c *Compiler) At(key string) string {
	switch {
	case c.verb == "":
		return c.path + "." + key
	case key == "" || strings.HasPrefix(key, "["):
		return c.path + "." + c.verb + key
	}
	return c.path + "." + c.verb + "." + key
}

// Complain keeps a complaint about one of the verb's keys.
func (c *Compiler) Complain(key, format string, args ...any) {
	c.file.Complain(c.At(key), format, args...)
}

// Dialect is what the runbook is checked against.
func (c *Compiler) Dialect() *dialect.Dialect { return c.names.d }

// Guard compiles an expression, nil for one that was not given.
func (c *Compiler) Guard(key string, text source.Expression) *expression.Guard {
	return c.guard(key, text, false)
}

// Proof compiles an expression that proves something: what it reads has to be read after the last change.
func (c *Compiler) Proof(key string, text source.Expression) *expression.Guard {
	return c.guard(key, text, true)
}

func (c *Compiler) guard(key string, text source.Expression, proof bool) *expression.Guard {
	if text == "" {
		return nil
	}
	g, err := expression.Compile(string(text), c.names)
	if err != nil {
		c.Complain(key, "%v", err)
		return nil
	}
	c.uses(key, g.Uses(), proof)
	return g
}

// Template compiles a text with ${…} that is shown or typed for everybody to see.
func (c *Compiler) Template(key, text string) *expression.Template {
	t, err := expression.CompileTemplate(text, c.names)
	if err != nil {
		c.Complain(key, "%v", err)
		return nil
	}
	c.uses(key, t.Uses(), false)
	return t
}

// textOf compiles a text of the runbook itself.
func (c *Compiler) textOf(path, text string) *expression.Template {
	t, err := expression.CompileTemplate(text, c.names)
	if err != nil {
		c.file.Complain(path, "%v", err)
		return nil
	}
	for _, name := range t.Uses() {
		if c.names.secret(name) {
			c.file.Complain(path, "%s is a secret and would be shown here", name)
		}
	}
	return t
}

// uses notes that names are read, and that they are shown.
func (c *Compiler) uses(key string, names []string, proof bool) {
	for _, name := range names {
		first, _, _ := strings.Cut(name, ".")
		if c.names.row != "" && first == c.names.row {
			continue // its fields are those of the rows
		}
		if first == dialect.Can || first == dialect.Lacks { // what the release has follows from the release
			name = image.FactRelease
		}
		c.ops = append(c.ops, op{kind: opUse, name: name, path: c.At(key), proof: proof})
		if c.names.secret(name) {
			c.Complain(key,
				"%s is a secret and would be shown here: it is typed only where the dialect says that it is a secret",
				name)
		}
	}
}

// Row has what is compiled meanwhile know a row of a list by a name.
func (c *Compiler) Row(name string, compile func()) {
	c.names.row = name
	defer func() { c.names.row = "" }()
	compile()
}

// Makes notes that names are made at this point of the step.
func (c *Compiler) Makes(names ...string) {
	for _, name := range names {
		c.ops = append(c.ops, op{kind: opMake, name: name})
	}
}

// Changes notes that the device is changed at this point: what was read before is old then.
func (c *Compiler) Changes() { c.ops = append(c.ops, op{kind: opChange}) }

// Alters notes that what the device keeps is changed at this point.
func (c *Compiler) Alters() {
	c.Changes()
	c.lasts = true
}

// Reading finds a reading, with what it types and makes.
func (c *Compiler) Reading(key, name string) *dialect.CompiledReading {
	reading := c.names.d.Reading(name)
	if reading == nil {
		c.Complain(key, "dialect %s has no reading %q; it has %s", c.names.d.Dialect, name,
			strings.Join(c.names.d.ReadingNames(), ", "))
		return nil
	}
	c.Goes(key, reading.In...)
	c.Takes(reading.Timeout, reading.Where)
	c.typed(key, fmt.Sprintf("reading %q", name), reading.Command, c.names, nil)
	for _, echo := range reading.Echoes {
		c.typed(key, fmt.Sprintf("reading %q", name), echo.Is, c.names, nil)
	}
	c.Makes(reading.Makes()...)
	return reading
}

// Readings finds several.
func (c *Compiler) Readings(key string, names []string) (all []*dialect.CompiledReading) {
	for i, name := range names {
		if reading := c.Reading(fmt.Sprintf("%s[%d]", key, i), name); reading != nil {
			all = append(all, reading)
		}
	}
	return all
}

// Mode checks the name of a mode.
func (c *Compiler) Mode(key, name string) {
	if name != "" && !c.names.d.HasMode(name) {
		c.Complain(key, "dialect %s has no mode %q; it has %s", c.names.d.Dialect, name,
			strings.Join(c.names.d.ModeNames(), ", "))
	}
}

// Modes checks several.
func (c *Compiler) Modes(key string, names []string) {
	for i, name := range names {
		c.Mode(fmt.Sprintf("%s[%d]", key, i), name)
	}
}

// Goes checks what is typed on the way to modes: a login, say.
func (c *Compiler) Goes(key string, modes ...string) {
	if c.names.r.stays {
		return
	}
	for _, mode := range modes {
		for _, move := range c.names.d.MovesTo(mode) {
			way, err := c.names.d.Action(move.Action).Way("")
			c.Takes(c.names.d.Action(move.Action).Timeout, c.names.d.Action(move.Action).Where)
			if err == nil && !c.gone[move.Action] {
				c.gone[move.Action] = true
				c.way(key, fmt.Sprintf("going to mode %q: action %q", mode, move.Action), way, c.names, nil)
			}
		}
	}
}

// typed checks a text that is typed for everybody to see. Params are the names of parameters that hold a
// secret.
func (c *Compiler) typed(key, who, text string, known names, secrets []string) {
	t, err := expression.CompileTemplate(text, known)
	if err != nil {
		c.Complain(key, "%s types %q: %v", who, text, err)
		return
	}
	for _, name := range t.Uses() {
		if (known.secret(name) || slices.Contains(secrets, name)) && !slices.Contains(known.masked, name) {
			c.Complain(key,
				"%s would show the secret %s: it is typed only as an answer that the dialect marks secret: true, or in a command that names it under secret:",
				who, name)
		}
		if !slices.Contains(known.extra, name) {
			c.ops = append(c.ops, op{kind: opUse, name: name, path: c.At(key)})
		}
	}
}

// way checks all that a way of doing an action types.
func (c *Compiler) way(key, who string, way *dialect.CompiledWay, known names, secrets []string) {
	known.extra, known.masked = way.With, way.Secret
	c.typed(key, who, way.Command, known, secrets)
	for _, echo := range way.Echoes {
		c.typed(key, who, echo.Is, known, secrets)
	}
	for _, ask := range way.Asks {
		if !ask.Secret {
			c.typed(key, who, ask.Answer, known, secrets)
		} else if _, err := expression.CompileTemplate(ask.Answer, known); err != nil {
			c.Complain(key, "%s answers with %q: %v", who, ask.Answer, err)
		}
	}
}

// Uses notes that a step reads names by itself.
func (c *Compiler) Uses(key string, names []string) { c.uses(key, names, false) }

// Hashing checks what has the device compute the digests of files in one of its stores.
func (c *Compiler) Hashing(store *dialect.CompiledFiles) {
	known := c.names
	known.extra = []string{"file", dialect.Hashed}
	c.Goes("", store.Hashing.In...)
	c.Takes(store.Hashing.Timeout, store.Hashing.Where)
	c.typed("", fmt.Sprintf("reading %q", store.Hash), store.Hashing.Command, known, nil)
}

// WarnUnlessHeld warns of a step that destroys something, in words, and does not hold before it.
func (c *Compiler) WarnUnlessHeld(key, what string) {
	if c.step.Hold == "" {
		c.file.Warn(c.At(key), "%s, and the step does not hold before it", what)
	}
}

// Name checks a name that a step, or a loop, makes.
func (c *Compiler) Name(key, name string) {
	switch {
	case name == "":
	case !plainName.MatchString(name):
		c.Complain(key, "%q cannot be a name: want letters, digits and _, such as before", name)
	case expression.Reserved(name):
		c.Complain(key, "%s is a word of expressions and cannot be a name", name)
	case c.names.isInput(name) || c.names.d.Knows(name) || MadeByVerb(name):
		c.Complain(key, "%s is the name of something else already", name)
	}
}

// MadeByVerb reports names that verbs make by themselves, such as serve, and those that are always there.
func MadeByVerb(name string) bool {
	if name == "clock" || name == "prompt" {
		return true
	}
	return slices.ContainsFunc(Verbs(), func(v *Verb) bool {
		return slices.ContainsFunc(v.Makes,
			func(made string) bool { return made == name || strings.HasPrefix(made, name+".") })
	})
}

// Image checks that a file is an input of kind image, or something that the loop brings.
func (c *Compiler) Image(key, name string) {
	first, _, _ := strings.Cut(name, ".")
	if name == "" || c.names.loop != "" && first == c.names.loop {
		return
	}
	if !slices.ContainsFunc(c.names.r.Inputs, func(i Input) bool { return i.Input == name && i.Kind == KindImage }) {
		c.Complain(key, "no input %q of kind image", name)
	}
}

// Choices are what a text can be: itself, or the choices of the input that it names alone. Known is false for
// anything else.
func (c *Compiler) Choices(text string) (choices []string, known bool) {
	if !strings.Contains(text, "${") {
		return []string{text}, true
	}
	inner, ok := strings.CutPrefix(text, "${")
	inner, closed := strings.CutSuffix(inner, "}")
	input, found := c.names.r.Input(strings.TrimSpace(inner))
	if !ok || !closed || !found || input.Kind != KindChoice {
		return nil, false
	}
	for _, choice := range input.Choices {
		choices = append(choices, string(choice))
	}
	return choices, true
}

// Protocol compiles the name of a protocol and holds every name that it can be against what there is.
func (c *Compiler) Protocol(key, text string, parse func(string) error) *expression.Template {
	choices, known := c.Choices(text)
	if !known {
		c.Complain(key, "%s can be anything: let it be an input of kind choice, so that each can be checked", text)
	}
	for _, choice := range choices {
		if err := parse(choice); err != nil {
			c.Complain(key, "%v", err)
		}
	}
	return c.Template(key, text)
}

// step compiles one step of a phase.
func (r *Runbook) compileStep(c *Compiler, step *Step) PreparedStep {
	s := PreparedStep{Common: step.Common, Verb: step.verb, path: c.path}
	c.step, c.ops, c.verb, c.takes, c.lasts = &s, nil, "", 0, false
	if g := c.Guard("when", step.When); g != nil {
		s.Guards = append(s.Guards, g)
	}
	s.TitleText, s.SkippedText = c.Template("step", step.Step), c.Template("skipped", step.Skipped)
	s.HoldText, s.RollbackText = c.Template("hold", step.Hold), c.Template("rollback", step.Rollback)
	s.Timeout, s.TimeoutFrom = HoldTimeout, "what a hold has"
	if step.verb != nil {
		s.Timeout, s.TimeoutFrom = step.verb.Timeout, "what “"+step.verb.Name+"” has unless a step says otherwise"
		c.verb = step.verb.Name
		s.Work = step.body.Compile(c)
		c.verb = ""
	}
	if step.verb != nil && step.verb.OwnLine && step.On != "" {
		c.Complain("on",
			"the speed of another line is not changed by a step: only that of the first is put back at the end")
	}
	if step.Timeout != nil {
		s.Timeout, s.TimeoutFrom = time.Duration(*step.Timeout), c.file.Where(c.At("timeout"))
		if s.Timeout == 0 {
			c.Complain("timeout", "this takes no time at all")
		}
	}
	if c.takes > s.Timeout {
		s.Timeout, s.TimeoutFrom = c.takes, c.where
	}
	s.least = s.Timeout
	if step.Common.Expected != nil {
		s.Expected = time.Duration(*step.Common.Expected)
	}
	s.ops = c.ops
	return s
}

// HoldTimeout is for a hold alone: people sleep.
const HoldTimeout = 12 * time.Hour

// loop compiles a phase's loop and puts its name in force for the steps that follow.
func (c *Compiler) loop(i int, phase Phase) *CompiledLoop {
	c.path, c.verb = fmt.Sprintf("phases[%d]", i), ""
	if phase.For == nil {
		if strings.Contains(phase.Phase, "${") {
			c.Template("phase", phase.Phase)
		}
		return nil
	}
	c.names.loop = phase.For.Each
	c.Name("for.each", phase.For.Each)
	outer := *c
	outer.names.loop = ""
	round := &CompiledLoop{Loop: *phase.For, phase: i, in: outer.Guard("for.in", phase.For.In)}
	c.ops = outer.ops
	round.where = c.Guard("for.where", phase.For.Where)
	round.name = c.Template("phase", phase.Phase)
	return round
}

// Check compiles every step against a dialect, without inputs. All that is wrong is reported at once.
func (p *Prepared) Check() error {
	file := p.Book.file.Again()
	c := &Compiler{
		names: names{r: p.Book, d: p.Dialect, kept: p.Book.Snapshots(), made: p.Book.made()},
		file:  file,
		gone:  map[string]bool{},
	}
	c.dialogs()
	c.step, c.path = &PreparedStep{}, "runbook"
	p.title = c.textOf("title", p.Book.Title)
	p.about = c.textOf("rollback.about", p.Book.Rollback.About)
	for i, input := range p.Book.Inputs {
		if input.Input != "" && p.Dialect.Knows(input.Input) {
			file.Complain(fmt.Sprintf("inputs[%d].input", i),
				"the input %s would hide what dialect %s reads as %s: give it another name", input.Input,
				p.Dialect.Dialect, input.Input)
		}
	}
	for i := range p.Book.Phases {
		p.Steps = append(p.Steps, p.phase(c, i)...)
	}
	for j := range p.Book.Rollback.Steps {
		c.path = fmt.Sprintf("rollback.steps[%d]", j)
		s := p.Book.compileStep(c, &p.Book.Rollback.Steps[j])
		s.ID, s.Phase = fmt.Sprintf("back.%d", j+1), "rollback"
		for k, action := range s.Undoes {
			if p.Dialect.Action(action) == nil {
				c.Complain(fmt.Sprintf("undoes[%d]", k), "dialect %s has no action %q; it has %s", p.Dialect.Dialect,
					action, strings.Join(p.Dialect.ActionNames(), ", "))
			}
		}
		p.Rollback = append(p.Rollback, s)
	}
	c.unusedInputs(p)
	if file.Err() == nil { // an order is judged only of what is sound
		c.flow(p)
	}
	p.warnings = file.Warnings()
	return file.Err()
}

func (p *Prepared) phase(c *Compiler, i int) (steps []PreparedStep) {
	phase := &p.Book.Phases[i]
	c.ops = nil
	round := c.loop(i, *phase)
	when := c.Guard("when", phase.When)
	head := c.ops
	for j := range phase.Steps {
		c.path = fmt.Sprintf("phases[%d].steps[%d]", i, j)
		s := p.Book.compileStep(c, &phase.Steps[j])
		s.ID, s.Phase = fmt.Sprintf("%d.%d", i+1, j+1), phase.Phase
		s.loop, s.PhaseIndex = round, i
		c.rehearses(phase, &s)
		if when != nil {
			s.Guards = append([]*expression.Guard{when}, s.Guards...)
		}
		if j == 0 {
			s.ops = append(slices.Clone(head), s.ops...)
		}
		steps = append(steps, s)
	}
	c.names.loop = ""
	return steps
}

// rehearses holds that a rehearsal changes nothing that lasts, and that nothing comes before it that does.
func (c *Compiler) rehearses(phase *Phase, s *PreparedStep) {
	switch {
	case phase.Rehearse && c.lasts:
		c.file.Complain(c.path,
			"“%s” changes what the device keeps, and its phase is a rehearsal (rehearse: true): what does that comes behind it",
			s.Step)
	case phase.Rehearse && c.burned != "":
		c.file.Complain(c.path,
			"“%s” is rehearsed behind “%s”, which changes what the device keeps: a rehearsal comes first", s.Step,
			c.burned)
	case c.lasts:
		c.burned = cmp.Or(c.burned, s.Step)
	}
}

// dialogs checks what the dialect answers whenever it is asked.
func (c *Compiler) dialogs() {
	for _, dialog := range c.names.d.PlainDialogs() {
		if _, err := expression.CompileTemplate(dialog.Answer, c.names); err != nil {
			c.file.Complain("inputs", "dialect %s answers the question %q with %q: %v", c.names.d.Dialect,
				dialog.Dialog.Dialog, dialog.Answer, err)
		}
	}
}

// unusedInputs warns of what is asked for and never read.
func (c *Compiler) unusedInputs(p *Prepared) {
	used := map[string]bool{}
	note := func(steps []PreparedStep) {
		for _, s := range steps {
			for _, o := range s.ops {
				first, _, _ := strings.Cut(o.name, ".")
				used[first] = true
			}
		}
	}
	note(p.Steps)
	note(p.Rollback)
	for i, input := range p.Book.Inputs {
		if !used[input.Input] && input.Kind != KindSecret && input.Kind != KindImage {
			c.file.Warn(fmt.Sprintf("inputs[%d].input", i), "input %s is used nowhere", input.Input)
		}
	}
}

// CheckAgainst checks a runbook against a dialect and nothing else.
func (r *Runbook) CheckAgainst(d *dialect.Dialect) ([]*source.Complaint, error) {
	p := &Prepared{Book: r, Dialect: d}
	err := p.Check()
	return p.warnings, err
}

// Snapshots are the names that steps keep all facts under.
func (r *Runbook) Snapshots() (names []string) {
	r.eachStep(func(_ string, step *Step) {
		if body, ok := step.body.(Keeper); ok {
			names = append(names, body.Keeps())
		}
	})
	return names
}

// Lines are the lines that steps type on beside the first, by name.
func (r *Runbook) Lines() (names []string) {
	r.eachStep(func(_ string, step *Step) {
		if step.On != "" && !slices.Contains(names, step.On) {
			names = append(names, step.On)
		}
	})
	return names
}

// made are the names that the steps make besides facts.
func (r *Runbook) made() (names []string) {
	r.eachStep(func(_ string, step *Step) {
		if step.verb != nil {
			names = append(names, step.verb.Makes...)
		}
		if maker, ok := step.body.(interface{ Made() []string }); ok {
			names = append(names, maker.Made()...)
		}
	})
	return names
}
