package test

import (
	"encoding/json"
	"os/exec"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// layers are the folders from the top down: a package may import those below its own, and its own.
// Beside core stands bench, which may use core's line, clock and servers.
var layers = []struct {
	prefix string
	may    []string
}{
	{"cmd", []string{"cmd", "tui", "app", "demo", "bench", "core"}},
	{"tui", []string{"tui", "app", "core"}},
	{"app", []string{"app", "demo", "bench", "core"}},
	{"demo", []string{"demo", "bench", "core"}},
	{"bench", []string{"bench", "core/clock", "core/line", "core/transfer", "core/network"}},
	{"core/session", []string{"core"}},
	{
		"core/transcript",
		[]string{"core/dialect", "core/event", "core/exchange", "core/logbook", "core/sense", "core/shipped"},
	},
	{"core/shelves", []string{"core/dialect", "core/image", "core/ownfile", "core/shipped", "core/source"}},
	{"core/shipped", []string{"core/dialect", "core/image", "core/runbook"}},
	{"core/runbook/verbs", []string{"core"}},
	{
		"core/runbook/engine",
		[]string{
			"core/runbook", "core/carrier", "core/network", "core/offer", "core/preflight/netfilter", "core/clock",
			"core/device", "core/dialect", "core/event", "core/expression", "core/image", "core/reach",
			"core/arithmetic", "core/sense", "core/transfer",
		},
	},
	{
		"core/runbook",
		[]string{
			"core/carrier", "core/device", "core/dialect", "core/event", "core/expression", "core/image", "core/line",
			"core/network", "core/arithmetic", "core/source", "core/runbook/verbs",
		},
	},
	{"core/inventory", []string{"core/line", "core/ownfile", "core/source"}},
	{"core/state", []string{"core/event"}},
	{"core/suggest", []string{"core/arithmetic", "core/carrier", "core/event", "core/sense", "core/state"}},
	{"core/evidence", []string{"core/palette", "core/state", "core/event"}},
	{
		"core/carrier",
		[]string{
			"core/clock", "core/line", "core/network", "core/offer", "core/preflight/netfilter", "core/arithmetic",
			"core/transfer",
		},
	},
	{
		"core/serve",
		[]string{
			"core/carrier", "core/offer", "core/transfer", "core/clock", "core/event", "core/image", "core/network",
		},
	},
	{"core/preflight/netfilter", []string{"core/clock", "core/network", "core/offer", "core/transfer"}},
	{
		"core/preflight",
		[]string{
			"core/carrier", "core/preflight/netfilter", "core/offer", "core/transfer", "core/clock", "core/network",
		},
	},
	{"core/reach", []string{"core/clock", "core/network"}},
	{"core/image", []string{"core/device", "core/ownfile", "core/source"}},
	{"core/logbook", []string{"core/event", "core/clock"}},
	{"core/exchange", []string{"core/event", "core/screen", "core/sense", "core/shown"}},
	{
		"core/dialect",
		[]string{
			"core/dialect/spelltest", "core/event", "core/exchange", "core/shown", "core/device", "core/expression",
			"core/image", "core/line", "core/arithmetic", "core/screen", "core/sense", "core/source",
		},
	},
	{"core/sense", []string{"core/screen", "core/shown"}},
	{"core/shown", []string{"core/screen"}},
	{"core/expression", []string{"core/device"}},
	{
		"core/transfer",
		[]string{"core/offer", "core/transfer", "core/clock", "core/line", "core/network", "core/arithmetic"},
	},
	{"core/offer", []string{"core/offer", "core/transfer", "core/clock", "core/network"}},
	{"core/source", []string{"core/source"}},
	{"core/network", []string{"core/network"}},
	{
		"core/provision",
		[]string{"core/reach", "core/clock", "core/network", "core/event", "core/ownfile", "core/source"},
	},
	{"core/arithmetic", []string{"core/line"}},
	{"core/line/telnet", nil},
	{"core/line", []string{"core/clock", "core/line/telnet", "core/line/sshsettings", "core/network/apart"}},
	{"core/event", []string{"core/clock"}},
	{"core", nil}, // everything else of core stands alone
	{"test", []string{"test", "cmd", "tui", "demo", "bench", "core"}},
}

// interfaceLibraries may be used by tui only.
var interfaceLibraries = []string{"charm.land/", "github.com/charmbracelet/"}

type goPackage struct {
	ImportPath                         string
	Imports, TestImports, XTestImports []string
}

func TestImportsRunDownwards(t *testing.T) {
	t.Parallel()
	list := exec.Command("go", "list", "-json=ImportPath,Imports,TestImports,XTestImports", "./...")
	list.Dir = ".."
	out, err := list.Output()
	require.NoError(t, err)
	seen := 0
	for decoder := json.NewDecoder(strings.NewReader(string(out))); decoder.More(); seen++ {
		var p goPackage
		require.NoError(t, decoder.Decode(&p))
		for _, complaint := range complaints(p) {
			t.Error(complaint)
		}
	}
	assert.Greater(t, seen, 20)
}

// TestTheRulesBite shows that a broken rule is found.
func TestTheRulesBite(t *testing.T) {
	assert.NotEmpty(t, complaints(goPackage{ImportPath: "pilotrix/core/line", Imports: []string{"pilotrix/bench"}}))
	assert.NotEmpty(t,
		complaints(goPackage{ImportPath: "pilotrix/core/sense", Imports: []string{"charm.land/lipgloss/v2"}}))
	assert.NotEmpty(t,
		complaints(goPackage{ImportPath: "pilotrix/core/runbook", Imports: []string{"pilotrix/core/runbook/engine"}}))
	assert.NotEmpty(t,
		complaints(goPackage{ImportPath: "pilotrix/core/runbook/engine", Imports: []string{"pilotrix/core/session"}}))
	assert.NotEmpty(t,
		complaints(goPackage{ImportPath: "pilotrix/bench/brindle", Imports: []string{"pilotrix/core/session"}}))
	assert.NotEmpty(t, complaints(goPackage{ImportPath: "pilotrix/helpers"}))
	assert.Empty(t, complaints(goPackage{
		ImportPath: "pilotrix/tui/cards",
		Imports:    []string{"pilotrix/core/event", "charm.land/lipgloss/v2"},
	}))
}

// everywhere are small packages of core that every other part of it may use.
var everywhere = []string{"core/units", "core/plain", "core/secret"}

func complaints(p goPackage) (found []string) {
	name := strings.TrimPrefix(p.ImportPath, "pilotrix/")
	for _, layer := range layers {
		if !under(name, layer.prefix) {
			continue
		}
		for _, imported := range append(append(p.Imports, p.TestImports...), p.XTestImports...) {
			ours, isOurs := strings.CutPrefix(imported, "pilotrix/")
			if isOurs && ours != name && !underAny(ours, layer.may) &&
				!(underAny(ours, everywhere) && strings.HasPrefix(name, "core/")) {
				found = append(found, name+" may not import "+ours)
			}
			for _, library := range interfaceLibraries {
				if strings.HasPrefix(imported, library) && layer.prefix != "tui" {
					found = append(found, name+" may not import "+imported+": interface code belongs to tui")
				}
			}
		}
		return found
	}
	return []string{name + " stands in no layer: name it in this test and in docs/architecture.md"}
}

func under(name, prefix string) bool { return name == prefix || strings.HasPrefix(name, prefix+"/") }

func underAny(name string, prefixes []string) bool {
	for _, prefix := range prefixes {
		if under(name, prefix) {
			return true
		}
	}
	return false
}
