package transfer

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestReceivedNamesStayInTheirFolder has a sender choose names that lead elsewhere.
func TestReceivedNamesStayInTheirFolder(t *testing.T) {
	root := t.TempDir()
	folder := filepath.Join(root, "in")
	require.NoError(t, os.Mkdir(folder, 0o700))
	for said, kept := range map[string]string{
		"tern.brm":           "tern.brm",
		"../escape":          "escape",
		"/etc/passwd":        "passwd",
		`..\..\windows.conf`: "windows.conf",
	} {
		file, err := Create(folder, said, true)
		require.NoError(t, err, said)
		require.NoError(t, file.Close())
		assert.FileExists(t, filepath.Join(folder, kept))
		_, err = Create(folder, said, true)
		assert.ErrorContains(t, err, "not overwritten", said)
	}
	for _, said := range []string{"", "..", "a/", "x/.", `c:\`} {
		_, err := Create(folder, said, true)
		assert.ErrorContains(t, err, "is no name", "%q", said)
	}
	entries, err := os.ReadDir(root)
	require.NoError(t, err)
	assert.Len(t, entries, 1, "nothing beside the folder")
}
