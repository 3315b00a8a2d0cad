//go:build !race

package test

import (
	"context"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"pilotrix/core/plain"
)

// hostile is a name that acts on a terminal: it would clear the screen, write the clipboard, turn the direction of
// writing, and begin a sequence by the one character that does it alone.
const hostile = "x\x1b[2J\x1b]52;c;cm0gLXJm\x07\u202ey\u009b2Jz\x08\x7f"

// commandsWith are the commands that print something of what others wrote, each with what it is given. Interactive are
// those that draw on a terminal, or go on until they are ended; they have tests of their own.
var commandsWith = map[string][][]string{
	"demo": {
		{"--list"},
		{"--list", "--json"},
	},
	"device add":  {{"again", "unix:" + hostile}, {hostile, "unix:/x"}},
	"device edit": {{"again", "--place", hostile}, {hostile}},
	"device check": {
		{},
		{"DEVICES"},
		{"--json-schema"},
	},
	"device list":   {{}, {"--json"}},
	"device remove": {{"none" + hostile}},
	"device show":   {{"again"}, {hostile}},
	"dialect check": {
		{"DIALECT"},
	},
	"dialect list":   {{}, {"--json"}},
	"dialect schema": {{}},
	"dialect show":   {{"cormel-g2"}, {hostile}},
	"dialect try":    {{"cormel-g2", "TEXT"}, {"cormel-g2", "--session", "1"}},
	"hunt": {
		{"unix:" + hostile},
	},
	"logbook draw":   {{"1", "course"}, {"1", hostile}},
	"logbook export": {{"1"}, {"77"}},
	"logbook import": {{"EXPORT"}, {"TEXT"}},
	"logbook list":   {{}, {"--json"}, {"--text", hostile}},
	"logbook note": {
		{"1", hostile},
	},
	"logbook prune": {{"--older", "0d"}},
	"logbook show":  {{"1"}, {"1", "--json"}},
	"paste":         {{"unix:/none", "TEXT"}},
	"plan":          {{"RUNBOOK", "--dialect", "DIALECT"}},
	"ports": {
		{},
		{"--json"},
	},
	"reckon burn":   {{"--part", hostile}},
	"reckon erase":  {{"--at", hostile}, {"--at", "0x40000", "--size", "TEXT"}},
	"reckon time":   {{"1 MB"}},
	"reckon blocks": {{"1 MB"}},
	"run":           {{"RUNBOOK", "--on", "unix:" + hostile, "--dialect", "DIALECT"}},
	"receive":       {{"unix:/none", "x"}},
	"runbook check": {{"RUNBOOK"}},
	"runbook list": {
		{},
		{"--json"},
	},
	"runbook schema": {{}},
	"runbook show":   {{"standby-bank-upgrade"}, {hostile}},
	"send":           {{"unix:/none", "TEXT"}},
	"shelf add":      {{"FOLDER"}},
	"shelf fit":      {{}},
	"shelf list":     {{}, {"--json"}},
	"shelf remove":   {{hostile}},
	"shelf show": {
		{hostile},
		{"image"},
	},
	"upgrade-paths check":  {{"TEXT"}},
	"upgrade-paths list":   {{}},
	"upgrade-paths schema": {{}},
	"upgrade-paths show":   {{hostile}},
	"version":              {{}, {"--json"}},
}

var commandsThatDraw = []string{"bench", "help", "logbook replay", "open", "provision", "serve"}

// commandTree are all commands that do something, as the program lists them.
func commandTree(t *testing.T, path ...string) (all []string) {
	t.Helper()
	out, err := exec.Command(program, append(slices.Clone(path), "--help")...).CombinedOutput()
	require.NoError(t, err, "%s", out)
	_, list, has := strings.Cut(string(out), "Available Commands:\n")
	if !has {
		return []string{strings.Join(path, " ")}
	}
	list, _, _ = strings.Cut(list, "\n\n")
	for _, row := range regexp.MustCompile(`(?m)^  (\S+)`).FindAllStringSubmatch(list, -1) {
		if len(path) > 0 || !slices.Contains([]string{"completion", "help"}, row[1]) {
			all = append(all, commandTree(t, append(slices.Clone(path), row[1])...)...)
		}
	}
	return all
}

