package runbook

import (
	"cmp"
	"fmt"
	"io"
	"maps"
	"slices"
	"strings"
	"time"

	"pilotrix/core/device"
	"pilotrix/core/dialect"
	"pilotrix/core/units"
)

// Typed is something that would be typed. When says under which condition, empty for in any case; Every says
// that it is typed again and again.
type Typed struct {
	Text  string        `json:"text"`
	When  string        `json:"when,omitempty"`
	Every time.Duration `json:"every,omitempty"`
	Key   bool          `json:"key,omitempty"` // a key without an Enter after it
	On    string        `json:"on,omitempty"`  // the line, empty for the first
}

// Line is it in words.
func (t Typed) Line() string {
	text := t.Text
	if t.Every > 0 {
		text += ", every " + units.Short(t.Every)
	}
	if t.On != "" {
		text += "   (on the line " + t.On + ")"
	}
	if t.When != "" {
		text += "   (" + t.When + ")"
	}
	return text
}

// TypedText is each of several in words.
func TypedText(typed []Typed) (words []string) {
	for _, t := range typed {
		words = append(words, t.Line())
	}
	return words
}

// PlanStep is a step as it is announced: what it would type, and what stops it.
type PlanStep struct {
	ID           string        `json:"id"`
	Phase        string        `json:"phase"`
	Title        string        `json:"title"`
	Rehearsed    bool          `json:"rehearsed,omitempty"` // its phase changes nothing that lasts
	Verb         string        `json:"verb"`
	When         []string      `json:"when,omitempty"`
	Reads        []Typed       `json:"reads,omitempty"` // before its hold, where what that says is old
	Types        []Typed       `json:"types,omitempty"`
	Danger       string        `json:"danger,omitempty"`
	Hold         string        `json:"hold,omitempty"`
	Rollback     string        `json:"rollback,omitempty"`
	Irreversible bool          `json:"irreversible,omitempty"`
	Expected     time.Duration `json:"expected"`
	Timeout      time.Duration `json:"timeout"`
	Checks       []string      `json:"checks,omitempty"`
	Does         []string      `json:"does,omitempty"` // on this laptop
	Estimates    []string      `json:"reckons,omitempty"`
	For          string        `json:"for,omitempty"`     // the loop that it is carried out in
	Pending      []string      `json:"pending,omitempty"` // what the step makes pending, or deals with
	Deadlines    []Deadline    `json:"deadlines,omitempty"`
	Skipped      string        `json:"skipped,omitempty"` // why it is not needed, where that is known before
}

// Takes is how long it is expected to take: no time where it is not needed.
func (s PlanStep) Takes() time.Duration {
	if s.Skipped != "" {
		return 0
	}
	return s.Expected
}

// Deadline is something that the device does by itself, as a plan sees it: begun by a step, or dealt with by it.
type Deadline struct {
	Name   string        `json:"name"`
	Opens  bool          `json:"opens"`
	Within time.Duration `json:"within,omitempty"` // of one that opens: until the device acts
	Left   time.Duration `json:"left,omitempty"`   // of one that is dealt with: what is expected to be left then; it is too late below 0
}

// Plan is every step of a runbook, before anything is sent.
type Plan struct {
	Runbook  string        `json:"runbook"`
	Title    string        `json:"title"`
	Dialect  string        `json:"dialect"`
	Expected time.Duration `json:"expected"`
	Answers  []Typed       `json:"answers,omitempty"`  // to what the device may ask at any time
	Identity []Typed       `json:"identity,omitempty"` // what shows which device it is, before a change
	Steps    []PlanStep    `json:"steps"`
	About    string        `json:"rollback_about,omitempty"`
	Rollback []PlanStep    `json:"rollback,omitempty"`
}

// Planner lays steps out one after the other: it knows what is known, and the mode that the device is in then.
type Planner struct {
	*Prepared
	Known   map[string]any
	Facts   *device.Facts // what is assumed, or was read
	Mode    string        // empty where it cannot be known
	locks   *dialect.Interlocks
	altered *bool          // the device was changed by then: what is read from there on is not known before
	gone    *time.Duration // what the steps before are expected to take
}

