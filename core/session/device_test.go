package session

import (
	"fmt"
	"math/rand/v2"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"pilotrix/core/event"
	"pilotrix/core/runbook/engine"
)

// cable leads to one of two devices, or to one that does not say which it is.
type cable struct {
	serial  atomic.Value
	refuses atomic.Bool
	worked  atomic.Value // serial numbers of those that were changed
	started atomic.Bool
}

func newCable() *cable {
	c := &cable{}
	c.serial.Store("A1")
	c.worked.Store("")
	return c
}

func (c *cable) answer(command string) string {
	switch command {
	case "self":
		if c.refuses.Load() {
			return "no such word\r\n> "
		}
		return "serial " + c.serial.Load().(string) + "\r\n> "
	case "state":
		return "value good\r\n> "
	case "work":
		c.worked.Store(c.worked.Load().(string) + c.serial.Load().(string) + " ")
		return "worked\r\n> "
	case "recommence":
		c.started.Store(true)
		return "going down\r\nlogin: "
	case "me":
		c.started.Store(false)
	case "":
		if c.started.Load() {
			return "login: "
		}
	}
	return "> "
}

const held = `
runbook: r
phases: [{phase: one, steps: [
  {step: Read, read: [self, state]},
  {step: Change it, hold: Changes it., act: {action: work}},
  {step: Prove, read: [state]},
  {step: Proved, compare: [{what: state, want: '"good"', got: state.value, proves: it is good}]}]}]
`

// TestAnotherDeviceIsNotChanged puts the cable into another device whenever that can go unseen: nothing that changes
// anything is typed at that one, whatever the run waits for meanwhile, and both are named.
func TestAnotherDeviceIsNotChanged(t *testing.T) {
	swap := func(k *talk, c *cable) { c.serial.Store("B2") }
	approve := func(k *talk) { k.says(event.FormHold, engine.Approve) }
	for name, one := range map[string]func(k *talk, c *cable){
		"while a hold is open": func(k *talk, c *cable) {
			time.Sleep(30 * time.Minute)
			swap(k, c)
			approve(k)
		},
		"just before the approval": func(k *talk, c *cable) {
			swap(k, c)
			approve(k)
		},
		"while the hand has the helm": func(k *talk, c *cable) {
			k.TakeHelm()
			swap(k, c)
			k.far.says("\r\nnext login on console\r\n> ")
			time.Sleep(time.Minute)
			k.GiveHelm(engine.Resume)
			time.Sleep(5 * time.Second)
			approve(k)
		},
		"behind a login that was seen": func(k *talk, c *cable) {
			swap(k, c)
			c.started.Store(true)
			k.far.says("\r\nlogin: ")
			time.Sleep(5 * time.Second)
			approve(k)
			approve(k) // it is asked again: an account is typed now, too
		},
	} {
		c := newCable()
		talking(t, held, c.answer, func(k *talk) {
			one(k, c)
			time.Sleep(time.Minute)
			result := k.over()
			assert.Equal(t, event.Stopped, result.Outcome, "%s: %s", name, result.Message)
			assert.Contains(t, result.Message, "another device is on the line now: device.serial reads B2, was A1",
				name)
			assert.Contains(t, result.Message, "nothing was changed", name)
			assert.Empty(t, c.worked.Load(), name)
			assert.Empty(t, result.Proved, name)
		})
	}
}

// TestTheSameDeviceIsReadAgainBehindAHold and is then changed.
func TestTheSameDeviceIsReadAgainBehindAHold(t *testing.T) {
	c := newCable()
	talking(t, held, c.answer, func(k *talk) {
		time.Sleep(time.Hour)
		k.says(event.FormHold, engine.Approve)
		time.Sleep(time.Minute)
		assert.Equal(t, event.Done, k.over().Outcome)
		assert.Equal(t, []string{"self", "state", "self", "work", "state"}, k.far.commands())
	})
}

// TestADeviceThatWasSilentIsReadAgain has steps without a hold, with a silence before the second change.
func TestADeviceThatWasSilentIsReadAgain(t *testing.T) {
	const book = `
runbook: r
phases: [{phase: one, steps: [{step: Read, read: [self]}, {step: One, act: {action: work}}, {step: Down, act: {action: recommence}},
  {step: Wait, wait: {mode: [ready]}, timeout: 10m}, {step: Two, act: {action: work}}]}]
`
	for _, silent := range []time.Duration{20 * time.Second, 90 * time.Second} {
		c := newCable()
		talking(t, book, func(command string) string {
			if command == "recommence" {
				return "going down\r\n"
			}
			return c.answer(command)
		}, func(k *talk) {
			c.serial.Store("B2")
			time.Sleep(silent)
			k.far.says("> ")
			time.Sleep(time.Minute)
			result := k.over()
			if silent < engine.SilenceInDoubt {
				assert.Equal(t, event.Done, result.Outcome, result.Message)
				assert.Equal(t, []string{"self", "work", "recommence", "work"}, k.far.commands(),
					"a short silence is none")
				return
			}
			assert.Contains(t, result.Message, "device.serial reads B2, was A1")
			assert.Equal(t, []string{"self", "work", "recommence", "self"}, k.far.commands())
		})
	}
}

