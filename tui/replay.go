package tui

import (
	"context"
	"errors"
	"fmt"
	"time"

	tea "charm.land/bubbletea/v2"

	"pilotrix/core/logbook"
	"pilotrix/tui/keys"
)

// ReplayOptions is what a replay needs.
type ReplayOptions struct {
	Theme, Leader string
	Player        *logbook.Player
}

// Replay shows a kept session through the same views. Nothing can be typed.
func Replay(ctx context.Context, opt ReplayOptions) error {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	return runWith(ctx, cancel, newReplay(ctx, opt), func(p *tea.Program) {
		err := opt.Player.Play(ctx, func(now logbook.Played) { p.Send(playedMsg(now)) })
		if ctx.Err() == nil {
			p.Send(replayFailed{err})
		}
	})
}

type (
	playedMsg    logbook.Played
	replayFailed struct{ err error }
)

// replay is the session's interface without a session: what it shows comes from a player, and is started again where
// that is turned back.
type replay struct {
	*app
	again func() *app
}

func newReplay(ctx context.Context, opt ReplayOptions) *replay {
	again := func() *app {
		a := newApp(ctx, Options{Theme: opt.Theme, Leader: opt.Leader})
		a.replay, a.player = true, opt.Player.Do
		return a
	}
	return &replay{again(), again}
}

// Update implements tea.Model.
func (r *replay) Update(msg tea.Msg) (tea.Model, tea.Cmd) {
	switch msg := msg.(type) {
	case playedMsg:
		var cmd tea.Cmd
		if msg.Again {
			cmd = r.restart()
		}
		r.apply(msg.Events)
		r.playing = playingText(logbook.Played(msg))
		return r, cmd
	case replayFailed:
		r.say(msg.err.Error())
		return r, nil
	}
	_, cmd := r.app.Update(msg)
	return r, cmd
}

// again begins from nothing, in the same window and the same view.
func (r *replay) restart() tea.Cmd {
	before := r.app
	r.app = r.again()
	r.setTheme(before.theme)
	r.few, r.width, r.height = before.few, before.width, before.height
	r.show(before.places[before.shown].name)
	r.fit()
	return tick(r.app)
}

func playingText(now logbook.Played) string {
	text := fmt.Sprintf("%s, %g times as fast. ", now.At.Local().Format(time.TimeOnly), now.Speed)
	switch {
	case now.Over:
		return text + "The replay is over. "
	case now.Paused:
		return text + "Paused. "
	}
	return text
}

// playerKeys turn a replay.
func (a *app) playerKeys() keys.Map {
	to := func(m logbook.Move) func() tea.Cmd { return keys.Just(func() { a.player(m) }) }
	all := keys.Map{
		keys.New("Space", "pause, go on", to(logbook.PauseOrGoOn), "space"),
		keys.New("n b", "step on, back", to(logbook.NextStep), "n").
			Explain("to where the next step begins, or the one before"),
		keys.New("", "", to(logbook.StepBefore), "b"),
		keys.New("N B", "minute on, back", to(logbook.MinuteOn), "N").Explain("a minute of its time on, or back"),
		keys.New("", "", to(logbook.MinuteBack), "B"),
		keys.New("+ -", "faster, slower", to(logbook.Faster), "+", "="),
		keys.New("", "", to(logbook.Slower), "-"),
	}
	for i := range all {
		all[i] = all[i].If(a.player != nil)
	}
	return all
}

// runWith runs the interface with something that feeds it beside it, and ends both.
func runWith(ctx context.Context, cancel context.CancelFunc, model tea.Model, feed func(*tea.Program)) error {
	p := tea.NewProgram(model, tea.WithContext(ctx))
	fed := make(chan struct{})
	go func() { defer close(fed); feed(p) }()
	_, err := p.Run()
	cancel()
	<-fed
	if errors.Is(err, tea.ErrProgramKilled) && ctx.Err() != nil {
		return nil
	}
	return err
}
