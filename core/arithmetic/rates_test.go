package arithmetic

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestLargeBlocksPayForTheirFragments(t *testing.T) {
	whole := TFTPRate(1468, 64, UsualLink, 0)
	cut := TFTPRate(1469, 64, UsualLink, 0)
	assert.Less(t, cut, whole, "one byte more takes a second frame")
}

func TestTheCounterOf16Bits(t *testing.T) {
	assert.EqualValues(t, 33553919, LargestTFTP(512), "32 MiB less a block and a byte")
	for size, warned := range map[int64]bool{LargestTFTP(512): false, LargestTFTP(512) + 1: true} {
		e := TFTPEstimates(size, Way{Link: UsualLink, Trip: UsualTrip, Block: 512})[0]
		assert.Equal(t, warned, e.Warn != "", size)
	}
}

func TestEraseRanges(t *testing.T) {
	for _, c := range []struct {
		at, size, sector int64
		want             Erase
	}{
		{0, 1, 65536, Erase{0, 65536, 1, 0, 65535}},
		{0x40000, 0x20000, 0x10000, Erase{0x40000, 0x60000, 2, 0, 0}},
		{0x40001, 0x20000, 0x10000, Erase{0x40000, 0x70000, 3, 1, 0xffff}},
		{0x4ffff, 2, 0x10000, Erase{0x40000, 0x60000, 2, 0xffff, 0xffff}},
	} {
		got, err := EraseRange(c.at, c.size, c.sector)
		require.NoError(t, err)
		assert.Equal(t, c.want, got)
	}
	for _, bad := range [][3]int64{{-1, 1, 1}, {0, 0, 1}, {0, 1, 0}, {1 << 62, 1 << 62, 1 << 16}} {
		_, err := EraseRange(bad[0], bad[1], bad[2])
		assert.Error(t, err)
	}
}

func TestAddresses(t *testing.T) {
	for text, want := range map[string]int64{"0x40000": 262144, "$40000": 262144, "40000h": 262144, "262144": 262144, "262,144": 262144, "0X4_0000": 262144} {
		got, err := ParseAddress(text)
		require.NoError(t, err, text)
		assert.Equal(t, want, got, text)
	}
	for _, text := range []string{"", "0x", "-5", "4g", "40000"[:0] + "0xffffffffffffffffff"} {
		_, err := ParseAddress(text)
		assert.Error(t, err, text)
	}
}
