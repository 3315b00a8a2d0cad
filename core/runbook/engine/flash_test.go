package engine_test

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
	"testing/synctest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"pilotrix/core/dialect"
	"pilotrix/core/event"
	"pilotrix/core/runbook"
	"pilotrix/core/runbook/engine"
	"pilotrix/core/sense"
)

const flashText = `
dialect: flashed
modes: [{mode: ready, prompt: '^> $'}, {mode: up, text: '^up'}]
readings:
  - {reading: crc, command: 'crc ${hex(burn.write_from)} ${hex(burn.size)}', facts: [{fact: burned.crc32, pattern: '(\w{8})', as: digest}]}
  - {reading: release, command: release, facts: [{fact: running.release, pattern: '(\S+)', as: release}]}
actions:
  - {action: erase, command: 'erase ${hex(burn.erase_from)} ${hex(burn.erase_last)}', done: erased, danger: erases}
  - {action: copy, command: 'copy ${hex(burn.write_from)} ${hex(burn.size)}', done: copied, rate: 1 kB}
  - {action: look, command: look, done: looked, changes: false}
dangers: [{pattern: '^(erase|copy)', says: changes the flash}]
flash: {base: 0x1000, layout: '4x256,4x64', known: ['boot=0+256', 'system=256+768', 'notes=1024+64'], protected: [boot]}
`

const burnBook = `
runbook: burn
inputs:
  - {input: image, kind: image}
  - {input: part, kind: text, default: system}
phases:
  - phase: reckon
    rehearse: true
    steps: [{step: Reckon, reckon: {part: '${part}', file: image}}]
  - phase: burn
    steps:
      - {step: Erase, hold: 'Erases ${burn.erased}.', irreversible: true, erase: {part: '${part}', file: image, action: erase}}
      - step: Write
        write: {part: '${part}', file: image, action: copy, of: image, verify: {read: [crc], what: CRC-32, want: image.crc32, got: burned.crc32, proves: it is there}}
`

// runBurn carries burnBook out with a file of that size, and returns what was typed.
func runBurn(t *testing.T, size int, part string, c *echoing, rehearse bool) (result engine.Result) {
	t.Helper()
	path := filepath.Join(t.TempDir(), "x.img")
	require.NoError(t, os.WriteFile(path, make([]byte, size), 0o600))
	synctest.Test(t, func(t *testing.T) {
		d, err := dialect.Parse("flashed.yaml", []byte(flashText))
		require.NoError(t, err)
		book, err := runbook.Parse("burn.yaml", []byte(burnBook))
		require.NoError(t, err)
		p, err := book.Prepare(d, map[string]string{"image": path, "part": part}, runbook.Kit{})
		require.NoError(t, err)
		if rehearse {
			require.NoError(t, p.Rehearse())
		}
		c.t, c.view, c.stops = t, sense.State{Mode: "ready", AtPrompt: true}, d.DangerOf
		result = engine.New(p, c).Execute(t.Context())
	})
	return result
}

func TestNobodyTypesAnAddress(t *testing.T) {
	c := &echoing{
		decide: func(event.Ask) string { return engine.Approve },
		answers: map[string][]string{
			"erase 1100 12ff": {"erased"},
			"copy 1100 12c":   {"copied"},
			"crc 1100 12c":    {"af8f2b4c"},
		},
	}
	result := runBurn(t, 300, "system", c, false)
	require.Equal(t, event.Failed, result.Outcome, "the checksum is another's: %s", result.Message)
	assert.Contains(t, result.Message, "CRC-32: want")
	assert.Equal(t, []string{"erase 1100 12ff", "copy 1100 12c", "crc 1100 12c"}, c.typed)
	holds := holdsOf(c)
	require.Len(t, holds, 1, "what was erased for is not asked about twice")
	assert.Contains(t, holds[0], "Erases 0x1100 to 0x12ff, 512 B, 512 B.")
}

func holdsOf(c *echoing) (texts []string) {
	for _, e := range c.events {
		if ask, ok := e.(event.Ask); ok && ask.Form == event.FormHold {
			texts = append(texts, ask.Text)
		}
	}
	return texts
}

func TestABurnThatDoesNotFitTypesNothing(t *testing.T) {
	for name, c := range map[string]struct {
		size int
		part string
		want string
	}{
		"too large":   {769, "system", "1 B too many"},
		"protected":   {10, "boot", "part boot is protected"},
		"no such":     {10, "sistem", `no part "sistem"`},
		"empty":       {0, "system", "nothing to write"},
		"not its own": {10, "", "Reckon"},
	} {
		e := &echoing{}
		result := runBurn(t, c.size, c.part, e, false)
		assert.Equal(t, event.Failed, result.Outcome, name)
		assert.Contains(t, result.Message, c.want, name)
		assert.Empty(t, e.typed, name)
	}
}

func TestARehearsalEndsBeforeWhatLasts(t *testing.T) {
	c := &echoing{}
	result := runBurn(t, 300, "system", c, true)
	require.Equal(t, event.Done, result.Outcome, result.Message)
	assert.Contains(t, result.Message, "rehearsed: what follows was not done; nothing was changed")
	assert.Empty(t, c.typed)
}

func TestARehearsalIsHeldToWhatItPromises(t *testing.T) {
	d, err := dialect.Parse("flashed.yaml", []byte(flashText))
	require.NoError(t, err)
	for change, want := range map[string]string{
		"  - phase: burn\n    steps:":                       "  - phase: burn\n    rehearse: true\n    steps:",
		"  - phase: reckon\n    rehearse: true\n    steps:": "  - phase: first\n    steps: [{step: Copy it, hold: x, act: {action: copy}}]\n  - phase: reckon\n    rehearse: true\n    steps:",
	} {
		book, err := runbook.Parse("burn.yaml", []byte(strings.Replace(burnBook, change, want, 1)))
		require.NoError(t, err)
		_, err = book.CheckAgainst(d)
		require.Error(t, err, want)
		assert.Regexp(t,
			`“Erase” changes what the device keeps, and its phase is a rehearsal|“Reckon” is rehearsed behind “Copy it”`,
			err.Error())
	}
	book, err := runbook.Parse("burn.yaml", []byte(burnBook))
	require.NoError(t, err)
	late := &runbook.Prepared{Book: book}
	require.NoError(t, late.From("burn"))
	require.ErrorContains(t, late.Rehearse(), "the run would begin at “burn”, behind what is rehearsed")
	none, err := runbook.Parse("burn.yaml", []byte(strings.Replace(burnBook, "    rehearse: true\n", "", 1)))
	require.NoError(t, err)
	assert.ErrorContains(t, (&runbook.Prepared{Book: none}).Rehearse(), "has nothing to rehearse")
}

// TestAWriteSaysHowItIsSeen: no loader's done is enough.
func TestAWriteSaysHowItIsSeen(t *testing.T) {
	d, err := dialect.Parse("flashed.yaml", []byte(flashText))
	require.NoError(t, err)
	text := burnBook[:strings.Index(burnBook, ", of: image, verify")] + "}\n"
	book, err := runbook.Parse("burn.yaml", []byte(text))
	if err == nil {
		_, err = book.CheckAgainst(d)
	}
	assert.ErrorContains(t, err, "verify is missing")
}
