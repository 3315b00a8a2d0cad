package dialect

import "time"

// The types below are the YAML of a dialect. A JSON Schema for editors is made from them.

// Document is a dialect file.
type Document struct {
	Dialect  string     `yaml:"dialect" json:"dialect" jsonschema:"required,description=The name it is chosen by"`
	Title    string     `yaml:"title" json:"title" jsonschema:"description=Maker and model as people say it"`
	About    string     `yaml:"about" json:"about,omitempty"`
	Line     Line       `yaml:"line" json:"line,omitempty"`
	Catch    Catch      `yaml:"catch" json:"catch,omitempty"`
	Modes    []Mode     `yaml:"modes" json:"modes"`
	Moves    []Move     `yaml:"moves" json:"moves,omitempty"`
	Dialogs  []Dialog   `yaml:"dialogs" json:"dialogs,omitempty"`
	Noise    []string   `yaml:"noise" json:"noise,omitempty" jsonschema:"description=RE2 patterns of lines that the device writes unasked"`
	Refused  []string   `yaml:"refused" json:"refused,omitempty" jsonschema:"description=RE2 patterns of what it answers to a line that it does not take; they end a paste"`
	Pager    Pager      `yaml:"pager" json:"pager,omitempty"`
	Readings []Reading  `yaml:"readings" json:"readings,omitempty"`
	Actions  []Action   `yaml:"actions" json:"actions,omitempty"`
	Speed    []SetSpeed `yaml:"speed" json:"speed,omitempty"`
	Dangers  []Danger   `yaml:"dangers" json:"dangers,omitempty"`
	Saves    []Save     `yaml:"saves" json:"saves,omitempty" jsonschema:"description=What is lost at a restart unless it is saved"`
	Restarts []string   `yaml:"restarts" json:"restarts,omitempty" jsonschema:"description=RE2 patterns of commands that restart the device"`
	Fetch    string     `yaml:"fetch" json:"fetch,omitempty" jsonschema:"description=How much the device takes a second when it fetches a file, such as 90 kB"`
	Image    []Header   `yaml:"image" json:"image,omitempty" jsonschema:"description=What the header of an image file says"`
	Secrets  []string   `yaml:"secrets" json:"secrets,omitempty" jsonschema:"description=Prompts whose answer is never recorded"`
}

// Line says how the console is set and how a command ends.
type Line struct {
	Speed   int    `yaml:"speed" json:"speed,omitempty" jsonschema:"description=Usual speed in baud"`
	Speeds  []int  `yaml:"speeds" json:"speeds,omitempty" jsonschema:"description=Speeds the device can be set to"`
	Framing string `yaml:"framing" json:"framing,omitempty"`
	Flow    string `yaml:"flow" json:"flow,omitempty"`
	Enter   string `yaml:"enter" json:"enter,omitempty" jsonschema:"description=What ends a command; a carriage return unless said"`
	Echo    string `yaml:"echo" json:"echo,omitempty" jsonschema:"enum=keys,enum=none,description=Whether what is typed comes back; keys unless said"`
	Empty   string `yaml:"empty" json:"empty,omitempty" jsonschema:"description=The key that empties the input line; without it a garbled line is left to the operator"`
	Size    string `yaml:"size" json:"size,omitempty" jsonschema:"description=Columns and rows that the device takes its terminal to have, such as 80x24; as the window is unless said"`
	Charset string `yaml:"charset" json:"charset,omitempty" jsonschema:"enum=utf-8,enum=latin-1,enum=cp437,description=How it encodes what is not ASCII; utf-8 unless said"`
}

// Pager is how a device stops a long output.
type Pager struct {
	Pattern string `yaml:"pattern" json:"pattern" jsonschema:"description=RE2 pattern of what it asks with"`
	Key     string `yaml:"key" json:"key,omitempty" jsonschema:"description=The key that goes on; a blank unless said"`
}

// Catch says how a device is brought to a prompt.
type Catch struct {
	Nudge  string         `yaml:"nudge" json:"nudge,omitempty" jsonschema:"description=A harmless key that brings the prompt; a carriage return unless said"`
	Break  string         `yaml:"break" json:"break,omitempty" jsonschema:"description=Ends what runs when the nudge does not help"`
	Press  []CatchKey     `yaml:"press" json:"press,omitempty" jsonschema:"description=Keys for modes that have to be interrupted"`
	Within *time.Duration `yaml:"within" json:"within,omitempty"`
}

// CatchKey is pressed as soon as a mode is seen.
type CatchKey struct {
	Mode string `yaml:"mode" json:"mode"`
	Key  string `yaml:"key" json:"key"`
}

// Mode is how one mode shows itself.
type Mode struct {
	Mode   string `yaml:"mode" json:"mode"`
	Title  string `yaml:"title" json:"title,omitempty" jsonschema:"description=As shown to the operator"`
	Prompt string `yaml:"prompt" json:"prompt,omitempty" jsonschema:"description=RE2 pattern of the whole prompt line"`
	Text   string `yaml:"text" json:"text,omitempty" jsonschema:"description=RE2 pattern of a line that proves the mode"`
}

