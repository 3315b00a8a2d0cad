package sshd

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"math/rand/v2"
	"net"
	"net/netip"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/pkg/sftp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"

	"pilotrix/core/clock"
	"pilotrix/core/network"
	"pilotrix/core/offer"
	"pilotrix/core/offer/offertest"
	"pilotrix/core/transfer"
)

type ended struct {
	file   string
	bytes  int64
	upload bool
	err    error
}

// watching keeps what is reported.
type watching struct {
	offer.NoWatcher
	mu   sync.Mutex
	said []string
	of   []string // those that belong to a transfer
	ends chan ended
}

func (w *watching) ladder() []string {
	w.mu.Lock()
	defer w.mu.Unlock()
	return slices.Clone(w.of)
}

func (w *watching) Said(r offer.Rung) {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.said = append(w.said, r.Kind+" "+r.Text)
	if r.Transfer != "" {
		w.of = append(w.of, r.Kind+" "+r.Text)
	}
}

func (w *watching) Ended(t offer.Transfer, p transfer.Progress, err error) {
	w.ends <- ended{t.File, p.Bytes, t.Upload, err}
}

func (w *watching) end(t *testing.T) ended {
	t.Helper()
	select {
	case e := <-w.ends:
		return e
	case <-time.After(20 * time.Second):
		require.Fail(t, "no transfer has ended")
		return ended{}
	}
}

func (w *watching) has(t *testing.T, text string) {
	t.Helper()
	require.Eventually(t, func() bool {
		w.mu.Lock()
		defer w.mu.Unlock()
		return slices.ContainsFunc(w.said, func(one string) bool { return strings.Contains(one, text) })
	}, 20*time.Second, time.Millisecond, text)
}

// rig is a server with files of several sizes staged, and a slot.
type rig struct {
	*testing.T
	*Server
	watch  *watching
	stage  *offer.Stage
	folder string // where slots lead to
	home   string // of the client
}

func random(size int) []byte {
	data := make([]byte, size)
	r := rand.NewChaCha8([32]byte{byte(size)})
	_, _ = r.Read(data)
	return data
}

func newRig(t *testing.T) *rig {
	t.Helper()
	r := &rig{
		T:      t,
		watch:  &watching{ends: make(chan ended, 64)},
		stage:  &offer.Stage{},
		folder: t.TempDir(),
		home:   t.TempDir(),
	}
	for _, size := range []int{0, 1, 32768, 3_000_001} {
		_, err := r.stage.Offer(offertest.File(fmt.Sprintf("f%d.bin", size), random(size)))
		require.NoError(t, err)
	}
	_, err := r.stage.OpenSlot(offer.Slot{Name: "setup.txt", Folder: r.folder, Most: 4 << 20})
	require.NoError(t, err)
	r.Server, err = Listen(netip.MustParseAddrPort("127.0.0.1:0"),
		offer.Serving{Network: network.Host{}, Stage: r.stage, Clock: clock.Real(), Watcher: r.watch})
	require.NoError(t, err)
	ctx, cancel := context.WithCancel(t.Context())
	served := make(chan error, 1)
	go func() { served <- r.Serve(ctx) }()
	t.Cleanup(func() { cancel(); assert.NoError(t, <-served) })
	require.NoError(t, os.WriteFile(filepath.Join(r.home, "key"), r.Key(), 0o600))
	return r
}

// openSSH runs one of OpenSSH's clients against the server.
func (r *rig) openSSH(program string, args ...string) (string, error) {
	r.Helper()
	path, err := exec.LookPath(program)
	require.NoError(r, err, "needs the Debian package openssh-client; ./dev/test installs it")
	port := "-P"
	if program == "ssh" {
		port = "-p"
	}
	common := []string{
		"-F",
		"none",
		"-o",
		`UserKnownHostsFile="` + filepath.Join(r.home, "hosts") + `"`,
		"-o",
		"StrictHostKeyChecking=accept-new",
		"-o",
		"IdentitiesOnly=yes",
		"-o",
		"BatchMode=yes",
		"-i",
		filepath.Join(r.home, "key"),
		port,
		fmt.Sprint(r.Addr().Port()),
	}
	ctx, cancel := context.WithTimeout(r.Context(), time.Minute)
	defer cancel()
	run := exec.CommandContext(ctx, path, append(common, args...)...)
	run.Env = append(os.Environ(), "SSH_AUTH_SOCK=")
	out, err := run.CombinedOutput()
	return string(out), err
}

