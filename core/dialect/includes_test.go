package dialect

import (
	"fmt"
	"os"
	"path/filepath"
	"reflect"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

var loaders = map[string]string{
	"loader": `
dialect: loader
line: {speed: 9600, clear: "\x15"}
catch: {wake: " ", press: [{mode: loading, key: x}]}
modes: [{mode: loader, prompt: '^=> $'}, {mode: loading, text: '^loading'}]
actions:
  - {action: boot, in: [loader], command: go, to: loading}
  - {action: keep, in: [loader], command: save, done: saved}
dangers: [{pattern: '^wipe', says: wipes}]
`,
	"shell":   "dialect: shell\nmodes: [{mode: shell, prompt: '# $'}]\nactions: [{action: keep, in: [shell], command: sync, done: synced}]\n",
	"around":  "dialect: around\nincludes: [back]\nmodes: [{mode: a, prompt: 'a$'}]\n",
	"back":    "dialect: back\nincludes: [around]\nmodes: [{mode: b, prompt: 'b$'}]\n",
	"crooked": "dialect: crooked\nmodes: [{mode: c, prompt: '('}]\n",
}

func inLibrary(name string) ([]byte, error) {
	text, there := loaders[name]
	if !there {
		return nil, fmt.Errorf("none of that name")
	}
	return []byte(text), nil
}

func TestADialectIsPutTogether(t *testing.T) {
	d, err := Library(inLibrary).Parse("both.yaml", []byte(`
dialect: both
includes: [loader, shell]
line: {speed: 115200}
catch: {press: [{mode: loading, key: y}]}
modes: [{mode: login, prompt: 'login: $'}]
actions: [{action: boot, in: [loader], command: start, to: loading}]
`))
	require.NoError(t, err)
	assert.Equal(t, []string{"login", "loader", "loading", "shell"}, d.ModeNames())
	assert.Equal(t, 115200, d.Line.Speed)
	assert.Equal(t, " ", d.Wake())
	key, _ := d.KeyFor("loading")
	assert.Equal(t, "y", key, "its own counts")
	boot, err := d.Action("boot").Way("")
	require.NoError(t, err)
	assert.Equal(t, "start", boot.Command, "its own counts")
	keep, err := d.Action("keep").Way("")
	require.NoError(t, err)
	assert.Equal(t, "save", keep.Command, "of two that are included the first one counts")
	assert.Equal(t, "wipes", d.DangerOf("wipe all"))
}

// TestEveryKeyIsIncluded says each key of a dialect in one that is included, and not in the one that includes it.
func TestEveryKeyIsIncluded(t *testing.T) {
	own := map[string]bool{"Dialect": true, "Title": true, "About": true, "Includes": true}
	var other Document
	of := reflect.ValueOf(&other).Elem()
	for i := range of.NumField() {
		require.True(t, says(of.Field(i)), of.Type().Field(i).Name)
	}
	all := reflect.ValueOf(Document{}.with(other))
	for i := range all.NumField() {
		if name := all.Type().Field(i).Name; !own[name] {
			assert.False(t, all.Field(i).IsZero(), name)
		}
	}
}

// says puts something that is not zero into a value, and reports whether it could.
func says(v reflect.Value) bool {
	switch v.Kind() {
	case reflect.String:
		v.SetString("a")
	case reflect.Int, reflect.Int64:
		v.SetInt(1)
	case reflect.Pointer:
		v.Set(reflect.New(v.Type().Elem()))
	case reflect.Slice:
		v.Set(reflect.MakeSlice(v.Type(), 1, 1))
	case reflect.Struct:
		for i := range v.NumField() {
			if !says(v.Field(i)) {
				return false
			}
		}
	default:
		return v.CanSet() && !v.IsZero()
	}
	return true
}

func TestWhatCannotBeIncludedIsReported(t *testing.T) {
	for name, want := range map[string]string{
		"nothing": "none of that name", "around": "dialect around includes itself: around includes back includes around", "crooked": "crooked.yaml:2:27",
	} {
		text := "dialect: both\nincludes: [" + name + "]\nmodes: [{mode: m, prompt: 'm$'}]\n"
		if name == "around" {
			text = loaders["around"]
		}
		_, err := Library(inLibrary).Parse("both.yaml", []byte(text))
		require.ErrorContains(t, err, want, name)
	}
	_, err := Parse("both.yaml", []byte("dialect: both\nincludes: [loader]\nmodes: [{mode: m, prompt: 'm$'}]\n"))
	assert.ErrorContains(t, err, `no dialect "loader" is at hand to include`)
}

func TestAnIncludedDialectLiesBesideTheFile(t *testing.T) {
	folder := t.TempDir()
	write := func(name, text string) string {
		path := filepath.Join(folder, name)
		require.NoError(t, os.WriteFile(path, []byte(text), 0o600))
		return path
	}
	write("loader.yaml", "dialect: loader\nmodes: [{mode: mine, prompt: 'mine$'}]\n")
	d, err := Library(inLibrary).Load(write("both.yaml", "dialect: both\nincludes: [loader, shell]\n"))
	require.NoError(t, err)
	assert.Equal(t, []string{"mine", "shell"}, d.ModeNames(), "beside it first, then in the library")
}
