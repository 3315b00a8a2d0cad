//go:build !race

package test

import (
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestTheWalkOfTheDocumentation does what docs/languages.md says for a device whose dialect is not there: its
// dialect and its runbook, as they stand in the text, are checked, planned, run, and tried on what was recorded.
func TestTheWalkOfTheDocumentation(t *testing.T) {
	t.Parallel()
	text, err := os.ReadFile("../docs/languages.md")
	require.NoError(t, err)
	var files []string
	for _, block := range regexp.MustCompile("(?s)\n   ```yaml\n(.*?)\n   ```").FindAllStringSubmatch(string(text),
		-1) {
		files = append(files, regexp.MustCompile(`(?m)^   `).ReplaceAllString(block[1], "")+"\n")
	}
	require.Len(t, files, 3, "a dialect in two pieces, and a runbook")
	folder := tempDir(t)
	dialect, book := filepath.Join(folder, "mine.yaml"), filepath.Join(folder, "book.yaml")
	require.NoError(t, os.WriteFile(dialect, []byte(files[0]+files[1]), 0o600))
	require.NoError(t, os.WriteFile(book, []byte(files[2]), 0o600))
	do := func(args ...string) string {
		t.Helper()
		run := exec.Command(program, args...)
		run.Env = append(os.Environ(), "PASS=lamp-and-tide", "XDG_DATA_HOME="+folder)
		out, err := run.CombinedOutput()
		require.NoError(t, err, "%v: %s", args, out)
		assert.NotContains(t, string(out), "lamp-and-tide")
		return string(out)
	}
	assert.Contains(t, do("dialect", "check", dialect), "nothing to complain of")
	assert.Contains(t, do("runbook", "check", book, "--dialect", dialect), "nothing to complain of")
	with := []string{"--dialect", dialect, "--set", "user=harbour", "--secret", "password=env:PASS"}
	assert.Contains(t, do(append([]string{"plan", book}, with...)...), "types     rebuild")
	run := append([]string{"run", book, "--on", "bench:mare-gw1", "--approve", "all", "--time-scale", "16"}, with...)
	assert.Contains(t, do(run...), "proved  the lines of mare-gw1 are registered")
	tried := do("dialect", "try", dialect, "--session", "1")
	for _, want := range []string{"reading self", "fact running.release = 7.4.2", "action rebuild", "question word", "nothing knows 0 of them"} {
		assert.Contains(t, tried, want)
	}
	later := do(append(run, "--from", "prove")...)
	assert.Contains(t, later, "Make the index of mare-gw1 anew")
	assert.Contains(t, later, "the run begins at “prove”")
	assert.Equal(t, 1, strings.Count(later, "proved  "))
}
