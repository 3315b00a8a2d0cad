package tui

import (
	"context"
	"errors"
	"sync"
	"sync/atomic"
	"time"

	tea "charm.land/bubbletea/v2"

	"pilotrix/core/event"
	"pilotrix/core/line"
	"pilotrix/core/session"
	"pilotrix/tui/start"
)

// Interface is what the whole of it needs.
type Interface struct {
	Theme  string // auto, dark or light
	Leader string // the leader key, such as ctrl+g
	// Start is shown first, and again when a session is left. Where it is nil, what there is to open is opened at once,
	// and leaving it leaves the program.
	Start *Start
	// Open opens what was chosen. What the line asks goes through ask. Close ends it all.
	Open func(ctx context.Context, what start.Opening, ask Ask) (o Options, close func() error, err error)
	// Text is what is being opened, where there is no start.
	Text string
}

// Ask asks the operator what a line wants to know.
type Ask func(ctx context.Context, q line.Question) (string, error)

// Run shows the interface until the operator leaves.
func Run(ctx context.Context, opt Interface) error {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	r := &root{opt: opt, ctx: ctx, front: newFront(opt)}
	p := tea.NewProgram(r, tea.WithContext(ctx))
	r.send = p.Send
	_, err := p.Run()
	if errors.Is(err, tea.ErrProgramKilled) && ctx.Err() != nil {
		err = nil
	}
	cancel()
	if end := r.ends(); end != nil {
		err = errors.Join(err, end())
	}
	r.awaitExtra()
	if late := r.late.Swap(nil); late != nil { // opened, and never shown
		err = errors.Join(err, (*late)())
	}
	return errors.Join(err, r.failed)
}

// awaitExtra waits for what is being opened or closed. A command that the program's end came before is never carried
// out, which bounds it.
func (r *root) awaitExtra() {
	ended := make(chan struct{})
	go func() { defer close(ended); r.background.Wait() }()
	limit := time.NewTimer(endLimit)
	defer limit.Stop()
	select {
	case <-ended:
	case <-limit.C:
	}
}

// root is the model of the program: the start, and the session that was opened from it.
type root struct {
	opt        Interface
	ctx        context.Context
	send       func(tea.Msg)
	front      *front
	app        *app         // nil while no session is open
	close      func() error // of the session
	feed       context.CancelFunc
	background sync.WaitGroup               // what is being opened or closed
	late       atomic.Pointer[func() error] // what closes a session that was opened and is not shown yet
	failed     error                        // what was to be opened was not, and there is no start to say it

	size    *tea.WindowSizeMsg
	ground  *tea.BackgroundColorMsg
	profile *tea.ColorProfileMsg
}

type (
	openedMsg struct {
		options Options
		close   func() error
		err     error
	}
	leftMsg   struct{}
	closedMsg struct{ err error }
	// fedMsg is for one session: what comes after it was left is nobody's.
	fedMsg struct {
		app *app
		msg tea.Msg
	}
)

// Init implements tea.Model.
func (r *root) Init() tea.Cmd {
	if r.opt.Start == nil {
		return tea.Batch(r.front.Init(), r.opens(start.Opening{}, r.opt.Text))
	}
	return r.front.Init()
}

// Update implements tea.Model.
func (r *root) Update(msg tea.Msg) (tea.Model, tea.Cmd) {
	switch msg := msg.(type) {
	case tea.WindowSizeMsg:
		r.size = &msg
	case tea.BackgroundColorMsg:
		r.ground = &msg
	case tea.ColorProfileMsg:
		r.profile = &msg
	case start.Open:
		return r, r.opens(msg.Opening, msg.Target)
	case openedMsg:
		return r, r.opened(msg)
	case leftMsg:
		return r, r.left()
	case closedMsg:
		return r, r.closed(msg.err)
	case fedMsg:
		if r.app != msg.app {
			return r, nil
		}
		_, cmd := r.app.Update(msg.msg)
		return r, cmd
	}
	_, cmd := r.now().Update(msg)
	return r, cmd
}