// newPlanner begins where nothing is typed yet.
func newPlanner(p *Prepared, env map[string]any, facts *device.Facts) *Planner {
	return &Planner{
		Prepared: p,
		Known:    env,
		Facts:    facts,
		locks:    p.Dialect.NewInterlocks(),
		altered:  new(bool),
		gone:     new(time.Duration),
	}
}

// Ahead begins in the middle of a run: at a mode, empty for an unknown one, with what is pending now.
func (p *Prepared) Ahead(
	env map[string]any, facts *device.Facts, mode string, pending []dialect.Open, now time.Time,
) *Planner {
	walk := newPlanner(p, env, facts)
	walk.Mode = mode
	open := slices.Clone(pending)
	for i := range open { // the plan's time begins with nought
		if until := &open[i].Until; !until.IsZero() {
			*until = time.Time{}.Add(max(1, until.Sub(now)))
		}
	}
	walk.locks.Assume(open)
	return walk
}

// Plan lays out what a run would do. Values that only the device can say stay as ${…}, and a loop over
// what only it can say stays one; facts that are assumed take the place of what would be read.
func (p *Prepared) Plan(assumed *device.Facts) Plan {
	steps, env := p.unrolled(assumed)
	plan := Plan{
		Runbook: p.Book.Runbook,
		Title:   p.TitleText(env),
		Dialect: p.Dialect.Dialect,
		About:   p.RollbackText(env),
	}
	walk := newPlanner(p, env, assumed)
	plan.Answers, plan.Identity = walk.answers(), walk.whichDevice()
	for i := range steps {
		step := walk.Next(&steps[i])
		plan.Steps = append(plan.Steps, step)
		plan.Expected += step.Takes()
	}
	walk.Mode = ""
	for i := range p.Rollback {
		plan.Rollback = append(plan.Rollback, walk.step(&p.Rollback[i]))
	}
	return plan
}

// unrolled are the steps with every loop unrolled whose list is known, and what they would see.
func (p *Prepared) unrolled(assumed *device.Facts) (steps []PreparedStep, env map[string]any) {
	env = p.openEnv(assumed)
	made := Made{}
	altered := false
	for i := 0; i < len(p.Steps); i++ {
		s := p.Steps[i]
		if work, ok := s.Work.(Gatherer); ok {
			files := work.Gathers(&Planner{Prepared: p, Known: env, Facts: assumed})
			files.Into(env)
			maps.Copy(made, files)
		}
		end := i
		for s.loop != nil && end < len(p.Steps) && p.Steps[end].loop == s.loop {
			end++
		}
		all, err := []map[string]any(nil), error(nil)
		unknown := s.loop != nil && altered && p.readOf(s.loop)
		if s.loop != nil && !unknown {
			all, err = rounds(s.loop, env)
		}
		altered = altered || changes(s.ops)
		if s.loop == nil || unknown || err != nil {
			steps = append(steps, s)
			continue
		}
		for n, vars := range all {
			steps = append(steps, p.copies(p.Steps[i:end], s.loop, n, vars, made)...)
		}
		i = end - 1
	}
	return steps, env
}

// readOf reports whether a loop goes over what is read of the device, which is not known before where that is changed
// first.
func (p *Prepared) readOf(l *CompiledLoop) bool {
	names := l.in.Uses()
	if l.where != nil {
		names = slices.Concat(names, l.where.Uses())
	}
	return slices.ContainsFunc(names, p.Dialect.Knows)
}

// passes lets the time of a step pass.
func (p *Planner) passes(step PlanStep) { *p.gone += step.Takes() }

// inside is the planner as it is within a step. What mode another line is in is not known.
func (p *Planner) inside(s *PreparedStep) Planner {
	within := *p
	if s.On != "" {
		within.Mode = ""
	}
	within.Known = maps.Clone(p.Known)
	maps.Copy(within.Known, s.Vars)
	return within
}

