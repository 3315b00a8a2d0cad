package runbook

import (
	"fmt"
	"slices"
	"strings"

	"pilotrix/core/event"
)

// What a run has changed on the device, and what of it a rollback has put back: a device that runs again what it ran before may have
// a slot that is empty now, or a choice that is still armed.

// written is a change that went out and was not refused.
type written struct {
	title  string // of the step
	action string // of the dialect, empty for what is no action of it
}

// wrote notes a change that goes out now, by an action with those parameters, which only a restart has none of.
func (e *Engine) wrote(s *PreparedStep, action string, parameters ...string) {
	if s.Verb != nil && s.Verb.Restarts && len(parameters) == 0 {
		return // what runs now is what the rollback is about
	}
	if e.rollingBack {
		e.putsBack([]string{action})
		return
	}
	e.written = append(e.written, written{e.title(s), action})
}

// refused takes back the last change: the device said that it has not done it.
func (e *Engine) refused() {
	if !e.rollingBack {
		e.written = e.written[:max(0, len(e.written)-1)]
	}
}

// putsBack notes actions whose effect is put back: by themselves with other values, or by a step that says so.
func (e *Engine) putsBack(actions []string) {
	e.written = slices.DeleteFunc(e.written, func(w written) bool { return w.action != "" && slices.Contains(actions, w.action) })
}

// changesText are the steps that changed the device, in their order, empty for none.
func (e *Engine) changesText() string {
	const most = 4
	var titles []string
	for _, w := range e.written {
		if title := "“" + w.title + "”"; !slices.Contains(titles, title) {
			titles = append(titles, title)
		}
	}
	if over := len(titles) - most; over > 0 {
		titles = append([]string{fmt.Sprintf("%d more", over)}, titles[over:]...)
	}
	return strings.Join(titles, ", ")
}

// rolledBack is what a rollback that went to its end has come to.
func (e *Engine) rolledBack(failure string) Result {
	result := Result{Outcome: event.RolledBack, Exit: ExitRolledBack, Message: failure}
	if left := e.changesText(); left != "" {
		result.Outcome = event.RolledBackBut
		result.Message += "; not put back: what these have changed: " + left
	}
	return result
}

// armed says what was left pending that a restart brings, or loses.
func (e *Engine) armed() (words string) {
	for _, open := range e.console.Pending() {
		if open.Until.IsZero() {
			words += "; still pending: " + open.Says
		}
	}
	return words
}
