package tui

import (
	"context"
	"errors"

	tea "charm.land/bubbletea/v2"

	"pilotrix/core/event"
)

// ReplayOptions is what a replay needs. Play hands over the events of a session at their pace.
type ReplayOptions struct {
	Theme, Leader string
	Speed         float64
	Play          func(ctx context.Context, show func(event.Event)) error
}

// Replay shows a kept session through the same views. Nothing can be typed.
func Replay(ctx context.Context, opt ReplayOptions) error {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	a := newApp(ctx, Options{Theme: opt.Theme, Leader: opt.Leader})
	a.replay = true
	return runWith(ctx, cancel, a, func(p *tea.Program) {
		err := opt.Play(ctx, func(e event.Event) { p.Send(eventsMsg{e}) })
		p.Send(replayOver{err})
	})
}

// runWith runs the interface with something that feeds it beside it, and ends both.
func runWith(ctx context.Context, cancel context.CancelFunc, a *app, feed func(*tea.Program)) error {
	p := tea.NewProgram(a, tea.WithContext(ctx))
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
