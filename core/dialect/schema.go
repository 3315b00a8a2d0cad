package dialect

import (
	"cmp"
	"fmt"
	"slices"

	"github.com/invopop/jsonschema"

	"pilotrix/core/line"
	"pilotrix/core/source"
	"pilotrix/core/units"
)

// The types below are the YAML of a dialect: what Parse holds a file to, and what the JSON Schema for
// editors is made from. A key that nothing reads does not stay here (test/keys_test.go).

// Document is a dialect file.
type Document struct {
	Dialect     string           `yaml:"dialect" jsonschema:"required" jsonschema_description:"The name it is chosen by"`
	Title       string           `yaml:"title" jsonschema_description:"Maker and model as people say it"`
	About       string           `yaml:"about"`
	Includes    []string         `yaml:"includes" jsonschema_description:"Dialects that it is put together from, such as that of its bootloader; what it says itself counts before theirs"`
	Line        Line             `yaml:"line" jsonschema_description:"How the console is set, and what its input line does"`
	Commands    Commands         `yaml:"commands" jsonschema_description:"How the device takes what is typed"`
	Catch       Catch            `yaml:"catch" jsonschema_description:"How a device is brought to a prompt"`
	Modes       []Mode           `yaml:"modes" jsonschema_description:"How each mode shows itself"`
	Moves       []Move           `yaml:"moves" jsonschema_description:"Which action leads from one mode to another"`
	Dialogs     []Dialog         `yaml:"dialogs" jsonschema_description:"Questions that the device may ask at any time"`
	Noise       []source.Pattern `yaml:"noise" jsonschema_description:"Lines that the device writes unasked"`
	Refused     []source.Pattern `yaml:"refused" jsonschema_description:"What it answers to a line that it does not take; they end a paste"`
	Pager       *Pager           `yaml:"pager" jsonschema_description:"How it stops a long output"`
	Identity    *Identity        `yaml:"identity" jsonschema_description:"What tells this very device from another one"`
	Readings    []Reading        `yaml:"readings" jsonschema_description:"Commands whose output is parsed into facts"`
	Actions     []Action         `yaml:"actions" jsonschema_description:"Commands that do something"`
	Speed       []SetSpeed       `yaml:"speed" jsonschema_description:"How the device's end of the line is set, by mode"`
	Releases    Releases         `yaml:"releases" jsonschema_description:"How its releases are ordered"`
	Dangers     []Danger         `yaml:"dangers" jsonschema_description:"Commands that destroy or restart, typed by whomever; they are held at their Enter"`
	Pending     []Pending        `yaml:"pending" jsonschema_description:"What the device loses, or does by itself, unless it is dealt with"`
	Restarts    []source.Pattern `yaml:"restarts" jsonschema_description:"Commands that restart the device"`
	Looks       []source.Pattern `yaml:"looks" jsonschema_description:"Commands that only look, besides those of the readings: you may type them, and nothing counts as changed"`
	Busy        []Busy           `yaml:"busy" jsonschema_description:"What the device may be doing beside its shell; told with every danger while it is so"`
	NextStart   *NextStart       `yaml:"next-start" jsonschema_description:"What it starts next, said before a restart"`
	Files       []Files          `yaml:"files" jsonschema_description:"Where the device has files of its own: its store, a stick in its port"`
	Flash       *Flash           `yaml:"flash" jsonschema_description:"Its flash: sectors and parts, as it tells them or as they are known"`
	Fetch       Size             `yaml:"fetch" jsonschema_description:"How much the device takes a second when it fetches a file, such as 90 kB"`
	Image       []Header         `yaml:"image" jsonschema_description:"What the header of an image file says, or its name"`
	Description *Description     `yaml:"description" jsonschema_description:"The build description that is published beside an image"`
	Provision   *Provision       `yaml:"provision" jsonschema_description:"How a new one provisions itself: the names that it asks for its configuration under"`
	Secrets     []source.Pattern `yaml:"secrets" jsonschema_description:"Prompts whose answer is never recorded"`
}

