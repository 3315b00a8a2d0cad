package line

import (
	"context"
	"fmt"
	"io"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"

	"pilotrix/core/clock"
)

// beside is a server, keys and files for one row of settings after another.
type beside struct {
	*sshServer
	t                      *testing.T
	home                   string
	good, other, wrong, ca string // keys: let in, of another host, let in nowhere, an authority
	host                   string // the server's public key
	agent                  string
}

func newExtra(t *testing.T) *beside {
	b := &beside{t: t, home: settings(t, "")}
	b.sshServer = startSSH(t)
	folder := t.TempDir()
	path := func(name string) string { return filepath.Join(folder, name) }
	b.good, b.wrong, b.other, b.ca = b.key, path("wrong"), path("other"), path("ca")
	for _, key := range []string{b.wrong, b.other, b.ca} {
		keygen(t, key, "ed25519")
	}
	sign := exec.Command("ssh-keygen", "-q", "-s", b.ca, "-I", "quay", "-h", "-n", "127.0.0.1,quay", b.hostKey+".pub")
	out, err := sign.CombinedOutput()
	require.NoError(t, err, "%s", out)
	user := exec.Command("ssh-keygen", "-q", "-s", b.ca, "-I", "me", "-n", me(t), b.wrong+".pub")
	out, err = user.CombinedOutput()
	require.NoError(t, err, "%s", out)
	_ = b.process.Process.Kill()
	_ = b.process.Wait()
	b.start(t, 0, "HostCertificate "+quoted(b.hostKey+"-cert.pub"), "PasswordAuthentication no",
		"KbdInteractiveAuthentication no")
	public, err := os.ReadFile(b.hostKey + ".pub")
	require.NoError(t, err)
	b.host = strings.TrimSpace(string(public))
	b.agent = path("agent")
	holder := exec.Command("ssh-agent", "-D", "-a", b.agent)
	require.NoError(t, holder.Start())
	t.Cleanup(func() { _ = holder.Process.Kill(); _ = holder.Wait() })
	require.Eventually(t, func() bool { _, err := os.Stat(b.agent); return err == nil }, 10*time.Second,
		10*time.Millisecond)
	return b
}

func (b *beside) text(key string) string {
	data, err := os.ReadFile(key + ".pub")
	require.NoError(b.t, err)
	return strings.TrimSpace(string(data))
}

// row is what the settings and the files of known hosts say, and what comes of it.
type row struct {
	config string // within Host quay
	known  string
	held   string // a key that the agent has
	gets   bool   // in
	keeps  bool   // the new key
}