// TestOpenSSHFetchesAndLeaves has OpenSSH's own clients do it, by both protocols.
func TestOpenSSHFetchesAndLeaves(t *testing.T) {
	r := newRig(t)
	for _, way := range [][]string{{"-s"}, {"-O"}} {
		for _, size := range []int{0, 1, 32768, 3_000_001} {
			name := fmt.Sprintf("f%d.bin", size)
			to := filepath.Join(r.home, "got"+way[0]+name)
			out, err := r.openSSH("scp", append(way, "once@127.0.0.1:"+name, to)...)
			require.NoError(t, err, "%v %s: %s", way, name, out)
			got, err := os.ReadFile(to)
			require.NoError(t, err)
			require.True(t, bytes.Equal(random(size), got), "%v %s", way, name)
			assert.Equal(t, ended{name, int64(size), false, nil}, r.watch.end(t), "%v", way)
		}
		left := filepath.Join(r.home, "setup.txt")
		require.NoError(t, os.WriteFile(left, random(3_000_001), 0o600))
		out, err := r.openSSH("scp", append(way, "-p", left, "once@127.0.0.1:setup.txt")...)
		require.NoError(t, err, "%v: %s", way, out)
		assert.Equal(t, ended{"setup.txt", 3_000_001, true, nil}, r.watch.end(t))
		kept := filepath.Join(r.folder, "setup.txt")
		got, err := os.ReadFile(kept)
		require.NoError(t, err)
		assert.True(t, bytes.Equal(random(3_000_001), got))

		out, err = r.openSSH("scp", append(way, left, "once@127.0.0.1:setup.txt")...)
		assert.Error(t, err, "the slot was for one file")
		assert.NotEmpty(t, out)
		require.NoError(t, os.Remove(kept))
		_, err = r.stage.OpenSlot(offer.Slot{Name: "setup.txt", Folder: r.folder, Most: 4 << 20})
		require.NoError(t, err)
		_, err = r.openSSH("scp", append(way, "once@127.0.0.1:other.bin", r.home)...)
		assert.Error(t, err)
		r.watch.has(t, "refused no other.bin here")
	}
	out, err := r.openSSH("ssh", "once@127.0.0.1", "id")
	assert.Error(t, err, out)
	assert.Contains(t, out, "exec request failed")
	r.watch.has(t, "refused only sftp and scp are served here, not exec")
}

// TestAFetchGoesOnWhereItEnded has OpenSSH's client go on with a file of which it has the beginning.
func TestAFetchGoesOnWhereItEnded(t *testing.T) {
	r := newRig(t)
	whole := random(3_000_001)
	to := filepath.Join(r.home, "part.bin")
	require.NoError(t, os.WriteFile(to, whole[:1_000_000], 0o600))
	batch := filepath.Join(r.home, "batch")
	require.NoError(t, os.WriteFile(batch, []byte(`reget f3000001.bin "`+to+"\"\nls\n"), 0o600))
	out, err := r.openSSH("sftp", "-b", batch, "once@127.0.0.1")
	require.NoError(t, err, out)
	assert.Contains(t, out, "f32768.bin", "what is staged is listed")
	got, err := os.ReadFile(to)
	require.NoError(t, err)
	assert.True(t, bytes.Equal(whole, got))
	assert.Equal(t, ended{"f3000001.bin", 2_000_001, false, nil}, r.watch.end(t))
}

// client is one of our own, with the password.
func (r *rig) client(password string) (*sftp.Client, *ssh.Client, error) {
	conn, err := ssh.Dial("tcp", r.Addr().String(), &ssh.ClientConfig{
		User: "once", Auth: []ssh.AuthMethod{ssh.Password(password)}, Timeout: 10 * time.Second,
		HostKeyCallback: func(_ string, _ net.Addr, key ssh.PublicKey) error {
			assert.Equal(r, r.Fingerprint(), ssh.FingerprintSHA256(key))
			return nil
		}, HostKeyAlgorithms: []string{ssh.KeyAlgoED25519},
	})
	if err != nil {
		return nil, nil, err
	}
	c, err := sftp.NewClient(conn)
	return c, conn, err
}