// Line says how the console is set and how a command ends.
type Line struct {
	Speed   int     `yaml:"speed" jsonschema:"minimum=1" jsonschema_description:"Usual speed in baud"`
	Speeds  []int   `yaml:"speeds" jsonschema_description:"Speeds that the device can be set to; a hunt tries them first"`
	Framing Framing `yaml:"framing" jsonschema_description:"Such as 8N1 or 7E1"`
	Flow    string  `yaml:"flow" jsonschema:"enum=none,enum=rtscts,enum=xonxoff" jsonschema_description:"Flow control; none unless said"`
	Enter   string  `yaml:"enter" jsonschema_description:"What ends a command; a carriage return unless said"`
	Ends    string  `yaml:"ends" jsonschema_description:"Every key by which the device takes a line; Ctrl-J, Ctrl-M and Ctrl-O unless said"`
	Tab     string  `yaml:"tab" jsonschema:"enum=completes,enum=text" jsonschema_description:"What a tab does: completes what stands there, unless said, or is text; one that completes is not pasted"`
	Echo    string  `yaml:"echo" jsonschema:"enum=keys,enum=none" jsonschema_description:"Whether what is typed comes back; keys unless said"`
	Clear   string  `yaml:"clear" jsonschema_description:"The key that empties the input line; without it a garbled line is left to the operator"`
	Size    Screen  `yaml:"size" jsonschema_description:"Columns and rows that the device takes its terminal to have, such as 80x24; as the window is unless said"`
	Charset string  `yaml:"charset" jsonschema:"enum=utf-8,enum=latin-1,enum=cp437" jsonschema_description:"How it encodes what is not ASCII; utf-8 unless said"`
}

// Pager is how a device stops a long output.
type Pager struct {
	Pattern source.Pattern `yaml:"pattern" jsonschema:"required" jsonschema_description:"What it asks with"`
	Key     string         `yaml:"key" jsonschema_description:"The key that goes on; a blank unless said"`
}

// Identity is what says this very device from another one.
type Identity struct {
	Read string `yaml:"read" jsonschema:"required" jsonschema_description:"The reading that makes it"`
	Fact string `yaml:"fact" jsonschema:"required" jsonschema_description:"The fact, such as device.serial"`
}

// Catch says how a device is brought to a prompt.
type Catch struct {
	Wake  string     `yaml:"wake" jsonschema_description:"A harmless key that brings the prompt; a carriage return unless said"`
	Break string     `yaml:"break" jsonschema_description:"Ends what runs when the wake key does not help"`
	Press []CatchKey `yaml:"press" jsonschema_description:"Keys for modes that have to be interrupted"`
}

// CatchKey is pressed as soon as a mode is seen.
type CatchKey struct {
	Mode string `yaml:"mode" jsonschema:"required"`
	Key  string `yaml:"key" jsonschema:"required"`
}

// Mode is how one mode shows itself.
type Mode struct {
	Mode   string         `yaml:"mode" jsonschema:"required" jsonschema_description:"The mode's name"`
	Title  string         `yaml:"title" jsonschema_description:"As shown to the operator"`
	Prompt source.Pattern `yaml:"prompt" jsonschema_description:"The whole prompt line; named groups are known as prompt.NAME"`
	Text   source.Pattern `yaml:"text" jsonschema_description:"A line that proves the mode"`
}

// Move says how to get from one mode to another.
type Move struct {
	From   string `yaml:"from" jsonschema:"required"`
	To     string `yaml:"to" jsonschema:"required"`
	Action string `yaml:"action" jsonschema:"required" jsonschema_description:"An action without parameters"`
}

// Dialog is a question the device may ask, and its answer.
type Dialog struct {
	Dialog   string         `yaml:"dialog" jsonschema:"required" jsonschema_description:"The question's name"`
	Ask      source.Pattern `yaml:"ask" jsonschema:"required" jsonschema_description:"The question at the end of the stream"`
	Answer   string         `yaml:"answer" jsonschema_description:"What is typed; may hold ${…}"`
	Operator bool           `yaml:"operator" jsonschema_description:"Ask the operator instead"`
	Secret   bool           `yaml:"secret" jsonschema_description:"The answer is shown and recorded nowhere"`
	Enter    bool           `yaml:"enter" jsonschema_description:"Enter alone is the answer"`
	Echo     string         `yaml:"echo" jsonschema:"enum=keys,enum=enter,enum=none" jsonschema_description:"Whether the answer comes back: key by key as commands do unless said, only at its Enter, or not at all"`
	NoEnter  bool           `yaml:"no-enter" jsonschema_description:"Type the answer without Enter"`
	Because  string         `yaml:"because" jsonschema_description:"Why this is the answer; shown with it"`
}

// Reading is a command whose output is parsed into facts.
type Reading struct {
	Reading string           `yaml:"reading" jsonschema:"required" jsonschema_description:"The reading's name"`
	In      []string         `yaml:"in" jsonschema_description:"Modes that it works in; any unless said"`
	Command string           `yaml:"command" jsonschema:"required" jsonschema_description:"What is typed; may hold ${…}"`
	Facts   []FactPattern    `yaml:"facts"`
	Rows    []RowPattern     `yaml:"rows"`
	Fail    source.Pattern   `yaml:"fail" jsonschema_description:"A line that means failure"`
	Echoes  []Echo           `yaml:"echoes" jsonschema_description:"What the answer repeats of the command: it is held to it"`
	Timeout *source.Duration `yaml:"timeout"`
	GoodFor *source.Duration `yaml:"good-for" jsonschema_description:"How long what it says may stand in a hold before it is read again; 1m unless said"`
}