// Work is what a step types once it is approved.
func (p *Planner) Work(s *PreparedStep) []Typed {
	within := p.inside(s)
	within.foresee(s)
	return on(s, within.types(s))
}

// on marks what is typed on another line.
func on(s *PreparedStep, typed []Typed) []Typed {
	for i := range typed {
		typed[i].On = s.On
	}
	return typed
}

// reads are the commands of the readings that a hold rests on: they are typed where what it says is old.
func (p *Planner) reads(s *PreparedStep) (typed []Typed) {
	names := s.Rests()
	for _, name := range p.Dialect.ReadingNames() {
		reading := p.Dialect.Reading(name)
		made := func(fact string) bool {
			return slices.ContainsFunc(names, func(n string) bool {
				return n == fact || strings.HasPrefix(n, fact+".") || strings.HasPrefix(fact, n+".")
			})
		}
		if slices.ContainsFunc(reading.Makes(), made) {
			typed = append(typed, Typed{Text: reading.Type.Shown(p.Known), When: "if what the hold says is old"})
		}
	}
	return typed
}

// Next is a step as it is announced, and goes on after it.
func (p *Planner) Next(s *PreparedStep) PlanStep {
	step := p.step(s)
	p.passes(step)
	return step
}

func (p *Planner) step(s *PreparedStep) PlanStep {
	within := p.inside(s)
	step := PlanStep{
		ID:           s.ID,
		Phase:        s.Phase,
		Title:        s.TitleText.Shown(within.Known),
		Verb:         s.VerbName(),
		Irreversible: s.Irreversible,
		Rehearsed:    p.Rehearsed(s),
		Expected:     s.Expected,
		Timeout:      s.Timeout,
		Hold:         s.HoldText.Shown(within.Known),
		Rollback:     s.RollbackText.Shown(within.Known),
	}
	if s.loop != nil {
		step.For = fmt.Sprintf("each %s in %s", s.loop.Each, s.loop.In)
	}
	var skipped bool
	if step.When, skipped = within.when(s); skipped {
		step.Skipped = cmp.Or(s.SkippedText.Shown(within.Known), "not needed")
		return step
	}
	if w, describes := s.Work.(Summarizer); describes {
		report := w.Summary(&within, s)
		step.Does, step.Checks, step.Estimates = report.Does, report.Checks, report.Estimates
	}
	within.foresee(s)
	step.Expected += within.runsOutIn(s)
	step.Reads = on(s, within.reads(s))
	step.Types = on(s, within.types(s))
	step.Danger = within.danger(s, step.Types)
	step.Pending, step.Deadlines = within.pending(step.Types)
	if changes(s.ops) {
		*p.altered = true
	}
	for name, value := range within.Known { // what the step has made is known to later ones
		if _, own := s.Vars[name]; !own {
			p.Known[name] = value
		}
	}
	if s.On != "" {
		return step
	}
	if len(s.Guards) == 0 {
		p.Mode = within.Mode
	} else if p.Mode != within.Mode {
		p.Mode = "" // it may not have been gone to
	}
	return step
}

// when are the conditions of a step that only the device can say; skipped reports that one does not hold
// whatever it says.
func (p *Planner) when(s *PreparedStep) (open []string, skipped bool) {
	for _, g := range s.Guards {
		unknown := func(name string) bool {
			first, _, _ := strings.Cut(name, ".")
			_, own := s.Vars[first]
			return !own && !p.Knows(name)
		}
		if !slices.ContainsFunc(g.Uses(), unknown) {
			if holds, err := g.Holds(p.Known); err == nil {
				if !holds {
					return nil, true
				}
				continue
			}
		}
		open = append(open, g.Text())
	}
	return open, false
}

// Knows reports whether a name has a value before the run.
func (p *Planner) Knows(name string) bool {
	var value any = p.Known
	for part := range strings.SplitSeq(name, ".") {
		tree, ok := value.(map[string]any)
		if !ok {
			return false
		}
		value = tree[part]
	}
	return value != nil
}

