package engine

import (
	"fmt"
	"slices"
	"strings"

	"pilotrix/core/event"
)

// Account is what a run has come to so far: what it has changed on the device and what of that a rollback has put back,
// since a device that runs again what it ran before may have a slot that is empty now, or a choice that is still armed;
// what failed on the way; what it proved.
type Account struct {
	tried   bool     // a command went out that changes what the device keeps
	changed bool     // and succeeded
	own     int      // how many changes were this run's, of those that the facts know of
	before  int      // how many the facts knew of when it began
	ignored []string // failures that it went on after
	missing []string // what has not arrived, of what was followed
	already string   // why nothing was to be done
	byHand  []string // steps that were done by hand, in words
	proved  []string
	wrote   []change

	unrecorded string // what went out without being on record, and why; empty for nothing
}

// change is a change that went out and was not refused.
type change struct {
	title  string // of the step
	action string // of the dialect, empty for what is no action of it
}

// Tried reports whether a command went out that changes what the device keeps.
func (a *Account) Tried() bool { return a.tried }

// Try notes that such a command goes out.
func (a *Account) Try() { a.tried = true }

// NotTried takes it back where the device took nothing.
func (a *Account) NotTried() { a.tried = false }

// Change notes that what was tried has changed the device, unless it has not.
func (a *Account) Change(changed bool) { a.changed = a.changed || changed }

// Own notes that a change that the facts know of is this run's.
func (a *Account) Own() { a.own++ }

// Prove keeps what was proved, in words.
func (a *Account) Prove(text string) {
	if text != "" {
		a.proved = append(a.proved, text)
	}
}

// Already ends the run well: why nothing was to be done.
func (a *Account) Already(why string) error {
	a.already = why
	return errAlready
}

// Miss keeps what has not arrived: the run goes on.
func (a *Account) Miss(what ...string) { a.missing = append(a.missing, what...) }

// ignore keeps a failure that the run goes on after.
func (a *Account) ignore(failure error) { a.ignored = append(a.ignored, failure.Error()) }

// complete reports whether nothing failed or is missing, though the run may have gone to its end.
func (a *Account) complete() bool { return len(a.ignored)+len(a.missing) == 0 }

// incompleteText is what is not as it should be, though the run went to its end.
func (a *Account) incompleteText() string {
	var words []string
	if len(a.missing) > 0 {
		words = append(words, "done but for "+strings.Join(a.missing, "; "))
	}
	if len(a.ignored) > 0 {
		words = append(words, "done, but this failed and was gone past: "+strings.Join(a.ignored, "; "))
	}
	return strings.Join(words, ". And ")
}

// byHandText are the steps that were done by hand: the runbook has not seen how.
func (a *Account) byHandText() string {
	if len(a.byHand) == 0 {
		return ""
	}
	return "; by hand: " + strings.Join(a.byHand, ", ")
}

// write notes a change that goes out now.
func (a *Account) write(title, action string) { a.wrote = append(a.wrote, change{title, action}) }

// refused takes back the last change: the device said that it has not done it.
func (a *Account) refused() { a.wrote = a.wrote[:max(0, len(a.wrote)-1)] }

// putsBack notes actions whose effect is put back: by themselves with other values, or by a step that says so.
func (a *Account) putsBack(actions ...string) {
	a.wrote = slices.DeleteFunc(a.wrote,
		func(c change) bool { return c.action != "" && slices.Contains(actions, c.action) })
}

// changesText are the steps that changed the device, in their order, empty for none.
func (a *Account) changesText() string {
	const maxNamed = 4
	var titles []string
	for _, c := range a.wrote {
		if title := "“" + c.title + "”"; !slices.Contains(titles, title) {
			titles = append(titles, title)
		}
	}
	if over := len(titles) - maxNamed; over > 0 {
		titles = append([]string{fmt.Sprintf("%d more", over)}, titles[over:]...)
	}
	return strings.Join(titles, ", ")
}

func (run *Run) changedText() string {
	by := run.Account.changesText()
	if by != "" {
		by = ": " + by
	}
	by += run.armed()
	switch {
	case run.Account.changed:
		return "; the device was changed before that" + by
	case run.Account.tried:
		return "; the device may have been changed before that" + by
	case run.typedByHand():
		return "; the runbook changed nothing on the device, what was typed by hand aside"
	}
	return "; nothing was changed on the device"
}

// rolledBack is what a rollback that went to its end has come to.
func (run *Run) rolledBack(failure string) Result {
	result := Result{Outcome: event.RolledBack, Exit: ExitRolledBack, Message: failure}
	if left := run.Account.changesText(); left != "" {
		result.Outcome = event.RolledBackBut
		result.Message += "; not put back: what these have changed: " + left
	}
	return result
}
