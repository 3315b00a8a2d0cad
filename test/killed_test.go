//go:build !race

package test

import (
	"bufio"
	"bytes"
	"encoding/json"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"pilotrix/bench/brindle"
	"pilotrix/core/event"
	"pilotrix/core/logbook"
)

// TestKilledInMidTransfer kills the program without warning: the logbook holds what was reported up to
// then, and the next start says where it stood.
func TestKilledInMidTransfer(t *testing.T) {
	t.Parallel()
	book := filepath.Join(tempDir(t), "logbook.db")
	run := exec.Command(program, rescueArgs(t, book, "--time-scale", "4")...)
	run.Env = append(os.Environ(), "DEVICE_PASSWORD=lamp-and-tide")
	out, err := run.StdoutPipe()
	require.NoError(t, err)
	require.NoError(t, run.Start())
	var report int64
	var cutAt int64
	lines := bufio.NewScanner(out)
	lines.Buffer(nil, 1<<20)
	for lines.Scan() {
		var e event.Event
		require.NoError(t, json.Unmarshal(lines.Bytes(), &e))
		if progress, ok := e.Body.(event.Transfer); ok && progress.Bytes > 100_000 {
			if report == 0 {
				report = e.Seq // a quarter of a second later at the latest this has to be in the book
			}
			if progress.Bytes > 200_000 {
				cutAt = e.Seq
				require.NoError(t, run.Process.Kill())
				break
			}
		}
	}
	_ = run.Wait()
	require.NotZero(t, cutAt, "the transfer never came that far")

	opened, err := logbook.Open(book)
	require.NoError(t, err)
	var newest int64
	require.NoError(t, opened.Events(1, func(e event.Event) error { newest = e.Seq; return nil }))
	require.NoError(t, opened.Close())
	assert.GreaterOrEqual(t, newest, report)

	next := exec.Command(program, "hunt", "bench:hollow-rtr1", "--logbook", book)
	said, err := next.CombinedOutput()
	require.NoError(t, err, "%s", said)
	assert.Contains(t, string(said), "was cut off")
	assert.Contains(t, string(said), "in step “Send the image”")
	assert.Contains(t, string(said), "the line was at 115200 baud")

	list, err := exec.Command(program, "logbook", "list", "--logbook", book).Output()
	require.NoError(t, err)
	assert.Contains(t, string(list), "cut off")
}

// TestNoSecretOnDisk looks for the password in everything a run leaves behind.
func TestNoSecretOnDisk(t *testing.T) {
	t.Parallel()
	book := filepath.Join(tempDir(t), "logbook.db")
	run := exec.Command(program, rescueArgs(t, book, "--time-scale", "16")...)
	run.Env = append(os.Environ(), "DEVICE_PASSWORD=lamp-and-tide")
	var complaint bytes.Buffer
	run.Stderr = &complaint
	out, err := run.Output()
	require.NoError(t, err, "%s\n%s", &complaint, out)
	assert.NotContains(t, string(out), "lamp-and-tide")
	files, err := filepath.Glob(book + "*")
	require.NoError(t, err)
	require.NotEmpty(t, files)
	for _, file := range files {
		data, err := os.ReadFile(file)
		require.NoError(t, err)
		assert.NotContains(t, string(data), "lamp-and-tide", file)
	}
}

