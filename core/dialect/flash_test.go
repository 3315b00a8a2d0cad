package dialect

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"pilotrix/core/arithmetic"
	"pilotrix/core/device"
)

const flashTalk = `
dialect: flashed
modes: [{mode: m, prompt: '^=> $'}]
readings:
  - reading: flash
    command: flinfo
    facts:
      - {fact: flash.size, pattern: 'Size: (\d+) kB', as: size, unit: KiB}
      - {fact: flash.count, pattern: 'in (\d+) sectors', as: number}
    rows:
      - {list: flash.sectors, count: flash.count, pattern: '(?P<at>[0-9A-F]{8})', columns: {at: {as: hex}}}
  - reading: parts
    command: parts
    rows:
      - {list: flash.parts, pattern: '(?m)^(?P<name>\w+) (?P<at>0x\w+) (?P<size>0x\w+) (?P<protected>\w+)$', columns: {at: {as: hex}, size: {as: hex}}, empty: true}
flash: {sectors: flash.sectors, size: flash.size, parts: flash.parts, protected: [loader]}
`

// reported are the facts of what a device says of its flash.
func reported(t *testing.T, d *Dialect, flash, parts string) (*device.Facts, error) {
	t.Helper()
	facts := &device.Facts{}
	for name, text := range map[string]string{"flash": flash, "parts": parts} {
		if text == "" {
			continue
		}
		all, err := d.Reading(name).Parse(text, name, time.Now(), facts)
		if err != nil {
			return nil, err
		}
		for _, fact := range all {
			_, _ = facts.Set(fact)
		}
	}
	return facts, nil
}

func TestTheMapOfAFlashIsWhatTheDeviceSays(t *testing.T) {
	d, err := Parse("flashed.yaml", []byte(flashTalk))
	require.NoError(t, err)
	facts, err := reported(t, d, "Size: 144 kB in 4 sectors\n BF000000 BF010000\n BF020000 BF022000",
		"loader 0x0 0x10000 no\nsystem 0x10000 0x10000 no\nboard 0x22000 0x2000 yes")
	require.NoError(t, err)
	f, err := d.FlashMap(facts)
	require.NoError(t, err)
	assert.EqualValues(t, 0xbf000000, f.Base)
	assert.Equal(t, []arithmetic.Sectors{{Count: 2, Size: 0x10000}, {Count: 2, Size: 0x2000}}, f.Sectors)
	assert.Equal(t,
		[]arithmetic.Part{{Name: "loader", Size: 0x10000, Protected: true}, {Name: "system", At: 0x10000, Size: 0x10000}, {Name: "board", At: 0x22000, Size: 0x2000, Protected: true}},
		f.Parts)
	size, _ := facts.Get("flash.size")
	assert.Equal(t, "144 KiB", size.Text)
	b, err := f.Burns("system", 100)
	require.NoError(t, err)
	from, last := b.EraseAt()
	assert.EqualValues(t, 0xbf010000, from)
	assert.EqualValues(t, 0xbf01ffff, last)
}

// TestWrongMapsAreRefused: what a device says may be garbled, and nothing is computed from that.
func TestWrongMapsAreRefused(t *testing.T) {
	d, err := Parse("flashed.yaml", []byte(flashTalk))
	require.NoError(t, err)
	const good = "Size: 144 kB in 4 sectors\n BF000000 BF010000\n BF020000 BF022000"
	for name, c := range map[string]struct{ flash, parts, want string }{
		"nothing was read":               {"", "", "flash.sectors was not read"},
		"parts were not read":            {good, "", "flash.parts was not read"},
		"a sector is missing":            {"Size: 144 kB in 4 sectors\n BF000000 BF010000 BF020000", "", "the answer has 3 rows of flash.sectors, and says that there are 4"},
		"sectors in another order":       {"Size: 144 kB in 4 sectors\n BF000000 BF020000 BF010000 BF022000", "loader 0x0 0x10 no", "told of a sector at 0xbf020000, and of the next one at 0xbf010000"},
		"the size is too small":          {"Size: 128 kB in 4 sectors\n BF000000 BF010000 BF020000 BF022000", "system 0x0 0x10 no", "told of a sector at 0xbf022000, and of the next one at 0xbf020000"},
		"parts overlap":                  {good, "loader 0x0 0x10000 no\nnotes 0x8000 0x1000 no", "they overlap"},
		"a part is behind the flash":     {good, "loader 0x0 0x900000 no", "part loader ends at 0x900000, the flash at 0x24000"},
		"a part has no size":             {good, "loader 0x0 0x0 no", "are no range"},
		"what is protected is not there": {good, "system 0x10000 0x10000 no", "protects part loader, and the device tells of none"},
		"a number is none":               {good, "system 0xzz 0x10 no", "is no hexadecimal number"},
		"a number is too large":          {good, "system 0xffffffffffffffff 0x10 no", "is no hexadecimal number"},
		"a name is there twice":          {good, "loader 0x0 0x10 no\nloader 0x10000 0x10 no", "name loader twice"},
	} {
		facts, err := reported(t, d, c.flash, c.parts)
		if err == nil {
			_, err = d.FlashMap(facts)
		}
		assert.ErrorContains(t, err, c.want, name)
	}
}

func TestADialectThatKnowsItsFlash(t *testing.T) {
	known := strings.Replace(flashTalk,
		"flash: {sectors: flash.sectors, size: flash.size, parts: flash.parts, protected: [loader]}",
		"flash: {base: 0xbf000000, layout: '2x64KiB,8x8KiB', known: ['loader=0+0x10000', 'system=0x10000+0x10000'], protected: [loader]}",
		1)
	d, err := Parse("flashed.yaml", []byte(known))
	require.NoError(t, err)
	f, err := d.FlashMap(&device.Facts{})
	require.NoError(t, err)
	assert.EqualValues(t, 0x30000, f.Size())
	_, err = f.Burns("loader", 1)
	require.ErrorContains(t, err, "part loader is protected")
	for wrong, want := range map[string]string{
		"{base: here, layout: 2x64KiB, known: [s=0+1]}":                 `flash.base`,
		"{layout: two, known: ['s=0+0x10']}":                            "is no run of sectors",
		"{layout: 2x64KiB, known: [s]}":                                 "is no part",
		"{layout: 2x64KiB}":                                             "its parts are not known",
		"{known: ['s=0+0x10']}":                                         "its sectors are not known",
		"{sectors: flash.sectors, parts: flash.parts}":                  "where its last sector ends is not known",
		"{sectors: flash.rows, size: flash.size, parts: flash.parts}":   "no reading makes flash.rows",
		"{layout: 2x64KiB, known: ['s=0+0x10000', 't=0x8000+0x10000']}": "they overlap",
	} {
		_, err := Parse("flashed.yaml",
			[]byte(flashTalk[:strings.LastIndex(flashTalk, "flash: {")]+"flash: "+wrong+"\n"))
		if want == "flash.base" {
			want = "is no address"
		}
		assert.ErrorContains(t, err, want, wrong)
	}
}
