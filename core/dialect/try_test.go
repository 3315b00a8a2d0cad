package dialect

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// tried holds the whole small dialect against a text, and gives each line with what was made of it.
func tried(t *testing.T, text string) (made map[string]string, lines []Tried, unused []string) {
	t.Helper()
	d, err := Parse("small.yaml", []byte(whole))
	require.NoError(t, err)
	trial := d.NewTrial()
	for line := range strings.Lines(text) {
		trial.Line(line)
	}
	lines, unused = trial.Result()
	made = map[string]string{}
	for _, line := range lines {
		made[line.Line] = strings.Join(line.Matches, " · ")
	}
	return made, lines, unused
}

func TestATrialSaysWhatEachLineIs(t *testing.T) {
	made, lines, unused := tried(t, strings.Join([]string{
		"a key stops it within 3 s", "sill: store", "  a.brm 12", "  b.brm 34", "free 8,388,608 B", "serial X1",
		"*log link up", "(more)", "sill: drop a.brm", "sure of it: gone", "sill: fly", "Sure? y", "quay login: harbour",
		"quay ~ ", "nobody knows this", "\uFFFD\uFFFD\uFFFD x", "sill: store empty",
	}, "\r\n"))
	for line, want := range map[string]string{
		"a key stops it within 3 s": "mode countdown",
		"sill: store":               "prompt monitor · reading store",
		"  a.brm 12":                "row store.files[0]",
		"  b.brm 34":                "row store.files[1]",
		"free 8,388,608 B":          "fact store.free = 8388608",
		"serial X1":                 "fact store.serial = X1",
		"*log link up":              `noise ^\*log`,
		"(more)":                    "pager",
		"sill: drop a.brm":          "prompt monitor · action drop",
		"sure of it: gone":          "done",
		"sill: fly":                 "prompt monitor",
		"Sure? y":                   "question sure",
		"quay login: harbour":       "prompt login · action log-in",
		"quay ~ ":                   "prompt user",
		"nobody knows this":         "",
		"\uFFFD\uFFFD\uFFFD x":      "garble at another speed",
		"sill: store empty":         "prompt monitor · danger removes everything",
	} {
		assert.Equal(t, want, made[line], line)
	}
	for _, line := range lines {
		assert.Equal(t, line.Line != "nobody knows this", line.Known(), line.Line)
		assert.Empty(t, line.Faults, line.Line)
	}
	assert.Equal(t, []string{"question token", "reading release", "action fetch http", "action fetch tftp"}, unused)
}

func TestATrialSaysWhatWasLookedForInVain(t *testing.T) {
	_, lines, _ := tried(t, "sill: store\n  a.brm 12\nfree lots B\nsill: ")
	require.Len(t, lines[0].Faults, 2)
	assert.Contains(t, lines[0].Faults[0], `store.free: "lots" is no size`)
	assert.Contains(t, lines[0].Faults[1], `no store.serial (serial +(\S+))`)
	assert.Equal(t, "store", lines[2].Answer, "a line of an answer is known though no fact is made of it")
	_, lines, _ = tried(t, "sill: store\nsill: ")
	assert.Contains(t, lines[0].Faults[0], "nothing was answered")
}

// TestATrialSaysWhatWasNearlyMatched has a word that nobody foresaw, other capitals, a row that is a duplicate, and a
// table whose number of rows is another.
func TestATrialSaysWhatWasNearlyMatched(t *testing.T) {
	d, err := Parse("ports.yaml", []byte(`
dialect: ports
modes: [{mode: ready, prompt: '^> $'}]
readings:
  - reading: ports
    command: ports
    facts: [{fact: listed.number, pattern: '(?m)^(\d+) ports$', as: number}, {fact: listed.speed, pattern: 'speed of (\d+)', default: '0'}]
    rows: [{list: ports, key: [port], count: listed.number, pattern: '(?m)^ +(?P<port>\d+) +(?P<kind>copper|fibre) +(?P<state>up|down) *$'}]
`))
	require.NoError(t, err)
	for text, want := range map[string][]string{
		"  1 copper up\n  2 copper down\n2 ports\n":          nil,
		"  1 copper up\n  2 copper testing\n2 ports\n":       {"“2 copper testing” is nearly one: it fits up to “2 copper”", "the answer has 1 row of ports, and says that there are 2"},
		"  1 copper up\n  2 Copper Down\n2 ports\n":          {"“2 Copper Down” is nearly one: but for capitals"},
		"  1 copper up\n  1 copper up\n2 ports\n":            {"ports has port 1 twice"},
		"  1 copper up\n  2 fibre down  \n3 ports\n":         {"the answer has 2 rows of ports, and says that there are 3"},
		"  1 copper up\n2 PORTS\n":                           {"no listed.number", "“2 PORTS” is nearly one: but for capitals"},
		"  1 copper up\n  a note of the device's\n1 ports\n": nil,
	} {
		trial := d.NewTrial()
		for line := range strings.Lines("> ports\n" + text + "> ") {
			trial.Line(line)
		}
		lines, _ := trial.Result()
		said := strings.Join(lines[0].Faults, "\n")
		if want == nil {
			assert.Empty(t, said, text)
		}
		for _, words := range want {
			assert.Contains(t, said, words, text)
		}
	}
}
