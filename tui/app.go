// Package tui is the full-screen interface: a view of a session's events. It holds no state of the
// session; everything shown is folded from events, so that a replay goes through the same code.
package tui

import (
	"context"
	"time"

	tea "charm.land/bubbletea/v2"

	"pilotrix/core/dialect"
	"pilotrix/core/event"
	"pilotrix/core/logbook"
	"pilotrix/core/runbook"
	"pilotrix/core/session"
	"pilotrix/core/state"
	"pilotrix/tui/console"
	"pilotrix/tui/dialects"
	"pilotrix/tui/events"
	"pilotrix/tui/inputs"
	"pilotrix/tui/plan"
	"pilotrix/tui/runbooks"
)

// Options is what an interactive session needs.
type Options struct {
	Session *session.Session
	Runbook *runbook.Prepared // carried out at once, may be nil
	Begun   func()            // called once the session has begun, may be nil
	Theme   string            // auto, dark or light
	Leader  string            // the leader key, such as ctrl+g
	Notices []string

	// Seconds are further lines to the same device.
	Seconds []Second

	// Library is what can be carried out from inside, nil for nothing.
	Library Library

	// Dialects are those that are known, to be weighed where it is not known how the device talks. Chosen remembers the
	// one that was chosen, and is nil where that cannot be.
	Dialects func() []*dialect.Dialect
	Chosen   func(*dialect.Dialect) error

	// AddFolder puts a folder on the shelf, nil where that is not possible.
	AddFolder func(folder string) error

	Device string // name of the device, may be empty
	About  string // family and place, may be empty
	Line   string // the line as the header shows it

	// Answer answers a question of servers that serve alone, without a session; nil where they ask nothing.
	Answer func(id, answer string)

	Places []string // where servers that serve alone listen, in the words to tell a device
}

// run is a runbook that is carried out beside the interface.
type run struct {
	stop  context.CancelFunc
	ended chan struct{} // closed when it is over, its last step included
}

// app is the Bubble Tea model. It folds events into the state, and routes keys to whoever declares them.
type app struct {
	opt     Options
	session *session.Session // nil in a replay
	ctx     context.Context  // of the interface
	run     *run             // the runbook that is carried out, nil for none
	shell

	state          *state.State
	console        *console.Console
	seconds        []*second
	events         *events.Events
	runbooks       *runbooks.Runbooks
	inputs         *inputs.Form
	plan           *plan.Plan
	dialects       *dialects.Dialects
	heard          heard
	offered        offered
	advice         map[string]string // what the operator has to know of each deed, kept nowhere else
	given          map[string]string // what runbooks were given in this session, secrets too: kept nowhere else
	replying       bool              // what is typed in the strip is the answer to a question of the session
	tooSoon        bool
	escAt, enterAt time.Time // when an Esc closed something, and an Enter answered
	locked         bool      // every key but the leader goes to the device
	leaving        bool
	replay         bool
	player         func(logbook.Move) // of a replay
	playing        string             // where it is, in words
	serving        bool               // servers alone, without a session
}

type (
	eventsMsg []event.Event
	tickMsg   struct{ of tea.Model }
	runEnded  struct {
		run *run
		err error
	}
	saidMsg string
)

// maxAtOnce is how much of the stream is drawn before the next key is looked at, in bytes.
const maxAtOnce = 64 << 10

const tickEvery = 200 * time.Millisecond

func newApp(ctx context.Context, opt Options) *app {
	a := &app{
		opt:     opt,
		session: opt.Session,
		ctx:     ctx,
		shell:   newShell(opt.Theme),
		given:   map[string]string{},
		advice:  map[string]string{},
		state:   state.New(),
		console: console.New(80, 18),
		events:  events.New(),
	}
	if a.session != nil {
		a.console.Press = a.session.Press
		a.console.Paste = func(text string) { a.paste(at{a.session, a.state}, text) }
	}
	a.makeSeconds()
	a.places = a.allPlaces()
	a.home = "console"
	a.show(a.home)
	for _, notice := range opt.Notices {
		a.state.Remarks = append(a.state.Remarks,
			state.Remark{At: time.Now(), Note: event.Note{Level: event.Warning, Text: notice}})
		a.say(notice)
	}
	return a
}

