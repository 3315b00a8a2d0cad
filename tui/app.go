// Package tui is the full-screen interface: a view of a session's events. It holds no state of the
// session; everything shown is folded from events, so that a replay goes through the same code.
package tui

import (
	"context"
	"errors"
	"os"
	"time"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/colorprofile"

	"pilotrix/core/dialect"
	"pilotrix/core/event"
	"pilotrix/core/runbook"
	"pilotrix/core/session"
	"pilotrix/core/state"
	"pilotrix/tui/console"
	"pilotrix/tui/events"
	"pilotrix/tui/inputs"
	"pilotrix/tui/plan"
	"pilotrix/tui/runbooks"
	"pilotrix/tui/strip"
	"pilotrix/tui/theme"
	"pilotrix/tui/view"
)

// Options is what an interactive session needs.
type Options struct {
	Session *session.Session
	Runbook *runbook.Prepared // carried out at once, may be nil
	Begun   func()            // called once the session has begun, may be nil
	Dialect *dialect.Dialect  // may be nil
	Theme   string            // auto, dark or light
	Leader  string            // the leader key, such as ctrl+g
	Notices []string

	// Library is what can be carried out from inside, nil for nothing.
	Library Library

	// AddFolder puts a folder on the shelf, nil where that is not possible.
	AddFolder func(folder string) error

	Device string // name of the device, may be empty
	About  string // family and place, may be empty
	Line   string // the line as the header shows it

	Places []string // where servers that serve alone listen, in the words to tell a device
}

// place is a view, one of the main ones with its key in the row of keys.
type place struct {
	key, name string
	says      string // what the help says of it
	back      string // the view that Esc leads back to, empty for home
	view.View
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
	theme   theme.Theme
	fixed   bool // the theme does not follow the terminal
	few     bool // the terminal has 256 colours or fewer
	plain   bool // NO_COLOR: leave the terminal's own ground

	width, height int
	state         *state.State
	console       *console.Console
	events        *events.Events
	runbooks      *runbooks.Runbooks
	inputs        *inputs.Form
	plan          *plan.Plan
	given         map[string]string // what runbooks were given in this session, secrets too: kept nowhere else
	places        []place
	shown         int        // of the places
	over          strip.Over // what the strip is used for before anything else, nil for nothing
	replying      bool       // over is the answer to a question of the session
	message       string
	messageAt     time.Time
	tooSoon       bool
	locked        bool // every key but the leader goes to the device
	leaving       bool
	replay        bool
	serving       bool // servers alone, without a session
}

type (
	eventsMsg  []event.Event
	tickMsg    struct{}
	runEnded   struct{ err error }
	saidMsg    string
	replayOver struct{ err error }
)

// mostAtOnce is how much of the stream is drawn before the next key is looked at, in bytes.
const mostAtOnce = 64 << 10

const (
	tickEvery    = 200 * time.Millisecond
	messageShown = 6 * time.Second
	// An answer this soon after its question was meant for something else.
	tooSoonAfter = 700 * time.Millisecond
)

func newApp(ctx context.Context, opt Options) *app {
	a := &app{opt: opt, session: opt.Session, ctx: ctx, given: map[string]string{}, width: 80, height: 24, state: state.New(), console: console.New(80, 18), events: events.New(), theme: theme.Dark()}
	if a.session != nil {
		a.console.Press, a.console.Paste = a.session.Press, a.paste
	}
	a.places = a.allPlaces()
	a.show(a.home())
	a.fixed = opt.Theme == "dark" || opt.Theme == "light"
	if opt.Theme == "light" {
		a.theme = theme.Light()
	}
	a.plain = os.Getenv("NO_COLOR") != ""
	for _, notice := range opt.Notices {
		a.state.Remarks = append(a.state.Remarks, state.Remark{At: time.Now(), Note: event.Note{Level: event.Warning, Text: notice}})
		a.say(notice)
	}
	return a
}

