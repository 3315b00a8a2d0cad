package line

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"net"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"pilotrix/core/clock"
)

// sshServer is Debian's OpenSSH server on loopback.
type sshServer struct {
	address, folder, hostKey string
	key                      string // that it lets in
	first                    []string
	said                     *saidText
	process                  *exec.Cmd
}

func keygen(t *testing.T, path, kind string, more ...string) {
	t.Helper()
	args := append([]string{"-q", "-t", kind, "-f", path, "-C", "test"}, more...)
	if len(more) == 0 {
		args = append(args, "-N", "")
	}
	out, err := exec.Command("ssh-keygen", args...).CombinedOutput()
	require.NoError(t, err, "%s", out)
}

// startSSH starts one with some more lines of configuration.
func startSSH(t *testing.T, lines ...string) *sshServer {
	t.Helper()
	require.FileExists(t, "/usr/sbin/sshd", "needs the Debian package openssh-server; ./dev/test installs it")
	if os.Geteuid() != 0 {
		t.Skip("needs root: a server of one's own cannot give its pseudo-terminal away")
	}
	s := &sshServer{folder: t.TempDir(), said: &saidText{}}
	s.hostKey, s.key = filepath.Join(s.folder, "host"), filepath.Join(s.folder, "key")
	keygen(t, s.hostKey, "ed25519")
	keygen(t, s.key, "ed25519")
	s.start(t, 0, lines...)
	return s
}

func (s *sshServer) start(t *testing.T, port int, lines ...string) {
	t.Helper()
	if port == 0 {
		listener, err := net.Listen("tcp", "127.0.0.1:0")
		require.NoError(t, err)
		port = listener.Addr().(*net.TCPAddr).Port
		require.NoError(t, listener.Close())
	}
	s.address = fmt.Sprintf("127.0.0.1:%d", port)
	require.NoError(t, os.MkdirAll("/run/sshd", 0o755))
	config := append(s.first, []string{
		fmt.Sprintf("Port %d", port),
		"ListenAddress 127.0.0.1",
		"HostKey " + quoted(s.hostKey),
		"AuthorizedKeysFile " + quoted(s.key+".pub"),
		"PidFile none",
		"StrictModes no",
		"UsePAM no",
		"PermitRootLogin yes",
		"PrintMotd no",
		"PrintLastLog no",
	}...)
	config = append(config, lines...)
	path := filepath.Join(s.folder, "sshd_config")
	require.NoError(t, os.WriteFile(path, []byte(strings.Join(config, "\n")+"\n"), 0o600))
	s.process = exec.Command("/usr/sbin/sshd", "-D", "-e", "-f", path)
	s.process.Stderr = s.said
	require.NoError(t, s.process.Start())
	process := s.process
	t.Cleanup(func() {
		_ = process.Process.Kill()
		_ = process.Wait()
	})
	require.Eventually(t, func() bool {
		conn, err := net.Dial("tcp", s.address)
		if err == nil {
			_ = conn.Close()
		}
		return err == nil
	}, 20*time.Second, 20*time.Millisecond, "%s", s.said)
}

// saidText is what a program has said so far; it goes on meanwhile.
type saidText struct {
	mu   sync.Mutex
	text bytes.Buffer
}

func (s *saidText) Write(p []byte) (int, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.text.Write(p)
}

func (s *saidText) String() string {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.text.String()
}

// quoted is a path as OpenSSH reads it whole: a folder for temporary files may have a space in its name.
func quoted(path string) string { return `"` + path + `"` }

// person answers what is asked while a line is opened.
type person struct {
	mu      sync.Mutex
	asked   []Question
	answers map[string]string // to what has such a text in it
}

func (p *person) ask(_ context.Context, q Question) (string, error) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.asked = append(p.asked, q)
	for text, answer := range p.answers {
		if strings.Contains(q.Text, text) {
			return answer, nil
		}
	}
	return "", errors.New("nobody knows: " + q.Text)
}

func (p *person) questions() (all []string) {
	p.mu.Lock()
	defer p.mu.Unlock()
	for _, q := range p.asked {
		all = append(all, q.Text)
	}
	return all
}

// settings is a home with keys and settings of its own.
func settings(t *testing.T, config string) string {
	t.Helper()
	home := t.TempDir()
	require.NoError(t, os.MkdirAll(filepath.Join(home, ".ssh"), 0o700))
	require.NoError(t, os.WriteFile(filepath.Join(home, ".ssh", "config"), []byte(config), 0o600))
	return home
}

func me(t *testing.T) string {
	who, err := user.Current()
	require.NoError(t, err)
	return who.Username
}