// TestSettingsHaveTheVerdictOfTheClient opens sessions by settings of many kinds, with OpenSSH's own client and with
// ours, from the same home: both get in, or neither does, and both keep the same of a new host.
func TestSettingsHaveTheVerdictOfTheClient(t *testing.T) {
	b := newExtra(t)
	port := portOf(b.address)
	at := "[127.0.0.1]:" + port
	key := "IdentityFile " + quoted(b.good)
	cert := "@cert-authority " + at + " " + b.text(b.ca)
	good := at + " " + b.host
	hashed := func(name string) string {
		file := filepath.Join(t.TempDir(), "known")
		require.NoError(t, os.WriteFile(file, []byte(name+" "+b.host+"\n"), 0o600))
		out, err := exec.Command("ssh-keygen", "-H", "-f", file).CombinedOutput()
		require.NoError(t, err, "%s", out)
		text, err := os.ReadFile(file)
		require.NoError(t, err)
		return strings.TrimSpace(string(text))
	}
	jump := fmt.Sprintf("ProxyCommand busybox nc 127.0.0.1 %s", port)
	rows := map[string]row{
		"a known key":  {config: key, known: good, gets: true},
		"a hashed one": {config: key, known: hashed(at), gets: true},
		"a pattern":    {config: key, known: "[127.0.0.*]:" + port + " " + b.host, gets: true},
		"a pattern that leaves it out": {
			config: key + "\nStrictHostKeyChecking yes",
			known:  "*,!" + at + ",!127.0.0.1 " + b.host,
		},
		"known without its port": {config: key, known: "127.0.0.1 " + b.host, gets: true},
		"another key":            {config: key, known: at + " " + b.text(b.other)},
		"another key, and anything is taken": {
			config: key + "\nStrictHostKeyChecking accept-new",
			known:  at + " " + b.text(b.other),
		},
		"both keys": {
			config: key,
			known:  at + " " + b.text(b.other) + "\n" + good,
			gets:   true,
		},
		"a new one, asked":   {config: key},
		"a new one, refused": {config: key + "\nStrictHostKeyChecking yes"},
		"a new one, taken": {
			config: key + "\nStrictHostKeyChecking accept-new",
			gets:   true,
			keeps:  true,
		},
		"a new one, anything goes": {config: key + "\nStrictHostKeyChecking no", gets: true, keeps: true},
		"a new one, kept nowhere": {
			config: key + "\nStrictHostKeyChecking no\nUserKnownHostsFile /dev/null",
			gets:   true,
		},
		"garbled lines": {
			config: key,
			known:  "gar bled\n" + at + " ssh-ed25519 AAAA\n|1|x|y " + b.host + "\n" + good,
			gets:   true,
		},
		"an old kind of key among them": {
			config: key,
			known:  "other ssh-dss AAAAB3NzaC1kc3MAAACBAP\n" + good,
			gets:   true,
		},
		"revoked": {config: key, known: "@revoked * " + b.host + "\n" + good},
		"another one revoked": {
			config: key,
			known:  "@revoked * " + b.text(b.other) + "\n" + good,
			gets:   true,
		},
		"an authority":           {config: key, known: cert, gets: true},
		"an authority, strictly": {config: key + "\nStrictHostKeyChecking yes", known: cert, gets: true},
		"an authority of other hosts": {
			config: key + "\nStrictHostKeyChecking yes",
			known:  "@cert-authority *.example " + b.text(b.ca),
		},
		"an authority that is revoked": {config: key, known: cert + "\n@revoked * " + b.text(b.ca)},
		"an authority, and another name": {
			config: key + "\nHostKeyAlias light",
			known:  "@cert-authority light " + b.text(b.ca),
		},
		"an authority, and a name it signed": {
			config: key + "\nHostKeyAlias quay",
			known:  "@cert-authority quay " + b.text(b.ca),
			gets:   true,
		},
		"an alias": {
			config: key + "\nHostKeyAlias light",
			known:  "light " + b.host,
			gets:   true,
		},
		"an alias that is not known": {
			config: key + "\nHostKeyAlias light\nStrictHostKeyChecking yes",
			known:  good,
		},
		"another file of known hosts": {config: key + "\nUserKnownHostsFile ~/.ssh/other"},
		"a wrong key": {
			config: "IdentityFile " + quoted(b.wrong) + "\nIdentitiesOnly yes",
			known:  good,
		},
		"no key at all":            {config: "IdentityFile none", known: good},
		"keys are not to be shown": {config: key + "\nPubkeyAuthentication no", known: good},
		"only passwords":           {config: key + "\nPreferredAuthentications password", known: good},
		"the agent's key":          {config: "IdentityFile none", known: good, held: b.good, gets: true},
		"the agent's key, but only named ones": {
			config: "IdentityFile " + quoted(b.wrong) + "\nIdentitiesOnly yes",
			known:  good,
			held:   b.good,
		},
		"the agent's key, which is named": {
			config: key + ".pub\nIdentitiesOnly yes",
			known:  good,
			held:   b.good,
			gets:   true,
		},
		"no agent": {
			config: "IdentityFile none\nIdentityAgent none",
			known:  good,
			held:   b.good,
		},
		"another user": {config: key + "\nUser nobody", known: good},
		"another user by a later line": {
			config: key + "\nUser " + me(t) + "\nMatch all\nUser nobody",
			known:  good,
			gets:   true,
		},
		"a Match that holds": {
			config: "Match host 127.0.0.1 exec \"true\"\n" + key,
			known:  good,
			gets:   true,
		},
		"a Match that does not": {config: "Match user nobody\n" + key, known: good},
		"a command that leads there": {
			config: "HostName 198.51.100.1\nHostKeyAlias light\n" + key + "\n" + jump,
			known:  "light " + b.host,
			gets:   true,
		},
		"a command that leads nowhere": {config: key + "\nProxyCommand false", known: good},
		"a command that is none":       {config: key + "\nProxyCommand none", known: good, gets: true},
		"a setting that nobody knows":  {config: key + "\nOddSetting yes", known: good},
		"one that may be passed over": {
			config: "IgnoreUnknown Odd*\n" + key + "\nOddSetting yes",
			known:  good,
			gets:   true,
		},
		"ciphers that nobody has in common": {config: key + "\nCiphers 3des-cbc", known: good},
		"ciphers in common":                 {config: key + "\nCiphers aes256-ctr", known: good, gets: true},
		"an exchange that is put first": {
			config: key + "\nKexAlgorithms ^ecdh-sha2-nistp256",
			known:  good,
			gets:   true,
		},
		"a kind of host key that it has not": {config: key + "\nHostKeyAlgorithms ssh-rsa,rsa-sha2-512", known: good},
		"from another address":               {config: key + "\nBindAddress 127.0.0.7", known: good, gets: true},
		"over another network":               {config: key + "\nAddressFamily inet6", known: good},
	}
	for name, r := range rows {
		t.Run(name, func(t *testing.T) {
			theirs, theirKept := b.client(t, r, port)
			ours, ourKept, err := b.ours(t, r, port)
			assert.Equal(t, r.gets, theirs, "the client's verdict is what this row is about")
			assert.Equal(t, theirs, ours, "%v", err)
			assert.Equal(t, r.keeps, theirKept)
			assert.Equal(t, theirKept, ourKept)
		})
	}
}