func TestExitCodes(t *testing.T) {
	t.Parallel()
	image := filepath.Join(tempDir(t), "tern.brm")
	require.NoError(t, os.WriteFile(image, brindle.MakeImage("4.2.1", []string{"R40-7"}, 1000), 0o600))
	rescue := []string{
		"run", "rescue-over-serial", "--on", "bench:hollow-rtr1", "--set", "user=harbour", "--secret",
		"password=env:DEVICE_PASSWORD", "--time-scale", "16",
	}
	for name, c := range map[string]struct {
		args []string
		code int
		says string
	}{
		"wrong image": {append(rescue, "--set", "image="+image, "--approve",
			"all"), 1, "This image is for R40-7"},
		"no such command":   {[]string{"frobnicate"}, 2, "unknown command"},
		"unknown flag":      {[]string{"run", "--frob"}, 2, "unknown flag"},
		"missing image":     {append(rescue, "--set", "image=/nowhere/tern.brm"), 2, "rescue-over-serial.yaml:"},
		"secret as setting": {append(rescue, "--set", "password=x"), 2, "process list"},
		"no dialect":        {[]string{"run", "rescue-over-serial", "--on", "tcp:127.0.0.1:9"}, 2, "--dialect"},
		"stopped at a hold": {rescueArgs(t, "none", "--time-scale", "16", "--approve", "nothing"), 3, ""},
	} {
		t.Run(name, func(t *testing.T) {
			args := append(c.args, "--logbook", "none")
			if c.code == 3 {
				args = without(args, "all")
			}
			run := exec.Command(program, args...)
			run.Env = append(os.Environ(), "DEVICE_PASSWORD=lamp-and-tide")
			out, _ := run.CombinedOutput()
			assert.Equal(t, c.code, run.ProcessState.ExitCode(), "%s", out)
			assert.Contains(t, string(out), c.says)
		})
	}
}

// without takes an --approve out.
func without(args []string, approval string) (rest []string) {
	for i := 0; i < len(args); i++ {
		if args[i] == "--approve" && args[i+1] == approval {
			i++
			continue
		}
		rest = append(rest, args[i])
	}
	return rest
}

// TestComplaintsNameFileLineAndColumn holds that what can be wrong before a line is opened is reported
// with its place.
func TestComplaintsNameFileLineAndColumn(t *testing.T) {
	folder := tempDir(t)
	write := func(name, text string) string {
		path := filepath.Join(folder, name)
		require.NoError(t, os.WriteFile(path, []byte(text), 0o600))
		return path
	}
	badPattern := write("pattern.yaml", "dialect: d\nmodes:\n  - {mode: m, prompt: '^(x$'}\n")
	unknownKey := write("key.yaml", "dialect: d\nmods:\n  - {mode: m, prompt: x}\n")
	noAction := write("action.yaml",
		"runbook: r\nphases:\n  - phase: one\n    steps:\n      - step: Do it\n        act: {action: fly}\n")
	noFact := write("fact.yaml",
		"runbook: r\nphases:\n  - phase: one\n    steps:\n      - step: Look\n        check: device.colour == \"red\"\n")
	notYAML := write("broken.yaml", "dialect: [\n")
	for name, c := range map[string]struct {
		args []string
		says []string
	}{
		"bad pattern":  {[]string{"dialect", "check", badPattern}, []string{"pattern.yaml:3:", "bad pattern: missing closing )", "^(x$", "^\n"}},
		"unknown key":  {[]string{"dialect", "check", unknownKey}, []string{"key.yaml:2:1", "mods"}},
		"not YAML":     {[]string{"dialect", "check", notYAML}, []string{"broken.yaml:1:"}},
		"no action":    {[]string{"runbook", "check", noAction, "--dialect", "brindle-r40"}, []string{"action.yaml:6:", "no action \"fly\"", "start-image"}},
		"unknown fact": {[]string{"runbook", "check", noFact, "--dialect", "brindle-r40"}, []string{"fact.yaml:6:", "device.colour"}},
		"bad steps": {[]string{"upgrade-paths", "check", write("paths.yaml",
			"upgrade-paths: p\nsteps:\n  - {from: [soon], to: ['8']}\n")}, []string{"paths.yaml:3:", "is no release"}},
		"no file": {[]string{"dialect", "check", filepath.Join(folder, "none.yaml")}, []string{"none.yaml"}},
	} {
		t.Run(name, func(t *testing.T) {
			out, err := exec.Command(program, c.args...).CombinedOutput()
			require.Error(t, err)
			for _, says := range c.says {
				assert.Contains(t, string(out)+"\n", says)
			}
			assert.False(t, strings.Contains(string(out), "goroutine"))
		})
	}
}
