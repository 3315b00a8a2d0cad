package runbook

import (
	"pilotrix/core/source"
)

// The types below are the YAML of a runbook: what Parse holds a file to, and what the JSON Schema for
// editors is made from. What a step says to its verb is in the verb's own file.

// Document is a runbook file.
type Document struct {
	Runbook   string    `yaml:"runbook" jsonschema:"required" jsonschema_description:"The name it is chosen by"`
	Title     string    `yaml:"title"`
	About     string    `yaml:"about"`
	Inputs    []Input   `yaml:"inputs" jsonschema_description:"What the runbook has to be told"`
	Phases    []Phase   `yaml:"phases" jsonschema:"required" jsonschema_description:"The named parts of the course"`
	OnFailure OnFailure `yaml:"on-failure" jsonschema_description:"What a failure of any step leads to"`
	Rollback  Rollback  `yaml:"rollback" jsonschema_description:"What leads back when the runbook fails"`
}

// Input is something the runbook has to be told.
type Input struct {
	Input   string        `yaml:"input" jsonschema:"required" jsonschema_description:"Its name"`
	Kind    string        `yaml:"kind" jsonschema:"required,enum=image,enum=text,enum=number,enum=choice,enum=secret,enum=folder"`
	About   string        `yaml:"about"`
	Default *source.Text  `yaml:"default"`
	Choices []source.Text `yaml:"choices" jsonschema_description:"Of a choice: what it may be"`
	From    string        `yaml:"from" jsonschema_description:"What it is picked from when it is entered: laptop (this laptop's addresses), upgrade-paths (files of allowed steps), or a column of a list that the device is read for, such as cards.slot"`
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

// Phase is a named part of the course. With a loop its steps are carried out once for each of a list; its
// name may then hold ${…}.
type Phase struct {
	Phase    string            `yaml:"phase" jsonschema:"required" jsonschema_description:"Its name"`
	When     source.Expression `yaml:"when" jsonschema_description:"The phase is skipped unless this holds"`
	For      *Loop             `yaml:"for" jsonschema_description:"Carries the phase out for each of a list"`
	Rehearse bool              `yaml:"rehearse" jsonschema_description:"Nothing in it changes what the device keeps: a run with --rehearse ends behind the last such phase"`
	Steps    []Step            `yaml:"steps" jsonschema:"required"`
}

// Loop says what a phase is carried out for: each row of a list of facts, or each step of the upgrade path.
type Loop struct {
	Each  string            `yaml:"each" jsonschema:"required" jsonschema_description:"The name that the steps call it by"`
	In    source.Expression `yaml:"in" jsonschema:"required" jsonschema_description:"An expression for the list, such as upgrades or cards"`
	Where source.Expression `yaml:"where" jsonschema_description:"Only those for which this holds"`
}

// Common is what every step may say besides what its verb does.
type Common struct {
	Step         string            `yaml:"step" jsonschema:"required" jsonschema_description:"What it does, in words"`
	When         source.Expression `yaml:"when" jsonschema_description:"The step is skipped unless this holds"`
	Skipped      string            `yaml:"skipped" jsonschema_description:"Why it is not needed then, in words"`
	On           string            `yaml:"on" jsonschema_description:"The line that it types on, of those that are open beside the first (--also NAME=TARGET); the first unless said"`
	Hold         string            `yaml:"hold" jsonschema_description:"Waits for the operator's approval, with this text"`
	Rollback     string            `yaml:"rollback" jsonschema_description:"How this is undone; said with the hold"`
	Undoes       []string          `yaml:"undoes" jsonschema_description:"In a rollback: the actions whose effect this puts back; one that is done again with other values puts its own back"`
	Irreversible bool              `yaml:"irreversible" jsonschema_description:"This cannot be undone"`
	Expected     *source.Duration  `yaml:"expected" jsonschema_description:"How long it usually takes"`
	Timeout      *source.Duration  `yaml:"timeout" jsonschema_description:"How long it may take; each verb has its own unless said"`
	Retry        int               `yaml:"retry" jsonschema:"minimum=0" jsonschema_description:"How often it is repeated after a failure"`
	Failure      OnFailure         `yaml:"on-failure" jsonschema_description:"What a failure leads to"`
}

// OnFailure says what a failure leads to: stop (the default), go-on, roll-back, or repeat-from a phase, at
// most so many times.
type OnFailure struct {
	Do         string `yaml:"do" jsonschema:"enum=stop,enum=go-on,enum=roll-back"`
	RepeatFrom string `yaml:"repeat-from" jsonschema_description:"The phase to start over from"`
	Times      int    `yaml:"times" jsonschema:"minimum=1" jsonschema_description:"How often, once unless said"`
}

// Rollback leads back when the runbook fails.
type Rollback struct {
	About string `yaml:"about" jsonschema_description:"What there is to go back to, in words"`
	Steps []Step `yaml:"steps"`
}