// Value says what a text of the device becomes. A digest loses its case and its separators.
type Value struct {
	As   string            `yaml:"as" jsonschema:"enum=text,enum=size,enum=number,enum=hex,enum=release,enum=digest" jsonschema_description:"The kind of value; text unless said"`
	Unit string            `yaml:"unit" jsonschema:"enum=KiB,enum=MiB,enum=GiB,enum=kB,enum=MB,enum=GB" jsonschema_description:"Of a size that the device tells in another unit than it says, or without one"`
	Text map[string]string `yaml:"words" jsonschema_description:"The device's words, and ours for them, such as {runs: running}"`
}

// FactPattern makes one fact from the first group of a pattern.
type FactPattern struct {
	Fact    string         `yaml:"fact" jsonschema:"required" jsonschema_description:"Its dotted name, such as store.free"`
	Pattern source.Pattern `yaml:"pattern" jsonschema:"required" jsonschema_description:"With ( ) around the value"`
	Value   `yaml:",inline"`
	Default *source.Text `yaml:"default" jsonschema_description:"Value when the pattern is not found; without it that is a failure"`
}

// RowPattern makes a list from every match of a pattern with named groups.
type RowPattern struct {
	List    string           `yaml:"list" jsonschema:"required" jsonschema_description:"Its dotted name"`
	Pattern source.Pattern   `yaml:"pattern" jsonschema:"required" jsonschema_description:"With (?P<name>…) around each column"`
	Columns map[string]Value `yaml:"columns" jsonschema_description:"What the text of a column becomes"`
	Empty   bool             `yaml:"empty" jsonschema_description:"No row at all is an answer, too; without it that is a failure"`
	Lines   source.Pattern   `yaml:"lines" jsonschema_description:"What every row of the device's table begins with: a line that has it and is no row here is not overlooked, and the reading fails"`
	Count   string           `yaml:"count" jsonschema_description:"A fact of the same reading that tells how many rows there are: another number of them is no answer, and it is read again"`
	Key     []string         `yaml:"key" jsonschema_description:"The columns by which one row is known from another: an answer that has two with the same is none, and is read again. The join unless said, else unit, else name"`
	Steady  bool             `yaml:"steady" jsonschema_description:"The same rows are there throughout a run: an answer with another one among them is none"`
	Join    string           `yaml:"join" jsonschema_description:"A column by which these rows are joined to those that another reading made"`
}

// Way is one way of doing an action: with a protocol, say.
type Way struct {
	With    []string       `yaml:"with" jsonschema_description:"Parameters that the runbook has to give"`
	Secret  []string       `yaml:"secret" jsonschema_description:"Parameters that stand in the command though they are secrets: they are masked wherever it is shown"`
	Command string         `yaml:"command" jsonschema_description:"What is typed; may hold ${…}"`
	Dialogs []Dialog       `yaml:"dialogs" jsonschema_description:"Questions that only this command asks"`
	Ready   source.Pattern `yaml:"ready" jsonschema_description:"The line that says a receiver waits"`
	Done    source.Pattern `yaml:"done" jsonschema_description:"A line that means success; an action says this, or the mode that it leads to"`
	Fail    source.Pattern `yaml:"fail" jsonschema_description:"A line that means failure"`
	Echoes  []Echo         `yaml:"echoes" jsonschema_description:"What the answer repeats of the command: it is held to it"`
}

