// Package dialect is the language that describes how one device family talks: modes, dialogs,
// readings, actions, dangers. A dialect is loaded whole and checked whole; what is left to fail at
// the device is only what the device does.
package dialect

import (
	"cmp"
	"fmt"
	"regexp"
	"slices"
	"strings"
	"time"

	"pilotrix/core/arithmetic"
	"pilotrix/core/device"
	"pilotrix/core/expression"
	"pilotrix/core/image"
	"pilotrix/core/sense"
	"pilotrix/core/source"
)

// DefaultTimeout is how long a command may take when neither dialect nor runbook says.
const DefaultTimeout = 15 * time.Second

// Dialect is a checked dialect.
type Dialect struct {
	Document
	readings  map[string]*CompiledReading
	actions   map[string]*CompiledAction
	speeds    []*CompiledSpeed
	dialogs   []*CompiledDialog
	dangers   []compiledDanger
	pending   []compiledPending
	restarts  []*regexp.Regexp
	busy      []compiledBusy
	next      *compiledNextStart // nil where it is not said
	files     []*CompiledFiles
	spelling  *spelling
	known     []*known
	looks     []*regexp.Regexp
	secrets   []*regexp.Regexp
	refused   []*regexp.Regexp
	headers   []image.Header
	described []image.Header
	flash     *arithmetic.Flash // as far as it is known without the device
	sense     sense.Config
	values    values
	warnings  []*source.Complaint
	setups    []*expression.Template // names that a new device asks for its configuration under
}

// CompiledDialog is a question with its answer ready to be filled in.
type CompiledDialog struct {
	Dialog
	Pattern *regexp.Regexp
	Reply   *expression.Template
}

// Unseen reports whether the answer does not come back key by key.
func (d *CompiledDialog) Unseen() bool { return d.Echo == "enter" || d.Echo == "none" }

// CompiledAction is an action with its ways ready.
type CompiledAction struct {
	Action
	Progress *regexp.Regexp
	Where    string                  // its timeout is set, as file:line
	ways     map[string]*CompiledWay // under the empty name where there is only one
}

// CompiledWay is one way of doing an action.
type CompiledWay struct {
	Way
	Type              *expression.Template
	Asks              []*CompiledDialog
	Ready, Done, Fail *Matcher
	echoes            []compiledEcho
}

// Way is the way of doing the action that has a name, the only one when there is only one. A way is found for
// a variant of its protocol too: xmodem-1k is received as xmodem is, where nothing else is said.
func (a *CompiledAction) Way(name string) (*CompiledWay, error) {
	if len(a.Action.By) == 0 {
		return a.ways[""], nil
	}
	if way := a.ways[name]; way != nil {
		return way, nil
	}
	protocol, _, _ := strings.Cut(name, "-")
	if way := a.ways[protocol]; way != nil {
		return way, nil
	}
	if name == "" {
		return nil, fmt.Errorf("action %q is done in several ways; say by which (by: …): %s", a.Action.Action,
			strings.Join(a.WayNames(), ", "))
	}
	return nil, fmt.Errorf("action %q is not done by %q; there are %s", a.Action.Action, name,
		strings.Join(a.WayNames(), ", "))
}

// WayNames lists the ways of doing the action, one empty name where there is only one.
func (a *CompiledAction) WayNames() []string { return sortedNames(a.ways) }

// Limit is how long the action may take, fallback when it does not say.
func (a *CompiledAction) Limit(fallback time.Duration) time.Duration {
	if a.Timeout != nil {
		return time.Duration(*a.Timeout)
	}
	return fallback
}

// Alters reports whether the action changes what the device keeps: it does unless the dialect says that it does not.
func (a *CompiledAction) Alters() bool { return a.Changes == nil || *a.Changes }

// CompiledSpeed sets the device's end of the line.
type CompiledSpeed struct {
	SetSpeed
	Type        *expression.Template
	Moved, Fail *Matcher
}

type compiledDanger struct {
	pattern *regexp.Regexp
	says    string
}

// Load reads and checks a dialect file.
func Load(path string) (*Dialect, error) { return Library(nil).Load(path) }

