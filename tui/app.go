// Package tui is the full-screen interface: a view of a session's events. It holds no state of the
// session; everything shown is folded from events, so that a replay goes through the same code.
package tui

import (
	"context"
	"errors"
	"fmt"
	"math"
	"os"
	"slices"
	"strconv"
	"strings"
	"time"
	"unicode"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/colorprofile"

	"pilotrix/core/dialect"
	"pilotrix/core/event"
	"pilotrix/core/image"
	"pilotrix/core/line"
	"pilotrix/core/runbook"
	"pilotrix/core/session"
	"pilotrix/core/state"
	"pilotrix/tui/console"
	"pilotrix/tui/images"
	"pilotrix/tui/strip"
	"pilotrix/tui/theme"
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

	// AddFolder puts a folder on the shelf, nil where that is not possible.
	AddFolder func(folder string) error

	Device string // name of the device, may be empty
	About  string // family and place, may be empty
	Line   string // the line as the header shows it

	Places []string // where servers that serve alone listen, in the words to tell a device
}

// view is one of the main views.
type view int

const (
	consoleView view = iota
	helpView
	courseView
	imagesView
	banksView
	transfersView
	reachView
	eventsView
)

// app is the Bubble Tea model.
type app struct {
	opt     Options
	session *session.Session // nil in a replay
	ctx     context.Context  // of the interface
	running context.Context  // of the runbook
	ended   chan struct{}    // closed when the runbook is over, its last step included
	stop    context.CancelFunc
	theme   theme.Theme
	fixed   bool // the theme does not follow the terminal
	few     bool // the terminal has 256 colours or fewer
	plain   bool // NO_COLOR: leave the terminal's own ground

	width, height int
	state         *state.State
	console       *console.Console
	journal       []event.Event
	view          view
	offset        int  // rows scrolled in another view
	chosen        int  // image that is shown whole, -1 for none
	follow        bool // the chosen one is kept in sight
	mode          strip.Mode
	typed         string
	message       string
	messageAt     time.Time
	tooSoon       bool
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
	maxJournal   = 4000
	messageShown = 6 * time.Second
	// An answer this soon after its question was meant for something else.
	tooSoonAfter = 700 * time.Millisecond
)

func newApp(ctx context.Context, opt Options) *app {
	a := &app{opt: opt, session: opt.Session, ctx: ctx, ended: make(chan struct{}), chosen: -1, width: 80, height: 24, state: state.New(), console: console.New(80, 18), theme: theme.Dark()}
	a.running, a.stop = context.WithCancel(context.WithoutCancel(ctx))
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
		commands = append(commands, a.start)
	}
	return tea.Batch(commands...)
}

func tick() tea.Cmd { return tea.Tick(tickEvery, func(time.Time) tea.Msg { return tickMsg{} }) }

// start carries the runbook out beside the interface.
func (a *app) start() tea.Msg {
	defer close(a.ended)
	_, err := a.session.Run(a.running, a.opt.Runbook)
	return runEnded{err}
}

// endLimit is how long a runbook may take to put the line in order when the program is ended.
const endLimit = 20 * time.Second

// endRunbook ends a runbook that still runs and waits for its last words: the speed put back.
func (a *app) endRunbook() {
	a.stop()
	if a.opt.Runbook == nil {
		return
	}
	limit := time.NewTimer(endLimit)
	defer limit.Stop()
	select {
	case <-a.ended:
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
		return a, a.key(tea.Key(msg), msg.String())
	case tea.PasteMsg:
		a.paste(msg.Content)
	case tea.MouseWheelMsg:
		a.wheel(msg.Mouse())
	case runEnded:
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
	}
	return a, nil
}

