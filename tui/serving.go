package tui

import (
	"context"
	"errors"

	tea "charm.land/bubbletea/v2"

	"pilotrix/core/event"
)

// TransfersOptions is what the view of servers alone needs.
type TransfersOptions struct {
	Theme, Leader string
	Title         string
	Places        []string // where servers listen, in the words to tell a device
	Feed          *event.Feed
}

// Transfers shows servers that serve without a session, until the operator leaves.
func Transfers(ctx context.Context, opt TransfersOptions) error {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	a := newApp(ctx, Options{Theme: opt.Theme, Leader: opt.Leader, Device: opt.Title, Line: "serving", Places: opt.Places})
	a.serving = true
	a.view = transfersView
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
