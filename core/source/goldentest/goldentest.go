// Package goldentest holds what a test says to a file that is kept beside it.
package goldentest

import (
	"flag"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

var update = flag.Bool("update", false, "write the golden files again")

// Updating reports whether the golden files are written again.
func Updating() bool { return *update }

// Same compares a text with testdata/NAME.golden.
func Same(t *testing.T, name, got string) {
	t.Helper()
	SameFile(t, filepath.Join("testdata", name+".golden"), got)
}

// SameFile compares a text with a file.
func SameFile(t *testing.T, path, got string) {
	t.Helper()
	if *update {
		require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o755))
		require.NoError(t, os.WriteFile(path, []byte(got), 0o644))
	}
	want, err := os.ReadFile(path)
	require.NoError(t, err, "write it with -update")
	wanted, has := strings.Split(string(want), "\n"), strings.Split(got, "\n")
	for i := range max(len(wanted), len(has)) {
		if a, b := at(wanted, i), at(has, i); a != b {
			assert.Failf(t, "it is not as it was",
				"%s, line %d:\nwas  %s\nis   %s\nIf this is meant, -update writes it again.", path, i+1, a, b)
			return
		}
	}
}

// Edit changes one thing of a text: its name, what is replaced, and what comes there.
type Edit [3]string

// Edited makes every edit of a whole text, and compares what is said of each with testdata/NAME.golden.
func Edited(t *testing.T, name, whole string, edits []Edit, says func(text string) string) {
	t.Helper()
	var out strings.Builder
	for _, e := range edits {
		text := strings.Replace(whole, e[1], e[2], 1)
		require.NotEqual(t, whole, text, e[0])
		said := says(text)
		require.NotEmpty(t, said, e[0])
		fmt.Fprintf(&out, "# %s\n%s\n\n", e[0], said)
	}
	Same(t, name, out.String())
}

func at(lines []string, i int) string {
	if i < len(lines) {
		return lines[i]
	}
	return "(the end)"
}