// Init implements tea.Model.
func (a *app) Init() tea.Cmd {
	commands := []tea.Cmd{tick(a), a.asksGround()}
	if a.opt.Runbook != nil {
		commands = append(commands, a.carryOut(a.opt.Runbook))
	}
	return tea.Batch(commands...)
}

// tick lets time pass for one part of the interface: that of another is not its.
func tick(of tea.Model) tea.Cmd {
	return tea.Tick(tickEvery, func(time.Time) tea.Msg { return tickMsg{of} })
}

// endLimit is how long a runbook may take to put the line in order when the program is ended.
const endLimit = 20 * time.Second

// endRunbook ends a runbook that still runs and waits for its last words: the speed put back.
func (a *app) endRunbook() {
	if a.run == nil {
		return
	}
	a.run.stop()
	limit := time.NewTimer(endLimit)
	defer limit.Stop()
	select {
	case <-a.run.ended:
	case <-limit.C:
	}
}

// Update implements tea.Model.
func (a *app) Update(msg tea.Msg) (tea.Model, tea.Cmd) {
	if a.hears(msg) {
		a.fit()
		return a, nil
	}
	switch msg := msg.(type) {
	case eventsMsg:
		return a, a.apply(msg)
	case tickMsg:
		if msg.of == tea.Model(a) {
			return a, tea.Batch(a.tick(), tick(a))
		}
	case tea.KeyPressMsg:
		return a, a.press(msg)
	case needed:
		return a, a.needs(msg)
	case prepared:
		return a, a.planned(msg)
	case secondMsg:
		a.hearSecond(msg)
	case weighed:
		a.weighs(msg)
	case available:
		if msg.app == a && msg.command == a.offered.asked {
			a.offered.kit = msg.kit
		}
	case deedAdvice:
		if msg.app == a {
			a.advice[msg.id] = msg.text
		}
	case readAgain:
		a.wasRead(msg.err)
	case runEnded:
		if msg.run != a.run { // of a session that was left
			return a, nil
		}
		a.run = nil
		if msg.err != nil {
			a.say(msg.err.Error())
		}
		if a.leaving {
			return a, a.leaves
		}
	case saidMsg:
		a.say(string(msg))
	default:
		return a, a.describes(msg)
	}
	return a, nil
}

func (a *app) apply(batch []event.Event) tea.Cmd {
	rings := false
	for _, e := range batch {
		before := a.state.Ask
		switch b := e.Body.(type) {
		case event.In:
			a.heard.bytes += len(b.Bytes)
		case event.Note:
			if b.Level == event.Error && !a.replay { // where there is no side column, too
				a.say(b.Text)
			}
		}
		a.state.Apply(e)
		a.console.Apply(e)
		rings = rings || a.calls(e.Body)
		if a.state.Ask != before {
			a.tooSoon = false
		}
	}
	a.events.Apply(batch)
	a.attend()
	a.fit()
	if rings {
		return tea.Batch(a.offers(), tea.Raw("\a"))
	}
	return a.offers()
}

// calls reports whether an event calls the operator, who may look elsewhere, by the terminal's bell: what is watched
// does not answer any more, or answers again, and what was begun has ended, while no runbook goes on.
func (a *app) calls(body event.Body) bool {
	if a.replay || a.serving || a.state.Helm.Who == event.Runbook {
		return false
	}
	switch b := body.(type) {
	case event.Reach:
		return b.State == event.Gone || b.State == event.Back
	case event.Deed:
		return b.State == event.DeedEnded
	}
	return false
}

func (a *app) tick() tea.Cmd {
	switch {
	case a.session != nil:
		a.state.Tick(a.session.Clock().Now())
		for _, one := range a.seconds {
			one.state.Tick(a.session.Clock().Now())
		}
	case a.serving:
		a.state.Tick(time.Now())
	}
	a.quiet()
	return tea.Batch(a.weigh(), a.offers())
}

// fit gives the console the room that the frame leaves, and tells the device where it can know.
func (a *app) fit() {
	cols, rows := a.consoleSize()
	if oldCols, oldRows := a.console.Size(); cols == oldCols && rows == oldRows {
		return
	}
	a.console.Resize(cols, rows)
	if a.session != nil {
		a.session.Resize(cols, rows)
	}
	for _, one := range a.seconds {
		one.console.Resize(cols, rows)
		one.Session.Resize(cols, rows)
	}
}
