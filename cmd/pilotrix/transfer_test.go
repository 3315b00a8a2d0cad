package main

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"pilotrix/core/transfer/xmodem"
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
		file, err := newFile(folder, xmodem.Header{Name: said}, true)
		require.NoError(t, err, said)
		require.NoError(t, file.Close())
		assert.FileExists(t, filepath.Join(folder, kept))
		_, err = newFile(folder, xmodem.Header{Name: said}, true)
		assert.ErrorContains(t, err, "not overwritten", said)
	}
	for _, said := range []string{"", "..", "a/", "x/.", `c:\`} {
		_, err := newFile(folder, xmodem.Header{Name: said}, true)
		assert.ErrorContains(t, err, "is no name", "%q", said)
	}
	entries, err := os.ReadDir(root)
	require.NoError(t, err)
	assert.Len(t, entries, 1, "nothing beside the folder")
}
