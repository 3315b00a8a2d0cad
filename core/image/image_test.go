package image

import (
	"os"
	"path/filepath"
	"regexp"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestDigestsAreThoseOfTheStandards(t *testing.T) {
	path := filepath.Join(t.TempDir(), "abc")
	require.NoError(t, os.WriteFile(path, []byte("abc"), 0o600))
	img, err := Open(path, nil)
	require.NoError(t, err)
	assert.Equal(t, "ba7816bf8f01cfea414140de5dae2223b00361a396177a9cb410ff61f20015ad", img.SHA256,
		"FIPS 180-4, example of one block")
	assert.Equal(t, "352441c2", img.CRC32)
	assert.EqualValues(t, 3, img.Size)
}

func TestOnlyTheHeaderIsSearched(t *testing.T) {
	path := filepath.Join(t.TempDir(), "long")
	data := append([]byte("release: 1.2\n"), make([]byte, 2*HeaderSize)...)
	data = append(data, "models: R40"...)
	require.NoError(t, os.WriteFile(path, data, 0o600))
	img, err := Open(path,
		[]Header{{Name: "release", Pattern: regexp.MustCompile(`release: (\S+)`)}, {Name: "models", Pattern: regexp.MustCompile(`models: (\S+)`)}})
	require.NoError(t, err)
	assert.Equal(t, map[string]string{"release": "1.2"}, img.Says)
	assert.EqualValues(t, len(data), img.Size)
	for _, field := range append(Fields, "release") {
		assert.Contains(t, img.Tree(), field)
	}
}