// prepare makes the home of one row.
func (b *beside) prepare(t *testing.T, r row, port string) (home string) {
	home = settings(t, "")
	config := "Host quay\n"
	if !strings.Contains(r.config, "HostName") {
		config += "HostName 127.0.0.1\n"
	}
	config += r.config + "\nMatch all\nPort " + port + "\nUser " + me(t) + "\n"
	require.NoError(t, os.WriteFile(filepath.Join(home, ".ssh", "config"), []byte(config), 0o600))
	require.NoError(t, os.WriteFile(filepath.Join(home, ".ssh", "known_hosts"), []byte(r.known+"\n"), 0o600))
	add := exec.Command("ssh-add", "-q", "-D")
	add.Env = append(os.Environ(), "SSH_AUTH_SOCK="+b.agent)
	_ = add.Run()
	if r.held != "" {
		add := exec.Command("ssh-add", "-q", r.held)
		add.Env = append(os.Environ(), "SSH_AUTH_SOCK="+b.agent)
		out, err := add.CombinedOutput()
		require.NoError(t, err, "%s", out)
	}
	return home
}

func kept(t *testing.T, home string, r row) bool {
	data, err := os.ReadFile(filepath.Join(home, ".ssh", "known_hosts"))
	require.NoError(t, err)
	return strings.TrimSpace(string(data)) != strings.TrimSpace(r.known)
}

// client opens a session with OpenSSH's own. It looks for its home in the system's list, so the files are named to it.
func (b *beside) client(t *testing.T, r row, port string) (in, keeps bool) {
	home := b.prepare(t, r, port)
	path := filepath.Join(home, ".ssh", "config")
	config, err := os.ReadFile(path)
	require.NoError(t, err)
	text := strings.ReplaceAll(string(config), "~/", home+"/")
	if !strings.Contains(text, "UserKnownHostsFile") {
		text = strings.Replace(text, "Host quay\n",
			"Host quay\nUserKnownHostsFile "+quoted(filepath.Join(home, ".ssh", "known_hosts"))+"\n", 1)
	}
	if !strings.Contains(text, "IdentityFile") {
		text += "Match all\nIdentityFile none\n"
	}
	require.NoError(t, os.WriteFile(path, []byte(text), 0o600))
	ctx, cancel := context.WithTimeout(t.Context(), 20*time.Second)
	defer cancel()
	run := exec.CommandContext(ctx, "ssh", "-F", path, "-o", "BatchMode=yes", "-o", "GlobalKnownHostsFile=none", "quay",
		"exit 0")
	run.Env = append(os.Environ(), "SSH_AUTH_SOCK="+b.agent)
	run.WaitDelay = time.Second
	return run.Run() == nil, kept(t, home, r)
}

func (b *beside) ours(t *testing.T, r row, port string) (in, keeps bool, err error) {
	home := b.prepare(t, r, port)
	l, err := openSSH(t, "ssh://quay", shells(home, b.agent, nil))
	if err == nil {
		require.NoError(t, l.Close())
	}
	return err == nil, kept(t, home, r), err
}

// TestAProxyCommandIsHeard says in the error what the command has complained of.
func TestAProxyCommandIsHeard(t *testing.T) {
	home := settings(t, "Host quay\nProxyCommand echo no way to %h >&2\n")
	_, err := openSSH(t, "ssh://quay", shells(home, "", nil))
	require.ErrorIs(t, err, ErrUnplugged)
	assert.ErrorContains(t, err, "config line 2 says: no way to quay")
}

// listener is a server of our own making, which writes down every password that it is given.
type listener struct {
	address string
	mu      sync.Mutex
	got     []string
}

func (l *listener) take(password string) {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.got = append(l.got, password)
}

func (l *listener) passwords() []string {
	l.mu.Lock()
	defer l.mu.Unlock()
	return append([]string{}, l.got...)
}