// foresee notes what a step makes, so that it is known to what the step types.
func (p *Planner) foresee(s *PreparedStep) {
	work, ok := s.Work.(Foreseer)
	if !ok {
		return
	}
	for name, value := range work.Foresees(p, s) {
		if value == nil {
			device.Plant(p.Known, name, nil)
		} else {
			device.Plant(p.Known, name, value.Tree())
		}
	}
}

// types are the commands that a step types, as far as they are known.
func (p *Planner) types(s *PreparedStep) []Typed {
	if w, types := s.Work.(Typist); types {
		return w.Types(p, s)
	}
	return nil
}

// runsOutIn is how long a step waits first for what runs out by itself, as far as that is known.
func (p *Planner) runsOutIn(s *PreparedStep) (left time.Duration) {
	w, ok := s.Work.(Outwaiter)
	if !ok {
		return 0
	}
	for _, open := range p.locks.Pending() {
		if open.Name == w.WaitsOut() && !open.Until.IsZero() {
			left = max(0, open.Until.Sub(time.Time{}.Add(*p.gone)))
		}
	}
	return left
}

// pending is what becomes pending by what is typed, and what is dealt with, and how much time is left for it.
func (p *Planner) pending(typed []Typed) (words []string, deadlines []Deadline) {
	now := time.Time{}.Add(*p.gone)
	for _, t := range typed {
		opened, dealt := p.locks.Typed(t.Text, now)
		for _, open := range opened {
			text := "from here: " + open.Says
			if !open.Until.IsZero() {
				deadlines = append(deadlines, Deadline{Name: open.Name, Opens: true, Within: open.Until.Sub(now)})
				text += ", within " + units.Short(open.Until.Sub(now))
			}
			words = append(words, text)
		}
		for _, open := range dealt {
			text := "no more: " + open.Says
			if !open.Until.IsZero() {
				left := open.Until.Sub(now)
				deadlines = append(deadlines, Deadline{Name: open.Name, Left: left})
				text += leftText(left)
			}
			words = append(words, text)
		}
		if p.locks.Restarts(t.Text) {
			p.locks.Restarted()
		}
	}
	return words, deadlines
}

// leftText says how much time is expected to be left when something is dealt with.
func leftText(left time.Duration) string {
	if left <= 0 {
		return "; TOO LATE: by what the steps take it has run out " + units.Short(-left) + " before"
	}
	return "; about " + units.Short(left) + " are left then"
}

// danger is what a step destroys: as its action says, or as the dialect says of what it types.
func (p *Planner) danger(s *PreparedStep, typed []Typed) string {
	if w, acts := s.Work.(interface{ danger() string }); acts && w.danger() != "" {
		return w.danger()
	}
	for _, t := range typed {
		if says := p.Dialect.DangerOf(t.Text); says != "" {
			return says
		}
	}
	return ""
}

// danger is what the dialect says that the action destroys.
func (d *CompiledCall) danger() string {
	if d == nil || d.Action == nil {
		return ""
	}
	return d.Action.Danger
}

// Reading is what a reading types, and what is typed to come to its mode. After a change of the device what it
// makes is not known before.
func (p *Planner) Reading(r *dialect.CompiledReading) []Typed {
	typed := append(p.Goes(r.In...), Typed{Text: r.Type.Shown(p.Known)})
	if *p.altered {
		for _, name := range r.Makes() {
			device.Plant(p.Known, name, nil)
		}
	}
	return typed
}

