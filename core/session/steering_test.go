package session

import (
	"errors"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"pilotrix/core/event"
	"pilotrix/core/runbook/engine"
)

const works = "runbook: r\nphases: [{phase: one, steps: [{step: Work, act: {action: work}, timeout: 1m}]}]\n"

// slowly answers a command with nothing: the test says the rest.
func slowly(command string) func(string) string {
	return func(typed string) string {
		if typed == command {
			return ""
		}
		return "> "
	}
}

func TestAWaitIsGoneOnWithWhenTheHelmIsGivenBack(t *testing.T) {
	talking(t, works, slowly("work"), func(k *talk) {
		k.TakeHelm()
		time.Sleep(10 * time.Minute) // the step's time stands still
		assert.True(t, last(of[event.StepNow](k)).Resumes, "it can be gone on with")
		k.GiveHelm(engine.Resume)
		time.Sleep(30 * time.Second)
		k.still()
		k.far.says("worked\r\n> ")
		time.Sleep(time.Second)
		assert.Equal(t, event.Done, k.over().Outcome)
		assert.Equal(t, []string{"work"}, k.far.commands(), "nothing is begun twice")
		assert.Len(t, of[event.StepBegin](k), 1)
	})
}

// word is one that the device and the test know.
type word struct{ atomic.Pointer[string] }

func (w *word) Store(text string) { w.Pointer.Store(&text) }
func (w *word) Load() string      { return *w.Pointer.Load() }

func last[T any](all []T) T { return all[len(all)-1] }

func TestWhatCameWhileTheHandHadTheHelmIsSeen(t *testing.T) {
	talking(t, works, slowly("work"), func(k *talk) {
		k.TakeHelm()
		k.far.says("worked\r\n> ")
		time.Sleep(time.Second)
		k.still()
		k.GiveHelm(engine.Resume)
		time.Sleep(time.Second)
		assert.Equal(t, event.Done, k.over().Outcome)
	})
}

// TestACommandBehindWhichAnotherWasTypedHasAnUnknownEnd has the other one write the words of success.
func TestACommandBehindWhichAnotherWasTypedHasAnUnknownEnd(t *testing.T) {
	answer := func(command string) string {
		switch command {
		case "work":
			return "no\r\n> "
		case "tell":
			return "it says worked\r\n> "
		}
		return "> "
	}
	talking(t, strings.Replace(works, "act: {action: work}", "act: {action: work}, retry: 0", 1), answer,
		func(k *talk) { k.says(event.FormFailure, engine.StopHere) })
	talking(t, works, slowly("work"), func(k *talk) {
		k.far.answers(answer)
		k.TakeHelm()
		k.far.says("> ")
		time.Sleep(time.Second)
		typeKeys(k.Session, "tell\r")
		time.Sleep(time.Second)
		k.GiveHelm(engine.Resume)
		time.Sleep(5 * time.Second)
		k.says(event.FormFailure, engine.StopHere)
		result := k.over()
		assert.Equal(t, event.Failed, result.Outcome)
		assert.Contains(t, result.Message, "another command was typed behind “work”")
		assert.Contains(t, result.Message, "the device may have been changed before that")
	})
}

func TestAnOverrunAsksWhileTheWaitGoesOn(t *testing.T) {
	talking(t, works, slowly("work"), func(k *talk) {
		time.Sleep(2 * time.Minute)
		ask := k.asked()
		require.Equal(t, event.FormOverrun, ask.Form)
		assert.Contains(t, ask.Text,
			"“Work” takes longer than the 1 min that it may (book.yaml:2). The wait goes on meanwhile")
		k.far.says("worked\r\n> ")
		time.Sleep(time.Second)
		assert.Equal(t, event.Done, k.over().Outcome)
		assert.Equal(t, "withdrawn", last(of[event.Answer](k)).Answer, "the device has answered it")
		assert.Equal(t, []string{"work"}, k.far.commands())
	})
}

func TestAnOverrunIsWaitedOnAsLongAgainOrEndsTheStep(t *testing.T) {
	talking(t, strings.Replace(works, "timeout: 1m", "timeout: 1m, retry: 3", 1), slowly("work"), func(k *talk) {
		time.Sleep(2 * time.Minute)
		k.says(event.FormOverrun, engine.WaitOn)
		time.Sleep(30 * time.Second)
		assert.Empty(t, k.asked().Form, "it has a minute more")
		time.Sleep(time.Minute)
		k.says(event.FormOverrun, engine.GiveUp)
		k.says(event.FormFailure, engine.StopHere)
		assert.Equal(t, event.Failed, k.over().Outcome)
		assert.Equal(t, []string{"work"}, k.far.commands(), "what may be under way still is not begun again by itself")
	})
}

