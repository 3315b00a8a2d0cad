package session

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"pilotrix/core/event"
)

const handled = `
dialect: handled
line: {clear: "\x15"}
commands: {shortened: 1, case: any, separators: [';']}
modes:
  - {mode: starting, text: '^starting'}
  - {mode: login, prompt: '^name: $'}
  - {mode: look, prompt: '^gw > $'}
  - {mode: admin, prompt: '^gw # $'}
moves: [{from: login, to: look, action: log-in}, {from: look, to: admin, action: lift}]
refused: ['^no such word']
readings:
  - {reading: self, in: [look, admin], command: show self, facts: [{fact: running.release, pattern: 'release (\S+)', as: release}]}
  - {reading: banks, in: [look, admin], command: show banks, facts: [{fact: next.bank, pattern: 'next (\w)'}], rows: [{list: banks, key: [bank], pattern: '(?m)^(?P<bank>[AB]) (?P<release>\S+)$'}]}
  - {reading: weight, in: [look, admin], command: 'weigh ${next.bank}', facts: [{fact: weighed.sum, pattern: 'sum (\w+)'}]}
actions:
  - {action: choose, in: [admin], with: [bank], command: 'favour ${bank}', done: 'bank \w is next', fail: 'no bank \w'}
  - {action: log-in, in: [login], command: me, to: look, changes: false}
  - {action: lift, in: [look], command: lift, to: admin, changes: false}
  - {action: restart, in: [admin], command: again, to: starting, takes: 2m}
pending: [{pending: choice, after: '^favour\b', until: '^stow\b', says: the choice}]
restarts: ['^again\b']
looks: ['^show\b']
next-start: {says: 'bank ${next.bank}', there: 'any(banks, .bank == next.bank and .release != "-")', missing: it holds nothing}
`

// gateway is a device with two banks.
type gateway struct {
	next  string
	level string
}

func (g *gateway) answer(line string) string {
	var out strings.Builder
	for _, command := range strings.Split(line, ";") {
		words := strings.Fields(strings.ToLower(command))
		switch {
		case len(words) == 0:
		case len(words) == 2 && strings.HasPrefix("show", words[0]) && strings.HasPrefix("banks", words[1]):
			fmt.Fprintf(&out, "A 7.4\r\nB 7.6\r\nnext %s\r\n", g.next)
		case len(words) == 2 && strings.HasPrefix("show", words[0]) && strings.HasPrefix("self", words[1]):
			out.WriteString("release 7.4\r\n")
		case len(words) == 4 && words[2] == "|":
			out.WriteString("A 9.9\r\nnext Z\r\n")
		case words[0] == "lift":
			g.level = "#"
		case words[0] == "weigh":
			out.WriteString("sum beef\r\n")
		case words[0] == "favour" && g.level == "#" && (words[1] == "a" || words[1] == "b"):
			g.next = strings.ToUpper(words[1])
			fmt.Fprintf(&out, "bank %s is next\r\n", g.next)
		case words[0] == "favour":
			out.WriteString("no bank " + strings.ToUpper(words[1]) + "\r\n")
		case words[0] == "again":
			return out.String() + "starting\r\n"
		default:
			out.WriteString("no such word\r\n")
		}
	}
	return out.String() + "gw " + g.level + " "
}

// handling types at a gateway by hand.
func handling(t *testing.T, use func(k *talk, g *gateway)) {
	t.Helper()
	g := &gateway{next: "A", level: ">"}
	talkingIn(t, handled, "", func(line string) string { return g.answer(line) }, func(k *talk) {
		k.far.says("\r\ngw > ")
		time.Sleep(time.Second)
		use(k, g)
	})
}

func (k *talk) types(keys string) {
	typeKeys(k.Session, keys)
	time.Sleep(time.Second)
	synctest.Wait()
}

func (k *talk) fact(name string) string {
	fact, _ := k.Facts().Get(name)
	return fact.Text
}

