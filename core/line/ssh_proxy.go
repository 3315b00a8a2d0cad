package line

import (
	"context"
	"fmt"
	"io"
	"net"
	"os"
	"os/exec"
	"slices"
	"strings"
	"sync"
	"time"

	"golang.org/x/crypto/ssh"

	"pilotrix/core/line/sshsettings"
	"pilotrix/core/plain"
)

// proxy is a connection over a command's input and output (ssh_config(5), ProxyCommand).
type proxy struct {
	io.Reader
	io.Writer
	in, out io.Closer
	run     *exec.Cmd
	once    sync.Once
	says    complaints
}

// complaints are the last that a command has complained of.
type complaints struct {
	mu   sync.Mutex
	text []byte
}

const maxComplaints = 2 << 10

func (c *complaints) Write(p []byte) (int, error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.text = append(c.text, p...)
	c.text = c.text[max(0, len(c.text)-maxComplaints):]
	return len(p), nil
}

// last is the last line of them.
func (c *complaints) last() string {
	c.mu.Lock()
	defer c.mu.Unlock()
	lines := strings.Split(strings.TrimSpace(string(c.text)), "\n")
	return plain.Text(lines[len(lines)-1])
}

// runProxy starts the command by the user's shell, as OpenSSH does. What it complains of is kept: the terminal is ours.
func runProxy(ctx context.Context, h sshHost) (net.Conn, error) {
	shell := os.Getenv("SHELL")
	if shell == "" {
		shell = "/bin/sh"
	}
	run := exec.Command(shell, "-c", "exec "+h.CommandLine())
	p := &proxy{run: run}
	run.Stderr = &p.says
	in, err := run.StdinPipe()
	if err != nil {
		return nil, err
	}
	out, err := run.StdoutPipe()
	if err != nil {
		return nil, err
	}
	if err := run.Start(); err != nil {
		return nil, err
	}
	p.Reader, p.Writer, p.in, p.out = out, in, in, out
	if ctx.Err() != nil {
		_ = p.Close()
	}
	return p, ctx.Err()
}

// proxyGrace is how long a command may take to end by itself, and to say why.
const proxyGrace = 300 * time.Millisecond

// Close ends the command.
func (p *proxy) Close() error {
	p.once.Do(func() {
		_ = p.in.Close()
		_ = p.out.Close()
		kill := time.AfterFunc(proxyGrace, func() { _ = p.run.Process.Kill() })
		defer kill.Stop()
		_ = p.run.Wait()
	})
	return nil
}

// proxyAddr is what such a connection says of where it is.
type proxyAddr struct{}

func (proxyAddr) Network() string { return "proxy" }
func (proxyAddr) String() string  { return "0.0.0.0:0" }

func (*proxy) LocalAddr() net.Addr              { return proxyAddr{} }
func (*proxy) RemoteAddr() net.Addr             { return proxyAddr{} }
func (*proxy) SetDeadline(time.Time) error      { return nil }
func (*proxy) SetReadDeadline(time.Time) error  { return nil }
func (*proxy) SetWriteDeadline(time.Time) error { return nil }

// limitTo holds a handshake to the algorithms that the settings leave.
func limitTo(config *ssh.ClientConfig, h sshHost) error {
	good, old := ssh.SupportedAlgorithms(), ssh.InsecureAlgorithms()
	for _, one := range []struct {
		key         string
		to          *[]string
		usual, able []string
	}{
		{"kexalgorithms", &config.KeyExchanges, good.KeyExchanges, old.KeyExchanges},
		{"ciphers", &config.Ciphers, good.Ciphers, old.Ciphers},
		{"macs", &config.MACs, good.MACs, old.MACs},
		{"hostkeyalgorithms", &config.HostKeyAlgorithms, good.HostKeys, old.HostKeys},
	} {
		said := h.Get(one.key)
		if said == "" {
			continue
		}
		usual := one.usual
		if *one.to != nil {
			usual = *one.to
		}
		list := algorithmsOf(said, usual, slices.Concat(one.usual, one.able))
		if len(list) == 0 {
			return fmt.Errorf("%s: %s %s leaves nothing that is known here", h.Place(one.key), one.key, said)
		}
		*one.to = list
	}
	return nil
}

// algorithmsOf is a list as ssh_config(5) has it: in place of the usual ones, or with +, - or ^ before it added after
// them, taken from them, or put before them. Names that are not known here are passed over, as are those of the usual
// ones.
func algorithmsOf(said string, usual, known []string) (list []string) {
	var named []string
	for name := range strings.SplitSeq(strings.TrimLeft(said, "+-^"), ",") {
		for _, one := range known {
			if sshsettings.MatchesList(name, one, false) && !slices.Contains(named, one) {
				named = append(named, one)
			}
		}
	}
	without := slices.DeleteFunc(slices.Clone(usual), func(name string) bool { return slices.Contains(named, name) })
	switch said[0] {
	case '+':
		return append(without, named...)
	case '-':
		return without
	case '^':
		return append(named, without...)
	}
	return named
}
