package arithmetic

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// bridge is a flash of 8 MiB with eight small sectors at its beginning: the boot program, its environment, the system,
// the board's own data.
func bridge() Flash {
	return Flash{
		Base:    0x9f000000,
		Sectors: []Sectors{{8, 8 << 10}, {127, 64 << 10}},
		Parts: []Part{
			{"boot", 0, 0x8000, true},
			{"environment", 0x8000, 0x8000, false},
			{"system", 0x10000, 0x700000, false},
			{"board", 0x7f0000, 0x10000, true},
		},
	}
}

func TestWhatABurnTakes(t *testing.T) {
	f := bridge()
	require.NoError(t, f.Check())
	assert.EqualValues(t, 8<<20, f.Size())
	b, err := f.Burns("system", 3_000_001)
	require.NoError(t, err)
	from, last := b.EraseAt()
	assert.Equal(t, "0x9f010000 0x9f2effff", fmt.Sprintf("0x%x 0x%x", from, last))
	from, last = b.WriteAt()
	assert.Equal(t, "0x9f010000 0x9f2ec6c0", fmt.Sprintf("0x%x 0x%x", from, last))
	assert.EqualValues(t, 46, b.Sectors)
	assert.EqualValues(t, 0x700000-3_000_001, b.Left)

	small, err := f.Burns("environment", 8193)
	require.NoError(t, err)
	assert.EqualValues(t, 2, small.Sectors, "of the small ones")
}

// TestWhatIsRefusedAtAFlash has each with its words.
func TestWhatIsRefusedAtAFlash(t *testing.T) {
	for name, c := range map[string]struct {
		change func(*Flash)
		part   string
		size   int64
		says   string
	}{
		"a protected part":           {nil, "boot", 10, "part boot is protected: it is never erased"},
		"no such part":               {nil, "sytem", 10, `no part "sytem"; it has boot, environment, system, board`},
		"a file that is too large":   {nil, "system", 0x700001, "the file has 7340033 B, and part system holds 7340032 B: 1 B too many"},
		"nothing":                    {nil, "system", 0, "there is nothing to write into part system: 0 B"},
		"less than nothing":          {nil, "system", -5, "there is nothing to write"},
		"a part that begins between": {func(f *Flash) { f.Parts[2].At += 0x100; f.Parts[2].Size -= 0x100 }, "system", 10, "does not fill its sectors"},
		"a neighbour in the sector":  {func(f *Flash) { f.Parts[1].Size, f.Parts[2].At = 0x8100, 0x10100 }, "system", 10, "with them bytes of part environment"},
		"parts that overlap":         {func(f *Flash) { f.Parts[2].Size += 0x100000 }, "system", 10, "part system ends at 0x810000, the flash at 0x800000"},
		"parts over each other":      {func(f *Flash) { f.Parts[1].Size++ }, "system", 10, "environment ends at 0x10001, and system begins at 0x10000: they overlap"},
		"a part twice":               {func(f *Flash) { f.Parts[3].Name = "environment" }, "system", 10, "part environment is there twice"},
		"a part of nothing":          {func(f *Flash) { f.Parts[3].Size = 0 }, "system", 10, "part board: 0x0 B at 0x7f0000 are no range"},
		"a part without a name":      {func(f *Flash) { f.Parts[3].Name = "" }, "system", 10, "the part at 0x7f0000 has no name"},
		"no sectors":                 {func(f *Flash) { f.Sectors = nil }, "system", 10, "the flash has no sectors"},
		"sectors of nothing":         {func(f *Flash) { f.Sectors[0].Size = 0 }, "system", 10, "8 sectors of 0 B, the 1. of the flash, are none"},
		"more sectors than can be":   {func(f *Flash) { f.Sectors[0].Count = 1 << 62 }, "system", 10, "are none"},
		"an address that is none":    {func(f *Flash) { f.Base = -1 }, "system", 10, "is no address of a flash"},
	} {
		f := bridge()
		if c.change != nil {
			c.change(&f)
		}
		_, err := f.Burns(c.part, c.size)
		assert.ErrorContains(t, err, c.says, name)
	}
}