// Goes is what is typed to come to one of some modes: nothing from there, a login from where one is needed. What
// may be typed where the mode is not known has its condition.
func (p *Planner) Goes(modes ...string) (typed []Typed) {
	if len(modes) == 0 || slices.Contains(modes, p.Mode) {
		return nil
	}
	if p.Mode == "" {
		for _, move := range p.Dialect.MovesTo(modes[0]) {
			for _, t := range p.move(move) {
				t.When = cmp.Or(t.When, "if it is in mode "+p.Dialect.ModeTitle(move.From))
				typed = append(typed, t)
			}
		}
		p.Mode = modes[0]
		return typed
	}
	for range p.Dialect.Moves {
		if slices.Contains(modes, p.Mode) {
			break
		}
		move := p.moveFrom(modes)
		if move == nil {
			break
		}
		typed = append(typed, p.move(*move)...)
		p.Mode = move.To
	}
	return typed
}

func (p *Planner) moveFrom(modes []string) *dialect.Move {
	for _, mode := range modes {
		if move := p.Dialect.MoveFrom(p.Mode, mode); move != nil {
			return move
		}
	}
	return nil
}

func (p *Planner) move(move dialect.Move) []Typed {
	way, err := p.Dialect.Action(move.Action).Way("")
	if err != nil {
		return nil
	}
	return p.way(way, p.Known)
}

// way is what a way of doing an action types: its command, and its answers to the questions that only it asks.
func (p *Planner) way(way *dialect.CompiledWay, env map[string]any) []Typed {
	typed := []Typed{{Text: way.Type.Shown(env)}}
	for _, ask := range way.Asks {
		if t, answers := p.answer(ask, env); answers {
			typed = append(typed, t)
		}
	}
	return typed
}

func (p *Planner) answer(ask *dialect.CompiledDialog, env map[string]any) (Typed, bool) {
	t := Typed{Text: ask.Reply.Shown(env), When: "if it asks “" + ask.Dialog.Dialog + "”", Key: ask.NoEnter}
	if ask.Secret {
		t.Text = "[secret]"
	}
	if ask.Enter {
		t.Text, t.Key = "Enter", true
	}
	if ask.Operator {
		t.Text, t.When = "", "“"+ask.Dialog.Dialog+"” is left to you"
	}
	return t, true
}

// answers are those to what the device may ask at any time.
func (p *Planner) answers() (typed []Typed) {
	for _, ask := range p.Dialect.PlainDialogs() {
		t, _ := p.answer(ask, p.Known)
		typed = append(typed, t)
	}
	return typed
}

// whichDevice is what is typed before anything that changes the device, wherever that could have become another one.
func (p *Planner) whichDevice() []Typed {
	name := p.Dialect.IdentityFact()
	if name == "" {
		return nil
	}
	reading := p.Dialect.Reading(p.Dialect.Identity.Read)
	return []Typed{
		{
			Text: reading.Type.Shown(p.Known),
			When: "to see that it is still the same device by its " + name + ", before it is changed behind a hold, a login or a long silence",
		},
	}
}

// Catches is what brings a device to a mode, whatever it does.
func (p *Planner) Catches(mode string) (typed []Typed) {
	key := func(text, when string) { typed = append(typed, Typed{Text: keyText(text), When: when, Key: true}) }
	key(p.Dialect.Wake(), "until there is a prompt")
	for _, press := range p.Dialect.Catch.Press {
		key(press.Key, "if it is in mode "+p.Dialect.ModeTitle(press.Mode))
	}
	if p.Dialect.Catch.Break != "" {
		key(p.Dialect.Catch.Break, "if no prompt comes")
	}
	p.Mode = ""
	return append(typed, p.Goes(mode)...)
}

// keyText are the names of keys.
func keyText(text string) string {
	var out []string
	for _, r := range text {
		switch {
		case r == '\r' || r == '\n':
			out = append(out, "Enter")
		case r == ' ':
			out = append(out, "Space")
		case r == 0x1b:
			out = append(out, "Esc")
		case r < 0x20:
			out = append(out, "Ctrl-"+string(r+'@'))
		default:
			out = append(out, string(r))
		}
	}
	return strings.Join(out, " ")
}

