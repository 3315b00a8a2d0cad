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
	Kind    string   `yaml:"kind" json:"kind" jsonschema:"enum=image,enum=text,enum=number,enum=choice,enum=secret"`
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
)

// Leg is a named part of the course.
type Leg struct {
	Leg   string `yaml:"leg" json:"leg"`
	Steps []Step `yaml:"steps" json:"steps"`
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