// Run shows a session until the operator leaves.
func Run(ctx context.Context, opt Options) error {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	a := newApp(ctx, opt)
	p := tea.NewProgram(a, tea.WithContext(ctx))
	feed := opt.Session.Subscribe()
	go func() {
		for {
			batch, err := feed.Some(ctx, mostAtOnce)
			if err != nil {
				return
			}
			p.Send(eventsMsg(batch))
		}
	}()
	opt.Session.Begin()
	if opt.Begun != nil {
		opt.Begun()
	}
	_, err := p.Run()
	a.endRunbook()
	if errors.Is(err, tea.ErrProgramKilled) && ctx.Err() != nil {
		return nil
	}
	return err
}

// Init implements tea.Model.
func (a *app) Init() tea.Cmd {
	commands := []tea.Cmd{tick()}
	if !a.fixed {
		commands = append(commands, tea.RequestBackgroundColor)
	}
	if a.opt.Runbook != nil {
		commands = append(commands, a.carryOut(a.opt.Runbook))
	}
	return tea.Batch(commands...)
}

func tick() tea.Cmd { return tea.Tick(tickEvery, func(time.Time) tea.Msg { return tickMsg{} }) }

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
	switch msg := msg.(type) {
	case eventsMsg:
		a.apply(msg)
	case tickMsg:
		a.tick()
		return a, tick()
	case tea.WindowSizeMsg:
		a.width, a.height = msg.Width, msg.Height
		a.fit()
	case tea.BackgroundColorMsg:
		if !a.fixed && !msg.IsDark() {
			a.setTheme(theme.Light())
		}
	case tea.ColorProfileMsg:
		a.few = msg.Profile < colorprofile.TrueColor
		a.setTheme(a.theme)
	case tea.KeyPressMsg:
		return a, a.press(msg)
	case tea.PasteMsg:
		return a, a.focused().Update(msg)
	case tea.MouseWheelMsg:
		a.wheel(msg.Mouse())
	case needed:
		return a, a.needs(msg)
	case prepared:
		a.planned(msg)
	case readAnew:
		a.wasRead(msg.err)
	case runEnded:
		a.run = nil
		if msg.err != nil {
			a.say(msg.err.Error())
		}
		if a.leaving {
			return a, tea.Quit
		}
	case saidMsg:
		a.say(string(msg))
	case replayOver:
		a.say("the replay is over")
		if msg.err != nil {
			a.say(msg.err.Error())
		}
	default:
		return a, a.tell(msg)
	}
	return a, nil
}

// tell gives what a view's own command gave to all of them: each knows its own.
func (a *app) tell(msg tea.Msg) tea.Cmd {
	var commands []tea.Cmd
	for _, p := range a.places {
		commands = append(commands, p.Update(msg))
	}
	return tea.Batch(commands...)
}

func (a *app) apply(batch []event.Event) {
	for _, e := range batch {
		before := a.state.Ask
		a.state.Apply(e)
		a.console.Apply(e)
		if a.state.Ask != before {
			a.tooSoon = false
		}
	}
	a.events.Apply(batch)
	a.attend()
	a.fit()
}

func (a *app) tick() {
	switch {
	case a.session != nil:
		a.state.Tick(a.session.Clock().Now())
	case a.serving:
		a.state.Tick(time.Now())
	}
	if a.message != "" && time.Since(a.messageAt) > messageShown {
		a.message = ""
	}
}

func (a *app) setTheme(t theme.Theme) {
	if a.few {
		t = t.Few()
	}
	a.theme = t
}

func (a *app) say(text string) { a.message, a.messageAt = text, time.Now() }

// fit gives the console the room that the frame leaves, and tells the device where it can know.
func (a *app) fit() {
	cols, rows := a.consoleSize()
	if oldCols, oldRows := a.console.Size(); cols == oldCols && rows == oldRows {
		return
	}
	a.console.Resize(cols, rows)
	if a.session != nil {
		go a.session.Resize(cols, rows)
	}
}

func (a *app) wheel(m tea.Mouse) {
	rows := 3
	if m.Button == tea.MouseWheelDown {
		rows = -3
	}
	if v, can := a.view().(interface{ Wheel(rows int) }); can {
		v.Wheel(rows)
	}
}
