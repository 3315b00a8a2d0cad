//go:build !race

package test

import (
	"os"
	"os/exec"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"pilotrix/demo"
)

// TestEveryDemoRunsWithoutTheInterface carries each out to its proof, and lists them.
func TestEveryDemoRunsWithoutTheInterface(t *testing.T) {
	t.Parallel()
	list, err := exec.Command(program, "demo", "--list").CombinedOutput()
	require.NoError(t, err, "%s", list)
	for _, scene := range demo.Scenes() {
		assert.Contains(t, string(list), scene.Name+" ")
		assert.Contains(t, string(list), scene.Shows)
		t.Run(scene.Name, func(t *testing.T) {
			t.Parallel()
			run := exec.Command(program, "demo", scene.Name, "--headless", "--time-scale", "12", "--logbook", "none")
			run.Env = append(os.Environ(), homeAt(tempDir(t))...)
			out, err := run.CombinedOutput()
			require.NoError(t, err, "%s", out)
			assert.Contains(t, string(out), "\ndone\n")
			assert.Contains(t, string(out), "  proved  ")
			assert.NotContains(t, string(out), "lamp-and-tide")
		})
	}
}

// TestAFirstStartInTheInterface says that a new device is the one, and follows it on the ladder; at 80×24.
func TestAFirstStartInTheInterface(t *testing.T) {
	t.Parallel()
	term := startTerminal(t, 80, 24, "demo", "first-boot", "--time-scale", "8")
	term.until("Gives addresses on this laptop's network")
	term.approve()
	screen := term.until("another one, leave it")
	assert.Contains(t, screen, "02:00:5e:10:00:01, a Maskel S8 asks for an address")
	term.keys("F6")
	assert.Contains(t, term.until("DHCP DISCOVER"), "awaiting that it is said whether it is answered")
	term.enters("DHCP OFFER")
	screen = term.until("complete")
	assert.Contains(t, screen, "restarted 1×")
	assert.Contains(t, screen, "TFTP DATA")
	term.keys("F2")
	term.until("4 things proved")
}

// TestAControllerInTheInterface follows the access points on their time axis.
func TestAControllerInTheInterface(t *testing.T) {
	t.Parallel()
	term := startTerminal(t, 160, 40, "demo", "controller", "--time-scale", "16")
	term.until("has no firmware for ap-shed-02 (P1)")
	term.enters("Switches the service on")
	term.enters("Installs linnet 3.6")
	term.approve()
	term.keys("F5")
	screen := term.until("1 renewed")
	assert.Contains(t, screen, "what hangs on quay-wc1")
	assert.Contains(t, screen, "✗ refused")
	screen = term.until("11 of 12 here, 11 renewed")
	assert.Equal(t, 11, strings.Count(screen, "3.4 ⇢ 3.6"))
	term.keys("F2")
	term.until("things proved")
}

// TestADowngradeInTheInterface says what is lost, and looks at the layers while they do not agree.
func TestADowngradeInTheInterface(t *testing.T) {
	t.Parallel()
	term := startTerminal(t, 160, 40, "demo", "downgrade", "--time-scale", "16")
	term.until("lacks what is used now: fast-lanes")
	term.enters("down from 6.4 to 6.2")
	term.approve()
	term.until("Writes the firmware of the board: from 6.4 to 6.2")
	term.keys("F5")
	screen := term.until("layers of ness-rt1")
	assert.Contains(t, screen, "they do not agree")
	assert.Contains(t, screen, "waits for 6.2")
	term.enters("the board begins with 6.2")
	term.enters("all agree")
	term.keys("F2")
	term.until("things proved")
}

// TestOneStoreInTheInterface makes room in it, and stops before the restart; what was changed by then is reported.
func TestOneStoreInTheInterface(t *testing.T) {
	t.Parallel()
	term := startTerminal(t, 80, 24, "demo", "one-store", "--time-scale", "16")
	term.until("Removes tern-3.9.4.brm, which does not run")
	screen := term.enters("Writes tern-4.2.1.brm into the store")
	assert.Contains(t, screen, "image stays beside it.")
	term.approve()
	term.until("Restarts mare-rtr1 into tern-4.2.1.brm")
	term.answers("Escape", "✗  stopped")
	term.keys("F3")
	term.until("device was changed before that")
}
