package dialect

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"pilotrix/core/device"
	"pilotrix/core/source"
)

const small = `
dialect: small
line: {speed: 9600}
catch:
  press: [{mode: countdown, key: " "}]
modes:
  - {mode: monitor, title: boot monitor, prompt: '^sill: $'}
  - {mode: countdown, text: 'a key stops it'}
  - {mode: login, prompt: ' login: $'}
  - {mode: user, prompt: ' ~ $'}
  - {mode: admin, prompt: ' ! $'}
moves:
  - {from: login, to: user, action: log-in}
  - {from: user, to: admin, action: rise}
dialogs:
  - {dialog: sure, ask: 'Sure\? $', answer: y}
  - {dialog: token, ask: 'token: $', answer: '${token}', secret: true}
readings:
  - reading: store
    in: [monitor]
    command: store
    fail: 'no store.*'
    facts:
      - {fact: store.free, pattern: 'free +([\d,]+) B', as: size}
      - {fact: store.release, pattern: 'release +(\S+)', as: release}
      - {fact: store.digest, pattern: 'digest +(.+)', as: digest}
      - {fact: store.broken, pattern: 'broken +(\S+)', default: ""}
    rows:
      - {list: store.files, pattern: '(?m)^  (?P<name>\S+) (?P<size>\d+)$'}
actions:
  - {action: log-in, in: [login], command: '${user}', to: user}
  - {action: rise, in: [user], command: rise, to: admin}
speed:
  - {in: [monitor], command: 'rate ${speed}', moved: moving}
dangers:
  - {pattern: '^store empty\b', says: removes everything}
secrets: ['^code> $']
`

func parse(t *testing.T) *Dialect {
	t.Helper()
	d, err := Parse("small.yaml", []byte(small))
	require.NoError(t, err)
	return d
}

func TestReadingsMakeFacts(t *testing.T) {
	reading := parse(t).Reading("store")
	when := time.Date(2026, 3, 2, 14, 0, 0, 0, time.UTC)
	facts, err := reading.Parse("  a.brm 12\n  b.brm 34\n  free   8,388,608 B\nrelease v4.2.1\ndigest AB:CD ef\n",
		"store", when, &device.Facts{})
	require.NoError(t, err)
	byName := map[string]device.Fact{}
	for _, f := range facts {
		assert.Equal(t, "store", f.Source)
		assert.Equal(t, when, f.At)
		byName[f.Name] = f
	}
	assert.Equal(t, 8388608.0, byName["store.free"].Value)
	assert.Equal(t, "4.2.1", byName["store.release"].Value.(device.Release).String())
	assert.Equal(t, "abcdef", byName["store.digest"].Value)
	assert.Equal(t, "", byName["store.broken"].Value, "absent, and that is allowed")
	assert.Equal(t, []map[string]any{{"name": "a.brm", "size": "12"}, {"name": "b.brm", "size": "34"}},
		byName["store.files"].Value)

	_, err = reading.Parse("something else\n", "store", when, &device.Facts{})
	assert.ErrorContains(t, err, "says no store.free")
	_, err = reading.Parse("no store in this one\n", "store", when, &device.Facts{})
	assert.ErrorContains(t, err, "no store in this one")
	_, err = reading.Parse("free 1 B\nrelease newest\ndigest x\n", "store", when, &device.Facts{})
	assert.ErrorContains(t, err, "newest")
}

func TestMovesAreFoundOverSeveralModes(t *testing.T) {
	d := parse(t)
	assert.Equal(t, "log-in", d.MoveFrom("login", "admin").Action)
	assert.Equal(t, "rise", d.MoveFrom("user", "admin").Action)
	assert.Nil(t, d.MoveFrom("admin", "login"))
	assert.Nil(t, d.MoveFrom("monitor", "user"))
}

