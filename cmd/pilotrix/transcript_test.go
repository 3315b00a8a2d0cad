package main

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"

	"pilotrix/core/event"
)

func TestAHandSessionIsToldLineByLine(t *testing.T) {
	var told []string
	said := newTranscript(func(format string, args ...any) { told = append(told, fmt.Sprintf(format, args...)) })
	in := func(text string) { said.event(event.Event{Body: event.In{Bytes: event.Text(text)}}) }
	press := func(keys string) {
		for _, key := range keys {
			said.event(event.Event{Body: event.Out{Who: event.Hand, Bytes: event.Text(string(key))}})
		}
	}
	said.event(event.Event{Body: event.Helm{Who: event.Hand}})
	in("login: ")
	press("quayx\x7f\r")
	in("quay\r\nword: ")
	said.event(event.Event{Body: event.Out{Who: event.Hand, Secret: 5}})
	said.event(event.Event{Body: event.Out{Who: event.Hand, Secret: 1}})
	in("\r\n> ")
	press("lo\x15look\r")
	in("look\r\n  all is\x1b[2J well\r\n> ")
	press("lamp\r") // at a question that nobody knew for one that asks for a secret
	in("\r\n> ")
	press("run\x03")
	said.event(event.Event{Body: event.Out{Who: event.Runbook, Bytes: event.Text("not the hand\r")}})
	said.event(event.Event{Body: event.Helm{Who: event.Runbook}})
	in("of the runbook\r\n")
	said.event(event.Event{Body: event.Helm{Who: event.Hand}})
	in("bye")
	said.end()
	all := strings.Join(told, "\n")
	for _, want := range []string{"  ⟩ quay", "  │ login: quay", "  │ word:", "  ⟩ [secret]", "  ⟩ look", "well", "  ⟩ run  (Ctrl-C)", "bye"} {
		assert.Contains(t, all, want)
	}
	assert.NotContains(t, all, "of the runbook")
	assert.NotContains(t, all, "not the hand")
	assert.Equal(t, 1, strings.Count(all, "[secret]"))
	assert.Contains(t, all, "⟩ [4 characters that the device did not show]")
	assert.NotContains(t, all, "lamp")
}