func listensTo(t *testing.T, right string, questions ...string) *listener {
	in, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { _ = in.Close() })
	l := &listener{address: in.Addr().String()}
	keyFile := filepath.Join(t.TempDir(), "host")
	keygen(t, keyFile, "ed25519")
	data, err := os.ReadFile(keyFile)
	require.NoError(t, err)
	host, err := ssh.ParsePrivateKey(data)
	require.NoError(t, err)
	config := &ssh.ServerConfig{PasswordCallback: func(_ ssh.ConnMetadata, password []byte) (*ssh.Permissions, error) {
		l.take(string(password))
		if string(password) == right {
			return nil, nil
		}
		return nil, io.EOF
	}}
	if len(questions) > 0 {
		config.KeyboardInteractiveCallback = func(_ ssh.ConnMetadata, ask ssh.KeyboardInteractiveChallenge) (*ssh.Permissions, error) {
			answers, err := ask("", "", questions, make([]bool, len(questions)))
			for _, answer := range answers {
				l.take(answer)
			}
			return nil, cmpErr(err)
		}
	}
	config.AddHostKey(host)
	go func() {
		for {
			conn, err := in.Accept()
			if err != nil {
				return
			}
			go func() {
				server, channels, requests, err := ssh.NewServerConn(conn, config)
				if err != nil {
					_ = conn.Close()
					return
				}
				defer server.Close()
				go ssh.DiscardRequests(requests)
				for asked := range channels {
					_ = asked.Reject(ssh.Prohibited, "nothing here")
				}
			}()
		}
	}()
	return l
}

func cmpErr(err error) error {
	if err != nil {
		return err
	}
	return io.EOF
}

// TestAPasswordGoesWhereItIsMeantFor and nowhere else: not to a host on the way, not twice, not to another question.
func TestAPasswordGoesWhereItIsMeantFor(t *testing.T) {
	open := func(target, home string) error {
		parsed, err := ParseTarget(target)
		require.NoError(t, err)
		o := NewOpener(clock.Real())
		o.Shells.Home, o.Shells.Agent = home, ""
		o.Shells.Give("lamp-and-tide")
		ctx, cancel := context.WithTimeout(t.Context(), 20*time.Second)
		defer cancel()
		_, err = o.Open(ctx, parsed)
		return err
	}
	anyHost := "StrictHostKeyChecking accept-new\n"
	t.Run("not to a host on the way", func(t *testing.T) {
		way, end := listensTo(t, "lamp-and-tide"), listensTo(t, "lamp-and-tide")
		err := open("ssh://x@"+end.address,
			settings(t,
				anyHost+"Match originalhost 127.0.0.1 exec \"test %p = "+portOf(end.address)+"\"\nProxyJump y@"+way.address+"\n"))
		require.Error(t, err)
		assert.Empty(t, way.passwords())
		assert.Empty(t, end.passwords())
	})
	t.Run("not twice", func(t *testing.T) {
		end := listensTo(t, "another", "Password: ")
		require.Error(t, open("ssh://x@"+end.address, settings(t, anyHost)))
		assert.Equal(t, []string{"lamp-and-tide"}, end.passwords())
	})
	for _, question := range []string{"Verification code: ", "New password: ", "One-time password (OATH): ", "Enter PIN: ", "Token: ", "What is your quest? "} {
		t.Run("not to "+question, func(t *testing.T) {
			end := listensTo(t, "another", question)
			require.Error(t,
				open("ssh://x@"+end.address, settings(t, anyHost+"PreferredAuthentications keyboard-interactive\n")))
			assert.Empty(t, end.passwords())
		})
	}
	t.Run("by the way that is said", func(t *testing.T) {
		end, other := listensTo(t, "lamp-and-tide"), listensTo(t, "lamp-and-tide")
		home := settings(t,
			anyHost+"Host 127.0.0.1\nHostKeyAlias quay\nProxyCommand busybox nc 127.0.0.1 "+portOf(end.address)+"\n")
		_ = open("ssh://x@"+other.address, home)
		assert.Equal(t, []string{"lamp-and-tide"}, end.passwords())
		assert.Empty(t, other.passwords(), "the command leads elsewhere")
	})
}

// FuzzWaysThroughOtherHosts holds that a way gets shorter with each host that is taken off it.
func FuzzWaysThroughOtherHosts(f *testing.F) {
	f.Add("me@b:22,c,ssh://d@[::1]:2222/")
	f.Fuzz(func(t *testing.T, jump string) {
		for more := jump != ""; more; {
			var rest string
			_, rest, more = cutLast(jump)
			require.True(t, !more || len(rest) < len(jump))
			jump = rest
		}
	})
}

// FuzzKnownHosts holds that no line of a file of known hosts hides the good one after it.
func FuzzKnownHosts(f *testing.F) {
	const good = "quay ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIOMqqnkVzrm0SdG6UOoqKLsabgH5C9okWi0dh2l9GKJl"
	f.Add("@revoked * x\n|1|a|b ssh-rsa AAAA")
	f.Fuzz(func(t *testing.T, text string) {
		path := filepath.Join(t.TempDir(), "known")
		require.NoError(t, os.WriteFile(path, []byte(text+"\n"+good+"\n"), 0o600))
		k, err := readKnown([]string{path})
		require.NoError(t, err)
		require.NotEmpty(t, k.of("quay", ""))
	})
}
