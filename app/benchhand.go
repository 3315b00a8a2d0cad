package app

import (
	"context"
	"time"

	"pilotrix/core/event"
)

// handTakes is how long the bench's hand takes until it does what a runbook asks for.
const handTakes = 4 * time.Second

// lendHand has the bench do by itself what only a hand could do with a device of its own: hold the button of one whose
// recovery loader is waited for. It ends with the session.
func (o *Opened) lendHand() {
	if o.machine == nil || !o.machine.HasButton() {
		return
	}
	o.follow(func(body event.Body) {
		w, ok := body.(event.Window)
		if !ok || w.Tries != 1 || w.Hand == "" || w.State != event.WindowAwaited {
			return
		}
		o.Emit(event.Note{
			Level: event.Info,
			Text:  "the bench's hand does it: power away, button held, power back, and it lets go when the light blinks",
		})
		if o.Clock().Wait(context.Background(), handTakes) == nil {
			o.machine.PressButton()
		}
	})
}
