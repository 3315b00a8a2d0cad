package test

import (
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"pilotrix/demo"
)

// carriedOut runs a shipped runbook with the program itself, and returns what it said.
func carriedOut(t *testing.T, folder, book string, more ...string) string {
	t.Helper()
	args := append(
		[]string{
			"run",
			book,
			"--shelf",
			filepath.Join(folder, "shelf"),
			"--set",
			"user=harbour",
			"--secret",
			"password=env:DEVICE_PASSWORD",
			"--approve",
			"all",
			"--logbook",
			"none",
		},
		more...)
	run := exec.Command(program, args...)
	run.Env = append(os.Environ(), append(homeAt(folder), "DEVICE_PASSWORD=lamp-and-tide")...)
	out, err := run.CombinedOutput()
	require.NoError(t, err, "%s", out)
	assert.NotContains(t, string(out), "lamp-and-tide")
	return string(out)
}

// TestTheOtherFamiliesFetchWithALogin has them fetch over real sockets, from FTP and SFTP with a login.
func TestTheOtherFamiliesFetchWithALogin(t *testing.T) {
	t.Parallel()
	edge := []string{"install-and-confirm", "--on", "bench:quay-er1", "--set", "image=marl-5.4.tms"}
	stack := []string{"stack-upgrade", "--on", "bench:tangle-sw1", "--set", "image=strand-3.2.msl"}
	for name, c := range map[string]struct {
		args   []string
		proved string
	}{
		"edge, ftp": {append(edge[:len(edge):len(edge)], "--set",
			"protocol=ftp"), "proved  marl 5.4 lasts beyond a power cut"},
		"edge, sftp": {append(edge[:len(edge):len(edge)], "--set",
			"protocol=sftp"), "proved  marl 5.4 lasts beyond a power cut"},
		"stack, sftp": {append(stack[:len(stack):len(stack)], "--set",
			"protocol=sftp"), "proved  strand 3.2 runs on all 3 units"},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			folder := tempDir(t)
			require.NoError(t, demo.EdgeShelf(folder, smallImage))
			require.NoError(t, demo.StackShelf(folder, smallImage))
			assert.Contains(t, carriedOut(t, folder, c.args[0], append(c.args[1:], "--time-scale", "16")...), c.proved)
		})
	}
}

// TestTheOtherFamiliesBySSH carry their changes out over a shell session, which each restart ends, with the image on a
// stick.
func TestTheOtherFamiliesBySSH(t *testing.T) {
	t.Parallel()
	for _, c := range []struct{ device, dialect, book, image, proved string }{
		{"quay-er1", "tamsin-e8", "install-and-confirm", "marl-5.4.tms", "proved  marl 5.4 lasts beyond a power cut"},
		{"tangle-sw1", "maskel-s24", "stack-upgrade", "strand-3.2.msl", "proved  all 3 units are one stack"},
	} {
		t.Run(c.device, func(t *testing.T) {
			t.Parallel()
			folder := tempDir(t)
			require.NoError(t, demo.EdgeShelf(folder, smallImage))
			require.NoError(t, demo.StackShelf(folder, smallImage))
			stick := filepath.Join(folder, "stick")
			require.NoError(t, os.MkdirAll(stick, 0o700))
			data, err := os.ReadFile(filepath.Join(folder, "shelf", c.image))
			require.NoError(t, err)
			require.NoError(t, os.WriteFile(filepath.Join(stick, c.image), data, 0o600))
			device := benchAt(t, c.device, "--at", "ssh", "--time-scale", "16", "--stick", stick)
			isKnown(t, folder, device)
			out := carriedOut(t, folder, c.book, "--on", device, "--dialect", c.dialect, "--password",
				"env:DEVICE_PASSWORD", "--set", "image="+c.image)
			assert.Contains(t, out, c.proved)
			assert.Contains(t, out, "line lost")
		})
	}
}

// isKnown has a user know a server's key, as somebody who has met it before.
func isKnown(t *testing.T, home, target string) {
	t.Helper()
	at, err := url.Parse(target)
	require.NoError(t, err)
	key, err := exec.Command("ssh-keyscan", "-p", at.Port(), at.Hostname()).Output()
	require.NoError(t, err, "needs the Debian package openssh-client; ./dev/test installs it")
	require.NoError(t, os.MkdirAll(filepath.Join(home, ".ssh"), 0o700))
	require.NoError(t, os.WriteFile(filepath.Join(home, ".ssh", "known_hosts"), key, 0o600))
}
