package runbook_test

import (
	"strings"
	"testing"

	_ "pilotrix/core/runbook/verbs"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"pilotrix/core/dialect"
	"pilotrix/core/runbook"
	"pilotrix/core/source/goldentest"
)

// gate is a dialect with a bit of everything.
const gate = `
dialect: gate
line: {speed: 9600, speeds: [9600, 19200]}
modes: [{mode: login, prompt: 'login: $'}, {mode: user, prompt: '^> $'}, {mode: away, text: going}]
moves: [{from: login, to: user, action: log-in}]
readings:
  - {reading: self, in: [user], command: self, facts: [{fact: running.release, pattern: '(\S+)', as: release}, {fact: store.free, pattern: '(\d+)', as: size}]}
  - {reading: banks, in: [user], command: banks, facts: [{fact: standby.bank, pattern: '([AB])'}, {fact: choice.next, pattern: '([AB])'}], rows: [{list: banks, pattern: '(?P<bank>[AB])'}]}
  - {reading: weighed, in: [user], command: 'hash ${image.name}', facts: [{fact: kept.sha256, pattern: '(\S+)', as: digest}]}
actions:
  - {action: log-in, in: [login], command: '${user}', to: user, dialogs: [{dialog: word, ask: 'word: $', answer: '${password}', secret: true}]}
  - {action: choose, in: [user], with: [bank], command: 'choose ${bank}', done: chosen}
  - {action: wipe, in: [user], command: wipe, done: wiped, danger: empties everything}
  - {action: again, in: [user], command: again, to: away}
  - {action: tell, in: [user], with: [word], command: 'tell ${word}', done: told}
  - action: fetch
    in: [user]
    done: begun
    changes: true
    by:
      tftp: {with: [server, name], command: 'get ${server} ${name}'}
      ftp: {with: [server, name, word], command: 'get ${server} ${name}', dialogs: [{dialog: word, ask: 'word: $', answer: '${word}', secret: true}]}
  - {action: take, in: [user], with: [name], command: 'take ${name}', ready: ready, done: kept, by: {xmodem: {}, ymodem: {command: 'take y ${name}'}}}
image: [{name: release, pattern: 'release: (\S+)'}]
`

// sound uses all of it.
const sound = `runbook: sound
title: A sound one
inputs:
  - {input: image, kind: image, about: the image}
  - {input: user, kind: text, about: who}
  - {input: password, kind: secret, about: the word}
  - {input: protocol, kind: choice, choices: [tftp, ftp], default: tftp}
  - {input: amount, kind: number, default: 3}
  - {input: into, kind: folder, default: ''}
phases:
  - phase: look
    steps:
      - {step: Find it, catch: {mode: user}, timeout: 1m}
      - {step: Read it, read: [self, banks]}
      - {step: Room, check: {holds: 'store.free >= image.size * amount', message: 'only ${store.free} B'}}
      - {step: Keep, snapshot: before}
      - {step: Reckon, let: {twice: 'store.free * 2'}}
  - phase: change
    when: amount > 0
    steps:
      - {step: 'Stage ${image.name}', serve: {file: image, protocol: '${protocol}'}}
      - step: Fetch it
        hold: 'Writes bank ${standby.bank}.'
        rollback: the other bank
        act: {action: fetch, by: '${protocol}', with: {server: '${serve.address}', name: '${serve.name}', word: '${serve.password}'}}
        on-failure: {repeat-from: look, times: 2}
      - step: Choose it
        when: amount > 1
        skipped: nothing to choose
        act: {action: choose, with: {bank: '${standby.bank}'}, expect: {read: [banks], holds: choice.next == standby.bank, message: 'not chosen', proves: 'bank ${choice.next} is chosen'}}
      - {step: Wait, poll: {read: [banks], every: 5s, until: 'choice.next == "B"', fail: 'choice.next == "C"', message: gone, stalled: 1m}}
      - {step: Restart, hold: Restarts it., rollback: none, restart: {action: again, mode: [login], then: user}, expected: 1m, timeout: 2m}
  - phase: bank ${bank.bank}
    for: {each: bank, in: banks, where: bank.bank != "C"}
    steps:
      - {step: 'Note ${bank.bank}', note: 'bank ${bank.bank}'}
  - phase: prove
    steps:
      - {step: Look, read: [self]}
      - {step: It runs, compare: [{what: 'release of ${image.name}', want: image.release, got: running.release, proves: it runs}, {what: release, want: before.store.free, got: store.free}]}
rollback:
  about: the other bank
  steps:
    - {step: Go back, act: {action: choose, with: {bank: '${standby.bank}'}}}
`