func TestAnOverrunThatTheHandLooksInto(t *testing.T) {
	talking(t, works, slowly("work"), func(k *talk) {
		time.Sleep(2 * time.Minute)
		require.Equal(t, event.FormOverrun, k.asked().Form)
		k.TakeHelm()
		time.Sleep(time.Minute)
		assert.Empty(t, k.asked().Form, "it is withdrawn")
		k.GiveHelm(engine.Resume)
		time.Sleep(time.Second)
		k.says(event.FormOverrun, engine.WaitOn)
		k.far.says("worked\r\n> ")
		time.Sleep(time.Second)
		assert.Equal(t, event.Done, k.over().Outcome)
	})
}

func TestAQuestionOfTheDeviceIsAnsweredByTyping(t *testing.T) {
	answer := func(command string) string {
		switch command {
		case "work":
			return "which one? "
		case "B":
			return "worked\r\n> "
		}
		return "> "
	}
	talking(t, works, answer, func(k *talk) {
		require.Equal(t, event.FormDialog, k.asked().Form)
		time.Sleep(10 * time.Minute) // its time stands still while the operator looks it up
		typeKeys(k.Session, "B\r")
		time.Sleep(time.Second)
		k.GiveHelm(engine.Resume)
		time.Sleep(time.Second)
		assert.Equal(t, event.Done, k.over().Outcome)
		assert.Equal(t, []string{"work", "B"}, k.far.commands())
	})
}

func TestAStepIsNotBegunWhileTheHandHasTheHelm(t *testing.T) {
	const book = "runbook: r\nphases: [{phase: one, steps: [{step: Read, read: [state]}, {step: Check, check: {holds: 'state.value == \"x\"', message: no}}, {step: Work, act: {action: work}}]}]\n"
	answer := func(command string) string {
		return map[string]string{"state": "value x\r\n", "work": "worked\r\n"}[command] + "> "
	}
	talking(t, book, answer, func(k *talk) { assert.Equal(t, event.Done, k.over().Outcome) })
	talking(t, book, slowly("state"), func(k *talk) {
		k.far.answers(answer)
		k.TakeHelm()
		k.far.says("value x\r\n> ")
		time.Sleep(time.Minute)
		k.still()
		assert.Equal(t, []string{"state"}, k.far.commands())
		k.GiveHelm(engine.Stop)
		time.Sleep(time.Second)
		result := k.over()
		assert.Equal(t, event.Stopped, result.Outcome)
		assert.Contains(t, result.Message, "nothing was changed on the device")
	})
}

// TestAHoldShowsThePresent has what it says change while the operator thinks.
func TestAHoldShowsThePresent(t *testing.T) {
	const book = `
runbook: r
phases: [{phase: one, steps: [{step: Read, read: [state]}, {step: Work, hold: 'Works on ${state.value}.', act: {action: work}}]}]
`
	var value word
	value.Store("one")
	answer := func(command string) string {
		return map[string]string{"state": "value " + value.Load() + "\r\n", "work": "worked\r\n"}[command] + "> "
	}
	talking(t, book, answer, func(k *talk) {
		assert.Equal(t, "Works on one.", k.asked().Text)
		k.says(event.FormHold, engine.Approve)
		assert.Equal(t, event.Done, k.over().Outcome)
		assert.Equal(t, []string{"state", "work"}, k.far.commands(), "what was just read is not read again")
	})
	talking(t, book, answer, func(k *talk) {
		time.Sleep(5 * time.Minute)
		value.Store("two")
		k.says(event.FormHold, engine.Approve)
		assert.Equal(t, "This is not as it was when you were asked. Works on two.", k.asked().Text)
		assert.Equal(t, []string{"state", "state"}, k.far.commands(), "nothing is done yet")
		k.says(event.FormHold, engine.Approve)
		assert.Equal(t, event.Done, k.over().Outcome)
	})
	value.Store("one")
	talking(t, book, answer, func(k *talk) {
		time.Sleep(5 * time.Minute)
		k.says(event.FormHold, engine.Approve)
		assert.Equal(t, event.Done, k.over().Outcome, "late, and still so")
		assert.Equal(t, []string{"state", "state", "work"}, k.far.commands())
	})
}

