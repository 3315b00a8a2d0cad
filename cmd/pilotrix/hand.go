package main

import (
	"context"
	"time"

	"pilotrix/core/event"
)

// handTakes is how long the bench's hand takes until it does what a runbook asks for.
const handTakes = 4 * time.Second

// lendHand has the bench do by itself what only a hand could do with a device of its own: hold the button of one whose
// recovery loader is waited for. It ends with the session.
func (o *opened) lendHand() {
	if o.machine == nil || !o.machine.HasButton() {
		return
	}
	feed := o.Subscribe()
	go func() {
		for {
			batch, err := feed.Next(context.Background())
			if err != nil {
				return
			}
			for _, e := range batch {
				if w, ok := e.Body.(event.Window); ok && w.Tries == 1 && w.Hand != "" &&
					w.State == event.WindowAwaited {
					o.Emit(event.Note{
						Level: event.Info,
						Text:  "the bench's hand does it: power away, button held, power back, and it lets go when the light blinks",
					})
					if o.Clock().Wait(context.Background(), handTakes) == nil {
						o.machine.PressButton()
					}
				}
			}
		}
	}()
}