// TestADeviceThatAnswersQuestionsOnly is asked for the password as one (RFC 4256), and is told from a wrong one.
func TestADeviceThatAnswersQuestionsOnly(t *testing.T) {
	r := newRig(t)
	_, password := r.Login()
	for _, given := range []string{password, "guessed"} {
		var asked []string
		conn, err := ssh.Dial("tcp", r.Addr().String(), &ssh.ClientConfig{
			User:            "once",
			Timeout:         10 * time.Second,
			HostKeyCallback: ssh.InsecureIgnoreHostKey(), //nolint:gosec // it is ours
			Auth: []ssh.AuthMethod{
				ssh.KeyboardInteractive(
					func(_, _ string, questions []string, echoes []bool) (answers []string, _ error) {
						for i := range questions {
							asked = append(asked, fmt.Sprint(questions[i], echoes[i]))
							answers = append(answers, given)
						}
						return answers, nil
					},
				),
			},
		})
		assert.Equal(t, "Password: false", asked[0], "it is not shown")
		if given == password {
			require.NoError(t, err)
			require.NoError(t, conn.Close())
			continue
		}
		assert.Error(t, err)
		r.watch.has(t, "refused a wrong user or password")
	}
}

// TestWhatBothSidesSayIsReportedOfTheTransfer holds the ladder of a fetch.
func TestWhatBothSidesSayIsReportedOfTheTransfer(t *testing.T) {
	r := newRig(t)
	out, err := r.openSSH("sftp", "once@127.0.0.1:f32768.bin",
		strings.ReplaceAll(filepath.Join(r.home, "got"), " ", `\ `)) // it takes blanks for the ends of names
	require.NoError(t, err, out)
	r.watch.end(t)
	said := r.watch.ladder()
	require.NotEmpty(t, said)
	assert.Equal(t, "OPEN f32768.bin", said[0])
	assert.Contains(t, said, "DATA ")
	assert.Equal(t, "CLOSE 32768 B", said[len(said)-1])
}

// TestNothingButWhatIsStaged asks for everything else that the protocol has.
func TestNothingButWhatIsStaged(t *testing.T) {
	r := newRig(t)
	_, _, err := r.client("guessed")
	require.Error(t, err)
	r.watch.has(t, "refused a wrong user or password")
	_, password := r.Login()
	c, conn, err := r.client(password)
	require.NoError(t, err)
	defer conn.Close()
	for what, err := range map[string]error{
		"remove": c.Remove("f1.bin"), "rename": c.Rename("f1.bin",
			"x"), "mkdir": c.Mkdir("x"), "link": c.Symlink("/etc/passwd", "x"), "rmdir": c.RemoveDirectory("/"),
	} {
		assert.Error(t, err, what)
	}
	for _, name := range []string{"/etc/passwd", "../etc/passwd", "..", "nothing.bin", "setup.txt"} {
		_, err := c.Open(name)
		assert.Error(t, err, name)
	}
	for _, name := range []string{"f1.bin", "/etc/x", "x.bin", "../setup.txt.x"} {
		_, err := c.Create(name)
		assert.Error(t, err, name)
	}
	_, err = conn.Dial("tcp", "127.0.0.1:1")
	assert.Error(t, err, "no way leads through it")
	session, err := conn.NewSession()
	require.NoError(t, err)
	assert.Error(t, session.Shell())
	entries, err := os.ReadDir(r.folder)
	require.NoError(t, err)
	assert.Empty(t, entries)
}