func TestWhatIsSecretAndWhatIsDangerous(t *testing.T) {
	d := parse(t)
	for _, prompt := range []string{"password: ", "Enter passphrase for key: ", "PIN: ", "code> ", "token: "} {
		assert.True(t, d.AsksSecret(prompt), prompt)
	}
	for _, prompt := range []string{"sill: ", "hollow-rtr1 login: ", "the password was changed", "spinning: up"} {
		assert.False(t, d.AsksSecret(prompt), prompt)
	}
	assert.True(t, (*Dialect)(nil).AsksSecret("Password: "), "without a dialect too")
	assert.Equal(t, "removes everything", d.DangerOf("  store empty "))
	assert.Empty(t, d.DangerOf("store emptyish"))
	key, known := d.KeyFor("countdown")
	assert.True(t, known)
	assert.Equal(t, " ", key)
	assert.NotNil(t, d.SpeedIn("monitor"))
	assert.Nil(t, d.SpeedIn("user"))
	assert.True(t, d.Knows("store"))
	assert.True(t, d.Knows("store.free"))
	assert.False(t, d.Knows("store.fre"))
}

func TestRowsHaveKindsAndWordsAndAreJoined(t *testing.T) {
	d, err := Parse("units.yaml", []byte(`
dialect: units
modes: [{mode: ready, prompt: '^> $'}]
releases: {later: [p]}
readings:
  - reading: roles
    command: roles
    rows:
      - list: units
        pattern: '(?m)^(?P<unit>\d) (?P<state>\w+) (?P<release>\S+)$'
        columns: {unit: {as: number}, state: {words: {runs: running}}, release: {as: release}}
  - reading: memory
    command: memory
    rows:
      - {list: units, pattern: '(?m)^unit (?P<unit>\d): (?P<free>.+)$', join: unit, columns: {unit: {as: number}, free: {as: size}}}
  - {reading: mood, command: mood, facts: [{fact: mood, pattern: 'is (\w+)', words: {fine: good}}]}
`))
	require.NoError(t, err)
	var facts device.Facts
	at := time.Now()
	read := func(name, output string) {
		t.Helper()
		all, err := d.Reading(name).Parse(output, name, at, &facts)
		require.NoError(t, err)
		for _, f := range all {
			facts.Set(f)
		}
	}
	read("roles", "1 runs 4.2p1\n2 waits 4.2\n")
	read("memory", "unit 2: 8 KiB\nunit 1: 4 KiB\nunit 3: 1 KiB\n")
	units, _ := facts.Get("units")
	rows := units.Value.([]map[string]any)
	require.Len(t, rows, 3)
	assert.Equal(t, "running", rows[0]["state"], "the device's word, in ours")
	assert.Equal(t, 4096.0, rows[0]["free"], "of the row with the same unit, whatever its place")
	assert.Equal(t, "waits", rows[1]["state"])
	assert.Equal(t, map[string]any{"unit": 3.0, "free": 1024.0}, rows[2],
		"one that the other reading does not have stays")
	assert.Positive(t, rows[0]["release"].(device.Release).Compare(rows[1]["release"].(device.Release)),
		"in the maker's own order")
	assert.Equal(t, []map[string]string{{"unit": "3", "free": "1024"}}, TextRows(rows)[2:])
	read("mood", "it is fine")
	mood, _ := facts.Get("mood")
	assert.Equal(t, "good", mood.Text)

	_, err = d.Reading("roles").Parse("1 runs newest\n", "roles", at, &facts)
	assert.ErrorContains(t, err, `row 1: release: "newest" is no release`)
}

func TestAGroupThatTookNoPartSaysNothing(t *testing.T) {
	d, err := Parse("d.yaml",
		[]byte("dialect: d\nmodes: [{mode: m, prompt: x}]\nreadings: [{reading: r, command: c, facts: [{fact: a, pattern: 'a(b)?'}, {fact: e, pattern: 'e(f)?', default: none}]}]\n"))
	require.NoError(t, err)
	_, err = d.Reading("r").Parse("a e", "c", time.Now(), &device.Facts{})
	assert.ErrorContains(t, err, "says no a")
	facts, err := d.Reading("r").Parse("ab e", "c", time.Now(), &device.Facts{})
	require.NoError(t, err)
	assert.Equal(t, "none", facts[1].Text)
}