func (a *app) apply(batch []event.Event) {
	for _, e := range batch {
		before := a.state.Ask
		a.state.Apply(e)
		a.console.Apply(e)
		if a.state.Ask != before {
			a.tooSoon = false
		}
		switch e.Body.(type) {
		case event.In, event.Transfer, event.StepNow, event.Probe, event.Rung, event.Shelf:
		default:
			a.journal = append(a.journal, e)
		}
	}
	if over := len(a.journal) - maxJournal; over > 0 {
		a.journal = append(a.journal[:0], a.journal[over:]...)
	}
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

// key handles one key: the strip's own first, then the interface's few, then the device's.
func (a *app) key(k tea.Key, name string) tea.Cmd {
	if a.serving && (name == "ctrl+c" || name == "q") {
		return tea.Quit
	}
	a.attend()
	if a.mode != strip.Plain {
		return a.stripKey(k, name)
	}
	if a.state.Held != nil && name == "f9" && a.session != nil {
		go a.session.SendHeld()
		return nil
	}
	if name == a.opt.Leader && !a.serving {
		a.mode = strip.Leader
		return nil
	}
	if handled, cmd := a.functionKey(name); handled {
		return cmd
	}
	if a.state.Ask != nil && (a.state.Helm.Who == event.Runbook || a.state.Ask.Form == event.FormLine) && a.answerKey(name) {
		return nil
	}
	if a.view == imagesView && a.imagesKey(name) {
		return nil
	}
	if a.view != consoleView {
		a.move(name)
		return nil
	}
	if a.session == nil {
		return nil
	}
	if keys := bytesOf(k, a.console.AppKeys()); len(keys) > 0 {
		a.console.Live()
		a.view = consoleView
		a.session.Press(keys)
	}
	return nil
}

func (a *app) functionKey(name string) (handled bool, cmd tea.Cmd) {
	_, rows := a.console.Size()
	for _, v := range a.views() {
		if v.key == name {
			a.show(v.view)
			return true, nil
		}
	}
	switch name {
	case "f10":
		a.pause()
	case "shift+pgup":
		a.console.Scroll(rows / 2)
	case "shift+pgdown":
		a.console.Scroll(-rows / 2)
	default:
		return false, nil
	}
	return true, nil
}

// viewKey is a main view with its key.
type viewKey struct {
	key, name string
	view      view
}

// views are the main views in the order of the row of keys. Servers that work alone have no session to
// show.
func (a *app) views() []viewKey {
	if !a.serving {
		return allViews
	}
	return slices.DeleteFunc(slices.Clone(allViews), func(v viewKey) bool {
		return v.view != helpView && v.view != transfersView && v.view != eventsView
	})
}

var allViews = []viewKey{
	{"f1", "help", helpView},
	{"f2", "console", consoleView},
	{"f3", "course", courseView},
	{"f4", "images", imagesView},
	{"f5", "banks", banksView},
	{"f6", "transfers", transfersView},
	{"f7", "reach", reachView},
	{"f8", "events", eventsView},
}

func (a *app) show(v view) {
	if v == consoleView && a.serving {
		v = transfersView
	}
	a.view, a.offset, a.chosen = v, 0, -1
	if v == consoleView {
		a.console.Live()
	}
}

// pause takes the helm, or asks how to give it back.
func (a *app) pause() {
	switch {
	case a.session == nil || !a.state.Running():
		a.say("there is no runbook to pause")
	case a.state.Helm.Who == event.Runbook:
		a.session.TakeHelm()
	case a.state.Held != nil: // the strip says what comes first
	default:
		a.mode = strip.HandBack
	}
}

// move moves in another view than the console. No key of such a view goes to the device.
func (a *app) move(name string) {
	page := max(1, a.height/2)
	switch name {
	case "esc":
		a.show(consoleView)
	case "up":
		a.offset--
	case "down":
		a.offset++
	case "pgup":
		a.offset -= page
	case "pgdown":
		a.offset += page
	case "home":
		a.offset = 0
	case "end":
		a.offset = math.MaxInt / 2 // as far as the view goes
	}
	a.offset = max(0, a.offset)
}

var answerKeys = map[event.Form]map[string]string{
	event.FormHold:     {"enter": runbook.Approve, "esc": runbook.StopHere},
	event.FormOperator: {"enter": runbook.DoneByMe, "esc": runbook.StopHere},
	event.FormDialog:   {"enter": runbook.DoneByMe, "esc": runbook.StopHere},
	event.FormFailure:  {"enter": runbook.TryAgain, "esc": runbook.StopHere},
	event.FormLine:     {"enter": line.KeyIsRight, "esc": line.KeyIsWrong},
	event.FormOverrun:  {"enter": runbook.WaitOn, "esc": runbook.GiveUp},
}

// leaderAnswers are answers that take the leader key first. No letter ever answers by itself: it may
// be the beginning of something typed.
var leaderAnswers = map[string]string{"n": runbook.SkipIt, "w": runbook.RollBack}

// answerKey answers the open question. A key that comes right after the question was meant for
// something else and is asked for once more.
func (a *app) answerKey(name string) bool {
	ask := a.state.Ask
	answer, known := answerKeys[ask.Form][name]
	if !known || a.session == nil { // of a replay
		return false
	}
	if wall := a.session.Clock().Wall(a.session.Clock().Since(a.state.AskedAt)); wall < tooSoonAfter && !a.tooSoon {
		a.tooSoon = true
		return true
	}
	a.session.Answer(ask.ID, answer, "operator")
	return true
}

// attend turns to a question whose answer is typed, and away from one that is over.
func (a *app) attend() {
	typed := a.state.Ask != nil && a.state.Ask.Typed && a.session != nil
	switch {
	case typed && a.mode == strip.Plain:
		a.mode, a.typed = strip.Reply, ""
	case !typed && a.mode == strip.Reply:
		a.mode, a.typed = strip.Plain, ""
	}
}

// reply gives what was typed.
func (a *app) reply(text string) {
	a.session.Answer(a.state.Ask.ID, text, "operator")
	a.state.Ask = nil
	a.mode, a.typed = strip.Plain, ""
}

func (a *app) stripKey(k tea.Key, name string) tea.Cmd {
	mode := a.mode
	if mode == strip.Reply && (name == "esc" || name == "enter") {
		a.reply(map[bool]string{true: a.typed}[name == "enter"])
		return nil
	}
	if name == "esc" {
		a.mode, a.typed = strip.Plain, ""
		return nil
	}
	switch mode {
	case strip.Leader:
		a.mode = strip.Plain
		return a.leaderKey(k, name)
	case strip.HandBack:
		if choice, known := handBackKeys[name]; known {
			if a.mode = strip.Plain; choice == runbook.Resume && !a.state.Doing.Resumes {
				choice = runbook.Repeat
			}
			go a.session.GiveHelm(choice)
		}
	case strip.Quit:
		if name == "y" {
			return a.leave()
		}
	case strip.Search, strip.Speed, strip.Folder, strip.Reply:
		return a.typeInStrip(k, name)
	}
	return nil
}

var handBackKeys = map[string]runbook.Wish{"enter": runbook.Resume, "r": runbook.Repeat, "n": runbook.GoOn, "x": runbook.Stop}

func (a *app) leaderKey(k tea.Key, name string) tea.Cmd {
	if name == "q" {
		if a.state.Running() && !a.replay {
			a.mode = strip.Quit
			return nil
		}
		return tea.Quit
	}
	if name == "/" {
		a.mode = strip.Search
		return nil
	}
	if a.session == nil {
		return nil
	}
	if answer, known := leaderAnswers[name]; known && a.state.Ask != nil && a.session.Answer(a.state.Ask.ID, answer, "operator") {
		return nil
	}
	switch name {
	case a.opt.Leader, "f1", "f2", "f3", "f4", "f5", "f6", "f7", "f8", "f9", "f10":
		a.session.Press(bytesOf(k, false))
	case "s":
		a.mode = strip.Speed
	case "h":
		return a.hunt()
	case "b":
		return func() tea.Msg { return said(a.session.SendBreak(a.ctx), "break sent") }
	case "x":
		a.stopRun()
	case "i":
		go a.session.SetInterlocks(a.state.LocksOff)
	case "u":
		go a.session.NextCharset()
	case "p":
		go a.session.PlainScreen()
	default:
		a.say("the leader key has no " + name)
	}
	return nil
}

// stopRun stops the runbook wherever it is.
func (a *app) stopRun() {
	if !a.state.Running() {
		a.say("no runbook is under way")
		return
	}
	go func() {
		a.session.TakeHelm()
		a.session.GiveHelm(runbook.Stop)
	}()
}

func (a *app) hunt() tea.Cmd {
	if a.state.Running() && a.state.Helm.Who == event.Runbook {
		a.say("the runbook has the helm; take it first with F10")
		return nil
	}
	a.say("hunting for the speed")
	return func() tea.Msg {
		found, err := a.session.Hunt(a.ctx, a.opt.Dialect.Hunt())
		if err == nil && found.Best() == 0 {
			return saidMsg("no speed fits: is the device on?")
		}
		return said(err, fmt.Sprintf("the device speaks %d baud, %.0f %% sure", found.Best(), 100*found.Sure))
	}
}

func said(err error, otherwise string) saidMsg {
	if err != nil {
		return saidMsg(err.Error())
	}
	return saidMsg(otherwise)
}

func (a *app) typeInStrip(k tea.Key, name string) tea.Cmd {
	switch name {
	case "backspace":
		if runes := []rune(a.typed); len(runes) > 0 {
			a.typed = string(runes[:len(runes)-1])
		}
	case "enter":
		return a.enterInStrip()
	default:
		a.typed += k.Text
	}
	return nil
}

func (a *app) enterInStrip() tea.Cmd {
	if a.mode == strip.Folder {
		return a.addFolder()
	}
	if a.mode == strip.Search {
		if !a.console.Search(a.typed) {
			a.say("not found further back")
		}
		return nil
	}
	typed := a.typed
	a.mode, a.typed = strip.Plain, ""
	baud, err := strconv.Atoi(typed)
	if err != nil || baud < 50 {
		a.say(fmt.Sprintf("%q is no speed in baud", typed))
		return nil
	}
	return func() tea.Msg {
		return said(a.session.SetSpeed(a.ctx, baud, "set by hand"), fmt.Sprintf("our end is at %d baud", baud))
	}
}

// addFolder puts what was typed on the shelf; where that fails it may be typed better.
func (a *app) addFolder() tea.Cmd {
	folder := strings.TrimSpace(a.typed)
	if folder == "" {
		return nil
	}
	if err := a.opt.AddFolder(folder); err != nil {
		a.say(err.Error())
		return nil
	}
	a.mode, a.typed = strip.Plain, ""
	a.say(folder + " is on the shelf; its images are read")
	return nil
}

// leave stops the runbook first, so that its end puts the line in order.
func (a *app) leave() tea.Cmd {
	a.mode = strip.Plain
	a.leaving = true
	a.stopRun()
	a.say("stopping the runbook and putting the line in order")
	return nil
}

// imagesKey moves over the images, and asks for a folder. It reports whether the key was for that.
func (a *app) imagesKey(name string) bool {
	a.follow = true
	switch count := images.Count(a.state); name {
	case "up":
		a.chosen = max(-1, a.chosen-1)
	case "down":
		a.chosen = min(count-1, a.chosen+1)
	case "a":
		if a.opt.AddFolder == nil {
			return false
		}
		a.mode, a.typed = strip.Folder, ""
	default:
		a.follow = false
		return false
	}
	return true
}

// pastedDigest holds a digest that was pasted into the view of the images against all of them.
func (a *app) pastedDigest(text string) string {
	published, err := image.ParsePasted(text)
	if err != nil {
		return err.Error()
	}
	for _, img := range a.state.Shelf.Images {
		if img.Digests[published.Algorithm] == published.Digest || (published.Algorithm == "sha256" && img.SHA256 == published.Digest) {
			return fmt.Sprintf("✓ %s has that %s", img.Name, published.Algorithm)
		}
	}
	return fmt.Sprintf("✗ no image on the shelf has that %s (%.12s…)", published.Algorithm, published.Digest)
}

func (a *app) paste(text string) {
	if a.view == imagesView && a.mode == strip.Plain && a.state.Shelf != nil {
		a.say(a.pastedDigest(text))
		return
	}
	if a.mode == strip.Plain && a.session == nil || a.mode == strip.Leader || a.mode == strip.HandBack || a.mode == strip.Quit {
		return // nothing is typed here
	}
	if a.mode != strip.Plain {
		a.typed += strings.Map(func(r rune) rune {
			if unicode.IsControl(r) {
				return -1
			}
			return r
		}, text)
		return
	}
	a.console.Live()
	if !strings.ContainsAny(strings.TrimRight(text, "\r\n"), "\r\n") {
		a.session.Press(pasted(text))
		return
	}
	if a.state.Running() {
		a.say("a runbook is under way: a text of several lines is not typed into it")
		return
	}
	go a.pasteText(text)
}

// pasteText types a text of several lines, line after line; a key stops it.
func (a *app) pasteText(text string) {
	result, err := a.session.Paste(a.ctx, text, session.PasteOptions{})
	switch {
	case errors.Is(err, runbook.ErrHelm):
		a.session.Emit(event.Note{Level: event.Warning, Text: fmt.Sprintf("pasting was stopped by a key after %d lines", result.Lines)})
	case err != nil:
		a.session.Emit(event.Note{Level: event.Error, Text: "pasting stopped: " + err.Error()})
	default:
		a.session.Emit(event.Note{Level: event.Info, Text: fmt.Sprintf("pasted %d lines", result.Lines)})
	}
}

func (a *app) wheel(m tea.Mouse) {
	rows := 3
	if m.Button == tea.MouseWheelDown {
		rows = -3
	}
	if a.view == consoleView {
		a.console.Scroll(rows)
		return
	}
	a.offset = max(0, a.offset-rows)
}