// shells are what shell sessions need; nobody is there where someone is nil.
func shells(home, agent string, someone *person) *Shells {
	s := &Shells{Home: home, Agent: agent}
	if someone != nil {
		s.SetAsk(someone.ask)
	}
	return s
}

func openSSH(t *testing.T, target string, with *Shells) (Line, error) {
	t.Helper()
	parsed, err := ParseTarget(target)
	require.NoError(t, err)
	o := NewOpener(clock.Real())
	o.Shells.Home, o.Shells.Agent = with.Home, with.Agent
	o.Shells.SetAsk(with.asker())
	ctx, cancel := context.WithTimeout(t.Context(), time.Minute)
	defer cancel()
	return o.Open(ctx, parsed)
}

const firstTime = "is met for the first time"

func TestAShellByKey(t *testing.T) {
	server := startSSH(t, "Banner "+quoted(banner(t)))
	home := settings(t,
		"Host quay\n  HostName 127.0.0.1\n  Port "+portOf(server.address)+"\n  User "+me(t)+"\n  IdentityFile "+quoted(server.key)+"\n")
	someone := &person{answers: map[string]string{firstTime: KeyIsRight}}
	l, err := openSSH(t, "ssh://quay?size=101x37", shells(home, "", someone))
	require.NoError(t, err, "%s", server.said)
	require.Len(t, someone.questions(), 1)
	assert.Contains(t, someone.questions()[0], "ssh-ed25519 SHA256:")
	heard(t, l, "Orsholm harbour authority\r\n")
	require.NoError(t, l.Write(t.Context(), []byte("PS1=; stty -echo; echo be\"\"gun\r")))
	heard(t, l, "begun")
	require.NoError(t, l.Write(t.Context(), []byte("echo $TERM $(stty size)\r")))
	heard(t, l, "xterm-256color 37 101")
	require.NoError(t, l.(Resizer).Resize(120, 40))
	require.NoError(t,
		l.Write(t.Context(), []byte("while [ \"$(stty size)\" != '40 120' ]; do :; done; echo re\"\"sized; exit 7\r")))
	heard(t, l, "resized")
	for range l.Chunks() {
	}
	assert.ErrorContains(t, l.Err(), "the shell ended, with status 7")
	require.NoError(t, l.Close())

	l, err = openSSH(t, "ssh://quay", shells(home, "", nil))
	require.NoError(t, err, "its key is known now, and nobody is asked")
	require.NoError(t, l.Close())
	assert.NoError(t, l.Err())
}

func banner(t *testing.T) string {
	path := filepath.Join(t.TempDir(), "banner")
	require.NoError(t, os.WriteFile(path, []byte("Orsholm harbour authority\n"), 0o644))
	return path
}

func portOf(address string) string {
	_, port, _ := net.SplitHostPort(address)
	return port
}

func TestAKeyWithAPassphraseAndTheAgent(t *testing.T) {
	server := startSSH(t)
	locked := filepath.Join(t.TempDir(), "locked")
	keygen(t, locked, "ed25519", "-N", "lamp-and-tide")
	require.NoError(t, os.Rename(locked+".pub", server.key+".pub"))
	home := settings(t, "Host *\n  IdentityFile "+quoted(locked)+"\n")
	someone := &person{
		answers: map[string]string{firstTime: KeyIsRight, "passphrase of the key " + locked: "lamp-and-tide"},
	}
	target := "ssh://" + me(t) + "@" + server.address
	with := shells(home, "", someone)
	l, err := openSSH(t, target, with)
	require.NoError(t, err)
	require.NoError(t, l.Close())

	_, err = openSSH(t, target,
		shells(home, "", &person{answers: map[string]string{"passphrase": "wrong", "password": "x"}}))
	require.ErrorIs(t, err, ErrDenied)
	assert.Contains(t, err.Error(), "not the key "+locked)

	socket := filepath.Join(t.TempDir(), "agent")
	holder := exec.Command("ssh-agent", "-D", "-a", socket)
	require.NoError(t, holder.Start())
	defer func() { _ = holder.Process.Kill(); _ = holder.Wait() }()
	require.Eventually(t, func() bool { _, err := os.Stat(socket); return err == nil }, 10*time.Second,
		10*time.Millisecond)
	plain := filepath.Join(t.TempDir(), "plain")
	keygen(t, plain, "ed25519")
	add := exec.Command("ssh-add", plain)
	add.Env = append(os.Environ(), "SSH_AUTH_SOCK="+socket)
	out, err := add.CombinedOutput()
	require.NoError(t, err, "%s", out)
	require.NoError(t, os.Rename(plain+".pub", server.key+".pub"))
	bare := settings(t, "")
	require.NoError(t,
		os.Rename(filepath.Join(home, ".ssh", "known_hosts"), filepath.Join(bare, ".ssh", "known_hosts")))
	l, err = openSSH(t, target, shells(bare, socket, nil))
	require.NoError(t, err, "the agent's key, and nobody asked")
	require.NoError(t, l.Close())
}