// Parse does the same with text available; name is used in complaints.
func Parse(name string, data []byte) (*Dialect, error) { return Library(nil).Parse(name, data) }

// Generic is what is taken of a device that nobody has described: nothing that is its own.
func Generic() *Dialect {
	const never = `[^\x00-\x{10FFFF}]` // a prompt that none is
	d, err := Parse("generic.yaml", []byte("dialect: generic\ntitle: any device\nmodes: [{mode: unknown, prompt: '^"+never+"$'}]\n"))
	if err != nil {
		panic(err) // it is ours
	}
	return d
}

// Warnings are the remarks about what is allowed but odd.
func (d *Dialect) Warnings() []*source.Complaint { return d.warnings }

// IdentityFact is the fact that says this very device from another one, empty where the dialect has none. It works on
// a nil dialect.
func (d *Dialect) IdentityFact() string {
	if d == nil || d.Document.Identity == nil {
		return ""
	}
	return d.Document.Identity.Fact
}

// Order is how the device's releases are ordered; it is nil for a nil dialect.
func (d *Dialect) Order() *device.Order {
	if d == nil {
		return nil
	}
	return d.values.order
}

// Echoes reports whether what is typed comes back. It works on a nil dialect.
func (d *Dialect) Echoes() bool { return d == nil || d.Line.Echo != "none" }

