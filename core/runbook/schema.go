package runbook

import "time"

// The types below are the YAML of a runbook. A JSON Schema for editors is made from them.

// Document is a runbook file.
type Document struct {
	Runbook   string    `yaml:"runbook" json:"runbook" jsonschema:"required,description=The name it is chosen by"`
	Title     string    `yaml:"title" json:"title"`
	About     string    `yaml:"about" json:"about,omitempty"`
	Inputs    []Input   `yaml:"inputs" json:"inputs,omitempty"`
	Legs      []Leg     `yaml:"legs" json:"legs"`
	OnFailure OnFailure `yaml:"on-failure" json:"on-failure,omitempty"`
	WayBack   WayBack   `yaml:"way-back" json:"way-back,omitempty"`
}

// Input is something the runbook has to be told.
type Input struct {
	Input   string   `yaml:"input" json:"input"`
	Kind    string   `yaml:"kind" json:"kind" jsonschema:"enum=image,enum=text,enum=number,enum=choice,enum=secret,enum=folder"`
	About   string   `yaml:"about" json:"about,omitempty"`
	Default *string  `yaml:"default" json:"default,omitempty"`
	Choices []string `yaml:"choices" json:"choices,omitempty"`
}

// Kinds of input.
const (
	KindImage  = "image"
	KindText   = "text"
	KindNumber = "number"
	KindChoice = "choice"
	KindSecret = "secret"
	KindFolder = "folder"
)

// Leg is a named part of the course. With a loop its steps are carried out once for each of a list; its
// name may then hold ${…}.
type Leg struct {
	Leg   string `yaml:"leg" json:"leg"`
	For   *Loop  `yaml:"for" json:"for,omitempty"`
	Steps []Step `yaml:"steps" json:"steps"`
}

// Loop says what a leg is carried out for: each row of a list of facts, or each of the hops.
type Loop struct {
	Each  string `yaml:"each" json:"each" jsonschema:"description=The name that the steps call it by"`
	In    string `yaml:"in" json:"in" jsonschema:"description=An expression for the list, such as hops or cards"`
	Where string `yaml:"where" json:"where,omitempty" jsonschema:"description=Only those for which this holds"`
}

// Step does one thing; exactly one of the verbs is given, or a hold alone.
type Step struct {
	Step     string         `yaml:"step" json:"step" jsonschema:"description=What it does, in words"`
	When     string         `yaml:"when" json:"when,omitempty" jsonschema:"description=The step is skipped unless this holds"`
	Hold     string         `yaml:"hold" json:"hold,omitempty" jsonschema:"description=Wait for the operator's approval, with this text"`
	WayBack  string         `yaml:"way-back" json:"way-back,omitempty" jsonschema:"description=Said with the hold"`
	NoReturn bool           `yaml:"no-return" json:"no-return,omitempty" jsonschema:"description=This cannot be undone"`
	Expected *time.Duration `yaml:"expected" json:"expected,omitempty"`
	Limit    *time.Duration `yaml:"limit" json:"limit,omitempty"`
	Retry    int            `yaml:"retry" json:"retry,omitempty" jsonschema:"description=How often it is repeated after a failure"`
	Failure  OnFailure      `yaml:"on-failure" json:"on-failure,omitempty"`

	Read     []string  `yaml:"read" json:"read,omitempty"`
	Check    string    `yaml:"check" json:"check,omitempty"`
	Else     string    `yaml:"else" json:"else,omitempty" jsonschema:"description=Said when the check does not hold"`
	Act      *Act      `yaml:"act" json:"act,omitempty"`
	Send     *Send     `yaml:"send" json:"send,omitempty"`
	Speed    *Speed    `yaml:"speed" json:"speed,omitempty"`
	Catch    *Catch    `yaml:"catch" json:"catch,omitempty"`
	Operator string    `yaml:"operator" json:"operator,omitempty"`
	Wait     *Wait     `yaml:"wait" json:"wait,omitempty"`
	Compare  []Compare `yaml:"compare" json:"compare,omitempty"`
	Note     string    `yaml:"note" json:"note,omitempty"`
	Hops     *Hops     `yaml:"hops" json:"hops,omitempty"`
	Serve    *Serve    `yaml:"serve" json:"serve,omitempty"`
	Take     *Take     `yaml:"take" json:"take,omitempty"`
	Put      *Put      `yaml:"put" json:"put,omitempty"`
	Poll     *Poll     `yaml:"poll" json:"poll,omitempty"`
	Restart  *Restart  `yaml:"restart" json:"restart,omitempty"`
	Watch    []string  `yaml:"watch" json:"watch,omitempty" jsonschema:"description=Targets to watch from here on, such as icmp:${device.address}"`
	Snapshot string    `yaml:"snapshot" json:"snapshot,omitempty" jsonschema:"description=Keeps all facts under this name, to compare with them later"`
}

// Hops plans the chain of releases to an image and makes it the list called hops.
type Hops struct {
	To    string `yaml:"to" json:"to" jsonschema:"description=Name of an input of kind image"`
	Paths string `yaml:"paths" json:"paths" jsonschema:"description=The file of allowed steps: a name that ships with the program or a path; may hold ${…}"`
}

