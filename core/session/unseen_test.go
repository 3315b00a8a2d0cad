package session

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"pilotrix/core/event"
)

const asking = `
dialect: asking
line: {clear: "\x15"}
modes: [{mode: ready, prompt: '^> $'}]
actions:
  - {action: drop, in: [ready], command: drop, done: dropped, dialogs: [{dialog: really, ask: '^really\? $', answer: 'yes, drop'ECHO}]}
`

// TestAnAnswerThatDoesNotComeBackIsGiven has a question whose answer is echoed key by key, only at its Enter, or not at
// all, and a dialect that says so, or does not.
func TestAnAnswerThatDoesNotComeBackIsGiven(t *testing.T) {
	const book = "runbook: r\nphases: [{phase: one, steps: [{step: Drop, act: {action: drop}, timeout: 5m, on-failure: {do: go-on}}]}]\n"
	for _, echoes := range []string{"keys", "enter", "none"} {
		for _, says := range []string{"", "keys", "enter", "none"} {
			key := ""
			if says != "" {
				key = ", echo: " + says
			}
			var far *talker
			answer := func(command string) string {
				switch command {
				case "drop":
					far.mute.Store(echoes != "keys")
					return "really? "
				case "yes, drop":
					if echoes == "enter" {
						return command + "\r\ndropped\r\n> "
					}
					return "dropped\r\n> "
				}
				return "> "
			}
			talkingIn(t, strings.Replace(asking, "ECHO", key, 1), "", answer, func(k *talk) {
				far = k.far
				k.begin(book)
				result := <-k.ended
				if echoes != "keys" && (says == "" || says == "keys") {
					assert.Equal(t, event.DoneBut, result.Outcome)
					assert.Contains(t, result.Message,
						"no key of it came back; where this answer comes back only at its Enter, or not at all, the dialect says so at the question (echo: enter",
						"%s, %s", echoes, says)
					return
				}
				assert.Equal(t, event.Done, result.Outcome, "%s, %s: %s", echoes, says, result.Message)
				assert.Equal(t, []string{"drop", "yes, drop"}, k.far.commands())
			})
		}
	}
	talking(t, "", func(string) string { return "> " }, func(k *talk) {
		k.far.mute.Store(true)
		_, err := k.Paste(k.Context(), "look\n", PasteOptions{Timeout: time.Minute})
		assert.ErrorContains(t, err,
			"no key of it came back; where the device never echoes, the dialect says so (line: {echo: none})")
	})
}
