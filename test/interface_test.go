//go:build !race

package test

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestRescueInTheInterface drives the whole rescue with keys: a hold approved, the helm taken in mid
// transfer and given back, a small window, and the speed back at the end.
func TestRescueInTheInterface(t *testing.T) {
	t.Parallel()
	term := startTerminal(t, 160, 40, "demo", "--time-scale", "16")
	screen := term.until("Hold, no rollback")
	assert.Contains(t, screen, "hollow-rtr1")
	assert.Contains(t, screen, "found by listening")
	assert.Contains(t, screen, "store drop tern-4.0.7.brm", "the strip says what it will type")
	term.until("helm  RUNBOOK")
	term.approve()

	term.until("of what this line allows")
	term.keys("a", "b", "o", "u", "t")
	screen = term.until("5 keys wait: the transfer is")
	assert.Contains(t, screen, "helm  RUNBOOK", "no stray key ends it")
	assert.Contains(t, screen, "Esc forgets them")
	term.keys("F10")
	term.until("helm  HAND")
	screen = term.until("sill: about")
	assert.Contains(t, screen, "You have the helm; the runbook waits.")
	term.keys("Enter")
	term.until("speed kept    9600")

	term.keys("F10")
	term.until("Give the helm back")
	term.keys("Enter")
	term.until("helm  RUNBOOK")
	term.until("of what this line allows")

	term.tmux("resize-window", "-t", "s", "-x", "80", "-y", "24")
	screen = term.until("F10 cancels it")
	for _, row := range strings.Split(screen, "\n") {
		assert.LessOrEqual(t, len([]rune(row)), 80)
	}
	assert.Contains(t, screen, "◉", "the course stays in sight")

	term.until("Starts tern 4.2.1")
	term.approve()
	screen = term.until("5 things proved")
	assert.Contains(t, screen, "9600 8N1", "the speed is back")
	assert.Contains(t, screen, "helm  HAND")
	assert.Contains(t, screen, "hollow-rtr1 ~")
	term.tmux("resize-window", "-t", "s", "-x", "160", "-y", "40")
	term.until("release 4.2.1 runs on hollow-rtr1")

	term.keys("F3")
	term.until("✓ proved    the saved configuration was taken over")
	term.keys("End")
	term.until("The configuration was kept")
	term.keys("F8")
	term.until("newest first")
	term.keys("F1")
	term.until("takes the helm at once")
	term.keys("F2")
	term.keys("C-g")
	term.until("hunt the speed")
	term.keys("q")
	term.until("exit code 0")
}

// TestKeysGoToTheDevice types what other programs would keep for themselves into a shell that shows
// what it got.
func TestKeysGoToTheDevice(t *testing.T) {
	t.Parallel()
	term := startTerminal(t, 100, 30, "open", "exec:cat -v")
	term.until("What you type goes to the device")
	term.keys("Tab", "?", "Up", "C-a", "Escape", "x", "Enter")
	term.until("?^[[A^A^[x")
	term.keys("C-g", "C-g", "Enter")
	term.until("^G")
	term.keys("C-c")
	term.until("The line is closed")
	term.keys("C-g", "q")
	term.until("exit code 0")
}

// TestReplay plays a kept session again through the interface.
func TestReplay(t *testing.T) {
	t.Parallel()
	book := filepath.Join(tempDir(t), "book.db")
	run := exec.Command(program, rescueArgs(t, book, "--time-scale", "16")...)
	run.Env = append(os.Environ(), "DEVICE_PASSWORD=lamp-and-tide")
	require.NoError(t, run.Run())
	term := startTerminal(t, 160, 40, "logbook", "replay", "1", "--speed", "200", "--logbook", book)
	screen := term.until("The replay is over")
	assert.Contains(t, screen, "release 4.2.1 runs on hollow-rtr1")
	assert.Contains(t, screen, "hollow-rtr1 ~ tell line")
	term.keys("C-g", "q")
	term.until("exit code 0")
}

// TestLeavingStopsTheRunbook leaves in the middle: it is asked, and the line is put in order first.
func TestLeavingStopsTheRunbook(t *testing.T) {
	t.Parallel()
	term := startTerminal(t, 120, 30, "demo", "--time-scale", "16")
	term.until("Hold, no rollback")
	term.approve()
	term.until("of what this line allows")
	term.keys("C-g", "q")
	term.until("leaving stops it")
	term.keys("y")
	term.until("exit code 0")
}