// Move says how to get from one mode to another.
type Move struct {
	From string `yaml:"from" json:"from"`
	To   string `yaml:"to" json:"to"`
	By   string `yaml:"by" json:"by" jsonschema:"description=An action"`
}

// Dialog is a question the device may ask, and its answer.
type Dialog struct {
	Dialog   string `yaml:"dialog" json:"dialog"`
	Ask      string `yaml:"ask" json:"ask" jsonschema:"description=RE2 pattern of the question at the end of the stream"`
	Answer   string `yaml:"answer" json:"answer,omitempty" jsonschema:"description=What is typed; may hold ${…}"`
	Operator bool   `yaml:"operator" json:"operator,omitempty" jsonschema:"description=Ask the operator instead"`
	Secret   bool   `yaml:"secret" json:"secret,omitempty"`
	Bare     bool   `yaml:"bare" json:"bare,omitempty" jsonschema:"description=Type the answer without Enter"`
	Because  string `yaml:"because" json:"because,omitempty" jsonschema:"description=Why this is the answer; shown with it"`
}

// Reading is a command whose output is parsed into facts.
type Reading struct {
	Reading string         `yaml:"reading" json:"reading"`
	In      []string       `yaml:"in" json:"in,omitempty"`
	Command string         `yaml:"command" json:"command"`
	Facts   []FactPattern  `yaml:"facts" json:"facts,omitempty"`
	Rows    []RowPattern   `yaml:"rows" json:"rows,omitempty"`
	Fail    string         `yaml:"fail" json:"fail,omitempty"`
	Limit   *time.Duration `yaml:"limit" json:"limit,omitempty"`
}

// FactPattern makes one fact from the first group of a pattern.
type FactPattern struct {
	Fact    string  `yaml:"fact" json:"fact"`
	Pattern string  `yaml:"pattern" json:"pattern"`
	As      string  `yaml:"as" json:"as,omitempty" jsonschema:"enum=text,enum=size,enum=number,enum=release,enum=digest"`
	Absent  *string `yaml:"absent" json:"absent,omitempty" jsonschema:"description=Value when the pattern is not found; without it that is a failure"`
}

// RowPattern makes a list from every match of a pattern with named groups.
type RowPattern struct {
	List    string `yaml:"list" json:"list"`
	Pattern string `yaml:"pattern" json:"pattern"`
}

// Action is a command that changes something.
type Action struct {
	Action   string         `yaml:"action" json:"action"`
	Title    string         `yaml:"title" json:"title,omitempty"`
	In       []string       `yaml:"in" json:"in,omitempty"`
	With     []string       `yaml:"with" json:"with,omitempty" jsonschema:"description=Parameters that the runbook has to give"`
	Command  string         `yaml:"command" json:"command"`
	Dialogs  []Dialog       `yaml:"dialogs" json:"dialogs,omitempty" jsonschema:"description=Questions that only this command asks"`
	Ready    string         `yaml:"ready" json:"ready,omitempty" jsonschema:"description=The line that says a receiver waits"`
	Done     string         `yaml:"done" json:"done,omitempty" jsonschema:"description=Text that means success"`
	Fail     string         `yaml:"fail" json:"fail,omitempty" jsonschema:"description=Text that means failure"`
	Progress string         `yaml:"progress" json:"progress,omitempty"`
	To       string         `yaml:"to" json:"to,omitempty" jsonschema:"description=Mode the device goes to"`
	Speed    int            `yaml:"speed" json:"speed,omitempty" jsonschema:"description=Speed that the device goes to by itself once this succeeded"`
	Changes  bool           `yaml:"changes" json:"changes,omitempty" jsonschema:"description=Changes what the device keeps"`
	Danger   string         `yaml:"danger" json:"danger,omitempty" jsonschema:"description=What it does that cannot be undone"`
	Limit    *time.Duration `yaml:"limit" json:"limit,omitempty"`
}

// SetSpeed says how the device's end of the line is set in some modes.
type SetSpeed struct {
	In      []string `yaml:"in" json:"in"`
	Command string   `yaml:"command" json:"command" jsonschema:"description=With ${speed}"`
	Moved   string   `yaml:"moved" json:"moved,omitempty" jsonschema:"description=What it says before it changes"`
	Fail    string   `yaml:"fail" json:"fail,omitempty"`
}

// Danger is a command that erases, typed by whomever.
type Danger struct {
	Pattern string `yaml:"pattern" json:"pattern"`
	Says    string `yaml:"says" json:"says"`
}

// Save says what a restart loses unless it is saved before.
type Save struct {
	After string `yaml:"after" json:"after" jsonschema:"description=RE2 pattern of a command that makes something to lose"`
	By    string `yaml:"by" json:"by" jsonschema:"description=RE2 pattern of the command that saves it"`
	Says  string `yaml:"says" json:"says" jsonschema:"description=What is lost, in words"`
}

// Header reads one thing from an image's header, or from its file's name.
type Header struct {
	Name    string `yaml:"name" json:"name"`
	Pattern string `yaml:"pattern" json:"pattern"`
	In      string `yaml:"in" json:"in,omitempty" jsonschema:"enum=header,enum=name,description=Where it is looked for; the header unless said"`
}