// TestWhatBreaksOffIsNotKept leaves uploads broken in each way that one may break.
func TestWhatBreaksOffIsNotKept(t *testing.T) {
	r := newRig(t)
	_, password := r.Login()
	empty := func() {
		t.Helper()
		entries, err := os.ReadDir(r.folder)
		require.NoError(t, err)
		assert.Empty(t, entries)
	}
	c, conn, err := r.client(password)
	require.NoError(t, err)
	f, err := c.Create("setup.txt")
	require.NoError(t, err)
	_, err = f.Write([]byte("half of it"))
	require.NoError(t, err)
	_ = conn.Close()
	e := r.watch.end(t)
	assert.Error(t, e.err)
	assert.Equal(t, int64(10), e.bytes)
	empty()

	c, conn, err = r.client(password)
	require.NoError(t, err)
	f, err = c.Create("setup.txt")
	require.NoError(t, err, "its slot is open again")
	_, err = f.WriteAt([]byte("behind a hole"), 1000)
	require.NoError(t, err)
	assert.Error(t, f.Close())
	assert.ErrorContains(t, r.watch.end(t).err, "missing behind byte 0")
	empty()
	f, err = c.Create("setup.txt")
	require.NoError(t, err)
	_, err = f.ReadFrom(io.LimitReader(rand.NewChaCha8([32]byte{}), 5<<20))
	assert.Error(t, err)
	_ = f.Close()
	assert.ErrorContains(t, r.watch.end(t).err, "larger than this slot takes")
	empty()
	_ = conn.Close()

	for _, input := range []string{"C0644 10 setup.txt\n12345", "C0644 -1 setup.txt\n", "C0644 99999999999 setup.txt\n", "D0755 0 x\n", "C0644 3 ../../x\nabc\x00", "C0644 4 other\nabcd\x00", "C0644 4 setup.txt\nabcd\x01no\n", string(bytes.Repeat([]byte("C"), 10000))} {
		_, conn, err = r.client(password)
		require.NoError(t, err)
		session, err := conn.NewSession()
		require.NoError(t, err)
		session.Stdin = bytes.NewReader([]byte(input))
		assert.Error(t, session.Run("scp -t ."), "%.40q", input)
		_ = conn.Close()
		empty()
	}
}

// TestAFileThatIsCutWhileItIsSent ends neither protocol as a whole one.
func TestAFileThatIsCutWhileItIsSent(t *testing.T) {
	r := newRig(t)
	_, err := r.stage.Offer(offertest.Shrunk("cut.bin", random(200_000), 100_000))
	require.NoError(t, err)
	for _, way := range []string{"-s", "-O"} {
		_, err := r.openSSH("scp", way, "once@127.0.0.1:cut.bin", filepath.Join(r.home, "cut"+way))
		assert.Error(t, err, way)
		assert.ErrorContains(t, r.watch.end(t).err, "it was changed meanwhile", way)
	}
	_, err = r.stage.Offer(offertest.Grown("grown.bin", random(200_000), 100_000))
	require.NoError(t, err)
	_, err = r.openSSH("scp", "-O", "once@127.0.0.1:grown.bin", filepath.Join(r.home, "grown"))
	assert.Error(t, err)
	assert.ErrorIs(t, r.watch.end(t).err, transfer.ErrChanged)
}

func TestOrdersOfSCP(t *testing.T) {
	for command, want := range map[string]order{
		"scp -f tern.brm":             {true, "tern.brm"},
		"scp -v -p -t -- setup.txt":   {false, "setup.txt"},
		"/usr/bin/scp -pf 'tern.brm'": {true, "tern.brm"},
	} {
		got, ok := parseSCP(command)
		assert.True(t, ok, command)
		assert.Equal(t, want, got, command)
	}
	for _, command := range []string{"", "scp", "scp -f", "scp -r -f x", "scp x y", "rm -f x", "scp -t"} {
		_, ok := parseSCP(command)
		assert.False(t, ok, command)
	}
}

// FuzzSCP looks for orders and heads that lead anywhere but to a name.
func FuzzSCP(f *testing.F) {
	f.Add("scp -t x", "C0644 3 x")
	f.Fuzz(func(t *testing.T, command, line string) {
		if o, ok := parseSCP(command); ok && o.file == "" {
			t.Fatal("an order without a file")
		}
		if h, err := parseHead(line); err == nil && (h.size < 0 || filepath.Base(h.name) != h.name) {
			t.Fatalf("%q heads %+v", line, h)
		}
	})
}
