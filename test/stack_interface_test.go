//go:build !race

package test

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"pilotrix/demo"
)

// TestTheTrapOfOneUnitInTheInterface types the word that fills only one unit: it is held at its Enter, and once it was
// sent the board says what a restart would do.
func TestTheTrapOfOneUnitInTheInterface(t *testing.T) {
	t.Parallel()
	home := tempDir(t)
	stick := filepath.Join(home, "stick")
	require.NoError(t, os.MkdirAll(stick, 0o700))
	require.NoError(t, os.WriteFile(filepath.Join(stick, "s.msl"), demo.StackImage("3.2", smallImage), 0o600))
	device := benchAt(t, "tangle-sw1", "--time-scale", "16", "--stick", stick)
	term := startTerminalAt(t, home, 160, 40, "open", "serial:"+device+"?speed=38400", "--dialect", "maskel-s24")
	types := func(text, then string) {
		term.keys("-l", text)
		term.keys("Enter")
		term.until(then)
	}
	term.until("What you type goes to the device")
	term.keys("Enter")
	term.until("who:")
	types("harbour", "pass:")
	types("lamp-and-tide", "tangle-sw1 1:")
	types("arm", "tangle-sw1 1!")
	types("load stick s.msl", "Held at its Enter")
	assert.Contains(t, term.screen(), "fills only the unit whose prompt this is")
	term.answers("F9", "load 1 begun, for unit 1")
	for !strings.Contains(term.screen(), "1     written") {
		types("report copies", "percent")
	}
	term.keys("F5")
	term.until("report copies  typed by hand")
	term.keys("r")
	screen := term.until("A restart now would part them")
	assert.Contains(t, screen, "unit 1 would start 3.2, unit 2, 3 would start 3.1")
}

// secretFile has the demo's password in a file, beside what is searched for it.
func secretFile(t *testing.T) string {
	t.Helper()
	path := filepath.Join(t.TempDir(), "word")
	require.NoError(t, os.WriteFile(path, []byte("lamp-and-tide\n"), 0o600))
	return path
}

// TestATimedRestartIsTakenBackInTheInterface sets it by the runbook, and takes it back by hand while it is counted
// down.
func TestATimedRestartIsTakenBackInTheInterface(t *testing.T) {
	t.Parallel()
	home := tempDir(t)
	require.NoError(t, demo.StackShelf(home, smallImage))
	term := startTerminalAt(t, home, 80, 24, "open", "bench:tangle-sw1", "--dialect", "maskel-s24", "--time-scale",
		"16", "--shelf", filepath.Join(home, "shelf"), "--run", "stack-upgrade", "--set", "image=strand-3.2.msl",
		"--set", "user=harbour", "--set", "minutes=30", "--secret", "password=file:"+secretFile(t))
	term.until("Writes strand 3.2")
	term.approve()
	term.until("Sets a restart of every unit")
	term.approve()
	term.untilLike(`due 2\d:\d\d`)
	term.until("Watch the restart")
	term.keys("t")
	term.until("helm  HAND")
	term.keys("-l", "umble never")
	term.keys("Enter")
	term.until("taken back: no restart is set")
	screen := term.screen()
	assert.NotContains(t, screen, "due ")
	term.keys("F10")
	term.until("Give the helm back")
	term.enters("the device has not restarted: it was dealt")
	term.answers("Escape", "✗  failed")
	assert.NotContains(t, term.screen(), "STILL OPEN")
}

// TestASessionDropsWhenTheRolesMove has the lead unit restart under an SSH session: the session comes back at the unit
// that leads then.
func TestASessionDropsWhenTheRolesMove(t *testing.T) {
	t.Parallel()
	home := tempDir(t)
	device := benchAt(t, "tangle-sw1", "--time-scale", "16", "--at", "ssh")
	term := startTerminalAt(t, home, 160, 40, "open", device, "--dialect", "maskel-s24", "--password",
		"file:"+secretFile(t))
	term.untilLike(`first time|tangle-sw1 1:`)
	if strings.Contains(term.screen(), "first time") {
		term.answers("Enter", "tangle-sw1 1:")
	}
	term.until("tangle-sw1 1:")
	term.keys("-l", "arm")
	term.keys("Enter")
	term.until("tangle-sw1 1!")
	term.keys("F5")
	term.until("Nothing was read")
	term.keys("r")
	term.untilLike("╭ 1 +lead")
	term.keys("F2")
	term.until("tangle-sw1 1!")
	term.keys("-l", "tumble unit 1")
	term.keys("Enter")
	term.until("Held at its Enter")
	assert.Contains(t, term.screen(), "another one leads if it led")
	term.answers("F9", "now? (y/n)")
	term.keys("y", "Enter")
	term.until("the line is lost")
	term.until("tangle-sw1 2:")
	term.keys("F5")
	term.until("units of")
	term.keys("r")
	screen := term.until("⇢ lead")
	assert.Contains(t, screen, "units of tangle-sw1")
}
