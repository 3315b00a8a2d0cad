// Package runbook is the language of changes and the engine that carries them out. A runbook names
// actions of a dialect, never device text, so that it serves every dialect that has them; it is
// checked whole against the dialect before a line is opened.
package runbook

import (
	"fmt"
	"os"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"pilotrix/core/carrier/xmodem"
	"pilotrix/core/device"
	"pilotrix/core/dialect"
	"pilotrix/core/expression"
	"pilotrix/core/image"
	"pilotrix/core/line"
	"pilotrix/core/network"
	"pilotrix/core/reckon"
	"pilotrix/core/source"
)

// Runbook is a loaded runbook. It is checked against a dialect by Prepare.
type Runbook struct {
	Document
	file *source.File
}

// Load reads a runbook file.
func Load(path string) (*Runbook, error) {
	r := &Runbook{}
	f, err := source.Read(path, &r.Document)
	if err != nil {
		return nil, err
	}
	r.file = f
	return r, r.checkForm()
}

// Parse does the same with text at hand; name is used in complaints.
func Parse(name string, data []byte) (*Runbook, error) {
	r := &Runbook{}
	f, err := source.Decode(name, data, &r.Document)
	if err != nil {
		return nil, err
	}
	r.file = f
	return r, r.checkForm()
}

var inputKinds = []string{KindImage, KindText, KindNumber, KindChoice, KindSecret, KindFolder}

// checkForm checks what needs no dialect.
func (r *Runbook) checkForm() error {
	if r.Runbook == "" {
		return r.file.Errorf("", "the runbook's name (runbook: …) is missing")
	}
	for i, input := range r.Inputs {
		path := fmt.Sprintf("inputs[%d]", i)
		switch {
		case input.Input == "":
			return r.file.Errorf(path, "the input's name (input: …) is missing")
		case !slices.Contains(inputKinds, input.Kind):
			return r.file.Errorf(path+".kind", "no kind of input %q; there are %s", input.Kind, strings.Join(inputKinds, ", "))
		case input.Kind == KindChoice && len(input.Choices) == 0:
			return r.file.Errorf(path, "input %s is a choice of nothing: give choices", input.Input)
		}
	}
	if len(r.Legs) == 0 {
		return r.file.Errorf("runbook", "the runbook has no legs")
	}
	for i, leg := range r.Legs {
		if leg.For != nil && (leg.For.Each == "" || leg.For.In == "") {
			return r.file.Errorf(fmt.Sprintf("legs[%d].for", i), "a loop needs each (what its steps call it by) and in (the list)")
		}
	}
	return r.eachStep(func(path string, step Step) error {
		if verbs := step.verbs(); len(verbs) > 1 {
			return r.file.Errorf(path, "step %q does several things (%s): make a step of each", step.Step, strings.Join(verbs, ", "))
		} else if len(verbs) == 0 && step.Hold == "" {
			return r.file.Errorf(path, "step %q does nothing: give it one of %s", step.Step, strings.Join(verbNames, ", "))
		}
		return r.checkFailure(path+".on-failure", step.Failure)
	})
}

func (r *Runbook) checkFailure(path string, f OnFailure) error {
	if f.Do != "" && !slices.Contains([]string{"stop", "go-on", "go-back"}, f.Do) {
		return r.file.Errorf(path+".do", "no way to go on after a failure %q; there are stop, go-on and go-back", f.Do)
	}
	if f.AgainFrom != "" && !slices.ContainsFunc(r.Legs, func(leg Leg) bool { return leg.Leg == f.AgainFrom }) {
		return r.file.Errorf(path+".again-from", "no leg %q", f.AgainFrom)
	}
	return nil
}

// eachStep visits every step with its path in the file, the way back included.
func (r *Runbook) eachStep(visit func(path string, step Step) error) error {
	for i, leg := range r.Legs {
		for j, step := range leg.Steps {
			if err := visit(fmt.Sprintf("legs[%d].steps[%d]", i, j), step); err != nil {
				return err
			}
		}
	}
	for j, step := range r.WayBack.Steps {
		if err := visit(fmt.Sprintf("way-back.steps[%d]", j), step); err != nil {
			return err
		}
	}
	return nil
}

var verbNames = []string{"read", "check", "act", "send", "speed", "catch", "operator", "wait", "compare", "note", "hold", "hops", "serve", "take", "put", "poll", "restart", "watch", "snapshot"}

