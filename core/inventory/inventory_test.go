package inventory_test

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"pilotrix/core/inventory"
	"pilotrix/core/source/goldentest"
)

const byHand = `# the skerries
devices:
  # the one by the ramp
  - device: hollow-rtr1
    target: 'serial:/dev/ttyUSB0?speed=9600'   # the blue cable
    dialect: brindle-r40
  - {device: mare-gw1, target: "ssh://harbour@192.0.2.41", place: Grey Mare}
  # ask before touching it
  - device: tangle-sw1
    target: telnet://192.0.2.60
`

func kept(t *testing.T, text string) *inventory.Inventory {
	t.Helper()
	path := filepath.Join(t.TempDir(), "deeper", "devices.yaml")
	if text != "" {
		require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o755))
		require.NoError(t, os.WriteFile(path, []byte(text), 0o644))
	}
	i, err := inventory.Load(path)
	require.NoError(t, err)
	return i
}

func textOf(t *testing.T, i *inventory.Inventory) string {
	t.Helper()
	text, err := os.ReadFile(i.Path())
	require.NoError(t, err)
	return string(text)
}

// TestWhatWasWrittenByHandStays changes, adds and removes devices in a file with comments and both ways of writing.
func TestWhatWasWrittenByHandStays(t *testing.T) {
	i := kept(t, byHand)
	require.NoError(t, i.Put("mare-gw1", inventory.Device{
		Device:   "mare-gw1",
		Target:   "ssh://harbour@192.0.2.42",
		Place:    "Grey Mare",
		Identity: "CG2-004711",
	}))
	text := textOf(t, i)
	for _, comment := range []string{"# the skerries", "# the one by the ramp", "# the blue cable", "# ask before touching it"} {
		assert.Contains(t, text, comment)
	}
	assert.Contains(t, text, "192.0.2.42")
	assert.NotContains(t, text, "192.0.2.41")

	require.NoError(t, i.Put("", inventory.Device{Device: "orsholm-ap3", Target: "unix:/run/x"}))
	require.NoError(t, i.Remove("hollow-rtr1"))
	again, err := inventory.Load(i.Path())
	require.NoError(t, err)
	assert.Equal(t, []string{"mare-gw1", "tangle-sw1", "orsholm-ap3"}, again.Names())
	assert.Contains(t, textOf(t, i), "# ask before touching it\n  - device: tangle-sw1",
		"a comment stays with the device that it stands before")
	for _, name := range again.Names() {
		require.NoError(t, again.Remove(name))
	}
	assert.Empty(t, again.Names())
	require.NoError(t, again.Put("", inventory.Device{Device: "new", Target: "unix:/y"}))
	assert.Equal(t, []string{"new"}, again.Names())
	assert.Equal(t, 1, strings.Count(textOf(t, again), "devices:"))
}

// TestAFileThatIsNotThereIsMade begins with nothing.
func TestAFileThatIsNotThereIsMade(t *testing.T) {
	i := kept(t, "")
	assert.Empty(t, i.Devices)
	require.NoError(t, i.Put("", inventory.Device{Device: "a", Target: "unix:/x"}))
	require.NoError(t, i.Put("", inventory.Device{Device: "b", Target: "unix:/y"}))
	assert.Equal(t, "devices:\n  - device: a\n    target: unix:/x\n  - device: b\n    target: unix:/y\n", textOf(t, i))
	info, err := os.Stat(filepath.Dir(i.Path()))
	require.NoError(t, err)
	assert.Zero(t, info.Mode()&0o077, "it is nobody else's to look into")
}

// TestWhatIsRefused holds what is wrong with a device to its key, and leaves the file as it was.
func TestWhatIsRefused(t *testing.T) {
	i := kept(t, byHand)
	for want, d := range map[string]inventory.Device{
		"a name and a target":       {Device: "x"},
		"cannot be a name":          {Device: "a b", Target: "unix:/x"},
		"kept already":              {Device: "mare-gw1", Target: "unix:/x"},
		"target:":                   {Device: "x", Target: "smoke:signals"},
		"never the password itself": {Device: "x", Target: "unix:/x", Password: "lamp-and-tide"},
		"control character":         {Device: "x", Target: "unix:/x", Place: "a\x1bb"},
	} {
		assert.ErrorContains(t, i.Put("", d), want)
	}
	assert.ErrorContains(t, i.Remove("nobody"), `keeps no device "nobody"`)
	assert.Equal(t, byHand, textOf(t, i))
}

// TestNothingIsWrittenOverWhatWasEditedMeanwhile edits the file by hand while the program has it: what is elsewhere in
// it stays, and a device that was changed is left as it is now.
func TestNothingIsWrittenOverWhatWasEditedMeanwhile(t *testing.T) {
	i := kept(t, byHand)
	require.NoError(t, os.WriteFile(i.Path(), []byte(byHand+"# and more\n"), 0o644))
	require.NoError(t, i.Remove("tangle-sw1"))
	assert.Contains(t, textOf(t, i), "# and more")
	assert.NotContains(t, i.Names(), "tangle-sw1")

	edited := strings.Replace(textOf(t, i), "ssh://harbour@192.0.2.41", "ssh://harbour@192.0.2.99", 1)
	require.NoError(t, os.WriteFile(i.Path(), []byte(edited), 0o644))
	assert.ErrorContains(t, i.Remove("mare-gw1"), "was changed since it was read")
	require.NoError(t, os.WriteFile(i.Path(), []byte("devices: ["), 0o644))
	assert.Error(t, i.Put("", inventory.Device{Device: "new-one", Target: "unix:/new"}),
		"nothing is written over what cannot be read")
	assert.Equal(t, "devices: [", textOf(t, i))
}

