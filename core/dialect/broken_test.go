package dialect

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"pilotrix/core/source/goldentest"
)

// whole has a bit of everything, so that each part of it can be broken.
const whole = `dialect: small
line: {speed: 9600, speeds: [9600, 19200], framing: 8N1, clear: "\x15"}
catch:
  press: [{mode: countdown, key: " "}]
modes:
  - {mode: monitor, title: boot monitor, prompt: '^sill: $'}
  - {mode: countdown, text: 'a key stops it'}
  - {mode: login, prompt: ' login: $'}
  - {mode: user, prompt: '^(?P<host>\w+) ~ $'}
moves:
  - {from: login, to: user, action: log-in}
dialogs:
  - {dialog: sure, ask: 'Sure\? $', answer: y}
  - {dialog: token, ask: 'token: $', operator: true}
noise: ['^\*log ']
pager: {pattern: '\(more\)$'}
identity: {read: store, fact: store.serial}
readings:
  - reading: store
    in: [monitor]
    command: store
    facts:
      - {fact: store.free, pattern: 'free +(\S+) B', as: size}
      - {fact: store.serial, pattern: 'serial +(\S+)'}
      - {fact: store.broken, pattern: 'broken +(\S+)', default: ""}
    rows:
      - {list: store.files, pattern: '(?m)^  (?P<name>\S+) (?P<size>\d+)$', columns: {size: {as: size}}, join: name}
  - reading: release
    command: release
    facts:
      - {fact: running.release, pattern: '(\S+)', as: release}
actions:
  - {action: log-in, in: [login], command: '${user}', to: user}
  - {action: drop, in: [monitor], with: [name], command: 'drop ${name}', done: gone, fail: no file, timeout: 20s}
  - action: fetch
    done: begun
    by:
      tftp: {with: [server], command: 'get ${server}'}
      http: {with: [path], command: 'load ${path}'}
speed:
  - {in: [monitor], command: 'rate ${speed}', moved: moving}
dangers:
  - {pattern: '^store empty\b', says: removes everything}
pending:
  - {pending: choice, after: '^favour', until: '^stow', within: 5m, says: the choice}
restarts: ['^again\b']
fetch: 90 kB
image:
  - {name: release, pattern: 'release: (\S+)'}
secrets: ['^code> $']
`

