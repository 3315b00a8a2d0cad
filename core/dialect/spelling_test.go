package dialect

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"pilotrix/core/device"
)

const loose = `
dialect: loose
modes: [{mode: ready, prompt: '^> $'}]
commands: {shortened: 2, case: any, prefixes: [do, quietly], separators: [';']}
pending: [{pending: choice, after: '^favour\b', until: '^stow\b', says: the choice}]
restarts: ['^recommence\b']
dangers: [{pattern: '^wipe bank [AB]\b', says: empties a bank}, {pattern: '^(?:store|shelf) drop\b', says: removes a file}]
readings: [{reading: haul, command: look haul, facts: [{fact: haul.state, pattern: '(\w+)'}, {fact: haul.bank, pattern: '(.)'}]}]
actions: [{action: stow, command: stow, done: ok}]
busy: [{while: 'haul.state == "fetching"', says: 'bank ${haul.bank} is being written'}]
`

func TestADangerIsKnownHoweverItIsSpelt(t *testing.T) {
	d, err := Parse("loose.yaml", []byte(loose))
	require.NoError(t, err)
	for line, says := range map[string]string{
		"wipe bank B":               "empties a bank",
		"wi ba B":                   "may be taken for “wipe bank B”, which empties a bank",
		"WIPE Bank B":               "may be taken for “wipe bank B”, which empties a bank",
		"Wi BA B":                   "may be taken for “wipe bank B”, which empties a bank",
		"do wipe bank B":            "may be taken for “wipe bank B”, which empties a bank",
		"DO quietly wi ba B":        "may be taken for “wipe bank B”, which empties a bank",
		"look haul; wipe bank B":    "may be taken for “wipe bank B”, which empties a bank",
		"look haul ;do  wi  bank B": "may be taken for “wipe bank B”, which empties a bank",
		"sh dr x":                   "may be taken for “shelf drop x”, which removes a file",
		"look haul":                 "",
		"w b B":                     "", // shorter than the device takes
		"wiped bank B":              "",
		"do":                        "",
		"":                          "",
	} {
		assert.Equal(t, says, d.DangerOf(line), "%q", line)
	}
	assert.Equal(t, "may be short for more commands than can be told", d.DangerOf(strings.Repeat("st ", 30)))
	k := d.NewInterlocks()
	opened, _ := k.Typed("FAV b", noon)
	assert.Len(t, opened, 1, "what is pending is known however it is spelt, too")
	assert.Contains(t, k.Stops("rec"), "this is lost by it: the choice")
	assert.Empty(t, k.Stops("stow"))
	_, dealt := k.Typed("do sto", noon)
	assert.Len(t, dealt, 1)
}

func TestASpellingIsExactUnlessTheDialectSaysOtherwise(t *testing.T) {
	d, err := Parse("locks.yaml", []byte(locks))
	require.NoError(t, err)
	for _, line := range []string{"wi ba B", "WIPE BANK B", "do wipe bank B", "look; wipe bank B"} {
		assert.Empty(t, d.DangerOf(line), "%q", line)
	}
	assert.Equal(t, "empties a bank", d.DangerOf("wipe bank B"))
}

func TestWhatADeviceDoesBesideItsShellIsReported(t *testing.T) {
	d, err := Parse("loose.yaml", []byte(loose))
	require.NoError(t, err)
	known := &device.Facts{}
	assert.Empty(t, d.Does(known, noon), "nothing was read")
	known.Set(device.Fact{Name: "haul.state", Value: "fetching", At: noon})
	known.Set(device.Fact{Name: "haul.bank", Value: "B", At: noon})
	assert.Equal(t, []string{"bank B is being written, as read 20 s ago"}, d.Does(known, noon.Add(20*time.Second)))
	known.Set(device.Fact{Name: "haul.state", Value: "idle", At: noon})
	assert.Empty(t, d.Does(known, noon))
	assert.Empty(t, (*Dialect)(nil).Does(known, noon))
}

// TestQuotesAndSeparatorsAreTheDialects judges lines of a device that quotes words and has two separators.
func TestQuotesAndSeparatorsAreTheDialects(t *testing.T) {
	d, err := Parse("quoting.yaml", []byte(`
dialect: quoting
modes: [{mode: ready, prompt: '^> $'}]
commands: {separators: [';', '&&'], quotes: '"|'}
dangers: [{pattern: '^wipe bank\b', says: empties a bank}]
`))
	require.NoError(t, err)
	for line, held := range map[string]bool{
		`wipe bank B`: true, `"wipe" bank B`: true, `w"ip"e |bank| B`: true, `look && wipe bank B`: true, `look;"wipe bank" B`: true, `look "a;b"; wipe bank B`: true,
		`look "; wipe bank B`: true, `look "a`: false, `look "; wipe bank B"`: false, `look |&& wipe bank "B|`: false, `look & wipe bank B`: false, `"" wipe bank`: true, `;;wipe bank B`: true,
	} {
		assert.Equal(t, held, d.NewInterlocks().Stops(line) != "", line)
	}
}
