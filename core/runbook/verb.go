package runbook

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"pilotrix/core/units"
)

// Verb is one kind of step: all that is to be said of it, in one place. A file declares one, and nothing
// else in the program lists them.
type Verb struct {
	Name string // its key in a step
	Does string // in words, for the documentation and the schema
	// Timeout is how long a step of the kind may take unless it says: generous, since it is there to end a
	// wait that nothing ends.
	Timeout time.Duration
	// Repeatable says that it may be done again without asking, after the line was lost.
	Repeatable bool
	// Learns says that it changes nothing on the device and is done again when a run begins at a later phase.
	Learns bool
	// First says that what comes before it may not change the device.
	First bool
	// OwnLine says that it can be done on the first line only.
	OwnLine bool
	// Restarts says that it restarts the device: what that changes is what runs, which a rollback is about.
	Restarts bool
	// HandsOver says that it gives the operator the helm.
	HandsOver bool
	Makes     []string // names that it makes for later steps, besides facts
	Cards     []string // what a view shows beside the console while it is under way, see the constants
	New       func() Body
}

// Cards that a verb may ask for.
const (
	CardTransfer  = "transfer"  // the file on its way
	CardBanks     = "banks"     // the banks, before and now
	CardPreflight = "preflight" // what was looked at before the device is asked
	CardReach     = "reach"     // whether the device answers
	CardFlash     = "flash"     // the map of the flash, and what is done to it
	CardNewDevice = "newcomer"  // a new device: the progress, and what is awaited of it
	CardWindow    = "window"    // the loader's window, and what the operator does
	CardRestart   = "restart"   // what agrees that it is back
)

// Body is what a step says to its verb, as YAML. Compile checks it and makes what is carried out.
type Body interface {
	Compile(c *Compiler) Work
}

// Work is a step's verb once it is compiled. What the language asks of it are the interfaces below, each of which it
// may have or not; the engine asks whether it is a Doer.
type Work any

// What a Work may have.
type (
	// Typist knows the commands that it types, as far as they are known.
	Typist interface {
		Types(p *Planner, s *PreparedStep) []Typed
	}
	// Summarizer says what it does on this laptop, what it checks, and what it estimates.
	Summarizer interface {
		Summary(p *Planner, s *PreparedStep) Summary
	}
	// Foreseer knows what it makes, as far as what is known before a run goes: nil stands for what only the device
	// says.
	Foreseer interface {
		Foresees(p *Planner, s *PreparedStep) Made
	}
	// Gatherer makes what stands for files, for loops to go over, as far as what is assumed goes.
	Gatherer interface{ Gathers(p *Planner) Made }
	// Expecter estimates how long it takes over a line of so many baud, 0 when it cannot.
	Expecter interface {
		Expects(p *Prepared, s *PreparedStep, baud int) time.Duration
	}
	// Pacer sets the line to a speed, in baud, 0 for what it was before.
	Pacer interface{ Pace() int }
	// Keeper keeps all facts under a name.
	Keeper interface{ Keeps() string }
	// Outwaiter waits until something that is pending runs out.
	Outwaiter interface{ WaitsOut() string }
)

// Summary is what a step does besides typing, in words.
type Summary struct{ Does, Checks, Estimates []string }

var registry = map[string]*Verb{}

// Register declares a verb. It is called while the program starts, once by each verb's file.
func Register(v Verb) *Verb {
	if registry[v.Name] != nil {
		panic(fmt.Sprintf("runbook: the verb %s is declared twice", v.Name))
	}
	registry[v.Name] = &v
	return &v
}

// Verbs lists all verbs by name.
func Verbs() []*Verb {
	all := make([]*Verb, 0, len(registry))
	for _, verb := range registry {
		all = append(all, verb)
	}
	slices.SortFunc(all, func(a, b *Verb) int { return strings.Compare(a.Name, b.Name) })
	return all
}

func verbNamed(name string) *Verb { return registry[name] }

func verbNames() string {
	names := []string{}
	for _, verb := range Verbs() {
		names = append(names, verb.Name)
	}
	return strings.Join(append(names, "hold"), ", ")
}

// VerbTable is the table of verbs in the documentation, as Markdown.
func VerbTable() string {
	var out strings.Builder
	out.WriteString("| verb | does | makes | timeout |\n|---|---|---|---|\n")
	for _, verb := range Verbs() {
		makes := ""
		if len(verb.Makes) > 0 {
			makes = "`" + strings.Join(verb.Makes, "`, `") + "`"
		}
		fmt.Fprintf(&out, "| `%s` | %s | %s | %s |\n", verb.Name, verb.Does, makes, units.Short(verb.Timeout))
	}
	return out.String()
}