// Write prints the plan as text.
func (p Plan) Write(out io.Writer) {
	fmt.Fprintf(out, "%s  (%s, dialect %s), about %s\n", p.Title, p.Runbook, p.Dialect, p.Expected.Round(time.Second))
	for _, t := range p.Answers {
		fmt.Fprintf(out, "  whenever   %s\n", t.Line())
	}
	for _, t := range p.Identity {
		fmt.Fprintf(out, "  identity   %s\n", t.Line())
	}
	writeSteps(out, p.Steps)
	fmt.Fprintf(out, "\nrollback: %s\n", cmp.Or(strings.TrimSpace(p.About), "none is prepared"))
	writeSteps(out, p.Rollback)
	fmt.Fprintln(out, "\nNothing was sent. ◇ waits for your approval, ▲ cannot be undone.")
}

// eachPhase prints a plan's steps: a head before each phase, then each step.
func eachPhase(out io.Writer, steps []PlanStep, head string, step func(PlanStep)) {
	phase := ""
	for _, s := range steps {
		if s.Phase != phase {
			phase = s.Phase
			name := phase
			if s.Rehearsed {
				name += "  (rehearsal: nothing that lasts is changed)"
			}
			fmt.Fprintf(out, head, name)
		}
		step(s)
	}
}

func writeSteps(out io.Writer, steps []PlanStep) {
	eachPhase(out, steps, "\n%s\n", func(s PlanStep) {
		fmt.Fprintf(out, "  %-2s%-6s %-44s ~%-7s timeout %s\n", s.mark(), s.ID, s.Title,
			s.Expected.Round(100*time.Millisecond), units.Short(s.Timeout))
		for _, d := range s.details() {
			fmt.Fprintf(out, "           %-9s %s\n", d[0], d[1])
		}
	})
}

// details are what a step says besides its title, label and text.
func (s PlanStep) details() (details [][2]string) {
	add := func(label string, texts ...string) {
		for _, text := range texts {
			if text = strings.TrimSpace(text); text != "" {
				details = append(details, [2]string{label, text})
			}
		}
	}
	add("for", s.For)
	add("when", s.When...)
	add("skipped", s.Skipped)
	add("hold", s.Hold)
	add("reads", TypedText(s.Reads)...)
	add("rollback", s.Rollback)
	add("danger", s.Danger)
	add("pending", s.Pending...)
	add("here", s.Does...)
	add("reckons", s.Estimates...)
	add("types", TypedText(s.Types)...)
	add("checks", s.Checks...)
	return details
}

// WriteMarkdown prints the plan as Markdown, to be put into a ticket.
func (p Plan) WriteMarkdown(out io.Writer) {
	fmt.Fprintf(out,
		"# %s\n\nRunbook `%s`, dialect `%s`, about %s. ◇ waits for an approval, ▲ cannot be undone. Nothing was sent.\n",
		p.Title, p.Runbook, p.Dialect, p.Expected.Round(time.Second))
	for _, t := range p.Identity {
		fmt.Fprintf(out, "\n`%s` is typed %s.\n", t.Text, t.When)
	}
	markdownSteps(out, p.Steps)
	fmt.Fprintf(out, "\n## Rollback\n\n%s\n", cmp.Or(p.About, "None is prepared."))
	markdownSteps(out, p.Rollback)
}

func markdownSteps(out io.Writer, steps []PlanStep) {
	eachPhase(out, steps, "\n## %s\n\n", func(s PlanStep) {
		fmt.Fprintf(out, "- **%s** %s%s _(expected %s, timeout %s)_\n", s.ID, s.mark(), s.Title,
			s.Expected.Round(100*time.Millisecond), units.Short(s.Timeout))
		for _, d := range s.details() {
			text := d[1]
			if d[0] == "types" || d[0] == "reads" || d[0] == "checks" || d[0] == "when" {
				text = "`" + text + "`"
			}
			fmt.Fprintf(out, "  - %s: %s\n", d[0], text)
		}
	})
}

func (s PlanStep) mark() string {
	switch {
	case s.Irreversible:
		return "▲ "
	case s.Hold != "":
		return "◇ "
	}
	return ""
}