// Action is a command that does something. With by it has several ways; what all of them share stands
// beside it.
type Action struct {
	Action   string   `yaml:"action" jsonschema:"required" jsonschema_description:"The action's name"`
	Title    string   `yaml:"title" jsonschema_description:"What it does, as shown to the operator"`
	In       []string `yaml:"in" jsonschema_description:"Modes that it works in; any unless said"`
	Way      `yaml:",inline"`
	By       map[string]Way   `yaml:"by" jsonschema_description:"Several ways of doing it, by name"`
	Progress source.Pattern   `yaml:"progress" jsonschema_description:"How far it is: one group is per cent, two are so many of so many"`
	To       string           `yaml:"to" jsonschema_description:"Mode the device goes to"`
	Speed    int              `yaml:"speed" jsonschema:"minimum=1" jsonschema_description:"Speed that the device goes to by itself once this succeeded"`
	Changes  *bool            `yaml:"changes" jsonschema_description:"Whether it changes what the device keeps; it does unless said"`
	Danger   string           `yaml:"danger" jsonschema_description:"What it does that cannot be undone; said in plans and holds"`
	Timeout  *source.Duration `yaml:"timeout"`
	Takes    *source.Duration `yaml:"takes" jsonschema_description:"How long the device is usually away by it, for a restart that is typed by hand"`
	Rate     Size             `yaml:"rate" jsonschema_description:"How much of a file it deals with a second, such as 100 kB: how long it takes, and may be silent, is reckoned from the file's size then"`
	Since    string           `yaml:"since" jsonschema_description:"The first release that has it; it is not typed on an earlier one"`
	Until    string           `yaml:"until" jsonschema_description:"The first release that has it no more"`
	Instead  string           `yaml:"instead" jsonschema_description:"What is done where a release does not have it, in words"`
}

// SetSpeed says how the device's end of the line is set in some modes.
type SetSpeed struct {
	In      []string       `yaml:"in" jsonschema:"required" jsonschema_description:"Modes that it works in"`
	Command string         `yaml:"command" jsonschema:"required" jsonschema_description:"With ${speed}"`
	Moved   source.Pattern `yaml:"moved" jsonschema_description:"What it says before it changes"`
	Fail    source.Pattern `yaml:"fail" jsonschema_description:"A line that means failure"`
}

// Releases says how a maker's releases are ordered.
type Releases struct {
	Later   []string       `yaml:"later" jsonschema_description:"Words that make a release a later one than it is called after, though they usually make it an earlier one: with pre, 4.2pre1 comes behind 4.2"`
	Earlier []string       `yaml:"earlier" jsonschema_description:"Words that make it an earlier one, besides dev, alpha, beta, pre, rc and their like: with ea, 4.2-ea1 comes before 4.2"`
	Pattern source.Pattern `yaml:"pattern" jsonschema_description:"What of a text is the release that counts: with ( ) around it; all of it unless said"`
}

// Danger is a command that erases, typed by whomever.
type Danger struct {
	Pattern source.Pattern `yaml:"pattern" jsonschema:"required" jsonschema_description:"Of the command"`
	Says    string         `yaml:"says" jsonschema:"required" jsonschema_description:"What it does, in words"`
}

// Busy is something that the device does beside its shell, as far as what was read says.
type Busy struct {
	While source.Expression `yaml:"while" jsonschema:"required" jsonschema_description:"What is so then, of what was read"`
	Says  string            `yaml:"says" jsonschema:"required" jsonschema_description:"What it does, in words; may hold ${…}"`
}

// Pending is something that the device will lose at a restart, or do by itself after a while, from one
// command until another one.
type Pending struct {
	Pending string           `yaml:"pending" jsonschema:"required" jsonschema_description:"Its name"`
	After   source.Pattern   `yaml:"after" jsonschema:"required" jsonschema_description:"The command that makes it pending"`
	Until   source.Pattern   `yaml:"until" jsonschema:"required" jsonschema_description:"The command that deals with it"`
	Within  *source.Duration `yaml:"within" jsonschema_description:"How long the device waits before it acts by itself; a group (?P<hours>), (?P<minutes>) or (?P<seconds>) of after says it instead where the command does"`
	Left    string           `yaml:"left" jsonschema_description:"The fact that tells how many seconds are left, 0 where nothing is pending: what was reckoned is put right by it, and what is found pending at the start is told"`
	Begins  string           `yaml:"begins" jsonschema:"enum=command,enum=restart" jsonschema_description:"What it begins with: the command unless said, or the restart that the command makes, so that only the next one ends it"`
	Says    string           `yaml:"says" jsonschema:"required" jsonschema_description:"What is lost, or what happens by itself, in words"`
}

// Files is a place of the device where files are, as one of its readings lists them. The list's columns are name, size,
// and any of sha512, sha256, md5 and crc32.
type Files struct {
	Files string `yaml:"files" jsonschema:"required" jsonschema_description:"The place's name"`
	Title string `yaml:"title" jsonschema:"required" jsonschema_description:"As shown to the operator, such as the stick in its port"`
	Read  string `yaml:"read" jsonschema:"required" jsonschema_description:"The reading that lists them"`
	List  string `yaml:"list" jsonschema:"required" jsonschema_description:"The list of those that are whole, such as stick.files, with a column name and, where the device tells, size, sha512, sha256, md5, crc32"`
	Hash  string `yaml:"hash" jsonschema_description:"The reading that hashes one of them, where the listing has no digest: with ${file.name}, and a fact that ends in sha512, sha256, md5 or crc32"`
}

