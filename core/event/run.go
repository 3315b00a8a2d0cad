package event

import (
	"fmt"
	"strings"
	"time"
)

// The events of a runbook under way.

// StepPlan is a step as the course draws it.
type StepPlan struct {
	ID           string        `json:"id"`
	Phase        string        `json:"phase"`
	Title        string        `json:"title"`
	Verb         string        `json:"verb"`
	Expected     time.Duration `json:"expected"`
	Timeout      time.Duration `json:"timeout"`
	Hold         bool          `json:"hold,omitempty"`
	Irreversible bool          `json:"irreversible,omitempty"`
	Rehearsed    bool          `json:"rehearsed,omitempty"` // nothing that lasts is changed in its phase
	Yours        bool          `json:"yours,omitempty"`     // it gives the operator the helm
	Cards        []string      `json:"cards,omitempty"`     // what a view shows while it is under way
	Types        []string      `json:"types,omitempty"`     // what it would type, as far as that is known
}

// RunBegin starts a runbook.
type RunBegin struct {
	Runbook  string            `json:"runbook"`
	Title    string            `json:"title"`
	Dialect  string            `json:"dialect"`
	Inputs   map[string]string `json:"inputs,omitempty"`
	Steps    []StepPlan        `json:"steps"`
	Rollback string            `json:"rollback,omitempty"`
}

var runBeginKind = declare(Kind[RunBegin]{
	Name: "run.begin",
	Sample: RunBegin{
		Runbook: "r",
		Inputs:  map[string]string{"image": "x"},
		Steps:   []StepPlan{{ID: "1.1", Expected: time.Second, Irreversible: true}},
	},
	Report: func(b RunBegin) (string, bool) {
		return b.Title, true
	},
})

func (RunBegin) kind() *declaration { return runBeginKind }

// RunEnd ends a runbook, with what was proved.
type RunEnd struct {
	Outcome Outcome  `json:"outcome"`
	Exit    int      `json:"exit"`
	Message string   `json:"message"`
	Proved  []string `json:"proved,omitempty"`
	// Unrecorded says what was changed without being on record first, and why; empty for nothing.
	Unrecorded string `json:"unrecorded,omitempty"`
}

var runEndKind = declare(Kind[RunEnd]{
	Name: "run.end",
	Sample: RunEnd{
		Outcome:    Done,
		Exit:       0,
		Proved:     []string{"it runs"},
		Unrecorded: "from “write b” on: the disk is full",
	},
	Report: func(b RunEnd) (string, bool) {
		return b.Text(), true
	},
})

// Text is how it ended, and what there is to say of that.
func (b RunEnd) Text() string {
	outcome := string(b.Outcome)
	rest, same := strings.CutPrefix(b.Message, outcome)
	if same && (rest == "" || strings.ContainsAny(rest[:1], ";:,")) ||
		b.Outcome == DoneBut && strings.HasPrefix(b.Message, "done") {
		return b.Message
	}
	return strings.TrimSuffix(outcome+": "+b.Message, ": ")
}

func (RunEnd) kind() *declaration { return runEndKind }

// Course replaces the steps that are ahead: a loop knows its rounds now.
type Course struct {
	Steps []StepPlan `json:"steps"`
}

var courseKind = declare(Kind[Course]{
	Name:   "run.course",
	Sample: Course{Steps: []StepPlan{{ID: "2a.1", Phase: "upgrade to 7.6.1"}}},
})

func (Course) kind() *declaration { return courseKind }

// StepBegin enters a step; Try counts from 1.
type StepBegin struct {
	ID  string `json:"id"`
	Try int    `json:"try"`
}

var stepBeginKind = declare(Kind[StepBegin]{
	Name:   "step.begin",
	Sample: StepBegin{ID: "1.1", Try: 2},
	Report: func(b StepBegin) (string, bool) {
		return fmt.Sprintf("%s, try %d", b.ID, b.Try), false
	},
})

func (StepBegin) kind() *declaration { return stepBeginKind }

// Change says of a command that changes the device, before it is sent: what comes of it is not known until
// something is read.
type Change struct {
	Step    string `json:"step"`
	Command string `json:"command"`
	Hand    bool   `json:"hand,omitempty"`  // it is typed by hand
	Maybe   bool   `json:"maybe,omitempty"` // nothing knows the command, and it can be one that changes something
}

var changeKind = declare(Kind[Change]{
	Name:   "change",
	Sample: Change{Step: "4.1", Command: "recommence", Hand: true, Maybe: true},
	Report: func(b Change) (string, bool) {
		if b.Maybe {
			return "may change the device: " + b.Command, false
		}
		return "changes the device: " + b.Command, true
	},
})

