package main

import (
	"io"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"pilotrix/core/source/goldentest"

	"github.com/adrg/xdg"
	"github.com/spf13/cobra"
	"github.com/spf13/cobra/doc"
	"github.com/spf13/pflag"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// manual is where the manual's pages are.
const manual = "../../docs/man"

// TestTheManualIsOfTheCommands makes a page of each command and holds docs/man to them, whoever makes it.
func TestTheManualIsOfTheCommands(t *testing.T) {
	if goldentest.Updating() {
		require.NoError(t, os.RemoveAll(manual))
		require.NoError(t, os.CopyFS(manual, os.DirFS(makeManual(t))))
	}
	t.Cleanup(xdg.Reload) // after the variables are what they were
	for _, home := range []string{"", t.TempDir(), filepath.Join(t.TempDir(), "the home of another")} {
		if home != "" {
			t.Setenv("HOME", home)
			t.Setenv("XDG_CONFIG_HOME", filepath.Join(home, "settings"))
			t.Setenv("XDG_DATA_HOME", "")
			xdg.Reload()
		}
		made := makeManual(t)
		for _, folders := range [][2]string{{made, manual}, {manual, made}} {
			pages, err := filepath.Glob(filepath.Join(folders[0], "*.1"))
			require.NoError(t, err)
			require.NotEmpty(t, pages)
			for _, page := range pages {
				want, err := os.ReadFile(page)
				require.NoError(t, err)
				got, err := os.ReadFile(filepath.Join(folders[1], filepath.Base(page)))
				require.NoError(t, err, "go test ./cmd/pilotrix -run Manual -update makes it")
				assert.Equal(t, string(want), string(got),
					"%s: go test ./cmd/pilotrix -run Manual -update makes it again", filepath.Base(page))
			}
		}
	}
}

func makeManual(t *testing.T) (folder string) {
	t.Helper()
	folder = t.TempDir()
	root := (&program{out: io.Discard, err: io.Discard}).root()
	root.DisableAutoGenTag = true
	anyHome(root)
	day := time.Date(2026, 1, 1, 0, 0, 0, 0, time.UTC) // a page changes with its command only
	require.NoError(t,
		doc.GenManTree(root,
			&doc.GenManHeader{Title: "PILOTRIX", Section: "1", Source: "Pilotrix", Manual: "Pilotrix", Date: &day},
			folder))
	return folder
}

// anyHome has no page say where this machine keeps its files.
func anyHome(cmd *cobra.Command) {
	places := strings.NewReplacer(xdg.ConfigHome, "$XDG_CONFIG_HOME", xdg.DataHome, "$XDG_DATA_HOME", xdg.StateHome,
		"$XDG_STATE_HOME", xdg.CacheHome, "$XDG_CACHE_HOME", xdg.Home, "$HOME")
	cmd.Long, cmd.Example, cmd.Short = places.Replace(cmd.Long), places.Replace(cmd.Example), places.Replace(cmd.Short)
	for _, flags := range []*pflag.FlagSet{cmd.PersistentFlags(), cmd.Flags()} {
		flags.VisitAll(
			func(f *pflag.Flag) { f.Usage, f.DefValue = places.Replace(f.Usage), places.Replace(f.DefValue) })
	}
	for _, one := range cmd.Commands() {
		anyHome(one)
	}
}
