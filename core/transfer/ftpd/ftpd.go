// Package ftpd serves what is staged by FTP (RFC 959) to one user with a password made for this one time,
// and takes uploads for which a step has opened a slot. The protocol is goftp.io/server's; what it may
// touch is ours.
package ftpd

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/netip"
	"os"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"pilotrix/core/offer"

	ftp "goftp.io/server/v2"
)

// Server serves what is staged, and nothing else.
type Server struct {
	opt      offer.Serving
	listener *guarded
	at       netip.AddrPort
	server   *ftp.Server
	user     string
	password string
	count    atomic.Int64
}

// allowed are the commands that a device may use: nothing that lists, makes, renames or removes anything
// but what is staged.
var allowed = []string{"USER", "PASS", "QUIT", "NOOP", "SYST", "FEAT", "OPTS", "TYPE", "MODE", "STRU", "PWD", "CWD"}

// Listen binds a server.
func Listen(at netip.AddrPort, opt offer.Serving) (*Server, error) {
	opt = opt.Watched()
	listener, err := opt.Network.Listen(at)
	if err != nil {
		return nil, fmt.Errorf("FTP server at %s: %w", at, err)
	}
	s := &Server{opt: opt, listener: &guarded{Listener: listener, open: map[net.Conn]bool{}, local: map[string]net.Addr{}}, user: "once", password: rand.Text()[:12]}
	if s.at, err = netip.ParseAddrPort(listener.Addr().String()); err != nil {
		return nil, err
	}
	commands := map[string]ftp.Command{}
	for _, name := range allowed {
		commands[name] = ftp.DefaultCommands()[name]
	}
	commands["XPWD"] = commands["PWD"]
	for name, run := range s.dataCommands() {
		commands[name] = run
	}
	s.server, err = ftp.NewServer(&ftp.Options{
		Commands: commands, Driver: &driver{s: s}, Auth: s, Perm: ftp.NewSimplePerm("staged", "staged"),
		Name: "staged files", WelcomeMessage: "staged files only", Logger: quiet{},
	})
	return s, err
}

// Addr is where the server listens.
func (s *Server) Addr() netip.AddrPort { return s.at }

// Login is the user and the password that are good while the server lives.
func (s *Server) Login() (user, password string) { return s.user, s.password }

// Serve answers until ctx ends.
func (s *Server) Serve(ctx context.Context) error {
	stop := context.AfterFunc(ctx, func() {
		_ = s.server.Shutdown()
		s.listener.closeAll()
	})
	defer stop()
	err := s.server.Serve(s.listener)
	if ctx.Err() != nil || errors.Is(err, ftp.ErrServerClosed) {
		return nil
	}
	return fmt.Errorf("FTP server at %s: %w", s.at, err)
}

// CheckPasswd implements ftp.Auth.
func (s *Server) CheckPasswd(c *ftp.Context, user, password string) (bool, error) {
	ok, err := (&ftp.SimpleAuth{Name: s.user, Password: s.password}).CheckPasswd(c, user, password)
	if !ok {
		s.say(c.Sess, true, "refused", "a wrong user or password")
	}
	return ok, err
}

func (s *Server) say(session *ftp.Session, fromPeer bool, kind, text string) {
	s.opt.Watcher.Said(offer.Rung{Protocol: "FTP", Peer: peerOf(session), FromPeer: fromPeer, Kind: kind, Text: text})
}

func peerOf(session *ftp.Session) netip.AddrPort {
	peer, _ := netip.ParseAddrPort(session.RemoteAddr().String())
	return netip.AddrPortFrom(peer.Addr().Unmap(), peer.Port())
}

// driver is the server's file system as the library's own commands see it: a folder to change to.
type driver struct{ s *Server }

var errNothing = errors.New("nothing but staged files is served here")

// Stat implements ftp.Driver.
func (d *driver) Stat(_ *ftp.Context, path string) (os.FileInfo, error) {
	if path == "/" {
		return folder{}, nil
	}
	return nil, os.ErrNotExist
}

// ListDir implements ftp.Driver.
func (d *driver) ListDir(*ftp.Context, string, func(os.FileInfo) error) error { return errNothing }

// GetFile implements ftp.Driver.
func (d *driver) GetFile(*ftp.Context, string, int64) (int64, io.ReadCloser, error) {
	return 0, nil, errNothing
}

// PutFile implements ftp.Driver.
func (d *driver) PutFile(*ftp.Context, string, io.Reader, int64) (int64, error) { return 0, errNothing }

// DeleteDir implements ftp.Driver.
func (d *driver) DeleteDir(*ftp.Context, string) error { return errNothing }