func TestPatternsAreHeldAgainstEachLine(t *testing.T) {
	const answer = "kept as it was\nnothing kept: no room\ndone\n"
	for pattern, want := range map[source.Pattern]string{
		"^nothing kept: .*$":   "nothing kept: no room",
		"^kept$":               "",
		"was.nothing":          "",
		`(?s)was.nothing`:      "was\nnothing",
		`was\nnothing`:         "was\nnothing",
		`(?m)^done$`:           "done",
		"^(done|nothing kept)": "nothing kept",
	} {
		assert.Equal(t, want, matcher(pattern).Find(answer), pattern)
		assert.Equal(t, want != "", matcher(pattern).Matches(answer), pattern)
	}
	assert.Empty(t, matcher("").Find(answer))
	assert.False(t, matcher("").Matches(answer))
}

func TestAnActionMayBeDoneInSeveralWays(t *testing.T) {
	d, err := Parse("ways.yaml", []byte(`
dialect: ways
modes: [{mode: ready, prompt: '^> $'}]
actions:
  - action: fetch
    with: [server]
    done: begun
    dialogs: [{dialog: sure, ask: 'sure', answer: y}]
    by:
      tftp: {with: [name], command: 'get ${server} ${name}'}
      xmodem: {command: 'take ${server}', done: ready}
`))
	require.NoError(t, err)
	fetch := d.Action("fetch")
	assert.Equal(t, []string{"tftp", "xmodem"}, fetch.WayNames())
	tftp, err := fetch.Way("tftp")
	require.NoError(t, err)
	assert.Equal(t, []string{"server", "name"}, tftp.With, "what they share and its own")
	assert.True(t, tftp.Done.Matches("begun"))
	assert.Len(t, tftp.Asks, 1)
	xmodem, err := fetch.Way("xmodem-1k")
	require.NoError(t, err, "a variant is done as its protocol is")
	assert.True(t, xmodem.Done.Matches("ready"))
	_, err = fetch.Way("pigeon")
	assert.ErrorContains(t, err, `action "fetch" is not done by "pigeon"; there are tftp, xmodem`)
	_, err = fetch.Way("")
	assert.ErrorContains(t, err, "say by which")
}

func TestPromptsHaveNamedGroups(t *testing.T) {
	d, err := Parse("prompts.yaml",
		[]byte("dialect: p\nmodes: [{mode: user, prompt: '^(?P<unit>\\d):(?P<host>\\w+)> $'}]\n"))
	require.NoError(t, err)
	assert.Equal(t, map[string]any{"unit": "2", "host": "quay"}, d.PromptGroups("user", "2:quay> "))
	assert.Empty(t, d.PromptGroups("user", "quay> "))
	assert.True(t, d.Knows("prompt.unit"))
	assert.False(t, d.Knows("prompt.slot"))
}

func FuzzParse(f *testing.F) {
	f.Add([]byte(small))
	f.Add([]byte("dialect: [&a *a]"))
	f.Fuzz(func(t *testing.T, data []byte) {
		if d, err := Parse("fuzz.yaml", data); err == nil {
			assert.NotEmpty(t, d.Modes)
		}
	})
}

// TestNothingIsKnownOfAnyDevice holds the generic dialect to nothing that a device writes.
func TestNothingIsKnownOfAnyDevice(t *testing.T) {
	d := Generic()
	assert.Equal(t, "generic", d.Dialect)
	assert.Empty(t, d.ActionNames())
	assert.Empty(t, d.ReadingNames())
	assert.Empty(t, d.IdentityFact())
	for _, line := range []string{"", "> ", "mare-gw1 // ", "# ", "\x00", "\u00ff", "login: "} {
		for _, mode := range d.Modes {
			assert.False(t, mode.Prompt.RE().MatchString(line), "%q", line)
		}
	}
}
