package main

import (
	"bytes"
	"context"
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/adrg/xdg"
	"github.com/stretchr/testify/require"

	"pilotrix/core/source/goldentest"
	"pilotrix/demo"
)

// TestTheScripts carries the commands of each script out as whoever types them would, and holds what they print, and
// the code that they end with where that is not 0. In a script a line with a dollar is a command, and what is indented
// is what it printed; -update writes that again. HOME stands for the folder of the user that a script is carried out
// for, where images/ and gateway/ are shelves of the demo.
func TestTheScripts(t *testing.T) {
	scripts, err := filepath.Glob("testdata/*.script")
	require.NoError(t, err)
	require.NotEmpty(t, scripts)
	for _, script := range scripts {
		script, err := filepath.Abs(script) // a user is somewhere else
		require.NoError(t, err)
		t.Run(filepath.Base(script), func(t *testing.T) {
			text, err := os.ReadFile(script)
			require.NoError(t, err)
			s := newScripted(t)
			var now strings.Builder
			for line := range strings.Lines(string(text)) {
				switch {
				case strings.HasPrefix(line, "$ "):
					now.WriteString(line + indented.ReplaceAllString(s.run(strings.TrimSpace(line[2:])), "  $0"))
				case strings.HasPrefix(line, "# "):
					now.WriteString("\n" + line)
				}
			}
			goldentest.SameFile(t, script, strings.TrimPrefix(now.String(), "\n"))
		})
	}
}

// indented is what is printed: no line of it is taken for a command.
var indented = regexp.MustCompile(`(?m)^.+`)

// scripted is a user of a script's own.
type scripted struct {
	t    *testing.T
	home string
}

func newScripted(t *testing.T) *scripted {
	home := t.TempDir()
	for name, folder := range map[string]string{"HOME": "", "XDG_DATA_HOME": "data", "XDG_CONFIG_HOME": "config", "XDG_CACHE_HOME": "cache", "XDG_STATE_HOME": "state"} {
		t.Setenv(name, filepath.Join(home, folder))
	}
	t.Setenv("PASS", "lamp-and-tide")
	xdg.Reload()
	t.Cleanup(xdg.Reload)
	images := filepath.Join(home, "images")
	require.NoError(t, os.MkdirAll(images, 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(images, "tern-4.2.1.brm"), demo.RouterImage("4.2.1", 20_000), 0o600))
	require.NoError(t, demo.GatewayShelf(filepath.Join(home, "gateway"), 20_000))
	t.Chdir(home)
	return &scripted{t, home}
}

// words cuts a command into words; what stands in single quotes is one.
var words = regexp.MustCompile(`'[^']*'|\S+`)

// run carries one command out and returns what was printed, with what differs from run to run put aside.
func (s *scripted) run(line string) string {
	var printed bytes.Buffer
	var args []string
	for _, word := range words.FindAllString(line, -1) {
		args = append(args, strings.ReplaceAll(strings.Trim(word, "'"), "HOME", s.home))
	}
	p := &program{out: &printed, err: &printed}
	limited, cancel := context.WithTimeout(s.t.Context(), 5*time.Minute)
	defer cancel()
	code := p.run(limited, args)
	require.NoError(s.t, limited.Err(), "%s does not end", line)
	if code != 0 {
		fmt.Fprintf(&printed, "[exit code %d]\n", code)
	}
	text := strings.ReplaceAll(printed.String(), s.home, "HOME")
	for _, one := range passing {
		text = one.what.ReplaceAllString(text, one.by)
	}
	return text
}

// passing is what is another one each time.
var passing = []struct {
	what *regexp.Regexp
	by   string
}{
	{regexp.MustCompile(`\d{4}-\d\d-\d\d[ T]\d\d:\d\d(?::\d\d(?:\.\d+)?)?Z?`), "DAY TIME"},
	{regexp.MustCompile(`\b\d\d:\d\d:\d\d(?:\.\d+)?`), "TIME"},
	{regexp.MustCompile(`(?m)^.*(?: tried: |\d+ %  \d+ of ).*\n`), ""}, // how often depends on the pace
	{regexp.MustCompile(`\d+ blocks, \d+ resent`), "so many blocks"},
	{regexp.MustCompile(`[\d.]+ [KM]iB`), "so large"},
	{regexp.MustCompile(` +\b(?:\d+h)?(?:\d+m)?[\d.]+ ?[mµ]?s\b`), " so long"},
	{regexp.MustCompile(`(?m)[ \t]+$`), ""},
}