// DeleteFile implements ftp.Driver.
func (d *driver) DeleteFile(*ftp.Context, string) error { return errNothing }

// Rename implements ftp.Driver.
func (d *driver) Rename(*ftp.Context, string, string) error { return errNothing }

// MakeDir implements ftp.Driver.
func (d *driver) MakeDir(*ftp.Context, string) error { return errNothing }

// folder is the one that there is.
type folder struct{}

func (folder) Name() string       { return "/" }
func (folder) Size() int64        { return 0 }
func (folder) Mode() os.FileMode  { return os.ModeDir | 0o500 }
func (folder) ModTime() time.Time { return time.Time{} }
func (folder) IsDir() bool        { return true }
func (folder) Sys() any           { return nil }

// portOf reads h1,h2,h3,h4,p1,p2 (RFC 959 §4.1.2).
func portOf(param string) (netip.AddrPort, bool) {
	parts := strings.Split(strings.TrimSpace(param), ",")
	if len(parts) != 6 {
		return netip.AddrPort{}, false
	}
	var n [6]byte
	for i, part := range parts {
		value, err := strconv.ParseUint(part, 10, 8)
		if err != nil {
			return netip.AddrPort{}, false
		}
		n[i] = byte(value)
	}
	return netip.AddrPortFrom(netip.AddrFrom4([4]byte(n[:4])), uint16(n[4])<<8|uint16(n[5])), true
}

// extendedPortOf reads |1|192.0.2.1|1234| (RFC 2428 §2).
func extendedPortOf(param string) (netip.AddrPort, bool) {
	if len(param) < 2 {
		return netip.AddrPort{}, false
	}
	parts := strings.Split(param, param[:1])
	if len(parts) != 5 {
		return netip.AddrPort{}, false
	}
	addr, err := netip.ParseAddr(parts[2])
	port, errPort := strconv.ParseUint(parts[3], 10, 16)
	return netip.AddrPortFrom(addr, uint16(port)), err == nil && errPort == nil
}

// quiet keeps the library's log, which may hold passwords, off the terminal.
type quiet struct{}

func (quiet) Print(id string, message any) { slog.Debug("ftp", "session", id, "message", message) }
func (quiet) Printf(id, format string, args ...any) {
	slog.Debug("ftp", "session", id, "message", fmt.Sprintf(format, args...))
}

func (quiet) PrintCommand(id, command, _ string) {
	slog.Debug("ftp", "session", id, "command", command)
}

func (quiet) PrintResponse(id string, code int, _ string) {
	slog.Debug("ftp", "session", id, "code", code)
}

// guarded bounds what an unfinished line of a control connection may hold, and knows the connections so
// that they end with the server.
type guarded struct {
	net.Listener
	mu   sync.Mutex
	open map[net.Conn]bool
	// local has our address of each connection, by the peer's: where a device reaches us, its data does too.
	local map[string]net.Addr
}

// at is our address as a peer reaches it.
func (g *guarded) at(peer net.Addr) (netip.Addr, bool) {
	g.mu.Lock()
	defer g.mu.Unlock()
	addr, known := g.local[peer.String()]
	if !known {
		return netip.Addr{}, false
	}
	at, err := netip.ParseAddrPort(addr.String())
	return at.Addr().Unmap(), err == nil
}

const mostLine = 4096

func (g *guarded) Accept() (net.Conn, error) {
	conn, err := g.Listener.Accept()
	if err != nil {
		return nil, err
	}
	g.mu.Lock()
	defer g.mu.Unlock()
	g.open[conn] = true
	g.local[conn.RemoteAddr().String()] = conn.LocalAddr()
	return &guardedConn{Conn: conn, g: g}, nil
}

func (g *guarded) closeAll() {
	g.mu.Lock()
	defer g.mu.Unlock()
	for conn := range g.open {
		_ = conn.Close()
	}
}

type guardedConn struct {
	net.Conn
	g    *guarded
	line int
}

func (c *guardedConn) Read(p []byte) (int, error) {
	n, err := c.Conn.Read(p)
	for _, b := range p[:n] {
		c.line++
		if b == '\n' {
			c.line = 0
		}
		if c.line > mostLine {
			_ = c.Close()
			return 0, errors.New("a line without an end")
		}
	}
	return n, err
}

func (c *guardedConn) Close() error {
	c.g.mu.Lock()
	delete(c.g.open, c.Conn)
	delete(c.g.local, c.RemoteAddr().String())
	c.g.mu.Unlock()
	return c.Conn.Close()
}
