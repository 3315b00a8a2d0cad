package tui

import (
	"fmt"
	"os"
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"pilotrix/core/dialect"
	"pilotrix/core/event"
	"pilotrix/core/runbook"
	"pilotrix/core/runbook/engine"
	"pilotrix/core/sense"
	"pilotrix/core/source/goldentest"
	"pilotrix/core/suggest"
	"pilotrix/tui/inputs"
	"pilotrix/tui/keys"
	"pilotrix/tui/runbooks"
)

// shelfless is a library that holds nothing.
type shelfless struct{}

func (shelfless) Entries() []runbooks.Entry                           { return nil }
func (shelfless) Needs(*runbook.Runbook) []inputs.Need                { return nil }
func (shelfless) Takes(*runbook.Runbook, runbook.Input, string) error { return nil }
func (shelfless) Available(string) suggest.Kit                        { return suggest.Kit{} }
func (shelfless) Prepare(*runbook.Runbook, map[string]string) (*runbook.Prepared, error) {
	return nil, nil
}

// stages are the states in which a session's keys differ: quiet, under way, at a hold, after a failure, with a command
// held at its Enter.
func stages(t *testing.T) (all []*app) {
	for _, more := range [][]event.Body{
		{event.Fact{Name: "device.model", Value: "R40-2"}},
		rescue(),
		append(rescue(),
			event.Ask{ID: "1", Form: event.FormHold, Text: "Removes it.", Answers: []string{engine.Approve, engine.StopHere}}),
		append(rescue(),
			event.Ask{ID: "1", Form: event.FormFailure, Text: "It failed.", Answers: []string{engine.TryAgain, engine.StopHere, engine.SkipIt, engine.RollBack}}),
		append(rescue(),
			event.Ask{ID: "1", Form: event.FormOverrun, Text: "It takes longer.", Answers: []string{engine.WaitOn, engine.GiveUp}}),
		{event.Interlock{State: event.InterlockHeld, Command: "recommence", Says: "restarts it"}},
		append(rescue(),
			event.Ask{ID: "1", Form: event.FormIdentity, Text: "It cannot be read.", Answers: []string{engine.Approve, engine.StopHere}}),
		append(rescue(),
			event.Ask{ID: "1", Form: event.FormRecord, Text: "The disk is full.", Answers: []string{engine.TryAgain, engine.GoUnrecorded, engine.StopHere}}),
		append(rescue(), event.KeysKept{State: event.KeysWaiting, Count: 1}),
		{event.Helm{Who: event.Hand}, event.Mode{Name: sense.Receiving, Asks: "C"}},
	} {
		a := newWired(t).app
		a.opt.Library, a.opt.AddFolder = shelfless{}, func(string) error { return nil }
		a.opt.Dialects = func() []*dialect.Dialect { return nil }
		a.places = a.allPlaces()
		feed(a, more...)
		a.show("device")
		press(a, 'd')
		all = append(all, a)
	}
	return all
}

var keysMark = regexp.MustCompile(`(?s)(<!-- keys -->\n)(.*?)(<!-- end -->)`)

// TestTheReadmeHasTheKeysAsTheyAre holds README's table to the declarations that also dispatch them.
func TestTheReadmeHasTheKeysAsTheyAre(t *testing.T) {
	var parts []string
	rows := map[string][]string{}
	for _, a := range stages(t) {
		for _, part := range a.declared() {
			if !slices.Contains(parts, part.Name) {
				parts = append(parts, part.Name)
			}
			for _, key := range part.Keys.Enabled() {
				row := fmt.Sprintf("| %s | `%s` | %s |\n", part.Name, part.Before+key.Shown(),
					strings.ReplaceAll(key.HelpText(), "|", `\|`))
				if !slices.Contains(rows[part.Name], row) {
					rows[part.Name] = append(rows[part.Name], row)
				}
			}
		}
	}
	table := "| where | key | what it does |\n|---|---|---|\n"
	for _, part := range parts {
		table += strings.Join(rows[part], "")
	}
	const path = "../README.md"
	text, err := os.ReadFile(path)
	require.NoError(t, err)
	require.True(t, keysMark.Match(text), "README.md has a place for the keys")
	now := keysMark.ReplaceAllStringFunc(string(text), func(block string) string {
		part := keysMark.FindStringSubmatch(block)
		return part[1] + table + part[3]
	})
	if goldentest.Updating() {
		require.NoError(t, os.WriteFile(path, []byte(now), 0o644))
	}
	assert.True(t, string(text) == now || goldentest.Updating(),
		"README.md has other keys than the program: go test ./tui -run Readme -update")
}

// TestNoKeyIsDeclaredTwice looks for a key that two parts of the interface would take at once.
func TestNoKeyIsDeclaredTwice(t *testing.T) {
	for _, a := range stages(t) {
		for at, p := range a.places {
			a.shown = at
			seen := map[string]string{}
			for _, declared := range append(a.focus()[:3], own(p.Keys())) {
				for _, key := range declared {
					for _, name := range key.Keys() {
						if !key.Enabled() || name == "\x00" {
							continue
						}
						assert.NotContains(t, seen, name, "%s: %q does %q and %q", p.name, name, seen[name], key.Does())
						seen[name] = key.Does()
					}
				}
			}
		}
		seen := map[string]bool{}
		for _, key := range a.leaderKeys().Enabled() {
			for _, name := range key.Keys() {
				assert.False(t, seen[name], "behind the leader key %q is there twice", name)
				seen[name] = true
			}
		}
	}
}

// own are a view's keys without those that scroll where the view has the same ones for choosing, and without Enter,
// which answers a question before it is a view's.
func own(all keys.Map) (kept keys.Map) {
	names := map[string]bool{"enter": true}
	for _, key := range all {
		if !slices.ContainsFunc(key.Keys(), func(name string) bool { return names[name] }) {
			kept = append(kept, key)
		}
		for _, name := range key.Keys() {
			names[name] = true
		}
	}
	return kept
}