func (Change) kind() *declaration { return changeKind }

// StepNow says what the step is doing or awaiting at this moment. Part is how far the device says it is, from 0
// to 1; Left is the time to go at that rate.
type StepNow struct {
	ID       string        `json:"id"`
	Doing    string        `json:"doing"`
	Awaiting string        `json:"awaiting,omitempty"`
	Timeout  time.Duration `json:"timeout,omitempty"`
	Part     float64       `json:"part,omitempty"`
	Left     time.Duration `json:"left,omitempty"`
	Resumes  bool          `json:"resumes,omitempty"` // a wait that is gone on with when the operator gives the helm back
}

var stepNowKind = declare(Kind[StepNow]{
	Name: "step.now",
	Sample: StepNow{
		ID:       "1.1",
		Doing:    "a",
		Awaiting: "b",
		Timeout:  time.Minute,
		Part:     0.55,
		Left:     time.Second,
		Resumes:  true,
	},
})

func (StepNow) kind() *declaration { return stepNowKind }

// StepEnd leaves a step.
type StepEnd struct {
	ID      string        `json:"id"`
	Outcome Outcome       `json:"outcome"`
	Message string        `json:"message,omitempty"`
	Took    time.Duration `json:"took"`
}

var stepEndKind = declare(Kind[StepEnd]{
	Name:   "step.end",
	Sample: StepEnd{ID: "1.1", Outcome: Skipped, Took: 3},
	Report: func(b StepEnd) (string, bool) {
		return b.ID + " " + string(b.Outcome) + " " + b.Message, b.Outcome == Failed
	},
})

func (StepEnd) kind() *declaration { return stepEndKind }

// Fact is one value learnt from the device, with the command it came from. A list has its rows.
type Fact struct {
	Name   string              `json:"name"`
	Value  string              `json:"value"`
	Unit   string              `json:"unit,omitempty"`
	Source string              `json:"source"`
	Was    string              `json:"was,omitempty"`
	After  int                 `json:"after,omitempty"` // how many changes of the device were known of when it was read
	Rows   []map[string]string `json:"rows,omitempty"`
	Read   time.Time           `json:"read,omitzero"`  // when the device took its command, where that was before this event
	Hand   bool                `json:"hand,omitempty"` // it was typed by hand
}

var factKind = declare(Kind[Fact]{
	Name: "fact",
	Sample: Fact{
		Name:   "store.free",
		Value:  "8",
		Source: "store",
		Was:    "7",
		After:  2,
		Read:   time.Date(2026, 3, 2, 14, 0, 0, 0, time.UTC),
		Hand:   true,
	},
	Report: func(b Fact) (string, bool) {
		return b.Name + " = " + b.Value + "  (" + b.Source + ")", false
	},
})

func (Fact) kind() *declaration { return factKind }

// Check is one comparison made, kept or not. Before is what it was before the change, where the
// comparison is with that.
type Check struct {
	Step   string `json:"step"`
	Text   string `json:"text"`
	Held   bool   `json:"held"`
	Got    string `json:"got,omitempty"`
	Before string `json:"before,omitempty"`
}

var checkKind = declare(Kind[Check]{
	Name:   "check",
	Sample: Check{Step: "1.3", Text: "fits", Held: true, Got: "x"},
	Report: func(b Check) (string, bool) {
		if b.Held {
			return b.Text + "  holds " + b.Got, false
		}
		return b.Text + "  does not hold " + b.Got, true
	},
})

func (Check) kind() *declaration { return checkKind }

// Restart says how far a restart has come: what agrees that the device is back, and what does not.
type Restart struct {
	Step     string        `json:"step"`
	Begun    time.Time     `json:"begun"`
	Expected time.Duration `json:"expected"`
	Longest  time.Duration `json:"longest"`
	Console  string        `json:"console"`
	Reach    string        `json:"reach,omitempty"`
	Prompt   string        `json:"prompt,omitempty"`
	Over     bool          `json:"over,omitempty"`
}

var restartKind = declare(Kind[Restart]{
	Name: "restart",
	Sample: Restart{
		Step:     "4.1",
		Begun:    time.Date(2026, 3, 2, 14, 0, 0, 0, time.UTC),
		Expected: time.Minute,
		Console:  "silent",
		Over:     true,
	},
	Report: func(b Restart) (string, bool) {
		text := "under way: console " + b.Console
		if b.Over {
			text = "back: console " + b.Console
		}
		if b.Reach != "" {
			text += ", reach " + b.Reach
		}
		return text, false
	},
})

func (Restart) kind() *declaration { return restartKind }
