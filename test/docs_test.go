package test

import (
	"fmt"
	"os"
	"regexp"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"pilotrix/core/dialect"
	"pilotrix/core/image"
	"pilotrix/core/runbook"
	"pilotrix/core/source"
	"pilotrix/core/source/goldentest"
	"pilotrix/demo"
)

// tables are what the documentation has from the program itself, by the name in the comment before each.
func tables() map[string]string {
	all := map[string]string{
		"verbs":         runbook.VerbTable(),
		"dialect":       source.KeyTable(dialect.Document{}),
		"runbook":       source.KeyTable(runbook.Document{}),
		"phase":         source.KeyTable(runbook.Phase{}),
		"step":          source.KeyTable(runbook.Common{}),
		"upgrade-paths": source.KeyTable(image.AllowedStep{}),
	}
	for name, of := range map[string]any{
		"line": dialect.Line{}, "mode": dialect.Mode{}, "move": dialect.Move{}, "dialog": dialect.Dialog{}, "reading": dialect.Reading{}, "fact": dialect.FactPattern{},
		"row": dialect.RowPattern{}, "echo": dialect.Echo{}, "action": dialect.Action{}, "pending": dialect.Pending{}, "speed": dialect.SetSpeed{}, "catch": dialect.Catch{}, "commands": dialect.Commands{}, "busy": dialect.Busy{}, "files": dialect.Files{}, "next-start": dialect.NextStart{}, "flash": dialect.Flash{}, "description": dialect.Description{}, "provision": dialect.Provision{},
	} {
		all["dialect "+name] = source.KeyTable(of)
	}
	for _, verb := range runbook.Verbs() {
		all["verb "+verb.Name] = source.KeyTable(verb.New())
	}
	return all
}

var tableMark = regexp.MustCompile(`(?s)(<!-- table: ([\w -]+) -->\n)(.*?)(<!-- end -->)`)

// TestTheDocumentationHasTheLanguagesAsTheyAre holds every table of the documentation to the program: a verb or a key
// that is new, or has other words, shows there. With -update they are written again.
func TestTheDocumentationHasTheLanguagesAsTheyAre(t *testing.T) {
	const path = "../docs/languages.md"
	text, err := os.ReadFile(path)
	require.NoError(t, err)
	known, seen := tables(), map[string]bool{}
	now := tableMark.ReplaceAllStringFunc(string(text), func(block string) string {
		parts := tableMark.FindStringSubmatch(block)
		seen[parts[2]] = true
		assert.Contains(t, known, parts[2])
		return parts[1] + known[parts[2]] + parts[4]
	})
	if goldentest.Updating() {
		require.NoError(t, os.WriteFile(path, []byte(now), 0o644))
	}
	assert.True(t, string(text) == now || goldentest.Updating(),
		"docs/languages.md is not what the program says: go test ./test -run Documentation -update")
	for name, table := range known {
		assert.True(t, seen[name] || table == "", "no table of %q in docs/languages.md", name)
	}
}

var demosMark = regexp.MustCompile(`(?s)(<!-- demos -->\n)(.*?)(<!-- end -->)`)

// TestTheReadmeHasTheDemosAsTheyAre holds README's table of demos to those that there are. With -update it is written
// again.
func TestTheReadmeHasTheDemosAsTheyAre(t *testing.T) {
	const path = "../README.md"
	text, err := os.ReadFile(path)
	require.NoError(t, err)
	table := "| kind of change | the one command that shows it | what happens |\n|---|---|---|\n"
	for _, s := range demo.Scenes() {
		table += fmt.Sprintf("| %s | `pilotrix demo %s` | %s |\n", s.Shows, s.Name, s.Title)
	}
	require.True(t, demosMark.Match(text), "README.md has a place for the demos")
	now := demosMark.ReplaceAllString(string(text), "${1}"+table+"${3}")
	if goldentest.Updating() {
		require.NoError(t, os.WriteFile(path, []byte(now), 0o644))
	}
	assert.True(t, string(text) == now || goldentest.Updating(),
		"README.md has other demos than there are: go test ./test -run Readme -update")
}