func (s Step) verbs() (verbs []string) {
	for verb, given := range map[string]bool{
		"read": len(s.Read) > 0, "check": s.Check != "", "act": s.Act != nil, "send": s.Send != nil, "speed": s.Speed != nil,
		"catch": s.Catch != nil, "operator": s.Operator != "", "wait": s.Wait != nil, "compare": len(s.Compare) > 0, "note": s.Note != "",
		"hops": s.Hops != nil, "serve": s.Serve != nil, "take": s.Take != nil, "put": s.Put != nil, "poll": s.Poll != nil,
		"restart": s.Restart != nil, "watch": len(s.Watch) > 0, "snapshot": s.Snapshot != "",
	} {
		if given {
			verbs = append(verbs, verb)
		}
	}
	slices.Sort(verbs)
	return verbs
}

func (s Step) verb() string {
	if verbs := s.verbs(); len(verbs) > 0 {
		return verbs[0]
	}
	return "hold"
}

// Prepared is a runbook checked against a dialect, with its inputs: all that can be known before a
// line is opened.
type Prepared struct {
	Book    *Runbook
	Dialect *dialect.Dialect
	Images  map[string]*image.Image
	Inputs  map[string]string // secrets included; they are never shown
	Steps   []Prepped
	WayBack []Prepped
	Kit     Kit
}

// Kit is what a runbook works with besides the device: the images at hand, the files of allowed steps,
// the laptop's network. Every part may be missing; a step that needs it says so.
type Kit struct {
	Shelf   *image.Shelf
	Paths   func(name string) (*image.Paths, error)
	Network network.Network
	Folder  string // where archives are unpacked to; the system's temporary folder unless said
}

// Prepped is a step with its expressions compiled.
type Prepped struct {
	Step
	of       int                     // its leg's place in the file
	loop     *loop                   // of its leg, nil when there is none or when it was unrolled
	vars     map[string]any          // what the loop's name stands for
	images   map[string]*image.Image // files that the loop brings, by name
	ID       string
	Leg      string
	Verb     string
	Expected time.Duration
	Limit    time.Duration

	when    *expression.Guard
	check   *expression.Guard
	orElse  *expression.Template
	hold    *expression.Template
	wayBack *expression.Template
	say     *expression.Template // operator or note
	title   *expression.Template // of a step in a loop
	with    map[string]*expression.Template
	by      *expression.Template
	compare []comparison
	texts   map[string]*expression.Template // of verbs with several, by their key
	until   *expression.Guard
	giveUp  *expression.Guard
	watch   []*expression.Template
}

// loop is a leg's loop with its expressions compiled.
type loop struct {
	Loop
	leg       int // of the document
	name      *expression.Template
	in, where *expression.Guard
}

type comparison struct {
	Compare
	want, got *expression.Guard
	proves    *expression.Template
}

// names knows the facts of the dialect and the inputs of the runbook.
type names struct {
	r     *Runbook
	d     *dialect.Dialect
	extra []string // parameters of an action
	loop  string   // the name of the loop that is in force
	kept  []string // names of snapshots
}

// made are the names that steps make rather than readings.
var made = []string{
	"hops", "serve.address", "serve.port", "serve.name", "serve.path", "serve.user", "serve.password", "serve.carrier",
	"taken.name", "taken.path", "taken.size", "taken.sha256", "restart.took", "restart.away", "clock.day", "clock.time",
}

func (n names) Known(name string) bool {
	if slices.Contains(n.extra, name) || n.d.Knows(name) {
		return true
	}
	first, rest, _ := strings.Cut(name, ".")
	switch {
	case n.loop != "" && first == n.loop:
		return true // its fields are those of the list's rows
	case slices.Contains(n.kept, first):
		return rest == "" || n.d.Knows(rest)
	case slices.ContainsFunc(made, func(m string) bool { return m == name || strings.HasPrefix(m, name+".") }):
		return true
	}
	for _, input := range n.r.Inputs {
		if input.Input == name {
			return true
		}
		field, of := strings.CutPrefix(name, input.Input+".")
		if of && input.Kind == KindImage && (slices.Contains(image.Fields, field) ||
			slices.ContainsFunc(n.d.Headers(), func(h image.Header) bool { return h.Name == field })) {
			return true
		}
	}
	return false
}

