//go:build !race

package test

import (
	"fmt"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestFromTheStartToDone starts bare, opens a device that nothing is known of, has it recognised, picks a runbook,
// fills it in, reads its plan, holds, and is done; afterwards the start knows how that went.
func TestFromTheStartToDone(t *testing.T) {
	t.Parallel()
	for _, size := range [][2]int{{160, 40}, {80, 24}} {
		t.Run(fmt.Sprintf("%dx%d", size[0], size[1]), func(t *testing.T) {
			t.Parallel()
			home := tempDir(t)
			images := filepath.Join(home, "images")
			pilotrixAt(t, home, "demo", "rescue", "--images", images)
			pilotrixAt(t, home, "shelf", "add", filepath.Join(images, "shelf"))

			term := startTerminalAt(t, home, size[0], size[1])
			term.until("No device is kept yet")
			term.keys("n")
			term.until("Keep a new device")
			term.keys("hollow-rtr1", "Enter", "Hollow Skerry", "Enter", "bench:hollow-rtr1", "Enter", "none", "Enter",
				"Enter")
			term.until("hollow-rtr1 is kept in")
			term.keys("Enter")
			term.until("helm  HAND")
			term.keys("C-g", "d")
			term.until("How does this device talk?")
			term.keys("e")
			term.until("“sill:” (prompt monitor)") // and what it has written while it started, where that was seen
			term.keys("Escape")
			term.until("This looks like a Brindle R40")
			term.keys("C-g", "d")
			term.until("Enter it talks so")
			term.keys("Enter")
			term.until("it talks as brindle-r40")

			term.keys("C-g", "f")
			term.until("read anew")
			term.keys("F5")
			term.until("device.architecture")
			term.keys("r")
			term.until("read anew; F5 marks what has changed")
			term.keys("Down", "Enter")
			term.until("sill: about") // where it was read

			term.keys("F3")
			term.until("No runbook is under way")
			term.keys("r")
			term.until("runbooks for this device")
			term.keys("-l", "rescue")
			term.until("▸ Rescue over the serial console")
			term.keys("Enter")
			screen := term.until("▸ image")
			assert.Contains(t, screen, "tern-4.2.1.brm", "the only one that fits is in the field")
			term.keys("Enter", "harbour", "Enter", "lamp-and-tide", "Enter")
			screen = term.until("▸ protocol")
			assert.NotContains(t, screen, "lamp-and-tide")
			term.keys("Enter")
			screen = term.until("Enter carry it out")
			assert.Contains(t, screen, "steps, 2 holds")
			term.enters("Hold, no rollback")
			term.approve()
			term.until("Starts tern 4.2.1")
			term.approve()
			term.until("5 things proved")

			term.keys("C-g", "q")
			term.until("known by hollow-rtr1")
			kept, err := os.ReadFile(filepath.Join(home, "config", "pilotrix", "devices.yaml"))
			require.NoError(t, err)
			assert.Contains(t, string(kept), "dialect: brindle-r40", "what was chosen once is remembered")
			assert.Contains(t, string(kept), "identity: hollow-rtr1")
			assert.NotContains(t, string(kept), "lamp-and-tide")
			term.keys("C-c")
			term.until("exit code 0")
		})
	}
}

// TestASingleActionFromInside carries one action of the dialect out, with its hold, in the session of a shell whose
// password was asked in the strip.
func TestASingleActionFromInside(t *testing.T) {
	t.Parallel()
	home := tempDir(t)
	target := benchAt(t, "mare-gw1", "--at", "ssh", "--time-scale", "16")
	term := startTerminalAt(t, home, 120, 30, "open", target, "--dialect", "cormel-g2")
	term.until("is met for the first time")
	term.enters("password of harbour")
	term.keys("lamp-and-tide", "Enter")
	term.until("mare-gw1 /")
	term.keys("C-g", "r")
	term.until("single actions")
	term.keys("next start")
	term.until("▸ Chooses the bank for the next start")
	term.keys("Enter")
	term.until("▸ bank")
	term.keys("B", "Enter", "harbour", "Enter", "lamp-and-tide", "Enter")
	term.until("⟩ favour B")
	screen := term.enters("◇  Hold")
	assert.Contains(t, screen, "favour B")
	term.approve()
	screen = term.until("bank B is next; not stowed yet")
	assert.NotContains(t, screen, "lamp-and-tide")
	term.until("done")
	term.keys("C-g", "q")
	term.until("exit code 0")
}

// TestARestartEndsTheSessionAndTheConsoleIsWatched goes back to the other bank over a shell session that the restart
// ends, with the device's console beside it, where the start is seen; the session comes back by itself and the run goes
// on.
func TestARestartEndsTheSessionAndTheConsoleIsWatched(t *testing.T) {
	t.Parallel()
	for _, size := range [][2]int{{160, 40}, {80, 24}} {
		t.Run(fmt.Sprintf("%dx%d", size[0], size[1]), func(t *testing.T) {
			t.Parallel()
			home := tempDir(t)
			word := filepath.Join(home, "its"+ownSecret)
			require.NoError(t, os.WriteFile(word, []byte("lamp-and-tide\n"), 0o600))
			targets := benchTargets(t, 2, "mare-gw1", "--at", "ssh", "--time-scale", "8")
			term := startTerminalAt(t, home, size[0], size[1], "open", targets[0], "--dialect", "cormel-g2",
				"--password", "file:"+word, "--also", "console=serial:"+targets[1]+"?speed=57600", "--run",
				"back-to-the-other-bank", "--set", "user=harbour", "--secret", "password=file:"+word)
			term.until("is met for the first time")
			term.enters("Will type")
			term.approve()
			term.until("recommence")
			term.approve()
			screen := term.until("line lost")
			assert.Regexp(t, `helm +RUNBOOK`, screen)
			if size[0] > 80 {
				term.until("lark 7.2.0 starting from bank B") // in the rows of the console, beside the session
			}
			term.keys("F2")
			term.until("lark 7.2.0 starting from bank B")
			term.until("services") // the device is up after that
			term.keys("F2")
			screen = term.until("1 thing proved")
			assert.NotContains(t, screen, "lamp-and-tide")
			term.keys("F3")
			screen = term.until("proved")
			assert.Contains(t, screen, "7.2.0")
			term.keys("C-g", "q")
			term.until("exit code 0")
			listed := pilotrixAt(t, home, "logbook", "list")
			assert.Contains(t, listed, "serial:", "the second line has an entry of its own")
			assert.Contains(t, pilotrixAt(t, home, "logbook", "show", "2"), "lark 7.2.0 starting from bank B")
		})
	}
}
