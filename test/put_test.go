package test

import (
	"bytes"
	"crypto/sha256"
	"fmt"
	"net"
	"net/netip"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh/knownhosts"
)

const shellTalk = `
dialect: shell
title: A shell
modes: [{mode: ready, prompt: '[#$] $'}]
line: {clear: "\x15"}
readings:
  - reading: digest
    in: [ready]
    command: sha256sum ${place}
    facts: [{fact: kept.sha256, pattern: '([0-9a-f]{64})', as: digest}]
`

const putBook = `
runbook: put-it
title: Put a file there
inputs:
  - {input: image, kind: image}
  - {input: place, kind: text}
phases:
  - phase: put it
    steps:
      - step: Find the prompt
        catch: {mode: ready}
      - step: Put it there
        send: {file: image, protocol: %s, to: '${place}'}
      - step: See that it is there
        read: [digest]
      - step: It is whole
        compare: [{what: digest, want: image.sha256, got: kept.sha256, proves: 'the device has it whole'}]
`

// sshServer starts Debian's OpenSSH server for the present user, and returns its target and a home that may log in.
func sshServer(t *testing.T) (target, home string) {
	t.Helper()
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	at := listener.Addr().(*net.TCPAddr).AddrPort()
	require.NoError(t, listener.Close())
	return sshServerAt(t, at, func(args ...string) *exec.Cmd { return exec.Command(args[0], args[1:]...) })
}

// sshServerAt has it listen there; in is how it is started, which may be in another network.
func sshServerAt(t *testing.T, at netip.AddrPort, in func(...string) *exec.Cmd) (target, home string) {
	t.Helper()
	require.FileExists(t, "/usr/sbin/sshd", "needs the Debian package openssh-server; ./dev/test installs it")
	if os.Geteuid() != 0 {
		t.Skip("needs root: a server of one's own cannot give its pseudo-terminal away")
	}
	folder, home := tempDir(t), tempDir(t)
	for _, key := range []string{"host", "key"} {
		out, err := exec.Command("ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", filepath.Join(folder, key)).
			CombinedOutput()
		require.NoError(t, err, "%s", out)
	}
	require.NoError(t, os.MkdirAll("/run/sshd", 0o755))
	config := fmt.Sprintf("Port %d\nListenAddress %s\nHostKey \"%s/host\"\nAuthorizedKeysFile \"%s/key.pub\"\nPidFile none\nStrictModes no\nUsePAM no\nPermitRootLogin yes\nPrintMotd no\nPrintLastLog no\nSubsystem sftp internal-sftp\n",
		at.Port(), at.Addr(), folder, folder)
	require.NoError(t, os.WriteFile(filepath.Join(folder, "config"), []byte(config), 0o600))
	server := in("/usr/sbin/sshd", "-D", "-e", "-f", filepath.Join(folder, "config"))
	require.NoError(t, server.Start())
	t.Cleanup(func() { _ = server.Process.Kill(); _ = server.Wait() })
	require.Eventually(t, func() bool {
		conn, err := net.DialTimeout("tcp", at.String(), time.Second)
		if err == nil {
			_ = conn.Close()
		}
		return err == nil
	}, 20*time.Second, 20*time.Millisecond)
	host, err := os.ReadFile(filepath.Join(folder, "host.pub"))
	require.NoError(t, err)
	require.NoError(t, os.MkdirAll(filepath.Join(home, ".ssh"), 0o700))
	known := knownhosts.Normalize(at.String()) + " " + string(host)
	require.NoError(t, os.WriteFile(filepath.Join(home, ".ssh", "known_hosts"), []byte(known), 0o600))
	require.NoError(t,
		os.WriteFile(filepath.Join(home, ".ssh", "config"), []byte("Host *\n  IdentityFile \""+folder+"/key\"\n"),
			0o600))
	who, err := user.Current()
	require.NoError(t, err)
	return "ssh://" + who.Username + "@" + at.String(), home
}

// TestAFileIsDroppedAcrossANetwork puts one over a wire between two network namespaces, on a server that shares no code
// with this program.
func TestAFileIsDroppedAcrossANetwork(t *testing.T) {
	inOwnNetwork(t, func(t *testing.T, e elsewhere) {
		e.must("ip", "addr", "add", "192.0.2.61/24", "dev", "wire1")
		target, home := sshServerAt(t, netip.MustParseAddrPort("192.0.2.61:22"), e.command)
		putsBoth(t, target, home, bytes.Repeat([]byte("reed\n"), 2_000_000))
	})
}

// TestAFileIsPutOverTheSessionItself puts one by both protocols on a real server, where its shell sees it whole; and
// says what was refused.
func TestAFileIsPutOverTheSessionItself(t *testing.T) {
	t.Parallel()
	target, home := sshServer(t)
	put := putsBoth(t, target, home, bytes.Repeat([]byte("lamp and tide\n"), 300_000))
	for _, protocol := range []string{"sftp", "scp"} {
		out, code := put(protocol, target, filepath.Join(home, "no", "such", "folder"))
		assert.Equal(t, 1, code, out)
		assert.Regexp(t, `does not take|the device says|does not exist|No such file`, out)
	}
	out, code := put("sftp", "exec:sh -i", "/tmp/x")
	assert.Equal(t, 1, code, out)
	assert.Contains(t, out, "the line is no SSH session")
}

// putsBoth puts data by each protocol, sees that it is there whole, and returns what puts it elsewhere.
func putsBoth(
	t *testing.T, target, home string, data []byte,
) (put func(protocol, on, to string) (out string, code int)) {
	t.Helper()
	write := func(name, text string) string {
		path := filepath.Join(home, name)
		require.NoError(t, os.WriteFile(path, []byte(text), 0o600))
		return path
	}
	file, talk := write("tern.brm", string(data)), write("shell.yaml", shellTalk)
	put = func(protocol, on, to string) (string, int) {
		book := write("put-"+protocol+".yaml", fmt.Sprintf(putBook, protocol))
		cmd := exec.Command(program, "run", book, "--on", on, "--dialect", talk, "--set", "image="+file, "--set",
			"place="+to, "--logbook", "none", "--approve", "all")
		cmd.Env = append(os.Environ(), append(homeAt(home), "SSH_AUTH_SOCK=")...)
		out, _ := cmd.CombinedOutput()
		return string(out), cmd.ProcessState.ExitCode()
	}
	there, err := os.MkdirTemp("/tmp", "pilotrix-there-") // a name that the runbook's command needs no quotes for
	require.NoError(t, err)
	t.Cleanup(func() { _ = os.RemoveAll(there) })
	for _, protocol := range []string{"sftp", "scp"} {
		to := filepath.Join(there, "kept-by-"+protocol)
		out, code := put(protocol, target, to)
		require.Zero(t, code, out)
		assert.Contains(t, out, "by "+strings.ToUpper(protocol))
		assert.Contains(t, out, "the device has it whole")
		kept, err := os.ReadFile(to)
		require.NoError(t, err)
		assert.Equal(t, sha256.Sum256(data), sha256.Sum256(kept))
	}
	return put
}