// Header reads one thing from an image's header, or from its file's name.
type Header struct {
	Name    string         `yaml:"name" jsonschema:"required"`
	Pattern source.Pattern `yaml:"pattern" jsonschema:"required" jsonschema_description:"With ( ) around the value"`
	In      string         `yaml:"in" jsonschema:"enum=header,enum=name" jsonschema_description:"Where it is looked for; the header unless said"`
}

// JSONSchemaExtend implements the schema package's interface: modes are a dialect's own, or come with those that it
// includes.
func (Document) JSONSchemaExtend(schema *jsonschema.Schema) {
	schema.AnyOf = []*jsonschema.Schema{{Required: []string{"modes"}}, {Required: []string{"includes"}}}
}

// Description is a text file beside an image that says how it was built. Its name is the image's, with an ending after
// it.
type Description struct {
	Ending string   `yaml:"ending" jsonschema:"required" jsonschema_description:"What stands behind the image's name, such as .build"`
	Says   []Header `yaml:"says" jsonschema:"required" jsonschema_description:"What it says, by patterns; known as described.NAME once it was read"`
}

// Flash says where a flash is among the device's addresses, which sectors it has, and what its parts are. What the
// device says is taken from facts; what it does not, is said here.
type Flash struct {
	Base      source.Text   `yaml:"base" jsonschema_description:"Its first address, such as 0xbf000000, where the device does not tell where its sectors begin; else for plans only, as layout and known then are"`
	Layout    source.Text   `yaml:"layout" jsonschema_description:"Its sectors from the first on, such as 127x64KiB,8x8KiB, where the device does not tell them"`
	Sectors   string        `yaml:"sectors" jsonschema_description:"The list that a reading makes of its sectors, with a column at: the address of each (as: hex)"`
	Size      string        `yaml:"size" jsonschema_description:"The fact that tells its size, with sectors: where the last one ends"`
	Parts     string        `yaml:"parts" jsonschema_description:"The list that a reading makes of its parts, with the columns name, at (from its beginning), size, and where the device tells it protected (yes)"`
	Known     []source.Text `yaml:"known" jsonschema_description:"Its parts, where the device does not tell them, such as system=0x40000+0x7a0000"`
	Protected []string      `yaml:"protected" jsonschema_description:"Parts that are never erased or written, whoever tells of them"`
}

// Size is an amount of bytes, such as 1 MiB.
type Size string

// FromText implements source.Scalar.
func (s *Size) FromText(text string) error {
	n, err := units.ParseSize(text)
	if err == nil && n <= 0 {
		err = fmt.Errorf("%q is nothing: want one like 8388608, 8 MiB or 4 MB", text)
	}
	*s = Size(text)
	return err
}

// Bytes is the amount, 0 when it was not said.
func (s Size) Bytes() float64 {
	n, _ := units.ParseSize(string(s))
	return n
}

// JSONSchema implements the schema package's interface.
func (Size) JSONSchema() *jsonschema.Schema { return source.Text("").JSONSchema() }

// Framing is how a character is framed on the line.
type Framing string

// FromText implements source.Scalar.
func (f *Framing) FromText(text string) error {
	_, err := line.ParseFraming(text)
	*f = Framing(text)
	return err
}

// JSONSchema implements the schema package's interface.
func (Framing) JSONSchema() *jsonschema.Schema { return &jsonschema.Schema{Type: "string"} }

// Screen is a size in columns and rows.
type Screen string

// FromText implements source.Scalar.
func (s *Screen) FromText(text string) error {
	_, _, err := line.ParseSize(text)
	*s = Screen(text)
	return err
}

// JSONSchema implements the schema package's interface.
func (Screen) JSONSchema() *jsonschema.Schema { return &jsonschema.Schema{Type: "string"} }

// ways are an action's own way under the empty name, or its several ones by name, each with what the
// action shares.
func (a Action) ways() map[string]Way {
	if len(a.By) == 0 {
		return map[string]Way{"": a.Way}
	}
	all := map[string]Way{}
	for name, way := range a.By {
		way.With, way.Secret = slices.Concat(a.With, way.With), slices.Concat(a.Secret, way.Secret)
		way.Dialogs = slices.Concat(way.Dialogs, a.Dialogs)
		way.Command, way.Echoes = cmp.Or(way.Command, a.Command), slices.Concat(a.Echoes, way.Echoes)
		way.Ready, way.Done, way.Fail = cmp.Or(way.Ready, a.Ready), cmp.Or(way.Done, a.Done), cmp.Or(way.Fail, a.Fail)
		all[name] = way
	}
	return all
}
