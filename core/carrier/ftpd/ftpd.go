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

	ftp "goftp.io/server/v2"

	"pilotrix/core/carrier"
)

// Server serves what is staged, and nothing else.
type Server struct {
	opt      carrier.Serving
	listener *guarded
	at       netip.AddrPort
	server   *ftp.Server
	user     string
	password string
	count    atomic.Int64
}

// allowed are the commands that a device may use: nothing that lists, makes, renames or removes anything
// but what is staged.
var allowed = []string{"USER", "PASS", "QUIT", "NOOP", "SYST", "FEAT", "OPTS", "TYPE", "MODE", "STRU", "PWD", "CWD", "PASV", "EPSV", "PORT", "EPRT", "SIZE", "REST", "RETR", "STOR", "LIST", "NLST"}

// Listen binds a server.
func Listen(at netip.AddrPort, opt carrier.Serving) (*Server, error) {
	opt = opt.Watched()
	listener, err := opt.Network.Listen(at)
	if err != nil {
		return nil, fmt.Errorf("FTP server at %s: %w", at, err)
	}
	s := &Server{opt: opt, listener: &guarded{Listener: listener, open: map[net.Conn]bool{}}, user: "once", password: rand.Text()[:12]}
	if s.at, err = netip.ParseAddrPort(listener.Addr().String()); err != nil {
		return nil, err
	}
	commands := map[string]ftp.Command{}
	for _, name := range allowed {
		commands[name] = ftp.DefaultCommands()[name]
	}
	commands["PORT"], commands["EPRT"] = toItself{commands["PORT"], portOf}, toItself{commands["EPRT"], extendedPortOf}
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
		s.say(c, true, "refused", "a wrong user or password")
	}
	return ok, err
}

func (s *Server) say(c *ftp.Context, fromPeer bool, kind, text string) {
	s.opt.Watcher.Said(carrier.Message{By: "FTP", Peer: peerOf(c), FromPeer: fromPeer, Kind: kind, Text: text})
}

func peerOf(c *ftp.Context) netip.AddrPort {
	peer, _ := netip.ParseAddrPort(c.Sess.RemoteAddr().String())
	return peer
}

// driver is the server's file system: the stage.
type driver struct{ s *Server }

var errNothing = errors.New("nothing but staged files is served here")

func (d *driver) find(c *ftp.Context, path string) (carrier.Offer, error) {
	offer, remark, err := d.s.opt.Stage.Find(strings.TrimPrefix(path, "/"))
	switch {
	case err != nil:
		d.s.say(c, true, "refused", err.Error())
	case remark != "":
		d.s.say(c, true, "remark", offer.Name+" was "+remark)
	}
	return offer, err
}

// Stat implements ftp.Driver.
func (d *driver) Stat(_ *ftp.Context, path string) (os.FileInfo, error) {
	if path == "/" {
		return entry{name: "/", folder: true}, nil
	}
	offer, _, err := d.s.opt.Stage.Find(strings.TrimPrefix(path, "/"))
	if err != nil {
		return nil, os.ErrNotExist
	}
	return entry{name: offer.Name, size: offer.Size}, nil
}

// ListDir implements ftp.Driver.
func (d *driver) ListDir(_ *ftp.Context, path string, visit func(os.FileInfo) error) error {
	if path != "/" {
		return errNothing
	}
	for _, offer := range d.s.opt.Stage.Offers() {
		if err := visit(entry{name: offer.Name, size: offer.Size}); err != nil {
			return err
		}
	}
	return nil
}

// GetFile implements ftp.Driver.
func (d *driver) GetFile(c *ftp.Context, path string, from int64) (int64, io.ReadCloser, error) {
	offer, err := d.find(c, path)
	if err != nil {
		return 0, nil, err
	}
	file, err := offer.Open()
	if err != nil {
		return 0, nil, err
	}
	if from < 0 || from > offer.Size {
		return 0, nil, errors.Join(fmt.Errorf("%s has %d B, %d were asked for", offer.Name, offer.Size, from), file.Close())
	}
	if _, err := file.Seek(from, io.SeekStart); err != nil {
		return 0, nil, errors.Join(err, file.Close())
	}
	t := d.transfer(c, offer.Name, offer.Size, false)
	d.s.opt.Watcher.Said(carrier.Message{Transfer: t.ID, By: "FTP", Peer: t.Peer, FromPeer: true, Kind: "RETR", Text: offer.Name})
	d.s.opt.Watcher.Began(t)
	left := offer.Size - from
	return left, &reading{file: file, source: carrier.Whole(file, left), left: left, count: carrier.NewCount(d.s.opt.Clock, d.s.opt.Watcher, t)}, nil
}