// broken are edits of it, each of which breaks one thing.
var broken = []goldentest.Edit{
	{"the name is missing", "dialect: small\n", ""},
	{"the name is empty", "dialect: small", "dialect: ''"},
	{"an unknown key", "pager: {pattern", "pagers: {pattern"},
	{"a mistyped key", "speed: 9600, speeds", "sped: 9600, speeds"},
	{"a word where a number is wanted", "speed: 9600, speeds", "speed: fast, speeds"},
	{"a speed of nothing", "speed: 9600, speeds", "speed: 0, speeds"},
	{"a speed below nothing in a list", "[9600, 19200]", "[9600, -19200]"},
	{"unknown framing", "framing: 8N1", "framing: 9X7"},
	{"unknown flow control", "framing: 8N1", "flow: some"},
	{"unknown echo", "framing: 8N1", "echo: loud"},
	{"a tab that does something else", "framing: 8N1", "tab: jumps"},
	{"ends without the Enter", "framing: 8N1", "ends: ';'"},
	{"quotes in a list", "dialect: small\n", "dialect: small\ncommands: {quotes: ['x']}\n"},
	{"unknown character set", "framing: 8N1", "charset: utf-7"},
	{"a size that is none", "framing: 8N1", "size: wide"},
	{"no modes", "modes:\n", "modes: []\nolder:\n"},
	{"a mode twice", "{mode: login,", "{mode: user,"},
	{"a mode that shows itself by nothing", "{mode: countdown, text: 'a key stops it'}", "{mode: countdown}"},
	{"a mode without a name", "{mode: countdown, text", "{text"},
	{"a bad pattern of a prompt", "'^sill: $'", "'^sill: ($'"},
	{"a prompt that matches everything", "'^sill: $'", "'.*'"},
	{"a prompt with a line end", "'^sill: $'", `'^sill\n: $'`},
	{"an empty pattern", "'a key stops it'", "''"},
	{"a key for a mode that is not there", "{mode: countdown, key", "{mode: countdwn, key"},
	{"a key without the key", "mode: countdown, key: \" \"", "mode: countdown"},
	{"a move from nowhere", "{from: login,", "{from: logn,"},
	{"a move by an unknown action", "action: log-in}", "action: climb}"},
	{"a move by an action with parameters", "action: log-in}", "action: drop}"},
	{"a move by an action with several ways", "action: log-in}", "action: fetch}"},
	{"a move to another mode than its action's", "to: user, action: log-in}", "to: monitor, action: log-in}"},
	{"a question without an answer", "answer: y}", "because: why}"},
	{"a question twice", "{dialog: token,", "{dialog: sure,"},
	{"a question for the operator with an answer", "operator: true}", "operator: true, answer: x}"},
	{"noise that is everything", `['^\*log ']`, "['.*']"},
	{"a pager without its pattern", `pager: {pattern: '\(more\)$'}`, "pager: {key: q}"},
	{"an identity by an unknown reading", "identity: {read: store,", "identity: {read: shop,"},
	{"an identity by a fact that is not read", "fact: store.serial}\nreadings", "fact: store.number}\nreadings"},
	{"a reading twice", "reading: release\n", "reading: store\n"},
	{"a reading in an unknown mode", "in: [monitor]\n    command: store", "in: [monitr]\n    command: store"},
	{"a reading without a command", "    command: release\n", ""},
	{"a broken expression in a command", "command: release", "command: '${a +}'"},
	{"an expression without its end", "command: release", "command: '${a'"},
	{"a fact without a group", `'serial +(\S+)'`, `'serial'`},
	{"a fact without a name", "{fact: store.serial, ", "{"},
	{"a name with a blank", "fact: store.serial, pattern", "fact: store serial, pattern"},
	{"an unknown kind of fact", "as: size}\n      - {fact: store.serial", "as: weight}\n      - {fact: store.serial"},
	{"a default of another kind", `default: ""`, "default: none, as: size"},
	{
		"a fact of two kinds",
		"fact: running.release, pattern: '(\\S+)', as: release",
		"fact: store.free, pattern: '(\\S+)', as: number",
	},
	{"a fact inside another", "fact: running.release,", "fact: store.free.bytes,"},
	{"rows without named groups", `(?P<name>\S+) (?P<size>\d+)`, `\S+`},
	{"a column that is not there", "columns: {size:", "columns: {weight:"},
	{"rows joined by what is not there", "join: name", "join: slot"},
	{"a success that is a failure, too", "done: gone, fail: no file", "done: 'gone: no file is left', fail: no file"},
	{"an action since what is no release", "done: gone, fail", "done: gone, since: then, fail"},
	{"an action until what is no release", "done: gone, fail", "done: gone, until: then, fail"},
	{"an action that no release has", "done: gone, fail", "done: gone, since: '5.4', until: '5.2', fail"},
	{"what is done instead of what is always there", "done: gone, fail", "done: gone, instead: dropped by hand, fail"},
	{"a deadline by a fact that is not read", "within: 5m, says", "left: choice.left, says"},
	{"a deadline that begins with what it does not know", "within: 5m, says", "begins: morning, says"},
	{"an action twice", "action: drop, in", "action: log-in, in"},
	{"an action without a command", ", command: 'drop ${name}'", ""},
	{"a way without a command", ", command: 'get ${server}'", ""},
	{"an action that leads nowhere", "command: '${user}', to: user", "command: '${user}', to: usr"},
	{"a time without a unit", "timeout: 20s", "timeout: 20"},
	{"a time below zero", "timeout: 20s", "timeout: -20s"},
	{"progress without numbers", "timeout: 20s", "progress: half"},
	{"a speed command without the speed", "'rate ${speed}'", "'rate fast'"},
	{
		"a danger without words",
		"{pattern: '^store empty\\b', says: removes everything}",
		"{pattern: '^store empty\\b'}",
	},
	{"a pending thing without its end", "until: '^stow', ", ""},
	{"a pending thing in no time", "within: 5m", "within: 0s"},
	{"a rate that is none", "fetch: 90 kB", "fetch: quickly"},
	{"a header without a group", `'release: (\S+)'`, "'release'"},
	{"a header of no place", `'release: (\S+)'}`, `'release: (\S+)', in: tail}`},
	{"a list where a text is wanted", "title: boot monitor", "title: [boot, monitor]"},
	{"a text where a list is wanted", "in: [monitor]\n    command: store", "in: monitor\n    command: store"},
	{"nothing where something is wanted", "restarts: ['^again\\b']", "restarts:"},
	{"an action that does not say its success", "done: gone, ", ""},
	{"no YAML", "noise: ['^", "noise: [['^"},
}

// TestEveryBrokenDialectIsComplainedOf holds the exact complaint about each.
func TestEveryBrokenDialectIsComplainedOf(t *testing.T) {
	d, err := Parse("small.yaml", []byte(whole))
	require.NoError(t, err, "the whole one")
	assert.Empty(t, d.Warnings())
	goldentest.Edited(t, "broken", whole, broken, func(text string) string {
		_, err := Parse("small.yaml", []byte(text))
		require.Error(t, err)
		return err.Error()
	})
}

// odd are edits that are allowed, and said.
var odd = []goldentest.Edit{
	{"a usual speed that cannot be set", "speed: 9600, speeds", "speed: 4800, speeds"},
	{
		"a reading that makes nothing",
		"    facts:\n      - {fact: running.release, pattern: '(\\S+)', as: release}\n",
		"",
	},
	{"a parameter that is typed nowhere", "with: [path]", "with: [path, name]"},
}

func TestWhatIsOddIsSaid(t *testing.T) {
	goldentest.Edited(t, "odd", whole, odd, func(text string) (said string) {
		d, err := Parse("small.yaml", []byte(text))
		require.NoError(t, err)
		for _, w := range d.Warnings() {
			said += w.Error()
		}
		return said
	})
}

func TestAllThatIsWrongIsToldAtOnce(t *testing.T) {
	text := strings.NewReplacer("'^sill: $'", "'^sill: ($'", "action: log-in}", "action: climb}", "timeout: 20s",
		"timeout: 20", "fetch: 90 kB", "fetch: soon").
		Replace(whole)
	_, err := Parse("small.yaml", []byte(text))
	require.Error(t, err)
	assert.Equal(t, 4, strings.Count(err.Error(), "small.yaml:"), "%v", err)
}
