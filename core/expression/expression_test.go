package expression

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"pilotrix/core/device"
)

type known map[string]bool

func (k known) Order() *device.Order { return nil }

func (k known) Known(name string) bool { return k[name] }

func TestGuards(t *testing.T) {
	release, err := device.ParseRelease("4.2.1")
	require.NoError(t, err)
	env := map[string]any{
		"image":   map[string]any{"models": "R40-1, R40-2", "size": 100.0, "release": "4.10.0"},
		"device":  map[string]any{"model": "R40-2"},
		"running": map[string]any{"release": release},
		"store":   map[string]any{"free": 250.0},
	}
	for text, want := range map[string]bool{
		`device.model in words(image.models)`:   true,
		`"R40" in words(image.models)`:          false,
		`store.free >= image.size`:              true,
		`store.free >= size("1 KiB")`:           false,
		`older(running.release, image.release)`: true,
		`newer("4.2.1-rc1", running.release)`:   false,
		`same(running.release, "v4.2.1")`:       true,
		`hex(image.size) == "64"`:               true,
		`running.release == "v4.2.1"`:           true,
		`"4.2.1" != running.release`:            false,
		`running.release == image.release`:      false,
		`running.release == ""`:                 false,
		`running.release != nil`:                true,
		`image.size == 100`:                     true,
		`image.size != 100`:                     false,
		`any([running], .release == "4.2.1.0")`: true,
	} {
		g, err := Compile(text, nil)
		require.NoError(t, err, text)
		got, err := g.Holds(env)
		require.NoError(t, err, text)
		assert.Equal(t, want, got, text)
	}
}

func TestUnknownNamesAreFoundBeforeARun(t *testing.T) {
	names := known{"image": true, "image.size": true, "store": true, "store.free": true}
	_, err := Compile("store.free >= image.size", names)
	require.NoError(t, err)
	_, err = Compile("store.fre >= image.size", names)
	assert.ErrorContains(t, err, "store.fre")
	_, err = Compile("store.free >=", names)
	assert.Error(t, err)
}

func TestTemplatesRefuseWhatIsNotText(t *testing.T) {
	line, err := CompileTemplate("take x ${name} ${size}", nil)
	require.NoError(t, err)
	got, err := line.Command(map[string]any{"name": "tern.brm", "size": 1310898.0})
	require.NoError(t, err)
	assert.Equal(t, "take x tern.brm 1310898", got)
	for name, env := range map[string]map[string]any{
		"unset":           {"size": 1.0},
		"empty":           {"name": "", "size": 1.0},
		"a second line":   {"name": "x\rstore empty", "size": 1.0},
		"escape sequence": {"name": "x\x1b[2J", "size": 1.0},
	} {
		_, err := line.Command(env)
		assert.Error(t, err, name)
	}
	assert.Equal(t, "take x ${name} 5", line.Shown(map[string]any{"size": 5.0}))
	_, err = CompileTemplate("take ${name", nil)
	assert.ErrorContains(t, err, "without its }")
}

func TestTemplatesKnowTheirEndAndTheirNames(t *testing.T) {
	for text, want := range map[string]string{
		"plain":                       "plain",
		"$${HOME} is not ours":        "${HOME} is not ours",
		`${name == "}" ? "a" : "b"}!`: "b!",
		`${ {"x": 1}["x"] }`:          "1",
		"a$b ${name}":                 "a$b tern",
	} {
		tpl, err := CompileTemplate(text, nil)
		require.NoError(t, err, text)
		got, err := tpl.Render(map[string]any{"name": "tern"})
		require.NoError(t, err, text)
		assert.Equal(t, want, got)
	}
	tpl, err := CompileTemplate(`${store.free > size("1 MiB") ? image.name : any(cards, .kind == image.card)}`, nil)
	require.NoError(t, err)
	assert.ElementsMatch(t, []string{"store.free", "image.name", "cards", "image.card"}, tpl.Uses())
}