// View implements tea.Model.
func (r *root) View() tea.View { return r.now().View() }

func (r *root) now() tea.Model {
	if r.app != nil {
		return r.app
	}
	return r.front
}

// opens opens something beside the interface.
func (r *root) opens(what start.Opening, words string) tea.Cmd {
	ctx, end := context.WithCancel(r.ctx)
	r.front.opening(words, end)
	r.background.Add(1)
	return func() tea.Msg {
		defer r.background.Done()
		defer end()
		options, closes, err := r.opt.Open(ctx, what, r.ask)
		if err != nil && ctx.Err() != nil && r.ctx.Err() == nil {
			err = errors.New("it was given up")
		}
		if err == nil {
			r.late.Store(&closes)
		}
		return openedMsg{options, closes, err}
	}
}

// ask asks in the strip what the line that is being opened wants to know.
func (r *root) ask(ctx context.Context, q line.Question) (string, error) {
	answer := make(chan string, 1)
	r.send(lineAsks{q, answer})
	select {
	case text := <-answer:
		return text, nil
	case <-ctx.Done():
		return "", ctx.Err()
	}
}

// opened turns to the session.
func (r *root) opened(got openedMsg) tea.Cmd {
	r.late.Store(nil)
	r.front.opened(got.err)
	if got.err != nil {
		if r.opt.Start == nil {
			r.failed = got.err
			return tea.Quit
		}
		return nil
	}
	got.options.Theme, got.options.Leader = r.opt.Theme, r.opt.Leader
	r.close = got.close
	r.app = newApp(r.ctx, got.options)
	r.app.leave = leftMsg{}
	r.reportTerminal(r.app)
	ctx, end := context.WithCancel(r.ctx)
	r.feed = end
	app := r.app
	r.feeds(ctx, app, got.options.Session, func(batch []event.Event) tea.Msg { return eventsMsg(batch) })
	for _, one := range got.options.Seconds {
		r.feeds(ctx, app, one.Session, func(batch []event.Event) tea.Msg { return secondMsg{one.Name, batch} })
	}
	if got.options.Begun != nil {
		got.options.Begun()
	}
	return r.app.Init()
}

// feeds has what happens on a line told to the session's part of the interface, and the line begin.
func (r *root) feeds(ctx context.Context, app *app, s *session.Session, as func([]event.Event) tea.Msg) {
	feed := s.Subscribe()
	go func() {
		for {
			batch, err := feed.Some(ctx, maxAtOnce)
			if err != nil {
				return
			}
			r.send(fedMsg{app, as(batch)})
		}
	}()
	s.Begin()
}

// reportTerminal says a part of the interface that comes later what the terminal has reported.
func (r *root) reportTerminal(to tea.Model) {
	if r.size != nil {
		to.Update(*r.size)
	}
	if r.ground != nil {
		to.Update(*r.ground)
	}
	if r.profile != nil {
		to.Update(*r.profile)
	}
}

// left ends the session that was left, beside the interface, and once however often it is left.
func (r *root) left() tea.Cmd {
	end := r.ends()
	if end == nil {
		return nil
	}
	r.background.Add(1)
	return func() tea.Msg {
		defer r.background.Done()
		return closedMsg{end()}
	}
}

// ends takes what closes the session: its runbook puts the line in order first. It is nil where there is none, or where
// that was taken already.
func (r *root) ends() func() error {
	if r.close == nil {
		return nil
	}
	app, feed, closes := r.app, r.feed, r.close
	r.close = nil
	return func() error {
		app.endRunbook()
		feed()
		return closes()
	}
}

// closed turns back to the start, or ends the program.
func (r *root) closed(err error) tea.Cmd {
	r.app = nil
	if r.opt.Start == nil {
		r.failed = err
		return tea.Quit
	}
	r.front.shell.show("start")
	if err != nil {
		r.front.say(err.Error())
	}
	r.reportTerminal(r.front)
	return r.front.Init()
}