// TestAHoldWaitsForADeviceThatIsBusy has the operator leave it in the middle of something.
func TestAHoldWaitsForADeviceThatIsBusy(t *testing.T) {
	const book = `
runbook: r
phases: [{phase: one, steps: [{step: Read, read: [state]}, {step: Work, hold: 'Works on ${state.value}.', act: {action: work}}]}]
`
	answer := func(command string) string {
		return map[string]string{"state": "value one\r\n> ", "work": "worked\r\n> "}[command]
	}
	talking(t, book, answer, func(k *talk) {
		typeKeys(k.Session, "keep\r")
		time.Sleep(time.Second)
		k.GiveHelm(engine.Resume)
		time.Sleep(time.Second)
		k.says(event.FormHold, engine.Approve)
		k.far.says("kept\r\n> ")
		time.Sleep(5 * time.Second)
		assert.Equal(t, event.Done, k.over().Outcome)
		assert.Equal(t, []string{"state", "keep", "state", "work"}, k.far.commands())
	})
}

// TestAProofByAnOldFactReadsItAgain has the operator change something between the reading and the proof.
func TestAProofByAnOldFactReadsItAgain(t *testing.T) {
	const book = `
runbook: r
phases: [{phase: one, steps: [{step: Read, read: [state]}, {step: Here, operator: Look at it.}, {step: Prove, compare: [{what: value, want: '"one"', got: state.value, proves: it is one}]}]}]
`
	var value word
	value.Store("one")
	answer := func(command string) string {
		return map[string]string{"state": "value " + value.Load() + "\r\n"}[command] + "> "
	}
	talking(t, book, answer, func(k *talk) {
		typeKeys(k.Session, "set two\r")
		value.Store("two")
		time.Sleep(time.Second)
		k.GiveHelm(engine.GoOn)
		time.Sleep(5 * time.Second)
		k.says(event.FormFailure, engine.StopHere)
		result := k.over()
		assert.Contains(t, result.Message, "want one, the device says two")
		assert.Contains(t, result.Message, "the runbook changed nothing on the device, what was typed by hand aside")
		assert.Equal(t, []string{"state", "set two", "state"}, k.far.commands())
	})
}

// TestAChangeIsKeptBeforeItIsSent has a logbook that comes to its end late, or not at all.
func TestAChangeIsKeptBeforeItIsSent(t *testing.T) {
	full := errors.New("the disk is full")
	for answer, far := range map[string][]string{engine.TryAgain: {"work"}, engine.GoUnrecorded: {"work"}, engine.StopHere: nil} {
		talkingIn(t, nameless, "", func(string) string { return "worked\r\n> " }, func(k *talk) {
			keeper := k.Subscribe()
			keeper.Keeps()
			keeper.Fails(full)
			k.begin(works)
			assert.Empty(t, k.far.commands(), "while it is awaited")
			changes := of[event.Change](k)
			require.Len(t, changes, 1)
			assert.Equal(t, "work", changes[0].Command)
			time.Sleep(10 * time.Second)
			ask := k.asked()
			require.Equal(t, event.FormRecord, ask.Form)
			assert.Contains(t, ask.Text, "“work” is not typed: it is not recorded: the disk is full")
			assert.Empty(t, k.far.commands(), "nothing is typed that is not on record")
			if answer == engine.TryAgain {
				keeper.Kept(1 << 40)
			}
			k.says(event.FormRecord, answer)
			assert.Equal(t, far, k.far.commands())
			result := k.over()
			switch answer {
			case engine.TryAgain:
				assert.Equal(t, event.Done, result.Outcome)
				assert.Zero(t, result.Exit)
				assert.Empty(t, last(of[event.RunEnd](k)).Unrecorded)
			case engine.GoUnrecorded:
				assert.Equal(t, engine.ExitUnrecorded, result.Exit)
				assert.Contains(t, result.Message, "done; UNRECORDED from “work” on: not recorded: the disk is full")
				assert.Contains(t, last(of[event.RunEnd](k)).Unrecorded, "from “work” on")
			default:
				assert.Equal(t, engine.ExitUnrecorded, result.Exit)
				assert.Equal(t, event.Stopped, result.Outcome)
				assert.Contains(t, result.Message, "nothing was changed on the device")
			}
			keeper.Abandon()
		})
	}
}

