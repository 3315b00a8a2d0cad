package bench

import (
	"context"
	"errors"
	"fmt"
	"net"
	"sync"

	"golang.org/x/crypto/ssh"

	"pilotrix/core/clock"
	"pilotrix/core/line"
)

// A device without a console is reached by its shell session and nothing else. Such a machine listens by itself: inside
// the process, or on loopback. Whoever opens it by its name on the bench is let in with its own account, by a real
// handshake.

// ShellOnly is a device that has no console.
type ShellOnly interface {
	Account
	// ShellOnly does nothing; it says so.
	ShellOnly()
}

// listens has a machine without a console listen. The caller holds mu.
func (m *Machine) listens() (err error) {
	if _, only := m.device.(ShellOnly); !only || m.sessions != nil {
		return nil
	}
	var listener net.Listener = newPipeListener()
	if !m.memory {
		if listener, err = net.Listen("tcp", "127.0.0.1:0"); err != nil {
			return err
		}
	}
	return m.At("ssh", listener)
}

// openShell opens a session of the machine, with the account that it has.
func (m *Machine) openShell(ctx context.Context, t line.Target, c clock.Clock) (line.Line, error) {
	fail := func(err error) error {
		return &line.Error{
			Target: t,
			Reason: line.ErrRefused,
			Cause:  err,
			Remedy: "it does not answer: it is restarting, or has no power",
		}
	}
	conn, err := m.dial(ctx)
	if err != nil {
		return nil, fail(err)
	}
	login, word := m.device.(Account).Account()
	config := &ssh.ClientConfig{
		User:            login,
		Auth:            []ssh.AuthMethod{ssh.Password(word)},
		HostKeyCallback: ssh.FixedHostKey(m.hostKey().PublicKey()),
	}
	stop := context.AfterFunc(ctx, func() { _ = conn.Close() })
	made, channels, requests, err := ssh.NewClientConn(conn, m.Name, config)
	stop()
	if err != nil {
		return nil, fail(errors.Join(err, conn.Close()))
	}
	l, err := newSessionLine(ssh.NewClient(made, channels, requests), t, c)
	if err != nil {
		return nil, fail(errors.Join(err, made.Close()))
	}
	return l, nil
}

func (m *Machine) dial(ctx context.Context) (net.Conn, error) {
	if memory, ok := m.listener.(*pipeListener); ok {
		return memory.dial(ctx)
	}
	var dialer net.Dialer
	return dialer.DialContext(ctx, "tcp", m.listener.Addr().String())
}

// sessionLine is the program's side of a session.
type sessionLine struct {
	line.Line
	session *ssh.Session
	client  *ssh.Client
}

func newSessionLine(client *ssh.Client, t line.Target, c clock.Clock) (*sessionLine, error) {
	session, err := client.NewSession()
	if err != nil {
		return nil, err
	}
	in, err := session.StdinPipe()
	if err != nil {
		return nil, err
	}
	out, err := session.StdoutPipe()
	if err != nil {
		return nil, err
	}
	if err := errors.Join(session.RequestPty("xterm", 40, 120, ssh.TerminalModes{}), session.Shell()); err != nil {
		return nil, err
	}
	wire := sessionSide{out.Read, in.Write, client.Close}
	return &sessionLine{line.NewStream(t, wire, c), session, client}, nil
}

// Client is the connection that the session goes over.
func (l *sessionLine) Client() *ssh.Client { return l.client }

// Resize implements line.Resizer.
func (l *sessionLine) Resize(cols, rows int) error { return l.session.WindowChange(rows, cols) }

type sessionSide struct {
	read, write func([]byte) (int, error)
	close       func() error
}

func (s sessionSide) Read(p []byte) (int, error)  { return s.read(p) }
func (s sessionSide) Write(p []byte) (int, error) { return s.write(p) }
func (s sessionSide) Close() error                { return s.close() }

// pipeListener is a listener inside the process.
type pipeListener struct {
	conns  chan net.Conn
	closed chan struct{}
	once   sync.Once
}

func newPipeListener() *pipeListener {
	return &pipeListener{conns: make(chan net.Conn), closed: make(chan struct{})}
}

func (l *pipeListener) dial(ctx context.Context) (net.Conn, error) {
	ours, theirs := newDuplex()
	select {
	case l.conns <- theirs:
		return ours, nil
	case <-l.closed:
		return nil, net.ErrClosed
	case <-ctx.Done():
		return nil, ctx.Err()
	}
}

// Accept implements net.Listener.
func (l *pipeListener) Accept() (net.Conn, error) {
	select {
	case conn := <-l.conns:
		return conn, nil
	case <-l.closed:
		return nil, net.ErrClosed
	}
}

// Close implements net.Listener.
func (l *pipeListener) Close() error {
	l.once.Do(func() { close(l.closed) })
	return nil
}

// Addr implements net.Listener.
func (l *pipeListener) Addr() net.Addr { return memoryAddr{} }

type memoryAddr struct{}

func (memoryAddr) Network() string { return "memory" }
func (memoryAddr) String() string  { return "192.0.2.0:22" }

// duplex is one end of a connection inside the process, whose writes do not wait for a reader.
type duplex struct {
	net.Conn // the deadlines of it are never set
	in, out  *pipe
}

func newDuplex() (a, b *duplex) {
	there, back := newPipe(), newPipe()
	return &duplex{in: back, out: there}, &duplex{in: there, out: back}
}

func (d *duplex) Read(p []byte) (int, error)  { return d.in.Read(p) }
func (d *duplex) Write(p []byte) (int, error) { return d.out.Write(p) }
func (d *duplex) LocalAddr() net.Addr         { return memoryAddr{} }
func (d *duplex) RemoteAddr() net.Addr        { return memoryAddr{} }

func (d *duplex) Close() error {
	d.in.close()
	d.out.close()
	return nil
}

// hostKey is the machine's own key, the same each time.
func (m *Machine) hostKey() ssh.Signer {
	key, err := ssh.NewSignerFromKey(keyOf(m.Name))
	if err != nil {
		panic(fmt.Sprintf("the key of %s: %v", m.Name, err)) // it is made of a hash
	}
	return key
}
