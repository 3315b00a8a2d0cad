package tui

import (
	"context"

	tea "charm.land/bubbletea/v2"

	"pilotrix/core/event"
)

// TransfersOptions is what the view of servers alone needs.
type TransfersOptions struct {
	Theme, Leader string
	Title         string
	Places        []string // where servers listen, in the words to tell a device
	Feed          *event.Feed
	Answer        func(id, answer string) // answers a question that they ask, nil where they ask nothing
}

// Transfers shows servers that serve without a session, until the operator leaves.
func Transfers(ctx context.Context, opt TransfersOptions) error {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	a := newApp(ctx, Options{
		Theme:  opt.Theme,
		Leader: opt.Leader,
		Device: opt.Title,
		Line:   "serving",
		Places: opt.Places,
		Answer: opt.Answer,
	})
	a.onlyServing()
	return runWith(ctx, cancel, a, func(p *tea.Program) {
		for {
			batch, err := opt.Feed.Next(ctx)
			if err != nil {
				return
			}
			p.Send(eventsMsg(batch))
		}
	})
}
