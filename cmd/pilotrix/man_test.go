package main

import (
	"flag"
	"io"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/spf13/cobra"
	"github.com/spf13/cobra/doc"
	"github.com/spf13/pflag"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

var update = flag.Bool("update", false, "write docs/man anew")

// manual is where the manual's pages are.
const manual = "../../docs/man"

// TestTheManualIsOfTheCommands makes a page of each command and holds docs/man to them.
func TestTheManualIsOfTheCommands(t *testing.T) {
	made := t.TempDir()
	root := (&program{out: io.Discard, err: io.Discard}).root()
	root.DisableAutoGenTag = true
	plainDefaults(root)
	day := time.Date(2026, 1, 1, 0, 0, 0, 0, time.UTC) // a page changes with its command only
	require.NoError(t, doc.GenManTree(root, &doc.GenManHeader{Title: "PILOTRIX", Section: "1", Source: "Pilotrix", Manual: "Pilotrix", Date: &day}, made))
	if *update {
		require.NoError(t, os.RemoveAll(manual))
		require.NoError(t, os.CopyFS(manual, os.DirFS(made)))
	}
	for _, folders := range [][2]string{{made, manual}, {manual, made}} {
		pages, err := filepath.Glob(filepath.Join(folders[0], "*.1"))
		require.NoError(t, err)
		require.NotEmpty(t, pages)
		for _, page := range pages {
			want, err := os.ReadFile(page)
			require.NoError(t, err)
			got, err := os.ReadFile(filepath.Join(folders[1], filepath.Base(page)))
			require.NoError(t, err, "go test ./cmd/pilotrix -run Manual -update makes it")
			assert.Equal(t, string(want), string(got), "%s: go test ./cmd/pilotrix -run Manual -update makes it anew", filepath.Base(page))
		}
	}
}

// plainDefaults has no page say where this machine keeps its files.
func plainDefaults(cmd *cobra.Command) {
	for _, flags := range []*pflag.FlagSet{cmd.PersistentFlags(), cmd.Flags()} {
		if book := flags.Lookup("logbook"); book != nil {
			book.DefValue = "$XDG_DATA_HOME/pilotrix/logbook.db"
		}
	}
	for _, one := range cmd.Commands() {
		plainDefaults(one)
	}
}