// TestAChangedHostKeyIsRefused names the file and the line, and asks nobody.
func TestAChangedHostKeyIsRefused(t *testing.T) {
	server := startSSH(t)
	home := settings(t, "Host *\n  IdentityFile "+quoted(server.key)+"\n")
	someone := &person{answers: map[string]string{firstTime: KeyIsRight}}
	target := "ssh://" + me(t) + "@" + server.address
	l, err := openSSH(t, target, shells(home, "", someone))
	require.NoError(t, err)
	require.NoError(t, l.Close())
	_ = server.process.Process.Kill()
	_ = server.process.Wait()
	require.NoError(t, os.Remove(server.hostKey))
	require.NoError(t, os.Remove(server.hostKey+".pub"))
	keygen(t, server.hostKey, "ed25519")
	var port int
	_, _ = fmt.Sscan(portOf(server.address), &port)
	server.start(t, port)
	_, err = openSSH(t, target, shells(home, "", someone))
	require.ErrorIs(t, err, ErrOtherKey)
	assert.Contains(t, err.Error(), filepath.Join(home, ".ssh", "known_hosts")+", line 1, has ssh-ed25519 SHA256:")
	assert.Len(t, someone.questions(), 1, "it is not asked about")

	stranger := startSSH(t)
	_, err = openSSH(t, "ssh://"+me(t)+"@"+stranger.address, shells(home, "", nil))
	require.ErrorIs(t, err, ErrDenied)
	assert.Contains(t, err.Error(), "nobody is here to say")
	_, err = openSSH(t, "ssh://"+me(t)+"@"+stranger.address,
		shells(home, "", &person{answers: map[string]string{firstTime: KeyIsWrong}}))
	require.ErrorIs(t, err, ErrDenied)
}

// TestAHostWithSeveralKeysIsAskedForTheKnownOne has one that would show another kind first.
func TestAHostWithSeveralKeysIsAskedForTheKnownOne(t *testing.T) {
	server := startSSH(t)
	rsa := filepath.Join(server.folder, "rsa")
	keygen(t, rsa, "rsa")
	_ = server.process.Process.Kill()
	_ = server.process.Wait()
	server.start(t, 0, "HostKey "+quoted(rsa))
	home := settings(t, "Host *\n  IdentityFile "+quoted(server.key)+"\n")
	public, err := os.ReadFile(rsa + ".pub")
	require.NoError(t, err)
	require.NoError(t,
		os.WriteFile(filepath.Join(home, ".ssh", "known_hosts"),
			fmt.Appendf(nil, "[127.0.0.1]:%s %s", portOf(server.address), public), 0o600))
	l, err := openSSH(t, "ssh://"+me(t)+"@"+server.address, shells(home, "", nil))
	require.NoError(t, err)
	require.NoError(t, l.Close())
}

func TestAWayThroughAnotherHost(t *testing.T) {
	inner, outer := startSSH(t), startSSH(t)
	home := settings(t,
		fmt.Sprintf("Host inner\n  HostName 127.0.0.1\n  Port %s\n  ProxyJump outer\n  IdentityFile %s\nHost outer\n  HostName 127.0.0.1\n  Port %s\n  IdentityFile %s\nHost *\n  User %s\nHost round\n  ProxyJump round\n",
			portOf(inner.address), quoted(inner.key), portOf(outer.address), quoted(outer.key), me(t)))
	someone := &person{answers: map[string]string{firstTime: KeyIsRight}}
	l, err := openSSH(t, "ssh://inner", shells(home, "", someone))
	require.NoError(t, err)
	assert.Len(t, someone.questions(), 2, "each shows its own key")
	require.NoError(t, l.Write(t.Context(), []byte("echo th\"\"rough\r")))
	heard(t, l, "through")
	require.NoError(t, l.Close())
	_, err = openSSH(t, "ssh://round", shells(home, "", someone))
	assert.ErrorContains(t, err, "look for a circle")
}

