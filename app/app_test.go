package app

import (
	"errors"
	"os"
	"path/filepath"
	"testing"

	"github.com/adrg/xdg"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"pilotrix/bench"
	"pilotrix/core/dialect"
	"pilotrix/core/image"
	"pilotrix/core/inventory"
	"pilotrix/core/line"
	"pilotrix/core/logbook"
	"pilotrix/core/runbook"
	"pilotrix/core/shelves"
)

// ownHome has what is kept kept in a folder of the test's own.
func ownHome(t *testing.T) string {
	home := t.TempDir()
	t.Cleanup(xdg.Reload) // after the variables are what they were
	for _, name := range []string{"XDG_CONFIG_HOME", "XDG_DATA_HOME", "XDG_STATE_HOME", "XDG_CACHE_HOME", "HOME"} {
		t.Setenv(name, home)
	}
	xdg.Reload()
	return home
}

var rescued = line.Target{Kind: line.Bench, Address: "hollow-rtr1", Speed: 9600}

func TestASessionIsKeptWithItsDevicesName(t *testing.T) {
	at := filepath.Join(t.TempDir(), "logbook.db")
	settings := Settings{Logbook: at}
	o, err := settings.Begin(t.Context(), Opening{Target: rescued, Scale: 8})
	require.NoError(t, err)
	o.Begin()
	assert.Equal(t, "hollow-rtr1", o.Device())
	assert.NotEmpty(t, o.About())
	assert.Empty(t, o.Notices())
	require.NoError(t, o.Close("the test ended"))

	book, err := logbook.OpenToRead(at)
	require.NoError(t, err)
	defer book.Close()
	entries, err := book.List(9)
	require.NoError(t, err)
	require.Len(t, entries, 1)
	assert.Equal(t, "hollow-rtr1", entries[0].Device)

	_, cut, err := Known{Logbook: at}.Book()
	require.NoError(t, err)
	assert.Empty(t, cut, "it was closed in order")
}

// TestWhatCannotBeKeptIsSaid has a file where the logbook's folder should be.
func TestWhatCannotBeKeptIsSaid(t *testing.T) {
	inTheWay := filepath.Join(t.TempDir(), "file")
	require.NoError(t, os.WriteFile(inTheWay, nil, 0o600))
	settings := Settings{Logbook: filepath.Join(inTheWay, "logbook.db")}
	o, err := settings.Begin(t.Context(), Opening{Target: rescued, Scale: 8})
	require.NoError(t, err, "the session goes on")
	o.Begin()
	require.Len(t, o.Notices(), 1)
	assert.Contains(t, o.Notices()[0], "nothing is recorded for now")
	assert.ErrorAs(t, o.Close("the test ended"), new(UnrecordedError))
}

func TestWhatTheBenchDoesNotHave(t *testing.T) {
	for text, opening := range map[string]struct {
		Settings
		Opening
	}{
		"no such device": {Settings{Logbook: NoLogbook}, Opening{Target: line.Target{Kind: line.Bench, Address: "nobody"}, Scale: 1}},
		"no such stick":  {Settings{Logbook: NoLogbook, Stick: "/nowhere"}, Opening{Target: rescued, Scale: 1}},
	} {
		_, err := opening.Begin(t.Context(), opening.Opening)
		assert.ErrorAs(t, err, new(BenchError), text)
	}
	settings := Settings{Logbook: NoLogbook, Awkward: bench.Awkward{}}
	_, err := settings.Begin(t.Context(), Opening{Target: line.Target{Kind: line.Unix, Address: "/nowhere.sock"}})
	require.Error(t, err)
	assert.False(t, errors.As(err, new(BenchError)), "a line that does not open is not for want of a better word")
}

