package main

import (
	"bufio"
	"context"
	"fmt"
	"io"
	"strings"

	"pilotrix/core/event"
	"pilotrix/core/provision"
	"pilotrix/core/runbook/engine"
)

// linesOf reads what is typed, line after line, until there is nothing more or ctx ends.
func linesOf(ctx context.Context, in io.Reader) <-chan string {
	lines := make(chan string)
	go func() {
		defer close(lines)
		for read := bufio.NewScanner(in); read.Scan(); {
			select {
			case lines <- strings.ToLower(strings.TrimSpace(read.Text())):
			case <-ctx.Done():
				return
			}
		}
	}()
	return lines
}

// asks asks about new devices, one after the other, and takes the answer for the one that was asked about only.
func asks(ctx context.Context, hub *event.Hub, wanted *provision.Wanted, waits <-chan struct{}, lines <-chan string) {
	note := func(level event.Level, text string) { hub.Emit(event.Note{Level: level, Text: text}) }
	var about provision.Client
	for ctx.Err() == nil {
		if about.MAC == "" {
			if next, waits := wanted.Next(); waits {
				about = next
				note(event.Warning, askAbout(about))
			}
		}
		select {
		case <-ctx.Done():
		case <-waits:
		case text, more := <-lines:
			switch {
			case !more:
				note(event.Warning, "nothing more can be typed here: no other new device is answered")
				return
			case about.MAC == "":
				note(event.Info, "nothing is asked: no new device waits")
			case text == "y" || text == "yes":
				wanted.Say(about, true)
				note(event.Info, about.MAC+" is answered from now on")
				about = provision.Client{}
			case text == "n" || text == "no":
				wanted.Say(about, false)
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

// asksInView is that where the interface shows what is served: each new device is a question in the strip.
func asksInView(
	ctx context.Context, hub *event.Hub, wanted *provision.Wanted, waits <-chan struct{}, answers <-chan event.Answer,
) {
	var about provision.Client
	for n := 1; ; {
		if next, waits := wanted.Next(); waits && about.MAC == "" {
			about = next
			hub.Emit(event.Ask{
				ID:      fmt.Sprintf("new %d", n),
				Form:    event.FormNewDevice,
				Answers: []string{engine.Approve, engine.LeaveIt},
				Text:    about.Text() + " is new here and asks for an address. Is it answered?",
			})
		}
		select {
		case <-ctx.Done():
			return
		case <-waits:
		case answer := <-answers:
			if answer.ID != fmt.Sprintf("new %d", n) || about.MAC == "" {
				continue
			}
			wanted.Say(about, answer.Answer == engine.Approve)
			hub.Emit(answer)
			about, n = provision.Client{}, n+1
		}
	}
}