// TestBankUpgradeInTheInterface drives the whole change with keys: the views on the way, a restart typed
// before the choice was kept, which is held at its Enter, and the proof at the end.
func TestBankUpgradeInTheInterface(t *testing.T) {
	t.Parallel()
	term := startTerminal(t, 160, 40, "demo", "bank-upgrade", "--time-scale", "16")
	screen := term.until("Writes lark 7.6.1 over bank B")
	assert.Contains(t, screen, "haul tftp 192.0.2.10 lark-7.6.1.cgo", "the strip says what it will type")
	assert.Contains(t, screen, "bank A goes on running 7.4.2")
	term.keys("F4")
	screen = term.until("not as published")
	assert.Contains(t, screen, "made for G2-16; the device is G2-4")
	assert.Contains(t, screen, "needs boot firmware 3.0; the device has 2.1")
	assert.Contains(t, screen, "not as published")
	assert.Contains(t, screen, "before: licence")
	term.approve()
	term.keys("F6")
	term.until("OACK  blksize=1428")
	screen = term.until("DATA 1 … ")
	assert.Contains(t, screen, "blocks of 1428 B, windows of 4")

	term.until("Restarts mare-gw1 into bank B")
	term.keys("F5")
	screen = term.until("starts next, kept")
	assert.Contains(t, screen, "7.2.0 ⇢ 7.6.1")
	assert.Contains(t, screen, "goes from 7.4.2 in bank A to 7.6.1 in bank B")
	term.keys("F2", "favour A", "Enter")
	term.until("bank A is next; not stowed yet")
	term.keys("recommence", "Enter")
	screen = term.until("Held at its Enter")
	assert.Contains(t, screen, "the choice of the bank for the next start, which is not stowed")
	term.keys("C-u")
	term.until("You have the helm; the runbook waits.")
	term.keys("favour B", "Enter")
	term.until("bank B is next; not stowed yet")
	term.keys("stow", "Enter")
	term.until("write over what was stowed before?")
	term.keys("y", "Enter")
	term.until("stowed, bank B is next")
	term.keys("F10")
	term.until("Give the helm back")
	term.keys("Enter")
	term.until("Restarts mare-gw1 into bank B")
	term.approve()
	term.until("away 0")
	screen = term.until("booting")
	assert.Contains(t, screen, "of ~02:30", "the expected absence")
	term.until("upgrade to 8.1.0")
	term.until("Writes lark 8.1.0 over bank A")
	term.keys("F7")
	screen = term.until("in “Restart into 7.6.1”")
	assert.Regexp(t, `away 0\d:\d\d +\d\d:\d\d:\d\d – \d\d:\d\d:\d\d +in “Restart into 7.6.1”`, screen,
		"how long, from when to when, because of what")
	term.approve()
	term.tmux("resize-window", "-t", "s", "-x", "80", "-y", "24")
	screen = term.until("Restarts mare-gw1 into bank A with lark 8.1.0")
	for _, row := range strings.Split(screen, "\n") {
		assert.LessOrEqual(t, len([]rune(row)), 80)
	}
	term.approve()
	term.keys("F2")
	term.until("5 things proved")
	term.tmux("resize-window", "-t", "s", "-x", "160", "-y", "40")
	term.until("lark 8.1.0 runs on mare-gw1")
	term.keys("F5")
	term.until("7.4.2 ⇢ 8.1.0")
	term.keys("F8")
	screen = term.until("newest first")
	assert.Contains(t, screen, "TFTP ended at 192.0.2.10:69")
	term.keys("C-g", "q")
	term.until("exit code 0")
}

// TestInterlocksAreSwitchedOff takes them off for the session, which is shown, and on again.
func TestInterlocksAreSwitchedOff(t *testing.T) {
	t.Parallel()
	term := startTerminal(t, 120, 30, "open", "bench:mare-gw1", "--time-scale", "16")
	term.until("What you type goes to the device")
	term.keys("Enter")
	term.until("mare-gw1 name:")
	term.keys("harbour", "Enter")
	term.until("word:")
	term.keys("lamp-and-tide", "Enter")
	term.until("mare-gw1 /")
	term.keys("lift", "Enter")
	term.until("mare-gw1 //")
	term.keys("wipe bank B", "Enter")
	screen := term.until("Held at its Enter")
	assert.Contains(t, screen, "empties a bank: there is nothing to roll back to then")
	term.keys("C-u", "C-g", "i")
	term.until("Interlocks are off for this session")
	term.keys("wipe bank B", "Enter")
	term.until("wiped")
	term.keys("C-g", "i")
	term.keys("WI ba B", "Enter")
	term.until("may be taken for “wipe bank B”")
	term.keys("F9")
	term.until("wiping")
	term.keys("C-g", "q")
	term.until("exit code 0")
}