// TestADeviceThatDoesNotSayWhichItIsIsAskedAbout has one that refuses, behind a hold and after a restart.
func TestADeviceThatDoesNotSayWhichItIsIsAskedAbout(t *testing.T) {
	const again = `
runbook: r
phases: [{phase: one, steps: [{step: Read, read: [self]}, {step: Again, restart: {action: recommence, mode: [ready, login], then: ready}, timeout: 10m},
  {step: Change it, act: {action: work}}]}]
`
	for _, book := range []string{held, again} {
		for _, answer := range []string{engine.Approve, engine.StopHere} {
			c := newCable()
			talking(t, "", c.answer, func(k *talk) {
				c.refuses.Store(book == again)
				if book == again {
					k.far.answers(func(command string) string {
						c.refuses.Store(c.started.Load() || len(k.far.lines) > 3)
						return c.answer(command)
					})
				}
				k.begin(book)
				if book == held {
					c.refuses.Store(true)
					k.says(event.FormHold, engine.Approve)
				}
				time.Sleep(2 * time.Minute)
				ask := k.asked()
				require.Equal(t, event.FormIdentity, ask.Form, "%+v %q", ask, k.far.commands())
				assert.Contains(t, ask.Text,
					"Whether this is still device.serial A1 cannot be read: self was answered “no such word”")
				assert.Empty(t, c.worked.Load(), "nothing is typed before that is answered")
				k.says(event.FormIdentity, answer)
				time.Sleep(time.Minute)
				result := k.over()
				if answer == engine.Approve {
					assert.Equal(t, event.Done, result.Outcome, result.Message)
					assert.Equal(t, "A1 ", c.worked.Load())
					return
				}
				assert.Equal(t, event.Stopped, result.Outcome)
				assert.Empty(t, c.worked.Load())
				assert.Contains(t, result.Message, "cannot be read")
			})
		}
	}
}

// TestNoMomentLetsAnotherDeviceBeChanged swaps the cable at random moments of a run with holds, restarts, hands at the
// helm and lost lines: whatever was changed was the device whose identity was read last, with nothing in between that
// could have been a swap.
func TestNoMomentLetsAnotherDeviceBeChanged(t *testing.T) {
	const book = `
runbook: r
phases: [{phase: one, steps: [{step: Read, read: [self, state]}, {step: One, hold: One., act: {action: work}}, {step: Look, read: [state]},
  {step: Again, restart: {action: recommence, mode: [ready, login], then: ready}, timeout: 10m}, {step: Two, act: {action: work}},
  {step: Three, hold: Three., act: {action: work}}]}]
`
	changed := 0
	for seed := range uint64(400) {
		random := rand.New(rand.NewPCG(seed, 23))
		c := newCable()
		talking(t, "", c.answer, func(k *talk) {
			k.begin(book)
			swapAt := random.IntN(8)
			for step := range 8 {
				if step == swapAt { // nobody swaps a cable within a second
					c.serial.Store("B2")
					switch random.IntN(3) {
					case 0:
						k.TakeHelm()
						time.Sleep(3 * time.Second)
						k.GiveHelm(engine.Resume)
					case 1:
						c.started.Store(true)
						k.far.says("\r\nlogin: ")
					default:
						time.Sleep(2 * time.Minute)
						k.far.says("\r\n> ")
					}
				}
				time.Sleep(5 * time.Second)
				if ask := k.asked(); ask.ID != "" {
					k.Answer(ask.ID, ask.Answers[0], "operator")
				}
				time.Sleep(5 * time.Second)
			}
			changed += strings.Count(c.worked.Load().(string), "A1")
			require.NotContains(t, c.worked.Load(), "B2", "seed %d, at step %d: %s", seed, swapAt,
				fmt.Sprint(k.far.commands()))
			k.TakeHelm()
			k.GiveHelm(engine.Stop)
			time.Sleep(time.Minute)
		})
	}
	assert.Greater(t, changed, 100, "runs that were not disturbed before it have changed the device")
}

// TestAKeptDeviceThatIsAnotherOneIsSaidAtEveryHold opens a device by a name that is kept with another identity.
func TestAKeptDeviceThatIsAnotherOneIsSaidAtEveryHold(t *testing.T) {
	for kept, says := range map[string]bool{"": false, "A1": false, "A0": true} {
		c := newCable()
		talking(t, "", c.answer, func(k *talk) {
			k.opt.Device, k.opt.Identity = "mare-gw1", kept
			k.begin(held)
			ask := k.asked()
			require.Equal(t, event.FormHold, ask.Form)
			assert.Equal(t, says,
				strings.Contains(ask.Text, "This is another device: mare-gw1 is known by A0, and A1 answers."),
				ask.Text)
			k.says(event.FormHold, engine.StopHere)
		})
	}
}

// TestADialectWithoutAnIdentityIsHeldToTheNameInItsPrompt has another name there behind a hold.
func TestADialectWithoutAnIdentityIsHeldToTheNameInItsPrompt(t *testing.T) {
	tongue := strings.Replace(nameless, `prompt: '^> $'`, `prompt: '^(?P<host>[\w-]+)> $'`, 1)
	for _, other := range []bool{false, true} {
		name := "quay-1"
		answer := func(command string) string {
			return map[string]string{"work": "worked\r\n", "state": "value good\r\n"}[command] + name + "> "
		}
		talkingIn(t, tongue, "", answer, func(k *talk) {
			k.far.says("\r\nquay-1> ")
			time.Sleep(time.Second)
			k.begin(strings.ReplaceAll(held, "self, ", ""))
			require.Equal(t, event.FormHold, k.asked().Form)
			if other {
				name = "mare-1"
				k.far.says("\r\nmare-1> ")
				time.Sleep(time.Second)
			}
			k.says(event.FormHold, engine.Approve)
			time.Sleep(time.Minute)
			result := k.over()
			if other {
				assert.Contains(t, result.Message,
					"another device is on the line now: its prompt names mare-1, and named quay-1 before")
				assert.NotContains(t, k.far.commands(), "work")
				return
			}
			assert.Equal(t, event.Done, result.Outcome, result.Message)
		})
	}
}