func TestAFlashAsItIsWritten(t *testing.T) {
	runs, err := ParseSectors("8x8KiB, 127x64KiB")
	require.NoError(t, err)
	assert.Equal(t, bridge().Sectors, runs)
	part, err := ParsePart("system=0x10000+0x700000")
	require.NoError(t, err)
	assert.Equal(t, bridge().Parts[2], part)
	for _, wrong := range []string{"", "8", "8x", "x8KiB", "8x8KiB,", "8.5x8KiB", "8x1.3KiB", "8x8parsec"} {
		_, err := ParseSectors(wrong)
		assert.ErrorContains(t, err, "is no run of sectors", wrong)
	}
	for _, wrong := range []string{"", "system", "system=", "=0x1+0x2", "system=0x10000", "system=1+", "system=+1", "system=zz+1"} {
		_, err := ParsePart(wrong)
		assert.ErrorContains(t, err, "is no part", wrong)
	}
}

// TestNoBurnLeavesItsPart: for any map, part and size, what is erased is whole sectors inside the part and of nothing
// that is protected, and every byte of the file lands once in what was erased.
func TestNoBurnLeavesItsPart(t *testing.T) {
	burnt := 0
	rapid.Check(t, func(t *rapid.T) {
		f := Flash{Base: rapid.Int64Range(0, 1<<33).Draw(t, "base")}
		for range rapid.IntRange(1, 3).Draw(t, "runs") {
			f.Sectors = append(f.Sectors,
				Sectors{rapid.Int64Range(1, 20).Draw(t,
					"count"), rapid.SampledFrom([]int64{1, 7, 512, 4096, 65536}).Draw(t, "size")})
		}
		edges := []int64{0}
		for _, run := range f.Sectors {
			for range run.Count {
				edges = append(edges, edges[len(edges)-1]+run.Size)
			}
		}
		crooked := rapid.IntRange(0, 2).Draw(t, "crooked") == 0
		at := 0
		for i := range rapid.IntRange(1, 5).Draw(t, "parts") {
			if at >= len(edges)-1 {
				break
			}
			end := rapid.IntRange(at+1, len(edges)-1).Draw(t, "end")
			p := Part{
				fmt.Sprint("part ", i),
				edges[at],
				edges[end] - edges[at],
				rapid.IntRange(0, 3).Draw(t, "protected") == 0,
			}
			if crooked { // not at its sectors' edges, or over its neighbour
				p.At += rapid.Int64Range(0, 3).Draw(t, "from")
				p.Size += rapid.Int64Range(-3, 3).Draw(t, "longer")
			}
			f.Parts = append(f.Parts, p)
			at = end + rapid.IntRange(0, 2).Draw(t, "gap")
		}
		part := rapid.SampledFrom(f.Parts).Draw(t, "which")
		size := rapid.SampledFrom([]int64{-1, 1, part.Size / 2, part.Size - 1, part.Size, part.Size + 1}).
			Draw(t, "file")
		b, err := f.Burns(part.Name, size)
		if err != nil {
			return
		}
		burnt++
		require.True(t, part.Span().Holds(b.Erase), "%+v erases %+v", part, b.Erase)
		require.True(t, b.Erase.Holds(b.Write))
		require.Equal(t, size, b.Write.Size())
		require.Equal(t, part.At, b.Write.From)
		require.False(t, part.Protected)
		for _, other := range f.Parts {
			if other.Name != part.Name {
				require.False(t, b.Erase.Meets(other.Span()))
			}
		}
		require.Contains(t, edges, b.Erase.From, "whole sectors")
		require.Contains(t, edges, b.Erase.To, "whole sectors")
		count := int64(0)
		for _, edge := range edges {
			if edge >= b.Erase.From && edge < b.Erase.To {
				count++
			}
		}
		require.Equal(t, count, b.Sectors)
	})
	assert.Positive(t, burnt, "some of them can be burnt")
}