// Prepare checks the runbook against a dialect and its inputs. Values maps inputs to what was given.
func (r *Runbook) Prepare(d *dialect.Dialect, values map[string]string, kit Kit) (*Prepared, error) {
	p := &Prepared{Book: r, Dialect: d, Images: map[string]*image.Image{}, Inputs: map[string]string{}, Kit: kit}
	if err := p.Check(); err != nil {
		return nil, err
	}
	if err := p.takeInputs(values); err != nil {
		return nil, err
	}
	p.reckonTimes()
	return p, nil
}

// Check compiles every step against a dialect, without inputs.
func (p *Prepared) Check() error {
	c := stepCompiler{names{r: p.Book, d: p.Dialect, kept: p.Book.snapshots()}, p.Book.file, nil}
	for i, leg := range p.Book.Legs {
		round := c.loop(i, leg)
		for j, step := range leg.Steps {
			id := fmt.Sprintf("%d.%d", i+1, j+1)
			prepped := c.step(fmt.Sprintf("legs[%d].steps[%d]", i, j), id, leg.Leg, step)
			prepped.loop, prepped.of = round, i
			p.Steps = append(p.Steps, prepped)
		}
		c.names.loop = ""
	}
	for j, step := range p.Book.WayBack.Steps {
		p.WayBack = append(p.WayBack, c.step(fmt.Sprintf("way-back.steps[%d]", j), fmt.Sprintf("back.%d", j+1), "way back", step))
	}
	return c.err
}

// CheckAgainst checks a runbook against a dialect and nothing else.
func (r *Runbook) CheckAgainst(d *dialect.Dialect) error {
	p := &Prepared{Book: r, Dialect: d}
	return p.Check()
}

func (r *Runbook) snapshots() (names []string) {
	_ = r.eachStep(func(_ string, step Step) error {
		if step.Snapshot != "" {
			names = append(names, step.Snapshot)
		}
		return nil
	})
	return names
}

type stepCompiler struct {
	names names
	file  *source.File
	err   error
}

func (c *stepCompiler) complain(path, format string, args ...any) {
	if c.err == nil {
		c.err = c.file.Errorf(path, format, args...)
	}
}

func (c *stepCompiler) guard(path, text string) *expression.Guard {
	if text == "" {
		return nil
	}
	g, err := expression.Compile(text, c.names)
	if err != nil {
		c.complain(path, "%v", err)
	}
	return g
}

func (c *stepCompiler) template(path, text string) *expression.Template {
	t, err := expression.CompileTemplate(text, c.names)
	if err != nil {
		c.complain(path, "%v", err)
	}
	return t
}

// Default limits, by verb: generous, since a limit is there to end a wait that nothing ends.
var verbLimits = map[string]time.Duration{
	"read": 30 * time.Second, "check": time.Second, "act": time.Minute, "send": 2 * time.Hour, "speed": 30 * time.Second,
	"catch": 2 * time.Minute, "operator": time.Hour, "wait": 5 * time.Minute, "compare": time.Second, "note": time.Second, "hold": 12 * time.Hour,
	"hops": time.Minute, "serve": time.Minute, "take": 5 * time.Minute, "put": 10 * time.Minute, "poll": 30 * time.Minute,
	"restart": 15 * time.Minute, "watch": time.Second, "snapshot": time.Second,
}