func TestARestartIsSeenToBeginAndTheDeviceToBeTheSame(t *testing.T) {
	const book = `
runbook: r
phases: [{phase: one, steps: [{step: Read, read: [self]}, {step: Again, restart: {action: recommence, mode: [login], then: ready}, timeout: 10m}]}]
`
	var serial word
	serial.Store("A1")
	up := func(command string) string {
		switch command {
		case "self":
			return "serial " + serial.Load() + "\r\n> "
		case "recommence":
			return "going down\r\nlogin: "
		case "":
			return "login: "
		}
		return "> "
	}
	talking(t, book, up, func(k *talk) {
		assert.Equal(t, event.Done, k.over().Outcome)
		assert.Equal(t, []string{"self", "recommence", "me", "self"}, k.far.commands())
	})
	talking(t, book, func(command string) string {
		if command == "recommence" {
			serial.Store("B2")
		}
		return up(command)
	}, func(k *talk) {
		result := k.over()
		assert.Equal(t, event.Stopped, result.Outcome)
		assert.Contains(t, result.Message, "another device is on the line now: device.serial reads B2, was A1")
	})
	talking(t, book, func(command string) string {
		if command == "recommence" {
			return "not allowed now\r\n> "
		}
		return up(command)
	}, func(k *talk) {
		k.says(event.FormFailure, engine.StopHere)
		assert.Contains(t, k.over().Message, "“recommence” left the device in mode ready: not allowed now")
	})
}

// TestARestartIsNotBegunTwice has the operator log in by itself, or begin to, as soon as the device is back.
func TestARestartIsNotBegunTwice(t *testing.T) {
	const book = `
runbook: r
phases: [{phase: one, steps: [{step: Read, read: [self]}, {step: Again, restart: {action: recommence, mode: [login], then: ready}, timeout: 10m}]}]
`
	answer := func(command string) string {
		switch command {
		case "self":
			return "serial A1\r\n> "
		case "recommence":
			return "going down\r\n"
		case "":
			return "login: "
		}
		return "> "
	}
	for typed, all := range map[string][]string{
		"":       {"self", "recommence", "me", "self"},
		"me\r":   {"self", "recommence", "me", "self"},
		"m":      {"self", "recommence", "me", "self"},
		"look\r": {"self", "recommence", "look", "self"},
	} {
		talking(t, book, answer, func(k *talk) {
			k.TakeHelm()
			k.far.says("login: ")
			time.Sleep(time.Second)
			typeKeys(k.Session, typed)
			time.Sleep(time.Minute)
			k.GiveHelm(engine.Resume)
			time.Sleep(time.Minute)
			assert.Equal(t, event.Done, k.over().Outcome, "%q", typed)
			assert.Equal(t, all, k.far.commands(), "%q", typed)
			assert.Len(t, of[event.StepBegin](k), 2, "no step is repeated")
		})
	}
}

// TestReadingsAreTakenUpAgain takes the helm while one is awaited, and types another command after it.
func TestReadingsAreTakenUpAgain(t *testing.T) {
	const book = "runbook: r\nphases: [{phase: one, steps: [{step: Read, read: [self, state]}]}]\n"
	talking(t, book, slowly("self"), func(k *talk) {
		k.far.answers(func(command string) string {
			return map[string]string{"state": "value x\r\n", "self": "serial A1\r\n"}[command] + "> "
		})
		k.TakeHelm()
		k.far.says("serial A1\r\n> ")
		time.Sleep(time.Second)
		k.GiveHelm(engine.Resume)
		time.Sleep(5 * time.Second)
		assert.Equal(t, event.Done, k.over().Outcome)
		assert.Equal(t, []string{"self", "state"}, k.far.commands())
	})
}

// TestTheLineMayBeLostWhileAnOverrunIsAsked has a restart wait out its time on a cable that is pulled.
func TestTheLineMayBeLostWhileAnOverrunIsAsked(t *testing.T) {
	const book = "runbook: r\nphases: [{phase: one, steps: [{step: x, wait: {mode: [busy]}, timeout: 1m}]}]\n"
	twice(
		t,
		book,
		func(t *testing.T, s *Session, first, second *fakeLine, comesBack func(), ended <-chan engine.Result, feed *event.Feed) {
			time.Sleep(2 * time.Minute)
			asks := collect[event.Ask](t, feed)
			require.Len(t, asks, 1)
			require.Equal(t, event.FormOverrun, asks[0].Form)
			close(first.chunks)
			time.Sleep(time.Second)
			assert.Equal(t, "withdrawn", last(collect[event.Answer](t, feed)).Answer)
			comesBack()
			second.says("working\r\n")
			time.Sleep(10 * time.Second)
			assert.Equal(t, event.Done, (<-ended).Outcome)
		},
	)
}