// TestNothingThatActsIsPrinted runs every command over files, names and records that hold what acts on a terminal, and
// reads each byte of what it prints.
func TestNothingThatActsIsPrinted(t *testing.T) {
	t.Parallel()
	home := tempDir(t)
	write := func(name, text string) string {
		path := filepath.Join(home, name)
		require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o700))
		require.NoError(t, os.WriteFile(path, []byte(text), 0o600))
		return path
	}
	quoted := fmt.Sprintf("%q", hostile)
	quoted = strings.NewReplacer(`\x7f`, `\u007f`, `\x08`, `\u0008`, `\b`, `\u0008`, `\a`, `\u0007`, `\x1b`, `\u001b`).
		Replace(quoted)
	places := map[string]string{
		"DEVICES": write("config/pilotrix/devices.yaml",
			"devices:\n  - {device: kept, target: \"unix:/x\", place: "+quoted+"}\n"),
		"DIALECT": write("config/pilotrix/dialects/own.yaml",
			"dialect: own\ntitle: "+quoted+"\nmodes: [{mode: ready, title: "+quoted+", prompt: '^> $'}]\n"),
		"RUNBOOK": write("config/pilotrix/runbooks/own.yaml",
			"runbook: own\ntitle: "+quoted+"\nphases:\n  - phase: "+quoted+"\n    steps: [{step: "+quoted+", note: "+quoted+"}]\n"),
		"TEXT": write("text"+hostile, hostile+"\nlook "+hostile+"\n"),
		"EXPORT": write("export",
			`{"entry":{"id":1,"began":"2026-03-02T14:00:00Z","target":`+quoted+`,"dialect":`+quoted+`,"device":`+quoted+`,"runbook":`+quoted+`,"title":`+quoted+`,"outcome":`+quoted+`,"message":`+quoted+`},"form":1}`+"\n"+`{"seq":1,"at":"2026-03-02T14:00:00Z","kind":"note","level":"info","text":`+quoted+`}`+"\n"+`{"seq":2,"at":"2026-03-02T14:00:01Z","kind":"line.in","bytes":`+quoted+`}`+"\n"),
		"FOLDER":   filepath.Dir(write("images"+hostile+"/image"+hostile+".bin", "release: "+hostile+"\n")),
		"REGISTER": write("data/pilotrix/shelf.json", `{"folders":[`+quoted+`]}`),
	}
	run := func(args ...string) string {
		given := make([]string, len(args))
		for i, arg := range args {
			if given[i] = arg; places[arg] != "" {
				given[i] = places[arg]
			}
		}
		command := exec.Command(program, given...)
		command.Env, command.Dir = append(os.Environ(), homeAt(home)...), home
		out, _ := command.CombinedOutput()
		for i, r := range string(out) {
			if r != '\n' && r != '\t' && r != '\r' && plain.Acts(r) {
				assert.Fail(t, "something acts", "%q prints %q at %d: %q", args, r, i,
					string(out[max(0, i-60):min(len(out), i+60)]))
				break
			}
		}
		return string(out)
	}
	require.Contains(t, run("logbook", "import", "EXPORT"), "entry 1")
	require.Contains(t, run("logbook", "import", "EXPORT"), "entry 2", "prune keeps the newest")
	tree := commandTree(t)
	for _, path := range tree {
		rows, known := commandsWith[path]
		if !known {
			assert.Contains(t, commandsThatDraw, path, "a command without a row here")
			continue
		}
		for _, args := range rows {
			out := run(append(strings.Fields(path), args...)...)
			assert.NotContains(t, out, "a fault of this program")
		}
		run(append(strings.Fields(path), "--"+hostile)...)
		run(append(strings.Fields(path), hostile, hostile, hostile, hostile)...)
	}
	for path := range commandsWith {
		assert.Contains(t, tree, path, "a row for a command that is not there")
	}
	assert.Contains(t, run("logbook", "list"), "x·[2J")
}

// TestAPipeInAPlaceOfOursHoldsNothingUp has one where each of the program's own files would be: what is asked for ends,
// and says so where that file matters.
func TestAPipeInAPlaceOfOursHoldsNothingUp(t *testing.T) {
	t.Parallel()
	for place, commands := range map[string]map[string]string{
		"config/pilotrix/devices.yaml":      {"device list": "is no file", "device add a unix:/x": "is no file"},
		"config/pilotrix/images.yaml":       {"shelf list": "is no file"},
		"config/pilotrix/runbooks/own.yaml": {"runbook list": "rescue-over-serial"},
		"data/pilotrix/shelf.json":          {"shelf list": "is no file", "shelf add .": "is no file"},
		"data/pilotrix/logbook.db":          {"logbook list": "it is no file"},
		"cache/pilotrix/digests.json":       {"shelf list": ""},
	} {
		home := tempDir(t)
		path := filepath.Join(home, place)
		require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o700))
		require.NoError(t, syscall.Mkfifo(path, 0o600))
		for command, want := range commands {
			ctx, cancel := context.WithTimeout(t.Context(), time.Minute)
			run := exec.CommandContext(ctx, program, strings.Fields(command)...)
			run.Env, run.Dir = append(os.Environ(), homeAt(home)...), home
			out, _ := run.CombinedOutput()
			assert.NoError(t, ctx.Err(), "%s waits for %s", command, place)
			assert.Contains(t, string(out), want, "%s, %s", command, place)
			cancel()
		}
	}
}
