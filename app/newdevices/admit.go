package newdevices

import (
	"context"
	"fmt"

	"pilotrix/core/event"
	"pilotrix/core/provision"
	"pilotrix/core/runbook/engine"
)

// AskLines asks about new devices, one after the other, by notes, and takes the answer, a line, for the one that was
// asked about only.
func (v *Service) AskLines(ctx context.Context, lines <-chan string) {
	note := func(level event.Level, text string) { v.hub.Emit(event.Note{Level: level, Text: text}) }
	var about provision.Client
	for ctx.Err() == nil {
		if about.MAC == "" {
			if next, waits := v.opt.Wanted.Next(); waits {
				about = next
				note(event.Warning, askAbout(about))
			}
		}
		select {
		case <-ctx.Done():
		case <-v.waits:
		case text, more := <-lines:
			switch {
			case !more:
				note(event.Warning, "nothing more can be typed here: no other new device is answered")
				return
			case about.MAC == "":
				note(event.Info, "nothing is asked: no new device waits")
			case text == "y" || text == "yes":
				v.opt.Wanted.Say(about, true)
				note(event.Info, about.MAC+" is answered from now on")
				about = provision.Client{}
			case text == "n" || text == "no":
				v.opt.Wanted.Say(about, false)
				note(event.Info, about.MAC+" is not answered")
				about = provision.Client{}
			default:
				note(event.Warning, askAbout(about))
			}
		}
	}
}

func askAbout(c provision.Client) string {
	return c.Text() + ", is new here: is it answered? (y/n, and Enter)"
}

// AskInView is that where the interface shows what is served: each new device is a question in the strip.
func (v *Service) AskInView(ctx context.Context, answers <-chan event.Answer) {
	var about provision.Client
	for n := 1; ; {
		id := fmt.Sprintf("new %d", n)
		if next, waits := v.opt.Wanted.Next(); waits && about.MAC == "" {
			about = next
			v.hub.Emit(event.Ask{
				ID:      id,
				Form:    event.FormNewDevice,
				Answers: []string{engine.Approve, engine.LeaveIt},
				Text:    about.Text() + " is new here and asks for an address. Is it answered?",
			})
		}
		select {
		case <-ctx.Done():
			return
		case <-v.waits:
		case answer := <-answers:
			if answer.ID != id || about.MAC == "" {
				continue
			}
			v.opt.Wanted.Say(about, answer.Answer == engine.Approve)
			v.hub.Emit(answer)
			about, n = provision.Client{}, n+1
		}
	}
}