// TestAReadingTypedByHandMakesFacts, however it is spelt, and only where it is nothing else.
func TestAReadingTypedByHandMakesFacts(t *testing.T) {
	for typed, want := range map[string]string{
		"show banks\r": "A", "SH BANKS\r": "A", "  show   banks \r": "A",
		"show banks | A\r": "", "show self;show banks\r": "", "show\r": "", "show ports\r": "",
	} {
		handling(t, func(k *talk, _ *gateway) {
			k.types("weigh A")
			k.types("\x15") // taken back
			k.types(typed)
			assert.Equal(t, want, k.fact("next.bank"), "%q", typed)
			assert.Zero(t, k.Facts().Changes(), "a look is no change: %q", typed)
		})
	}
}

// TestAFactOfTheHandIsDatedByItsEnter, and says that it was typed by hand.
func TestAFactOfTheHandIsDatedByItsEnter(t *testing.T) {
	handling(t, func(k *talk, _ *gateway) {
		at := time.Now()
		k.types("show banks\r")
		facts := of[event.Fact](k)
		require.Len(t, facts, 2)
		assert.Equal(t, []string{"next.bank", "banks"}, []string{facts[0].Name, facts[1].Name})
		assert.True(t, facts[0].Hand)
		assert.WithinDuration(t, at, facts[0].Read, 100*time.Millisecond)
		assert.Len(t, facts[1].Rows, 2)
	})
}

// TestAParameterIsWhatTheTemplateHasNow: another one is another question.
func TestAParameterIsWhatTheTemplateHasNow(t *testing.T) {
	handling(t, func(k *talk, _ *gateway) {
		k.types("weigh A\r")
		assert.Empty(t, k.fact("weighed.sum"), "which bank is next was not read")
		k.types("show banks\r")
		k.types("weigh B\r")
		assert.Empty(t, k.fact("weighed.sum"))
		k.types("weigh A\r")
		assert.Equal(t, "beef", k.fact("weighed.sum"))
	})
}

// TestWhatTheHandChangesMakesOld what was read before, and is judged by what the device says.
func TestWhatTheHandChangesMakesOld(t *testing.T) {
	handling(t, func(k *talk, _ *gateway) {
		k.types("show banks\rlift\r")
		assert.Zero(t, k.Facts().Changes())
		k.types("favour B\r")
		fact, _ := k.Facts().Get("next.bank")
		assert.True(t, k.Facts().Old(fact))
		assert.Equal(t, []event.Change{{Command: "favour B", Hand: true}}, of[event.Change](k))
		k.types("favour C\r")
		k.types("hum\r")
		changes := of[event.Change](k)
		require.Len(t, changes, 3)
		assert.True(t, changes[2].Maybe, "nothing knows it")
		var said []string
		for _, note := range of[event.Note](k) {
			said = append(said, note.Text)
		}
		assert.Equal(t, []string{"“favour B” was done: bank B is next", "“favour C” was not done: no bank C"}, said)
		k.types("show banks\r")
		fact, _ = k.Facts().Get("next.bank")
		assert.False(t, k.Facts().Old(fact))
		assert.Equal(t, "B", fact.Text)
	})
}

// TestALookAheadOfAChangeIsOldByThen: its answer is from before.
func TestALookAheadOfAChangeIsOldByThen(t *testing.T) {
	handling(t, func(k *talk, _ *gateway) {
		k.types("lift\r")
		k.far.late.Store(int64(50 * time.Millisecond))
		k.types("show banks\rfavour B\r")
		fact, known := k.Facts().Get("next.bank")
		require.True(t, known)
		assert.Equal(t, "A", fact.Text)
		assert.True(t, k.Facts().Old(fact))
		assert.Equal(t, "B", of[event.Asked](k)[2].Text[len("favour "):])
	})
}