// TestOldAlgorithmsOnlyWhenAskedFor has a server that knows nothing else.
func TestOldAlgorithmsOnlyWhenAskedFor(t *testing.T) {
	server := startSSH(t, "KexAlgorithms diffie-hellman-group14-sha1", "Ciphers aes128-cbc", "MACs hmac-sha1")
	home := settings(t, "Host *\n  IdentityFile "+quoted(server.key)+"\n")
	someone := &person{answers: map[string]string{firstTime: KeyIsRight}}
	target := "ssh://" + me(t) + "@" + server.address
	_, err := openSSH(t, target, shells(home, "", someone))
	require.ErrorContains(t, err, "?legacy=yes")
	l, err := openSSH(t, target+"?legacy=yes", shells(home, "", someone))
	require.NoError(t, err)
	assert.Contains(t, l.(interface{ Old() string }).Old(), "diffie-hellman-group14-sha1")
	require.NoError(t, l.Close())
}

// TestPasswordsAndWhatIsAsked needs a user of its own, so it needs root.
func TestPasswordsAndWhatIsAsked(t *testing.T) {
	if os.Geteuid() != 0 {
		t.Skip("needs root: a user with a password is made")
	}
	const name = "pilotrix-test"
	_ = exec.Command("userdel", name).Run()
	out, err := exec.Command("useradd", "--no-create-home", "--home-dir", "/", "--shell", "/bin/sh", name).
		CombinedOutput()
	require.NoError(t, err, "%s", out)
	defer func() { _ = exec.Command("userdel", name).Run() }()
	set := exec.Command("chpasswd")
	set.Stdin = strings.NewReader(name + ":lamp-and-tide\n")
	out, err = set.CombinedOutput()
	require.NoError(t, err, "%s", out)
	for how, lines := range map[string][]string{
		"by password":      {"PasswordAuthentication yes", "KbdInteractiveAuthentication no", "UsePAM no"},
		"by what is asked": {"PasswordAuthentication no", "KbdInteractiveAuthentication yes", "UsePAM yes"},
	} {
		t.Run(how, func(t *testing.T) {
			server := startSSH(t)
			_ = server.process.Process.Kill()
			_ = server.process.Wait()
			server.startWith(t, lines)
			home := settings(t, "")
			someone := &person{answers: map[string]string{firstTime: KeyIsRight, "assword": "lamp-and-tide"}}
			with := shells(home, "", someone)
			target, err := ParseTarget("ssh://" + name + "@" + server.address)
			require.NoError(t, err)
			o := NewOpener(clock.Real())
			o.Shells.Home, o.Shells.Agent = with.Home, ""
			o.Shells.SetAsk(with.asker())
			l, err := o.Open(t.Context(), target)
			require.NoError(t, err, "%s", server.said)
			require.NoError(t, l.Close())
			assert.Contains(t, o.Shells.Secrets(), "lamp-and-tide")
			asked := len(someone.questions())
			l, err = o.Open(t.Context(), target)
			require.NoError(t, err)
			require.NoError(t, l.Close())
			assert.Len(t, someone.questions(), asked, "what was right once is given again")

			wrong := &person{answers: map[string]string{firstTime: KeyIsRight, "assword": "wrong"}}
			_, err = openSSH(t, target.String(), shells(home, "", wrong))
			require.ErrorIs(t, err, ErrDenied)
			assert.GreaterOrEqual(t, len(wrong.questions()), 2, "a person may mistype")
			_, err = openSSH(t, target.String(), shells(home, "", nil))
			require.ErrorIs(t, err, ErrDenied)
			assert.Contains(t, err.Error(), "nobody is here to give it")
		})
	}
}

// startWith starts it with lines that go before the usual ones.
func (s *sshServer) startWith(t *testing.T, lines []string) {
	t.Helper()
	s.first = lines
	s.start(t, 0)
}

// TestHostileShells holds that none of them hangs the opening.
func TestHostileShells(t *testing.T) {
	for name, serve := range map[string]func(net.Conn){
		"it closes at once":  func(net.Conn) {},
		"it is no such host": func(c net.Conn) { _, _ = c.Write([]byte("HTTP/1.1 400 Bad Request\r\n\r\n")) },
		"it never comes to the point": func(c net.Conn) {
			for range 1 << 12 {
				if _, err := c.Write([]byte("wait a little\r\n")); err != nil {
					return
				}
			}
		},
		"it breaks off after its name": func(c net.Conn) { _, _ = c.Write([]byte("SSH-2.0-x\r\n")) },
		"it sends garbage for a key exchange": func(c net.Conn) {
			_, _ = c.Write([]byte("SSH-2.0-x\r\n"))
			_, _ = c.Write(bytes.Repeat([]byte{0, 0, 0, 255}, 4096))
		},
	} {
		t.Run(name, func(t *testing.T) {
			target := hostile(t, serve)
			begun := time.Now()
			_, err := openSSH(t, "ssh://x@"+target.Address, shells(settings(t, ""), "", nil))
			require.Error(t, err)
			assert.Less(t, time.Since(begun), 50*time.Second)
		})
	}
}