// Clears is the key that empties the input line, empty when none is known. It works on a nil dialect.
func (d *Dialect) Clears() string {
	if d == nil {
		return ""
	}
	return d.Line.Clear
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
func (d *Dialect) PagerKey() string {
	if d.Document.Pager == nil {
		return " "
	}
	return cmp.Or(d.Document.Pager.Key, " ")
}

// Starts reports whether a mode is one that the device is in while it starts: it shows itself by a text and
// waits for nobody. It works on a nil dialect.
func (d *Dialect) Starts(mode string) bool {
	return d != nil && slices.ContainsFunc(d.Modes, func(m Mode) bool { return m.Mode == mode && m.Prompt == "" })
}

// Enter is what ends a command. It works on a nil dialect.
func (d *Dialect) Enter() string {
	if d == nil {
		return "\r"
	}
	return cmp.Or(d.Line.Enter, "\r")
}

// takes are the keys by which devices take a line: Ctrl-J, Ctrl-M, and Ctrl-O, by which a shell takes it and shows the
// next one of its history.
const takes = "\r\n" + TakeAndNext

// TakeAndNext is the key by which a shell takes a line and puts the next one of its history on the line.
const TakeAndNext = "\x0f"

// Ends are the keys by which the device takes a line. It works on a nil dialect.
func (d *Dialect) Ends() string {
	if d == nil {
		return takes
	}
	return cmp.Or(d.Line.Ends, takes)
}

// TabIsText reports whether a tab stands for itself. It works on a nil dialect.
func (d *Dialect) TabIsText() bool { return d != nil && d.Line.Tab == "text" }

// Wake is the harmless key that brings a prompt.
func (d *Dialect) Wake() string { return cmp.Or(d.Catch.Wake, "\r") }

// Sense is what the stream is read for.
func (d *Dialect) Sense() sense.Config { return d.sense }

// Headers are the patterns for image files.
func (d *Dialect) Headers() []image.Header { return d.headers }

// Described are the patterns for the build description that is published beside an image.
func (d *Dialect) Described() []image.Header { return d.described }

// FetchRate is how much the device takes a second when it fetches a file, in bytes, 0 when not said.
func (d *Dialect) FetchRate() float64 { return d.Fetch.Bytes() }

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

// PromptModes are the modes that wait at a prompt, by their names.
func (d *Dialect) PromptModes() (names []string) {
	for _, mode := range d.Modes {
		if mode.Prompt != "" {
			names = append(names, mode.Mode)
		}
	}
	return names
}

// ModeTitle is a mode in words.
func (d *Dialect) ModeTitle(name string) string {
	for _, mode := range d.Modes {
		if mode.Mode == name {
			return cmp.Or(mode.Title, name)
		}
	}
	return name
}

// Hunt is how the device's speed is looked for: ours comes first, 0 for none, unless the device is known not to have
// it; then those that it has. It works on a nil dialect.
func (d *Dialect) Hunt(ours int) sense.Hunt {
	if d == nil {
		return sense.Hunt{First: []int{ours}}
	}
	first := append([]int{d.Line.Speed}, d.Line.Speeds...)
	if len(d.Line.Speeds) == 0 || d.HasSpeed(ours) {
		first = append([]int{ours}, first...)
	}
	return sense.Hunt{First: first, Prompts: d.Prompts(), Key: d.Wake()}
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

// LogsIn is the action that leads from a mode and asks for a secret, empty where none does. It works on a nil dialect.
func (d *Dialect) LogsIn(mode string) string {
	if d == nil {
		return ""
	}
	for _, move := range d.Moves {
		action := d.actions[move.Action]
		if move.From != mode || action == nil {
			continue
		}
		for _, way := range action.ways {
			if slices.ContainsFunc(way.Asks, func(ask *CompiledDialog) bool { return ask.Secret }) {
				return move.Action
			}
		}
	}
	return ""
}

// ReadableIn are the readings that can be taken in a mode as it is, of nothing that only a runbook knows.
func (d *Dialect) ReadableIn(mode string) (names []string) {
	for _, name := range d.ReadingNames() {
		if reading := d.Reading(name); slices.Contains(reading.In, mode) && len(reading.Type.Uses()) == 0 {
			names = append(names, name)
		}
	}
	return names
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

// DangerOf says what a typed line destroys, however it is spelt; empty when nothing known.
func (d *Dialect) DangerOf(line string) string { return d.Means(line, "", nil).Danger() }

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
	asks := func(dialog *CompiledDialog) bool { return dialog.Secret && dialog.Pattern.MatchString(partial) }
	if slices.ContainsFunc(d.dialogs, asks) {
		return true
	}
	for _, action := range d.actions { // whoever does it: the operator may, too
		for _, way := range action.ways {
			if slices.ContainsFunc(way.Asks, asks) {
				return true
			}
		}
	}
	return false
}

// Knows reports whether a reading of the dialect makes a fact of that name, or one that begins so.
func (d *Dialect) Knows(name string) bool {
	for _, reading := range d.readings {
		for _, made := range reading.Makes() {
			if made == name || strings.HasPrefix(made, name+".") {
				return true
			}
		}
	}
	if group, ok := strings.CutPrefix(name, "prompt."); ok {
		return group == "mode" ||
			slices.ContainsFunc(d.Modes, func(m Mode) bool { return slices.Contains(m.Prompt.Groups(), group) })
	}
	return name == "prompt" || d.ofGates(name)
}

// PromptGroups are the named groups of a prompt, such as the device's name or the unit that answers.
func (d *Dialect) PromptGroups(mode, prompt string) map[string]any {
	groups := map[string]any{}
	for _, m := range d.sense.Modes {
		if m.Name != mode || m.Prompt == nil {
			continue
		}
		if found := m.Prompt.FindStringSubmatch(prompt); found != nil {
			for i, name := range m.Prompt.SubexpNames() {
				if name != "" {
					groups[name] = found[i]
				}
			}
		}
	}
	return groups
}

// PlainDialogs are the questions that the device may ask at any time.
func (d *Dialect) PlainDialogs() []*CompiledDialog { return d.dialogs }

// MovesTo are the moves that lie on some way to a mode.
func (d *Dialect) MovesTo(mode string) (moves []Move) {
	toward := map[string]bool{mode: true}
	for range d.Moves {
		for _, move := range d.Moves {
			if toward[move.To] {
				toward[move.From] = true
			}
		}
	}
	for _, move := range d.Moves {
		if toward[move.To] && move.From != mode {
			moves = append(moves, move)
		}
	}
	return moves
}

// HasSpeed reports whether the device can be set to a speed, as far as the dialect says.
func (d *Dialect) HasSpeed(baud int) bool {
	return slices.Contains(d.Line.Speeds, baud) || d.Line.Speed == baud
}
