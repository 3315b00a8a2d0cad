// Package httpd serves what is staged by HTTP (RFC 9110), with ranges, under a path that holds a word
// made for this one time: whoever does not know it gets nothing.
package httpd

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"net/netip"
	"net/url"
	"strconv"
	"strings"
	"sync/atomic"
	"time"

	"pilotrix/core/offer"
	"pilotrix/core/transfer"
	"pilotrix/core/transfer/places"
)

// Server serves what is staged, and nothing else.
type Server struct {
	opt      offer.Serving
	listener *places.Listener
	at       netip.AddrPort
	word     string
	count    atomic.Int64
}

// Listen binds a server.
func Listen(at netip.AddrPort, opt offer.Serving) (*Server, error) {
	opt = opt.Watched()
	listener, err := places.Listen("HTTP", at, opt)
	if err != nil {
		return nil, fmt.Errorf("HTTP server at %s: %w", at, err)
	}
	s := &Server{opt: opt, listener: listener, word: strings.ToLower(rand.Text()[:10])}
	s.at, err = netip.ParseAddrPort(listener.Addr().String())
	return s, err
}

// Addr is where the server listens.
func (s *Server) Addr() netip.AddrPort { return s.at }

// Path is where a staged file is found, with its leading slash.
func (s *Server) Path(name string) string { return "/" + s.word + "/" + url.PathEscape(name) }

const (
	headTime = 20 * time.Second
	bodyTime = time.Minute // of a request, which wants none
	idleTime = time.Minute // between two requests
	endTime  = 2 * time.Second
)

// Serve answers requests until ctx ends.
func (s *Server) Serve(ctx context.Context) error {
	server := &http.Server{
		Handler:           http.HandlerFunc(s.answer),
		ReadHeaderTimeout: headTime,
		ReadTimeout:       bodyTime,
		IdleTimeout:       idleTime,
		MaxHeaderBytes:    16 << 10,
		BaseContext:       func(net.Listener) context.Context { return ctx },
		ConnContext: func(ctx context.Context, conn net.Conn) context.Context {
			return context.WithValue(ctx, connKey{}, conn)
		},
		ErrorLog: slog.NewLogLogger(slog.Default().Handler(), slog.LevelDebug), // never the terminal's
	}
	stop := context.AfterFunc(ctx, func() {
		limited, cancel := context.WithTimeout(context.WithoutCancel(ctx), endTime)
		defer cancel()
		if server.Shutdown(limited) != nil {
			_ = server.Close()
		}
	})
	defer stop()
	if err := server.Serve(s.listener); !errors.Is(err, http.ErrServerClosed) && ctx.Err() == nil {
		return fmt.Errorf("HTTP server at %s: %w", s.at, err)
	}
	return nil
}

// connKey is where a request's connection is found.
type connKey struct{}

