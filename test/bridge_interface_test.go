//go:build !race

package test

import (
	"os"
	"os/exec"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"pilotrix/demo"
)

// TestABurnInTheInterface tries the system by hand from memory, gives it back, reads what would be erased, and burns
// it.
func TestABurnInTheInterface(t *testing.T) {
	t.Parallel()
	term := startTerminal(t, 160, 40, "demo", "burn", "--time-scale", "8")
	screen := term.until("Yours to try")
	assert.Contains(t, screen, "rehearsal: nothing that lasts is changed")
	assert.Contains(t, screen, "helm  HAND")
	term.keys("cat /etc/release", "Enter")
	term.until("RUNS_FROM=memory")
	term.keys("F10")
	screen = term.until("it is enough, go on")
	assert.Contains(t, screen, "stop the runbook")
	term.enters("Ends the trial of 2.6")
	screen = term.enters("Takes the write protection from the 25 sectors")
	assert.Contains(t, screen, "protect off bf040000 bf1cffff")
	assert.Contains(t, screen, "0xbf040000 – 0xbf1cffff", "the map beside it")
	term.enters("Erases 25 sectors of part system")
	term.keys("F5")
	screen = term.until("never touched")
	assert.Contains(t, screen, "nothing touched yet")
	assert.Contains(t, screen, "1,638,400 B")
	assert.Contains(t, screen, "Hold, no rollback")
	term.enters("checksum cacaea87")
	term.until("Keeps the loader's environment")
	term.enters("It has to start 2.6 by itself now")
	term.enters("started by itself, without a key")
	term.keys("F2")
	term.until("4 things proved")
}

// TestAPutIntoAWindowInTheInterface says done where the operator is asked for something, and sees the window taken; at
// 80×24.
func TestAPutIntoAWindowInTheInterface(t *testing.T) {
	t.Parallel()
	term := startTerminal(t, 80, 24, "demo", "recovery-put", "--time-scale",
		"3") // the bench's hand is not to be sooner than this one
	term.until("It writes that over its system")
	term.approve()
	term.until("hold the button")
	term.enters("awaiting the loader's window to open, try")
	term.until("2 things proved")
}

// TestAnOperatorWhoStopsAfterTryingIt leaves the flash as it was.
func TestAnOperatorWhoStopsAfterTryingIt(t *testing.T) {
	t.Parallel()
	term := startTerminal(t, 80, 24, "demo", "burn", "--time-scale", "8")
	term.until("Yours to try")
	term.keys("F10")
	term.until("it is enough, go on")
	term.answers("x", "✗  stopped")
	term.keys("F3")
	term.until("nothing was changed on the device")
}

// TestARehearsalWithoutTheInterface ends with its own words, and refuses a runbook that has none.
func TestARehearsalWithoutTheInterface(t *testing.T) {
	t.Parallel()
	folder := tempDir(t)
	require.NoError(t, demo.BridgeShelf(folder, 200_000))
	run := func(book string, more ...string) (string, int) {
		args := append(
			[]string{
				"run",
				book,
				"--on",
				"bench:ramp-br1",
				"--time-scale",
				"16",
				"--approve",
				"all",
				"--logbook",
				"none",
				"--shelf",
				filepath.Join(folder, "shelf"),
			},
			more...)
		cmd := exec.Command(program, args...)
		cmd.Env = append(os.Environ(), append(homeAt(folder), "WORD=lamp-and-tide")...)
		out, _ := cmd.CombinedOutput()
		return string(out), cmd.ProcessState.ExitCode()
	}
	given := []string{
		"--set",
		"image=" + filepath.Join(folder, "shelf", "skua-2.6.pws"),
		"--set",
		"address=192.0.2.45",
		"--set",
		"user=harbour",
		"--secret",
		"password=env:WORD",
	}
	out, code := run("try-then-burn", append(given, "--rehearse")...)
	require.Zero(t, code, out)
	assert.Contains(t, out, "rehearsed: what follows was not done; nothing was changed on the device")
	assert.NotContains(t, out, "protect off")
	out, code = run("recovery-put", append(given, "--rehearse")...)
	assert.Equal(t, 2, code, out)
	assert.Contains(t, out, "runbook recovery-put has nothing to rehearse")
	out, code = run("try-then-burn", append(given, "--rehearse", "--from", "burn the flash")...)
	assert.Equal(t, 2, code, out)
	assert.Contains(t, out, "behind what is rehearsed")
}