func TestSecondLinesAsTheyAreSaid(t *testing.T) {
	all, err := ParseSeconds([]string{"console=/dev/ttyUSB0", "other=ssh://harbour@192.0.2.41"})
	require.NoError(t, err)
	assert.Equal(t, []string{"console", "other"}, LineNames(all))
	for text, want := range map[string][]string{
		"want NAME=TARGET":        {"/dev/ttyUSB0"},
		"want NAME":               {"=/dev/ttyUSB0"},
		"a: it is there twice":    {"a=/dev/ttyUSB0", "a=/dev/ttyUSB1"},
		"a simulated device has":  {"a=bench:hollow-rtr1"},
		"b: ":                     {"a=/dev/ttyUSB0", "b=nothing:of:the:kind"},
		"console: a simulated de": {"console=bench:mare-gw1"},
	} {
		_, err := ParseSeconds(want)
		assert.ErrorContains(t, err, text)
	}
}

func TestAnotherDeviceAtTheSameTarget(t *testing.T) {
	ownHome(t)
	kept, err := inventory.Load(inventory.Usual())
	require.NoError(t, err)
	require.NoError(t, kept.Put("", inventory.Device{Device: "mare-gw1", Target: "/dev/ttyUSB0"}))
	require.NoError(t, keepIdentity("mare-gw1", "DUN-1"), "the first time it is kept")
	require.NoError(t, keepIdentity("mare-gw1", "DUN-1"))
	assert.ErrorContains(t, keepIdentity("mare-gw1", "DUN-2"), "another device")
	assert.NoError(t, keepIdentity("gone-gw2", "DUN-3"), "one that was forgotten meanwhile")

	require.NoError(t, KeepDialect("mare-gw1", &dialect.Dialect{Document: dialect.Document{Dialect: "cormel-g2"}}))
	require.NoError(t, KeepDialect("mare-gw1", &dialect.Dialect{Document: dialect.Document{Dialect: "other"}}))
	kept, err = inventory.Load(inventory.Usual())
	require.NoError(t, err)
	device, _ := kept.Find("mare-gw1")
	assert.Equal(t, "cormel-g2", device.Dialect, "what is kept is not put in another's place")
	assert.Equal(t, "DUN-1", device.Identity)
}

func TestTheFoldersOfAKit(t *testing.T) {
	home := ownHome(t)
	images, others := filepath.Join(home, "images"), filepath.Join(home, "others")
	require.NoError(t, os.MkdirAll(images, 0o700))
	require.NoError(t, os.MkdirAll(others, 0o700))
	book, err := runbook.Parse("b.yaml", []byte(`
runbook: r
inputs: [{input: image, kind: image, about: a}, {input: name, kind: text, about: n}]
phases: [{phase: look, steps: [{step: Look, read: []}]}]
`))
	require.NoError(t, err)
	given := map[string]string{"image": filepath.Join(images, "a.img"), "name": filepath.Join(others, "b")}

	folders, some, err := KitFolders(book, given, nil)
	require.NoError(t, err)
	assert.True(t, some)
	assert.Equal(t, []string{images}, folders, "the image's own, not that of another input")

	folders, some, err = KitFolders(book, map[string]string{"image": "/nowhere/a.img"}, nil)
	require.NoError(t, err)
	assert.False(t, some)
	assert.Empty(t, folders)

	_, err = shelves.Add(others)
	require.NoError(t, err)
	folders, some, err = KitFolders(book, given, nil)
	require.NoError(t, err)
	assert.True(t, some)
	assert.Empty(t, folders, "those that are registered")
	assert.Equal(t, []string{others}, Known{}.Folders())
}

func TestAFolderIsAddedToTheShelfThatIsOpen(t *testing.T) {
	home := ownHome(t)
	require.NoError(t, os.Mkdir(filepath.Join(home, "images"), 0o700))
	shelf, err := ShelfFor(nil, nil, nil)
	require.NoError(t, err)
	made := func() (*image.Shelf, error) { return shelf, nil }
	require.NoError(t, AddFolder(made, "~/images"))
	assert.Equal(t, []string{filepath.Join(home, "images")}, shelf.Folders())
	assert.Error(t, AddFolder(made, "~/nothing"))
	again, err := ShelfFor(nil, nil, nil)
	require.NoError(t, err)
	assert.Equal(t, shelf.Folders(), again.Folders(), "and of those to come")
}
