package bench

import (
	"crypto/ed25519"
	"crypto/sha256"
	"errors"
	"io"
	"net"
	"strings"
	"sync"

	"github.com/pkg/sftp"
	"golang.org/x/crypto/ssh"

	"pilotrix/core/line/telnet"
)

// A device may be reached by a shell session instead of its console: over telnet, or over SSH with the account that it
// has. The session ends when the device restarts, and the device answers again when its network is up.

// sessionHost is a line that is a session over the network: of the last who came.
type sessionHost struct {
	speed func() int

	mu        sync.Mutex
	conn      io.ReadWriteCloser // nil while nobody is there
	user      string             // who was let in already, empty where the device has to ask
	answering bool
	first     sync.Once
	up        chan struct{} // closed when it answers first
	came      func()
}

// Read implements Host.
func (h *sessionHost) Read(p []byte) (int, error) {
	h.mu.Lock()
	conn := h.conn
	h.mu.Unlock()
	if conn == nil {
		return 0, errNobody
	}
	n, err := conn.Read(p)
	if err != nil {
		h.drop(conn)
		err = errNobody
	}
	return n, err
}

// Write implements Host.
func (h *sessionHost) Write(p []byte) (int, error) {
	h.mu.Lock()
	conn := h.conn
	h.mu.Unlock()
	if conn != nil {
		if _, err := conn.Write(p); err != nil {
			h.drop(conn)
		}
	}
	return len(p), nil
}

// Speed implements Host: a session has none, so that both ends always agree.
func (h *sessionHost) Speed() int { return h.speed() }

// Close implements Host.
func (h *sessionHost) Close() error {
	h.hangUp()
	return nil
}

func (h *sessionHost) drop(conn io.Closer) {
	h.mu.Lock()
	if h.conn == conn {
		h.conn, h.user = nil, ""
	}
	h.mu.Unlock()
	_ = conn.Close()
}

// attach gives the line to who has come. It reports whether the device answers.
func (h *sessionHost) attach(conn io.ReadWriteCloser, user string) bool {
	h.mu.Lock()
	if !h.answering {
		h.mu.Unlock()
		return false
	}
	old := h.conn
	h.conn, h.user = conn, user
	h.mu.Unlock()
	if old != nil {
		_ = old.Close()
	}
	h.came()
	return true
}

func (h *sessionHost) hangUp() {
	h.mu.Lock()
	conn := h.conn
	h.conn, h.user, h.answering = nil, "", false
	h.mu.Unlock()
	if conn != nil {
		_ = conn.Close()
	}
}

func (h *sessionHost) answer() {
	h.mu.Lock()
	defer h.mu.Unlock()
	h.answering = true
	h.first.Do(func() { close(h.up) })
}

// HangUp ends the session that the line is, if it is one: the device restarts.
func (w *Wire) HangUp() {
	if h, ok := w.currentHost().(*sessionHost); ok {
		h.hangUp()
	}
}

// Answer lets sessions in: the device's network is up.
func (w *Wire) Answer() {
	if h, ok := w.currentHost().(*sessionHost); ok {
		h.answer()
	}
}

// User is who was let in by the session itself, empty where the device has to ask.
func (w *Wire) User() string {
	if h, ok := w.currentHost().(*sessionHost); ok {
		h.mu.Lock()
		defer h.mu.Unlock()
		return h.user
	}
	return ""
}

// sessionBaud paces a session: much faster than any console.
const sessionBaud = 10_000_000

// Account is a device with a login of its own.
type Account interface{ Account() (login, word string) }

// Login is the account that the device lets in, empty for none.
func (m *Machine) Login() string {
	if account, has := m.device.(Account); has {
		login, _ := account.Account()
		return login
	}
	return ""
}

// At makes the machine one that is reached by sessions over telnet or ssh at a listener, before it is started. The
// listener is closed with the machine.
func (m *Machine) At(kind string, listener net.Listener) error {
	serve := map[string]func(net.Conn, *sessionHost){"telnet": serveTelnet, "ssh": m.serveSSH}[kind]
	if serve == nil {
		return errors.New("a device is reached by telnet or ssh")
	}
	m.sessions, m.listener = &sessionHost{speed: func() int { return sessionBaud }, up: make(chan struct{})}, listener
	go func() {
		for {
			conn, err := listener.Accept()
			if err != nil {
				return
			}
			go serve(conn, m.sessions)
		}
	}()
	return nil
}