func (s *Server) answer(w http.ResponseWriter, r *http.Request) {
	peer, _ := netip.ParseAddrPort(r.RemoteAddr)
	say := func(kind, text string, fromPeer bool) {
		s.opt.Watcher.Said(offer.Rung{Protocol: "HTTP", Peer: peer, FromPeer: fromPeer, Kind: kind, Text: text})
	}
	name, ours := strings.CutPrefix(r.URL.Path, "/"+s.word+"/")
	if r.Method != http.MethodGet && r.Method != http.MethodHead {
		say("refused", r.Method+" is not served", true)
		http.Error(w, "only GET and HEAD are served here", http.StatusMethodNotAllowed)
		return
	}
	if !ours {
		say("refused", "a path without this step's word was asked for", true)
		http.Error(w, "nothing here", http.StatusNotFound)
		return
	}
	if conn, ok := r.Context().Value(connKey{}).(*places.Conn); ok {
		conn.Settled()
	}
	staged, remark, err := s.opt.Stage.Find(name)
	if err != nil {
		say("refused", err.Error(), true)
		http.Error(w, err.Error(), http.StatusNotFound)
		return
	}
	if remark != "" {
		say("remark", staged.Name+" was "+remark, true)
	}
	file, err := staged.Open()
	if err != nil {
		say("refused", err.Error(), false)
		http.Error(w, "the file cannot be read", http.StatusInternalServerError)
		return
	}
	defer file.Close()
	request := staged.Name
	if part := r.Header.Get("Range"); part != "" {
		request += " " + part
	}
	id := fmt.Sprintf("http %s %d", peer, s.count.Add(1))
	s.opt.Watcher.Said(
		offer.Rung{Transfer: id, Protocol: "HTTP", Peer: peer, FromPeer: true, Kind: r.Method, Text: request})
	if r.Method == http.MethodHead {
		http.ServeContent(w, r, staged.Name, time.Time{}, file)
		return
	}
	t := offer.Transfer{ID: id, Protocol: "HTTP", Peer: peer, File: staged.Name, Size: staged.Size, Terms: "HTTP"}
	s.opt.Watcher.Began(t)
	count := offer.NewCount(s.opt.Clock, s.opt.Watcher, t)
	out := &counted{ResponseWriter: w, count: count, limits: http.NewResponseController(w)}
	w.Header().Set("Content-Type", "application/octet-stream")
	http.ServeContent(out, r, staged.Name, time.Time{}, file)
	err = out.failed
	switch {
	case err != nil:
	case out.status() >= http.StatusBadRequest:
		err = fmt.Errorf("it was answered %d %s", out.status(), http.StatusText(out.status()))
	default:
		err = out.missing() // whether or not the device has hung up on that by now
	}
	if err == nil && r.Context().Err() != nil {
		err = errors.New("the device hung up")
	}
	s.opt.Watcher.Said(offer.Rung{
		Transfer: id,
		Protocol: "HTTP",
		Peer:     peer,
		Kind:     fmt.Sprint(out.status()),
		Text:     fmt.Sprintf("%d B", count.Bytes()),
	})
	count.End(err)
}

// counted counts what goes out.
type counted struct {
	http.ResponseWriter
	count  *offer.Count
	limits *http.ResponseController
	code   int
	failed error
}

func (c *counted) WriteHeader(code int) {
	c.code = code
	if size, err := strconv.ParseInt(c.Header().Get("Content-Length"), 10, 64); err == nil &&
		code == http.StatusPartialContent {
		c.count.Part(partBegins(c.Header().Get("Content-Range")), size)
	}
	c.ResponseWriter.WriteHeader(code)
}

// partBegins is where in the file a part begins (RFC 9110 §14.4), -1 for several parts in one answer.
func partBegins(contentRange string) int64 {
	first, _, _ := strings.Cut(strings.TrimPrefix(contentRange, "bytes "), "-")
	from, err := strconv.ParseInt(first, 10, 64)
	if err != nil {
		return -1
	}
	return from
}

func (c *counted) Write(p []byte) (int, error) {
	_ = c.limits.SetWriteDeadline(time.Now().Add(transfer.Quiet)) // for this piece
	n, err := c.ResponseWriter.Write(p)
	c.count.Add(n)
	if err != nil {
		c.failed = err
	}
	return n, err
}

// ReadFrom keeps the standard library's way of copying, piece by piece so that it can be counted.
func (c *counted) ReadFrom(r io.Reader) (int64, error) {
	return io.CopyBuffer(struct{ io.Writer }{c}, r, make([]byte, 64<<10))
}

// missing says when less went out than was announced: the file ended too soon, and the connection was
// closed on the device.
func (c *counted) missing() error {
	announced, err := strconv.ParseInt(c.Header().Get("Content-Length"), 10, 64)
	if left := announced - c.count.Bytes(); err == nil && left > 0 {
		return fmt.Errorf("it ends with %d B to go: %w", left, transfer.ErrChanged)
	}
	return nil
}

func (c *counted) status() int {
	if c.code == 0 {
		return http.StatusOK
	}
	return c.code
}