// TestARestartTypedByHandIsWatched from before it to the prompt at which the device is back.
func TestARestartTypedByHandIsWatched(t *testing.T) {
	handling(t, func(k *talk, g *gateway) {
		k.types("show banks\rlift\rfavour B\r")
		k.types("again\r")
		held := of[event.Interlock](k)
		require.Len(t, held, 1, "the choice would be lost")
		assert.Equal(t, []string{"starts next: bank A, as read 1 s ago, and it may have been changed since"},
			held[0].Now)
		require.True(t, k.SendHeld())
		time.Sleep(90 * time.Second)
		g.level = ">"
		k.far.says("\r\nname: ")
		time.Sleep(time.Second)
		all := of[event.Restart](k)
		require.NotEmpty(t, all)
		last := all[len(all)-1]
		assert.True(t, last.Over)
		assert.Equal(t, 2*time.Minute, last.Expected)
		notes := of[event.Note](k)
		assert.Equal(t, "back after 1 min 30 s (usually 2 min), at the prompt of login", notes[len(notes)-1].Text)
		k.types("me\r")
		k.far.says("\r\ngw > ")
		time.Sleep(time.Second)
		k.types("show self\r")
		notes = of[event.Note](k)
		assert.Equal(t, "since its restart it runs 7.4", notes[len(notes)-1].Text)
	})
}

// TestARestartByItselfIsSaid: nothing was typed that does it.
func TestARestartByItselfIsSaid(t *testing.T) {
	handling(t, func(k *talk, _ *gateway) {
		k.types("show banks\r")
		k.far.says("\r\nstarting\r\n")
		time.Sleep(10 * time.Second)
		notes := of[event.Note](k)
		require.NotEmpty(t, notes)
		assert.Contains(t, notes[len(notes)-1].Text, "the device restarts, and nothing was typed here")
		fact, _ := k.Facts().Get("next.bank")
		assert.True(t, k.Facts().Old(fact))
	})
}

// TestAChangeOfTheHandIsOnRecordFirst: its Enter waits for the disk, and what is typed after it too, in their order;
// where the disk is full it is held.
func TestAChangeOfTheHandIsOnRecordFirst(t *testing.T) {
	handling(t, func(k *talk, _ *gateway) {
		k.types("lift\r")
		disk := k.Subscribe()
		disk.Keeps()
		typeKeys(k.Session, "favour B\rshow banks\r")
		time.Sleep(time.Second)
		assert.Equal(t, []string{"lift"}, k.far.commands(), "it is not on record")
		seen, err := disk.Next(context.Background())
		require.NoError(t, err)
		disk.Kept(seen[len(seen)-1].Seq)
		time.Sleep(time.Second)
		assert.Equal(t, []string{"lift", "favour B", "show banks"}, k.far.commands())
		assert.Equal(t, "B", k.fact("next.bank"))

		disk.Fails(errors.New("the disk is full"))
		typeKeys(k.Session, "favour A\r")
		time.Sleep(6 * time.Second)
		held := of[event.Interlock](k)
		require.Len(t, held, 1)
		assert.Contains(t, held[0].Says, "the disk is full")
		assert.Len(t, k.far.commands(), 3)
		require.True(t, k.SendHeld())
		time.Sleep(time.Second)
		assert.Equal(t, "favour A", k.far.commands()[3])
		disk.Abandon()
	})
}

// TestAnExchangeNamesTheStepThatAsked, and that of a hand, of no step.
func TestAnExchangeNamesTheStepThatAsked(t *testing.T) {
	handling(t, func(k *talk, _ *gateway) {
		k.begin(
			"runbook: r\nphases: [{phase: one, steps: [{step: Self, read: [self]}, {step: Banks, read: [banks]}]}]\n")
		require.Equal(t, event.Done, k.over().Outcome)
		k.types("show self\r")
		var steps []string
		for _, asked := range of[event.Asked](k) {
			steps = append(steps, asked.Who+" "+asked.Text+" "+asked.Step)
		}
		assert.Equal(t, []string{"runbook show self 1.1", "runbook show banks 1.2", "hand show self "}, steps)
	})
}