// TestOfEightWhoKeepDevicesNoneLosesOne has each add, change and remove devices of its own, with what it has read
// before the others wrote.
func TestOfEightWhoKeepDevicesNoneLosesOne(t *testing.T) {
	path := filepath.Join(t.TempDir(), "devices.yaml")
	require.NoError(t, os.WriteFile(path, []byte(byHand), 0o600))
	const writers, each = 8, 12
	var all sync.WaitGroup
	for w := range writers {
		all.Go(func() {
			for n := range each {
				i, err := inventory.Load(path)
				if !assert.NoError(t, err) {
					return
				}
				name := fmt.Sprintf("device-%d-%d", w, n)
				assert.NoError(t, i.Put("", inventory.Device{Device: name, Target: "unix:/x"}))
				switch n % 3 {
				case 1:
					assert.NoError(t, i.Put(name, inventory.Device{Device: name, Target: "unix:/y"}))
				case 2:
					assert.NoError(t, i.Remove(name))
				}
			}
		})
	}
	all.Wait()
	i, err := inventory.Load(path)
	require.NoError(t, err)
	assert.Len(t, i.Devices, 3+writers*each*2/3)
	for w := range writers {
		d, there := i.Find(fmt.Sprintf("device-%d-1", w))
		assert.True(t, there)
		assert.Equal(t, "unix:/y", d.Target)
	}
	assert.True(t, strings.HasPrefix(textOf(t, i), byHand[:40]), "what was written by hand stays")
}

// TestComplaintsOfABrokenFile breaks one thing at a time.
func TestComplaintsOfABrokenFile(t *testing.T) {
	goldentest.Edited(t, "broken", byHand, []goldentest.Edit{
		{"a name twice", "device: tangle-sw1", "device: mare-gw1"},
		{"no target", "    target: telnet://192.0.2.60\n", ""},
		{"a target that is none", "telnet://192.0.2.60", "smoke:signals"},
		{"a key that is none", "dialect: brindle-r40", "speech: brindle-r40"},
		{"a password", "dialect: brindle-r40", "password: lamp"},
		{"no list", "devices:", "device:"},
		{"no YAML", "devices:", "devices: ["},
	}, func(text string) string {
		_, err := inventory.Parse("devices.yaml", []byte(text))
		if err == nil {
			return ""
		}
		return err.Error()
	})
}

// TestAnyDeviceComesBack keeps devices of any words, in any order of keeping, changing and forgetting.
func TestAnyDeviceComesBack(t *testing.T) {
	words := rapid.OneOf(rapid.StringMatching(`[ -~äøß]{0,20}`),
		rapid.SampledFrom([]string{"null", "Null", "yes", "true", "NaN", "a: b", "a:", "- a", "a #b", "? !"}))
	rapid.Check(t, func(r *rapid.T) {
		path := filepath.Join(t.TempDir(), "devices.yaml")
		i, err := inventory.Load(path)
		require.NoError(t, err)
		want := map[string]inventory.Device{}
		for range rapid.IntRange(1, 12).Draw(r, "steps") {
			name := rapid.SampledFrom([]string{"a", "b", "c1"}).Draw(r, "name")
			_, there := want[name]
			if there && rapid.Bool().Draw(r, "forget") {
				require.NoError(r, i.Remove(name))
				delete(want, name)
				continue
			}
			d := inventory.Device{
				Device:   name,
				Target:   "unix:/x",
				Place:    words.Draw(r, "place"),
				Identity: words.Draw(r, "identity"),
			}
			before := ""
			if there {
				before = name
			}
			require.NoError(r, i.Put(before, d))
			want[name] = d
		}
		again, err := inventory.Load(path)
		require.NoError(r, err)
		require.Len(r, again.Devices, len(want))
		for _, d := range again.Devices {
			require.Equal(r, want[d.Device], d)
		}
	})
}

// FuzzInventory looks for texts that cannot be read, or that a change destroys.
func FuzzInventory(f *testing.F) {
	f.Add(byHand)
	f.Add("devices:\n- device: a\n  target: unix:/x\n# end\nother: 1\n")
	f.Fuzz(func(t *testing.T, text string) {
		path := filepath.Join(t.TempDir(), "devices.yaml")
		require.NoError(t, os.WriteFile(path, []byte(text), 0o600))
		i, err := inventory.Load(path)
		if err != nil || len(i.Devices) == 0 {
			return
		}
		names := i.Names()
		if i.Put("", inventory.Device{Device: "new-one", Target: "unix:/new"}) == nil {
			require.Equal(t, append(names, "new-one"), i.Names())
		}
	})
}
