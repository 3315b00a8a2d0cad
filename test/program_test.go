package test

import (
	"bufio"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"pilotrix/bench/brindle"

	"github.com/stretchr/testify/require"
)

// How the program itself is run. What it does there the race detector does not see: tests of that alone are in files that
// are left out under it.

// benchAt runs a simulated device in a process of its own, and gives the target that reaches it.
func benchAt(t *testing.T, args ...string) string {
	t.Helper()
	return benchTargets(t, 1, args...)[0]
}

// benchTargets gives as many targets as it says: its sessions', then its console's.
func benchTargets(t *testing.T, count int, args ...string) (targets []string) {
	t.Helper()
	device := exec.Command(program, append([]string{"bench"}, args...)...)
	out, err := device.StdoutPipe()
	require.NoError(t, err)
	require.NoError(t, device.Start())
	t.Cleanup(func() { _ = device.Process.Signal(os.Interrupt); _ = device.Wait() })
	lines := bufio.NewReader(out)
	for range count {
		target, err := lines.ReadString('\n')
		require.NoError(t, err)
		targets = append(targets, strings.TrimSpace(target))
	}
	return targets
}

// pilotrixAt runs a command for a user whose files are in a folder.
func pilotrixAt(t *testing.T, home string, args ...string) string {
	t.Helper()
	run := exec.Command(program, args...)
	run.Env = append(os.Environ(), homeAt(home)...)
	out, err := run.CombinedOutput()
	require.NoError(t, err, "%v: %s", args, out)
	return string(out)
}

// rescueArgs is the rescue without the interface, on a device of the bench.
func rescueArgs(t *testing.T, book string, more ...string) []string {
	t.Helper()
	path := filepath.Join(tempDir(t), "tern-4.2.1.brm")
	require.NoError(t, os.WriteFile(path, brindle.MakeImage("4.2.1", []string{"R40-2"}, 400_000), 0o600))
	return append([]string{
		"run", "rescue-over-serial", "--on", "bench:hollow-rtr1", "--set", "image=" + path, "--set", "user=harbour",
		"--secret", "password=env:DEVICE_PASSWORD", "--approve", "all", "--json", "--logbook", book,
	}, more...)
}
