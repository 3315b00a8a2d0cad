package tui

import (
	"context"
	"errors"

	tea "charm.land/bubbletea/v2"

	"pilotrix/core/event"
)

// CarriersOptions is what the view of carriers alone needs.
type CarriersOptions struct {
	Theme, Leader string
	Title         string
	Places        []string // where carriers listen, in the words to tell a device
	Feed          *event.Feed
}

// Carriers shows carriers that serve without a session, until the operator leaves.
func Carriers(ctx context.Context, opt CarriersOptions) error {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	a := newApp(ctx, Options{Theme: opt.Theme, Leader: opt.Leader, Device: opt.Title, Line: "serving", Places: opt.Places})
	a.serving = true
	a.view = carriersView
	p := tea.NewProgram(a, tea.WithContext(ctx))
	followed := make(chan struct{})
	go func() {
		defer close(followed)
		for {
			batch, err := opt.Feed.Next(ctx)
			if err != nil {
				return
			}
			p.Send(eventsMsg(batch))
		}
	}()
	_, err := p.Run()
	cancel()
	<-followed
	if errors.Is(err, tea.ErrProgramKilled) && ctx.Err() != nil {
		return nil
	}
	return err
}
