package dialect

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"pilotrix/core/device"
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
  - {from: login, to: user, by: log-in}
  - {from: user, to: admin, by: rise}
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
      - {fact: store.broken, pattern: 'broken +(\S+)', absent: ""}
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
	facts, err := reading.Parse("  a.brm 12\n  b.brm 34\n  free   8,388,608 B\nrelease v4.2.1\ndigest AB:CD ef\n", "store", when)
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
	assert.Equal(t, []map[string]any{{"name": "a.brm", "size": "12"}, {"name": "b.brm", "size": "34"}}, byName["store.files"].Value)

	_, err = reading.Parse("something else\n", "store", when)
	assert.ErrorContains(t, err, "says no store.free")
	_, err = reading.Parse("no store in this one\n", "store", when)
	assert.ErrorContains(t, err, "no store in this one")
	_, err = reading.Parse("free 1 B\nrelease newest\ndigest x\n", "store", when)
	assert.ErrorContains(t, err, "newest")
}

func TestMovesAreFoundOverSeveralModes(t *testing.T) {
	d := parse(t)
	assert.Equal(t, "log-in", d.MoveFrom("login", "admin").By)
	assert.Equal(t, "rise", d.MoveFrom("user", "admin").By)
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

// TestComplaints breaks the small dialect in one place each; the complaint names that place.
func TestComplaints(t *testing.T) {
	for name, c := range map[string]struct{ from, to, says, at string }{
		"prompt pattern":     {`'^sill: $'`, `'^sill: ($'`, "bad pattern: missing closing )", "small.yaml:7:"},
		"row pattern":        {`(?P<name>\S+) (?P<size>\d+)`, `\S+`, "no named group", "small.yaml:29:"},
		"fact without group": {`'broken +(\S+)'`, `'broken'`, "has no group", "small.yaml:27:"},
		"kind of fact":       {`as: size`, `as: weight`, `no kind of fact "weight"`, "small.yaml:24:"},
		"unknown mode":       {`in: [monitor]`, `in: [monitr]`, `no mode "monitr"`, "small.yaml:20:"},
		"unknown action":     {`by: rise`, `by: climb`, `no action "climb"; there are log-in, rise`, "small.yaml:14:"},
		"mode twice":         {`mode: login,`, `mode: user,`, `mode "user" is there twice`, "small.yaml:10:"},
		"mode without sign":  {`{mode: countdown, text: 'a key stops it'}`, `{mode: countdown}`, "shows itself by nothing", "small.yaml:8:"},
		"no answer":          {`answer: y}`, `because: why}`, "has no answer", "small.yaml:16:"},
		"broken expression":  {`'${user}'`, `'${user +}'`, "${user +}", "small.yaml:31:"},
		"unknown key":        {`line: {speed: 9600}`, `line: {sped: 9600}`, "sped", "small.yaml:3:"},
		"noise pattern":      {`line: {speed: 9600}`, `noise: ['^(x']`, "bad pattern", "small.yaml:3:"},
		"noise of anything":  {`line: {speed: 9600}`, `noise: ['.*']`, "takes an empty line", "small.yaml:3:"},
		"refused pattern":    {`line: {speed: 9600}`, `refused: ['(no']`, "bad pattern", "small.yaml:3:"},
		"pager pattern":      {`line: {speed: 9600}`, `pager: {pattern: '(more'}`, "bad pattern", "small.yaml:3:"},
		"pager without one":  {`line: {speed: 9600}`, `pager: {key: q}`, "pattern", "small.yaml:3:"},
		"echo":               {`speed: 9600`, `echo: loud`, `"loud"`, "small.yaml:3:"},
		"size":               {`speed: 9600`, `size: wide`, `size=wide`, "small.yaml:3:"},
		"charset":            {`speed: 9600`, `charset: utf-7`, `"utf-7"`, "small.yaml:3:"},
		"framing":            {`speed: 9600`, `framing: 9X7`, `framing=9X7`, "small.yaml:3:"},
		"flow":               {`speed: 9600`, `flow: some`, `"some"`, "small.yaml:3:"},
		"wrong type":         {`speed: 9600`, `speed: fast`, "fast", "small.yaml:3:"},
	} {
		t.Run(name, func(t *testing.T) {
			broken := strings.Replace(small, c.from, c.to, 1)
			require.NotEqual(t, small, broken)
			_, err := Parse("small.yaml", []byte(broken))
			require.Error(t, err)
			assert.Contains(t, err.Error(), c.says)
			assert.True(t, strings.HasPrefix(err.Error(), c.at), "%v", err)
			lines := strings.Split(err.Error(), "\n")
			assert.Equal(t, "^", strings.TrimLeft(lines[len(lines)-1], " |"), "a caret under the place")
		})
	}
	_, err := Parse("empty.yaml", nil)
	assert.ErrorContains(t, err, "empty.yaml: the file is empty")
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
