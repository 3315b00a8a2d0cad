package ownfile

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"syscall"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestOfEightWritersNoneLosesALine has each add lines of its own, while others read: nobody sees a half of it.
func TestOfEightWritersNoneLosesALine(t *testing.T) {
	path := filepath.Join(t.TempDir(), "deep", "file")
	const writers, each = 8, 40
	var all sync.WaitGroup
	for w := range writers {
		all.Go(func() {
			for n := range each {
				err := Change(path, func(old []byte) ([]byte, error) {
					return append(old, fmt.Sprintf("%d %d\n", w, n)...), nil
				})
				if !assert.NoError(t, err) {
					return
				}
				seen, err := Read(path)
				assert.NoError(t, err)
				assert.True(t, strings.HasSuffix(string(seen), "\n"), "%q", seen)
			}
		})
	}
	all.Wait()
	text, err := Read(path)
	require.NoError(t, err)
	lines := strings.Split(strings.TrimSpace(string(text)), "\n")
	require.Len(t, lines, writers*each)
	slices.Sort(lines)
	assert.Len(t, slices.Compact(lines), writers*each)
}

func TestWhatGoesWrongLeavesTheOldFile(t *testing.T) {
	folder := t.TempDir()
	path := filepath.Join(folder, "file")
	require.NoError(t, Replace(path, []byte("old")))
	failed := errors.New("no")
	require.ErrorIs(t, Change(path, func([]byte) ([]byte, error) { return []byte("new"), failed }), failed)
	require.NoError(t, Change(path, func([]byte) ([]byte, error) { return nil, nil }))
	text, err := Read(path)
	require.NoError(t, err)
	assert.Equal(t, "old", string(text))

	elsewhere := filepath.Join(folder, "linked")
	require.NoError(t, os.Symlink(path, elsewhere))
	require.NoError(t, Replace(elsewhere, []byte("new")))
	info, err := os.Lstat(elsewhere)
	require.NoError(t, err)
	assert.NotZero(t, info.Mode()&os.ModeSymlink, "a link stays one")
	text, err = Read(path)
	require.NoError(t, err)
	assert.Equal(t, "new", string(text))

	pipe := filepath.Join(folder, "pipe")
	require.NoError(t, syscall.Mkfifo(pipe, 0o600))
	_, err = Read(pipe)
	require.EqualError(t, err, pipe+" is no file")
	require.Error(t, Replace(pipe, []byte("new")), "what is no file is not replaced")
	entries, err := os.ReadDir(folder)
	require.NoError(t, err)
	for _, entry := range entries {
		assert.NotContains(t, entry.Name(), ".new-", "nothing is left behind")
	}
}
