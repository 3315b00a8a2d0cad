package dialect

import (
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"pilotrix/core/device"
)

const rowText = `
dialect: rows
modes: [{mode: ready, prompt: '^> $'}]
readings:
  - {reading: units, command: units, rows: [{list: units, steady: true, pattern: '(?m)^(?P<unit>\d+) (?P<state>\w+)$'}]}
  - {reading: banks, command: banks, rows: [{list: banks, key: [unit, bank], pattern: '(?m)^(?P<unit>\d+) (?P<bank>\w) (?P<state>\w+)$'}]}
  - {reading: files, command: files, rows: [{list: files, pattern: '(?m)^(?P<name>\S+) (?P<size>\d+)$', empty: true}]}
  - {reading: sums, command: sums, rows: [{list: files, join: name, pattern: '(?m)^(?P<name>\S+) sum (?P<md5>\w+)$'}]}
  - {reading: log, command: log, rows: [{list: log, pattern: '(?m)^(?P<line>.+)$'}]}
`

// TestARowThatStandsThereTwiceIsNoAnswer draws lists, and repeats a row of each, as it is or with something else in it.
func TestARowThatStandsThereTwiceIsNoAnswer(t *testing.T) {
	d, err := Parse("rows.yaml", []byte(rowText))
	require.NoError(t, err)
	rows := map[string]func(n int, other string) string{
		"units": func(n int, other string) string { return fmt.Sprintf("%d here%s", n, other) },
		"banks": func(n int, other string) string { return fmt.Sprintf("%d %c runs%s", n/2, 'A'+n%2, other) },
		"files": func(n int, other string) string { return fmt.Sprintf("f%d %d%d", n, n, len(other)) },
		"sums":  func(n int, other string) string { return fmt.Sprintf("f%d sum ab%s", n, other) },
	}
	for seed := range uint64(400) {
		random := rand.New(rand.NewPCG(seed, 2))
		for name, row := range rows {
			var lines []string
			for n := range 1 + random.IntN(12) {
				lines = append(lines, row(n, ""))
			}
			parse := func(lines []string) error {
				_, err := d.Reading(name).Parse(strings.Join(lines, "\n")+"\n", name, noon, &device.Facts{})
				return err
			}
			require.NoError(t, parse(lines), "%s: %q", name, lines)
			again := row(random.IntN(len(lines)), []string{"", "x"}[random.IntN(2)])
			at := random.IntN(len(lines) + 1)
			lines = append(lines[:at:at], append([]string{again}, lines[at:]...)...)
			require.ErrorContains(t, parse(lines), "twice", "%s: %q", name, lines)
		}
	}
	_, err = d.Reading("log").Parse("same\nsame\n", "log", noon, &device.Facts{})
	assert.NoError(t, err, "a list without a key has lines, and no names")
}

func TestASteadyListHasNoRowThatWasNotThere(t *testing.T) {
	d, err := Parse("rows.yaml", []byte(rowText))
	require.NoError(t, err)
	list := func(names ...string) map[string][]map[string]any {
		var rows []map[string]any
		for _, name := range names {
			rows = append(rows, map[string]any{"unit": name})
		}
		return map[string][]map[string]any{"units": rows}
	}
	units := d.Reading("units")
	assert.NoError(t, units.Same(nil, list("1", "9")), "the first time")
	assert.NoError(t, units.Same(list("1", "2"), list("2")), "one may be away")
	assert.EqualError(t, units.Same(list("1", "2"), list("1", "9")),
		"units has unit 9, which was not there when it was first read: unit 1; unit 2")
	assert.NoError(t, d.Reading("files").Same(list("1"), list("9")), "files come and go")
}