func serveTelnet(conn net.Conn, h *sessionHost) {
	t := &telnetConn{Conn: conn, machine: telnet.New(telnet.Options{Server: true, Binary: true})}
	if _, err := conn.Write(t.machine.Begin()); err != nil || !h.attach(t, "") {
		_ = conn.Close()
	}
}

// telnetConn is a connection whose bytes are data only.
type telnetConn struct {
	net.Conn
	mu      sync.Mutex
	machine *telnet.Machine
	rest    []byte
}

func (c *telnetConn) Read(p []byte) (int, error) {
	buffer := make([]byte, 4096)
	for len(c.rest) == 0 {
		n, err := c.Conn.Read(buffer)
		if err != nil {
			return 0, err
		}
		c.mu.Lock()
		c.rest = c.machine.Receive(buffer[:n])
		replies := c.machine.Replies()
		c.mu.Unlock()
		if _, err := c.Conn.Write(replies); err != nil {
			return 0, err
		}
	}
	n := copy(p, c.rest)
	c.rest = c.rest[n:]
	return n, nil
}

func (c *telnetConn) Write(p []byte) (int, error) {
	c.mu.Lock()
	encoded := c.machine.Encode(p)
	c.mu.Unlock()
	if _, err := c.Conn.Write(encoded); err != nil {
		return 0, err
	}
	return len(p), nil
}

// serveSSH lets the device's own account in, and gives it the line with its first shell.
func (m *Machine) serveSSH(conn net.Conn, h *sessionHost) {
	defer conn.Close()
	login, word := "", ""
	if account, has := m.device.(Account); has {
		login, word = account.Account()
	}
	config := &ssh.ServerConfig{PasswordCallback: func(c ssh.ConnMetadata, password []byte) (*ssh.Permissions, error) {
		if c.User() != login || string(password) != word {
			return nil, errors.New("not let in")
		}
		return &ssh.Permissions{}, nil
	}}
	config.AddHostKey(m.hostKey())
	h.mu.Lock()
	answering := h.answering
	h.mu.Unlock()
	if !answering {
		return
	}
	server, channels, requests, err := ssh.NewServerConn(conn, config)
	if err != nil {
		return
	}
	defer server.Close()
	go ssh.DiscardRequests(requests)
	for wanted := range channels {
		if wanted.ChannelType() != "session" {
			_ = wanted.Reject(ssh.UnknownChannelType, "a shell and nothing else")
			continue
		}
		channel, asked, err := wanted.Accept()
		if err != nil {
			return
		}
		go m.serveShell(&sshChannel{channel, server}, asked, h, login)
	}
}

// sshChannel is a shell whose end is that of its connection.
type sshChannel struct {
	ssh.Channel
	server *ssh.ServerConn
}

func (c *sshChannel) Close() error {
	_ = c.Channel.Close()
	return c.server.Close()
}

func (m *Machine) serveShell(channel *sshChannel, asked <-chan *ssh.Request, h *sessionHost, login string) {
	takes, drops := m.device.(Takes)
	for request := range asked {
		known := request.Type == "pty-req" || request.Type == "shell" || request.Type == "window-change"
		files := drops && request.Type == "subsystem" && strings.HasSuffix(string(request.Payload), "sftp")
		if request.WantReply {
			_ = request.Reply(known || files, nil)
		}
		switch {
		case files:
			go serveDrop(channel.Channel, takes.Drop())
		case request.Type == "shell" && !h.attach(channel, login):
			_ = channel.Close()
		}
	}
}

func serveDrop(channel ssh.Channel, store *Store) {
	server := sftp.NewRequestServer(channel, drop{store}.handlers())
	_ = server.Serve()
	_ = server.Close()
	_ = channel.Close()
}

// keyOf is a device's own key: the same each time.
func keyOf(name string) ed25519.PrivateKey {
	seed := sha256.Sum256([]byte(name))
	return ed25519.NewKeyFromSeed(seed[:])
}