// brokenBooks are edits of it, each of which breaks one thing.
var brokenBooks = []goldentest.Edit{
	{"no name", "runbook: sound\n", ""},
	{"no phases", "phases:\n  - phase: look", "phases: []\nlegs:\n  - phase: look"},
	{"an unknown verb", "read: [self, banks]", "reed: [self, banks]"},
	{"several verbs", "snapshot: before}", "snapshot: before, note: x}"},
	{"no verb", "{step: Keep, snapshot: before}", "{step: Keep}"},
	{"no words", "{step: Keep, snapshot: before}", "{snapshot: before}"},
	{"an unknown reading", "read: [self, banks]", "read: [self, bank]"},
	{"a reading of nothing", "{step: Look, read: [self]}", "{step: Look, read: []}"},
	{"a text where a list is wanted", "{step: Look, read: [self]}", "{step: Look, read: self}"},
	{"an unknown mode", "catch: {mode: user}", "catch: {mode: usr}"},
	{"a name that nothing makes", "store.free >= image.size", "store.fre >= image.size"},
	{"a broken expression", "store.free >= image.size * amount", "store.free >="},
	{"an unknown name in a message", "only ${store.free} B", "only ${store.left} B"},
	{"an unknown name in a title", "Stage ${image.name}", "Stage ${image.nme}"},
	{"an unknown name in the runbook's title", "title: A sound one", "title: 'A sound ${thing}'"},
	{"a secret in what the rollback says", "about: the other bank", "about: 'the other bank, ${password}'"},
	{"an unknown name in why a step is skipped", "skipped: nothing to choose", "skipped: 'nothing for ${image.nme}'"},
	{"a name that a verb makes", "let: {twice", "let: {serve"},
	{"an unknown name in what is compared", "release of ${image.name}", "release of ${image.nme}"},
	{"a check without a message", ", message: 'only ${store.free} B'", ""},
	{"an input twice", "{input: user, kind: text", "{input: image, kind: text"},
	{"an unknown kind of input", "kind: number", "kind: amount"},
	{"a choice of nothing", "kind: choice, choices: [tftp, ftp], default: tftp", "kind: choice"},
	{"a default that is no choice", "default: tftp", "default: sftp"},
	{"a default that is no number", "default: 3", "default: three"},
	{"a secret with a default", "kind: secret, about", "kind: secret, default: lamp, about"},
	{"choices of a text", "kind: number, default: 3", "kind: text, choices: [a], default: 3"},
	{"an input with a blank", "input: amount", "input: the amount"},
	{"an input that hides facts", "input: amount", "input: running"},
	{
		"a failure of any step that is gone over",
		"rollback:\n  about: the other bank",
		"on-failure: {do: go-on}\nrollback:\n  about: the other bank",
	},
	{"an input that is a word of expressions", "input: amount", "input: count"},
	{"a login without what it types", "  - {input: user, kind: text, about: who}\n", ""},
	{"an unknown action", "{action: again, mode", "{action: anew, mode"},
	{"a restart that is not seen to begin", "{action: again, mode", "{action: wipe, mode"},
	{"a restart to where the device is already", "{action: again, mode", "{action: log-in, mode"},
	{
		"an end that was so already, after a change",
		"      - {step: Look, read: [self]}\n",
		"      - {step: Look, read: [self]}\n      - {step: So, already: {holds: running.release != image.release, message: so}}\n",
	},
	{"a parameter that is missing", "with: {bank: '${standby.bank}'}, expect", "expect"},
	{"a parameter that is not taken", "with: {bank: '${standby.bank}'}, expect", "with: {bank: A, slot: 3}, expect"},
	{"a way that is not there", "act: {action: fetch, by: '${protocol}'", "act: {action: fetch, by: pigeon"},
	{"a way that can be anything", "act: {action: fetch, by: '${protocol}'", "act: {action: fetch, by: '${user}'"},
	{
		"a way of an action with one",
		"act: {action: choose, with: {bank: '${standby.bank}'}, expect",
		"act: {action: choose, by: tftp, with: {bank: '${standby.bank}'}, expect",
	},
	{"no way said", "act: {action: fetch, by: '${protocol}', with", "act: {action: fetch, with"},
	{"a choice that one way does not have", "choices: [tftp, ftp]", "choices: [tftp, ftp, http]"},
	{"a parameter of one way only", ", word: '${serve.password}'", ""},
	{
		"a protocol to serve by that is none",
		"serve: {file: image, protocol: '${protocol}'}",
		"serve: {file: image, protocol: pigeon}",
	},
	{"a file that is none", "serve: {file: image", "serve: {file: user"},
	{"a secret in a title", "step: 'Stage ${image.name}'", "step: 'Stage ${password}'"},
	{
		"a secret in a command",
		"act: {action: choose, with: {bank: '${standby.bank}'}, expect",
		"act: {action: choose, with: {bank: '${password}'}, expect",
	},
	{"a secret in a note", "note: 'bank ${bank.bank}'", "note: 'bank ${password}'"},
	{
		"a secret that the server made, in a hold",
		"hold: 'Writes bank ${standby.bank}.'",
		"hold: 'With ${serve.password}.'",
	},
	{
		"what is not read yet",
		"      - {step: Read it, read: [self, banks]}\n",
		"      - {step: Read it, read: [self]}\n",
	},
	{
		"what is served only under a condition",
		"{step: 'Stage ${image.name}', serve",
		"{step: 'Stage ${image.name}', when: amount > 2, serve",
	},
	{
		"what is known only if a step succeeded",
		"{step: Read it, read: [self, banks]}",
		"{step: Read it, read: [self, banks], on-failure: {do: go-on}}",
	},
	{"what proves something and is old", "      - {step: Look, read: [self]}\n", ""},
	{
		"what an action is held to and is old",
		"expect: {read: [banks], holds: choice.next == standby.bank",
		"expect: {read: [self], holds: choice.next == standby.bank",
	},
	{"a phase of that name is not there", "repeat-from: look", "repeat-from: lok"},
	{"times without a phase", "{repeat-from: look, times: 2}", "{times: 2}"},
	{"an unknown way after a failure", "{repeat-from: look, times: 2}", "{do: panic}"},
	{
		"a rollback without steps",
		"rollback:\n  about: the other bank\n  steps:\n    - {step: Go back, act: {action: choose, with: {bank: '${standby.bank}'}}}\n",
		"on-failure: {do: roll-back}\n",
	},
	{"a retry below nothing", "rollback: the other bank\n        act", "retry: -1\n        act"},
	{"a time without a unit", "timeout: 1m}", "timeout: 60}"},
	{"no time at all", "timeout: 1m}", "timeout: 0s}"},
	{"longer than it may", "expected: 1m, timeout: 2m", "expected: 3m, timeout: 2m"},
	{"a phase twice", "phase: prove", "phase: look"},
	{"a phase without steps", "phase: prove\n    steps:", "phase: prove\n    steps: []\n  - phase: more\n    steps:"},
	{"skipped without a condition", "when: amount > 1\n        skipped", "skipped"},
	{"a poll without an end", ", until: 'choice.next == \"B\"'", ""},
	{"a poll without a pause", "every: 5s, ", ""},
	{"a message without a failure", "fail: 'choice.next == \"C\"', ", ""},
	{"a restart that is never seen to be over", "mode: [login], then", "mode: [], then"},
	{"half a comparison", ", got: store.free}", "}"},
	{"half a loop", "for: {each: bank, in: banks, where", "for: {each: bank, where"},
	{"a loop over what is no list of facts", "in: banks, where", "in: modules, where"},
	{"a name outside of its loop", "{step: Look, read: [self]}", "{step: 'Look at ${bank.bank}', read: [self]}"},
	{"a loop by a name that is taken", "each: bank, in", "each: standby, in"},
	{"a name that is computed and taken", "let: {twice", "let: {image"},
	{"a snapshot by a name that is none", "snapshot: before", "snapshot: before it"},
	{"both ends of a speed", "{step: Keep, snapshot: before}", "{step: Keep, speed: {to: 9600, back: true}}"},
	{"a speed that cannot be set", "{step: Keep, snapshot: before}", "{step: Keep, speed: {to: 4800}}"},
	{"a speed of another line", "{step: Keep, snapshot: before}", "{step: Keep, on: console, speed: {to: 19200}}"},
	{
		"a file sent by nothing",
		"{step: Keep, snapshot: before}",
		"{step: Keep, send: {file: image, protocol: pigeon, action: take, with: {name: x}}}",
	},
	{
		"a file sent without a receiver",
		"{step: Keep, snapshot: before}",
		"{step: Keep, send: {file: image, protocol: xmodem}}",
	},
	{"a file sent to nowhere", "{step: Keep, snapshot: before}", "{step: Keep, send: {file: image, protocol: tftp}}"},
	{
		"a file taken of an odd size",
		"{step: Keep, snapshot: before}",
		"{step: Keep, receive: {as: x, into: '${into}', protocol: tftp, most: lots, action: tell, with: {word: x}}}",
	},
	{"a target that is none", "{step: Keep, snapshot: before}", "{step: Keep, watch: ['pigeon:x']}"},
	{"nothing to do by hand", "{step: Keep, snapshot: before}", "{step: Keep, operator: ''}"},
}

func against(t *testing.T, text string) (warnings string, err error) {
	t.Helper()
	d, err := dialect.Parse("gate.yaml", []byte(gate))
	require.NoError(t, err)
	book, err := runbook.Parse("book.yaml", []byte(text))
	if err != nil {
		return "", err
	}
	odd, err := book.CheckAgainst(d)
	for _, w := range odd {
		warnings += w.Error() + "\n"
	}
	return warnings, err
}

// TestEveryBrokenRunbookIsComplainedOf holds the exact complaint about each.
func TestEveryBrokenRunbookIsComplainedOf(t *testing.T) {
	warnings, err := against(t, sound)
	require.NoError(t, err, "the sound one")
	assert.Equal(t, 1, strings.Count(warnings, "book.yaml:"), "%s", warnings)
	goldentest.Edited(t, "broken", sound, brokenBooks, func(text string) string {
		_, err := against(t, text)
		require.Error(t, err, "%s", text)
		return err.Error()
	})
}