func (d *driver) transfer(c *ftp.Context, name string, size int64, upload bool) carrier.Transfer {
	return carrier.Transfer{ID: fmt.Sprintf("ftp %s %d", peerOf(c), d.s.count.Add(1)), By: "FTP", Peer: peerOf(c), File: name, Size: size, Upload: upload, Terms: "FTP"}
}

// reading counts what is read, and tells at the end whether all of it was.
type reading struct {
	file   io.Closer
	source io.Reader
	count  *carrier.Count
	left   int64
	failed error
	once   sync.Once
}

func (r *reading) Read(p []byte) (int, error) {
	n, err := r.source.Read(p)
	r.left -= int64(n)
	r.count.Add(n)
	if err != nil && err != io.EOF {
		r.failed = err
	}
	return n, err
}

func (r *reading) Close() error {
	r.once.Do(func() {
		err := r.failed
		if err == nil && r.left > 0 {
			err = fmt.Errorf("the device hung up with %d B to go", r.left)
		}
		r.count.End(err)
	})
	return r.file.Close()
}

// PutFile implements ftp.Driver.
func (d *driver) PutFile(c *ftp.Context, path string, from io.Reader, offset int64) (int64, error) {
	if offset > 0 {
		return 0, errors.New("uploads begin at their beginning here")
	}
	upload, err := d.s.opt.Stage.Receive(strings.TrimPrefix(path, "/"), -1)
	if err != nil {
		d.s.say(c, true, "refused", err.Error())
		return 0, err
	}
	t := d.transfer(c, upload.Name, -1, true)
	d.s.opt.Watcher.Said(carrier.Message{Transfer: t.ID, By: "FTP", Peer: t.Peer, FromPeer: true, Kind: "STOR", Text: upload.Name})
	d.s.opt.Watcher.Began(t)
	count := carrier.NewCount(d.s.opt.Clock, d.s.opt.Watcher, t)
	n, err := io.Copy(upload, countReader{from, count})
	if err != nil {
		upload.Drop()
	} else {
		err = upload.Keep()
	}
	count.End(err)
	return n, err
}

type countReader struct {
	io.Reader
	count *carrier.Count
}

func (c countReader) Read(p []byte) (int, error) {
	n, err := c.Reader.Read(p)
	c.count.Add(n)
	return n, err
}

// DeleteDir implements ftp.Driver.
func (d *driver) DeleteDir(*ftp.Context, string) error { return errNothing }

// DeleteFile implements ftp.Driver.
func (d *driver) DeleteFile(*ftp.Context, string) error { return errNothing }

// Rename implements ftp.Driver.
func (d *driver) Rename(*ftp.Context, string, string) error { return errNothing }

// MakeDir implements ftp.Driver.
func (d *driver) MakeDir(*ftp.Context, string) error { return errNothing }

// entry is a staged file as the server lists it.
type entry struct {
	name   string
	size   int64
	folder bool
}

func (e entry) Name() string { return e.name }
func (e entry) Size() int64  { return e.size }
func (e entry) Mode() os.FileMode {
	if e.folder {
		return os.ModeDir | 0o500
	}
	return 0o400
}
func (e entry) ModTime() time.Time { return time.Time{} }
func (e entry) IsDir() bool        { return e.folder }
func (e entry) Sys() any           { return nil }

// toItself lets a device name only its own address for a data connection: another one would make this
// server knock at a stranger's door (RFC 2577 §3).
type toItself struct {
	ftp.Command
	addr func(param string) (netip.AddrPort, bool)
}

// Execute implements ftp.Command.
func (t toItself) Execute(session *ftp.Session, param string) {
	asked, ok := t.addr(param)
	peer, err := netip.ParseAddrPort(session.RemoteAddr().String())
	if !ok || err != nil || asked.Addr() != peer.Addr().Unmap() || asked.Port() < 1024 {
		session.WriteMessage(504, "data connections go to your own address only")
		return
	}
	t.Command.Execute(session, param)
}

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
	c.g.mu.Unlock()
	return c.Conn.Close()
}