func (c *stepCompiler) step(path, id, leg string, step Step) Prepped {
	s := Prepped{Step: step, ID: id, Leg: leg, Verb: step.verb(), with: map[string]*expression.Template{}}
	if step.Step == "" {
		c.complain(path, "the step has no words (step: …)")
	}
	if c.names.loop != "" {
		s.title = c.template(path+".step", step.Step)
	}
	s.when, s.check = c.guard(path+".when", step.When), c.guard(path+".check", step.Check)
	s.orElse, s.hold = c.template(path+".else", step.Else), c.template(path+".hold", step.Hold)
	s.wayBack = c.template(path+".way-back", step.WayBack)
	s.say = c.template(path, step.Operator+step.Note)
	for i, name := range step.Read {
		if c.names.d.Reading(name) == nil {
			c.complain(fmt.Sprintf("%s.read[%d]", path, i), "dialect %s has no reading %q; it has %s", c.names.d.Dialect, name, strings.Join(c.names.d.ReadingNames(), ", "))
		}
	}
	switch {
	case step.Act != nil:
		c.action(path+".act", step.Act.Action, step.Act.With, &s)
	case step.Send != nil:
		c.send(path+".send", step.Send, &s)
	case step.Speed != nil && (step.Speed.To == 0) == !step.Speed.Back:
		c.complain(path+".speed", "say either to: BAUD or back: true")
	case step.Catch != nil:
		c.mode(path+".catch.mode", step.Catch.Mode)
	case step.Wait != nil:
		for i, mode := range step.Wait.Mode {
			c.mode(fmt.Sprintf("%s.wait.mode[%d]", path, i), mode)
		}
	}
	c.carriers(path, step, &s)
	for i, compare := range step.Compare {
		at := fmt.Sprintf("%s.compare[%d]", path, i)
		if compare.Want == "" || compare.Got == "" {
			c.complain(at, "a comparison needs want and got")
		}
		s.compare = append(s.compare, comparison{compare, c.guard(at+".want", compare.Want), c.guard(at+".got", compare.Got), c.template(at+".proves", compare.Proves)})
	}
	s.Limit = verbLimits[s.Verb]
	if step.Limit != nil {
		s.Limit = *step.Limit
	}
	if step.Expected != nil {
		s.Expected = *step.Expected
	}
	return s
}

func (c *stepCompiler) mode(path, name string) {
	if !c.names.d.HasMode(name) {
		c.complain(path, "dialect %s has no mode %q; it has %s", c.names.d.Dialect, name, strings.Join(c.names.d.ModeNames(), ", "))
	}
}

func (c *stepCompiler) send(path string, send *Send, s *Prepped) {
	s.by = c.template(path+".by", send.By)
	if !slices.ContainsFunc(c.names.r.Inputs, func(i Input) bool { return i.Input == send.File && i.Kind == KindImage }) {
		c.complain(path+".file", "no input %q of kind image", send.File)
	}
	if !strings.Contains(send.By, "${") {
		if _, err := xmodem.Parse(send.By); err != nil {
			c.complain(path+".by", "%v", err)
		}
	}
	c.action(path, send.Action, send.With, s)
}

func (c *stepCompiler) action(path, name string, with map[string]string, s *Prepped) {
	action := c.names.d.Action(name)
	if action == nil {
		c.complain(path+".action", "dialect %s has no action %q; it has %s", c.names.d.Dialect, name, strings.Join(c.names.d.ActionNames(), ", "))
		return
	}
	for _, parameter := range action.With {
		if _, given := with[parameter]; !given {
			c.complain(path, "action %q needs %s (with: {%s: …})", name, parameter, parameter)
		}
	}
	for key, text := range with {
		if !slices.Contains(action.With, key) {
			c.complain(path+".with."+key, "action %q takes no %q; it takes %s", name, key, strings.Join(action.With, ", "))
		}
		s.with[key] = c.template(path+".with."+key, text)
	}
	c.texts(path, action)
}

// texts checks what an action types: every ${…} has to be an input, a fact or a parameter.
func (c *stepCompiler) texts(path string, action *dialect.CompiledAction) {
	known := c.names
	known.extra = action.With
	texts := []string{action.Command}
	for _, dialog := range action.Dialogs {
		texts = append(texts, dialog.Answer)
	}
	for _, text := range texts {
		if _, err := expression.CompileTemplate(text, known); err != nil {
			c.complain(path+".action", "action %q types %q: %v", action.Action.Action, text, err)
		}
	}
}

// takeInputs checks what was given against what is needed.
func (p *Prepared) takeInputs(values map[string]string) error {
	for name := range values {
		if !slices.ContainsFunc(p.Book.Inputs, func(i Input) bool { return i.Input == name }) {
			return fmt.Errorf("runbook %s has no input %q; it has %s", p.Book.Runbook, name, p.Book.inputNames())
		}
	}
	for i, input := range p.Book.Inputs {
		path := fmt.Sprintf("inputs[%d]", i)
		value, given := values[input.Input]
		if !given && input.Default != nil {
			value, given = *input.Default, true
		}
		if !given {
			return p.Book.file.Errorf(path, "input %s is not set: %s", input.Input, input.howToSet())
		}
		if err := p.takeInput(input, value); err != nil {
			return p.Book.file.Errorf(path, "input %s: %v", input.Input, err)
		}
	}
	return nil
}

