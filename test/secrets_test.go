package test

import (
	"bytes"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// No secret of any test is in a file that the program has written, nor in its arguments, over the whole run: every test
// takes its folders from tempDir, which looks through them at its end, and the processes are looked at meanwhile.

// secretOfTests is what the devices of the tests let in with.
const secretOfTests = "lamp-and-tide"

// ownSecret ends the names of files that a test has put a secret into itself.
const ownSecret = ".word"

// tempDir is a folder of the test, in which no secret may be left.
func tempDir(t testing.TB) string {
	t.Helper()
	dir := t.TempDir()
	t.Cleanup(func() {
		for _, path := range secretsIn(dir) {
			t.Errorf("%s holds the secret %s", path, secretOfTests)
		}
	})
	return dir
}

// secretsIn are the files of a folder that hold the secret.
func secretsIn(folder string) (found []string) {
	_ = filepath.WalkDir(folder, func(path string, d fs.DirEntry, err error) error {
		if err != nil || !d.Type().IsRegular() || strings.HasSuffix(path, ownSecret) {
			return nil
		}
		if data, err := os.ReadFile(path); err == nil && bytes.Contains(data, []byte(secretOfTests)) {
			found = append(found, path)
		}
		return nil
	})
	return found
}

// arguments looks at what the processes of the program were started with, until it is ended.
type arguments struct {
	ended    chan struct{}
	over     sync.WaitGroup
	seen     int      // processes of the program
	reported []string // those with the secret in their arguments
}

// lookEvery is short beside the life of any process of the program that does something.
const lookEvery = 100 * time.Millisecond

func watchArguments() *arguments {
	a := &arguments{ended: make(chan struct{})}
	a.over.Go(func() {
		known := map[string]bool{}
		for {
			select {
			case <-a.ended:
				return
			case <-time.After(lookEvery):
				a.look(known)
			}
		}
	})
	return a
}

func (a *arguments) look(known map[string]bool) {
	links, _ := filepath.Glob("/proc/[0-9]*/exe")
	for _, link := range links {
		place := filepath.Dir(link)
		if to, err := os.Readlink(link); err != nil || to != program || known[place] {
			continue
		}
		known[place] = true
		a.seen++
		if args, _ := os.ReadFile(filepath.Join(place, "cmdline")); bytes.Contains(args, []byte(secretOfTests)) {
			a.reported = append(a.reported, strings.ReplaceAll(string(args), "\x00", " "))
		}
	}
}

// end ends it and returns what is wrong.
func (a *arguments) end() []string {
	close(a.ended)
	a.over.Wait()
	return a.reported
}

// TestTheSearchForSecretsFindsThem holds that what is above can fail.
func TestTheSearchForSecretsFindsThem(t *testing.T) {
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "db"), []byte("\x00\x01"+secretOfTests+"\x00"), 0o600))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "mine"+ownSecret), []byte(secretOfTests), 0o600))
	assert.Equal(t, []string{filepath.Join(dir, "db")}, secretsIn(dir))

	term := startTerminal(t, 80, 24, "open", "exec:sleep 600", "--logbook", "none")
	term.until("helm")
	a := &arguments{}
	a.look(map[string]bool{})
	assert.Positive(t, a.seen, "the program's processes are seen")
	term.keys("C-g", "q")
	term.until("exit code 0")
}