// Serve stages a file, starts a carrier and looks whether the device can get it. The device is then asked
// by an action, with serve.address, serve.port, serve.name, serve.path, serve.user and serve.password.
type Serve struct {
	File    string `yaml:"file" json:"file" jsonschema:"description=An input of kind image, or the loop's hop or hop.companion"`
	By      string `yaml:"by" json:"by" jsonschema:"description=tftp, http or ftp; may hold ${…}"`
	As      string `yaml:"as" json:"as,omitempty" jsonschema:"description=The name it is staged under; its own unless said"`
	Address string `yaml:"address" json:"address,omitempty" jsonschema:"description=This laptop's address that the device is to use; the one on the device's network unless said"`
	Port    string `yaml:"port" json:"port,omitempty"`
	Device  string `yaml:"device" json:"device,omitempty" jsonschema:"description=The device's own address with its network's length"`
}

// Take opens a slot for one upload, has the device leave a file there, and waits until it is whole: as
// taken.name, taken.path, taken.size and taken.sha256.
type Take struct {
	As      string            `yaml:"as" json:"as"`
	Into    string            `yaml:"into" json:"into" jsonschema:"description=A folder"`
	By      string            `yaml:"by" json:"by"`
	Most    string            `yaml:"most" json:"most,omitempty" jsonschema:"description=The largest size taken, such as 1 MiB"`
	Address string            `yaml:"address" json:"address,omitempty"`
	Port    string            `yaml:"port" json:"port,omitempty"`
	Device  string            `yaml:"device" json:"device,omitempty"`
	Action  string            `yaml:"action" json:"action"`
	With    map[string]string `yaml:"with" json:"with,omitempty"`
}

// Put sends a file by TFTP to a loader that takes it, again and again until its window opens.
type Put struct {
	File string `yaml:"file" json:"file"`
	To   string `yaml:"to" json:"to" jsonschema:"description=Address of the loader"`
	As   string `yaml:"as" json:"as,omitempty"`
	Port string `yaml:"port" json:"port,omitempty"`
}

// Poll takes readings again and again until something holds.
type Poll struct {
	Read    []string       `yaml:"read" json:"read"`
	Every   time.Duration  `yaml:"every" json:"every"`
	Until   string         `yaml:"until" json:"until"`
	Fail    string         `yaml:"fail" json:"fail,omitempty" jsonschema:"description=Gives up at once when this holds"`
	Else    string         `yaml:"else" json:"else,omitempty" jsonschema:"description=Said then"`
	Stalled *time.Duration `yaml:"stalled" json:"stalled,omitempty" jsonschema:"description=Gives up when nothing changed for so long"`
	Shows   string         `yaml:"shows" json:"shows,omitempty" jsonschema:"description=What is shown meanwhile; may hold ${…}"`
	Moves   string         `yaml:"moves" json:"moves,omitempty" jsonschema:"description=The file that is moved meanwhile, for the expected time"`
}

// Restart restarts the device and waits until console, prompt and reach agree that it is back. The step's
// expected time and limit are the expected and the longest absence.
type Restart struct {
	Action string            `yaml:"action" json:"action"`
	With   map[string]string `yaml:"with" json:"with,omitempty"`
	Watch  string            `yaml:"watch" json:"watch,omitempty" jsonschema:"description=Target that has to answer again, such as icmp:${device.address}"`
	Mode   []string          `yaml:"mode" json:"mode" jsonschema:"description=Modes whose prompt tells that it is back"`
	Then   string            `yaml:"then" json:"then,omitempty" jsonschema:"description=Mode to go to afterwards, such as that of somebody who is logged in"`
}

// Act does an action of the dialect.
type Act struct {
	Action string            `yaml:"action" json:"action"`
	With   map[string]string `yaml:"with" json:"with,omitempty"`
}

// Send moves an input file to the device: the action makes the device receive it.
type Send struct {
	File   string            `yaml:"file" json:"file" jsonschema:"description=Name of an input of kind image"`
	By     string            `yaml:"by" json:"by" jsonschema:"description=xmodem, xmodem-1k, ymodem or ymodem-g; may hold ${…}"`
	Action string            `yaml:"action" json:"action"`
	With   map[string]string `yaml:"with" json:"with,omitempty"`
}

// Speed changes both ends of the line, to a speed in baud or back to what it was before.
type Speed struct {
	To   int  `yaml:"to" json:"to,omitempty"`
	Back bool `yaml:"back" json:"back,omitempty"`
}

// Catch brings the device to a prompt of a mode, whatever it does now.
type Catch struct {
	Mode string `yaml:"mode" json:"mode"`
}

// Wait lets the device come to one of some modes by itself; its questions are answered meanwhile.
type Wait struct {
	Mode []string `yaml:"mode" json:"mode"`
}

// Compare holds two values against each other and keeps what that proves.
type Compare struct {
	What   string `yaml:"what" json:"what"`
	Want   string `yaml:"want" json:"want" jsonschema:"description=An expression"`
	Got    string `yaml:"got" json:"got" jsonschema:"description=An expression"`
	Proves string `yaml:"proves" json:"proves,omitempty"`
}

// OnFailure says what a failure leads to: stop (the default), go-on, go-back, or again-from a leg,
// at most so many times.
type OnFailure struct {
	Do        string `yaml:"do" json:"do,omitempty" jsonschema:"enum=stop,enum=go-on,enum=go-back"`
	AgainFrom string `yaml:"again-from" json:"again-from,omitempty"`
	Times     int    `yaml:"times" json:"times,omitempty"`
}

// WayBack leads back when the runbook fails.
type WayBack struct {
	About string `yaml:"about" json:"about,omitempty"`
	Steps []Step `yaml:"steps" json:"steps,omitempty"`
}
