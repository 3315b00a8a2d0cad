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
	Feed          *event.Feed
}

// Carriers shows carriers that serve without a session, until the operator leaves.
func Carriers(ctx context.Context, opt CarriersOptions) error {
	return errors.Join(ctx.Err(), errors.ErrUnsupported, tea.ErrProgramKilled)
}