func (i Input) howToSet() string {
	if i.Kind == KindSecret {
		return fmt.Sprintf("give it with --secret %s=env:VARIABLE or --secret %s=file:PATH", i.Input, i.Input)
	}
	return fmt.Sprintf("give it with --set %s=…", i.Input)
}

var control = regexp.MustCompile(`[\x00-\x1f\x7f]`)

func (p *Prepared) takeInput(input Input, value string) error {
	if control.MatchString(value) {
		return fmt.Errorf("it holds a control character")
	}
	p.Inputs[input.Input] = value
	switch input.Kind {
	case KindImage:
		img, err := p.findImage(value)
		if err != nil {
			return err
		}
		p.Images[input.Input] = img
	case KindFolder:
		if info, err := os.Stat(value); value != "" && (err != nil || !info.IsDir()) {
			return fmt.Errorf("%s is no folder", value)
		}
	case KindNumber:
		if _, err := strconv.ParseFloat(value, 64); err != nil {
			return fmt.Errorf("%q is no number", value)
		}
	case KindChoice:
		if !slices.Contains(input.Choices, value) {
			return fmt.Errorf("%q is none of %s", value, strings.Join(input.Choices, ", "))
		}
	}
	return nil
}

func (r *Runbook) inputNames() string {
	names := make([]string, len(r.Inputs))
	for i, input := range r.Inputs {
		names[i] = input.Input
	}
	if len(names) == 0 {
		return "none"
	}
	return strings.Join(names, ", ")
}

// Input finds an input by name.
func (r *Runbook) Input(name string) (Input, bool) {
	for _, input := range r.Inputs {
		if input.Input == name {
			return input, true
		}
	}
	return Input{}, false
}

// Shown are the inputs as they may be recorded: without secrets.
func (p *Prepared) Shown() map[string]string {
	shown := map[string]string{}
	for _, input := range p.Book.Inputs {
		if input.Kind != KindSecret {
			shown[input.Input] = p.Inputs[input.Input]
		}
	}
	return shown
}

// Secrets are the values that are never recorded.
func (p *Prepared) Secrets() (secrets []string) {
	for _, input := range p.Book.Inputs {
		if input.Kind == KindSecret {
			secrets = append(secrets, p.Inputs[input.Input])
		}
	}
	return secrets
}

// Env lays inputs and facts out for expressions.
func (p *Prepared) Env(facts *device.Facts) map[string]any {
	env := facts.Tree()
	for name, value := range p.Inputs {
		env[name] = value
	}
	for name, img := range p.Images {
		env[name] = img.Tree()
	}
	return env
}

// reckonTimes fills in what a transfer is expected to take: over the line by the speed it has then, by a
// carrier by what the dialect says that the device takes.
func (p *Prepared) reckonTimes() {
	baud := p.Dialect.Line.Speed
	for i := range p.Steps {
		s := &p.Steps[i]
		if s.Speed != nil && s.Speed.To != 0 {
			baud = s.Speed.To
		}
		p.reckonMove(s)
		if s.Send == nil || s.Step.Expected != nil || baud == 0 {
			continue
		}
		img := p.Images[s.Send.File]
		variant, err := xmodem.Parse(s.by.Shown(p.Env(&device.Facts{})))
		framing, badFraming := line.ParseFraming(or(p.Dialect.Line.Framing, line.DefaultFraming))
		if err == nil && badFraming == nil && img != nil {
			s.Expected = reckon.TransferTime(img.Size, reckon.XMODEMRate(reckon.LineRate(baud, framing), variant.Block()))
		}
	}
}

func (p *Prepared) reckonMove(s *Prepped) {
	if s.Poll == nil || s.Poll.Moves == "" || s.Step.Expected != nil {
		return
	}
	if img := p.imageOf(s, s.Poll.Moves); img != nil {
		s.Expected = reckon.TransferTime(img.Size, p.Dialect.FetchRate())
	}
}

// imageOf finds a file that a step names: an input, or what its loop brings.
func (p *Prepared) imageOf(s *Prepped, name string) *image.Image {
	if img := s.images[name]; img != nil {
		return img
	}
	return p.Images[name]
}

func or(value, fallback string) string {
	if value == "" {
		return fallback
	}
	return value
}
