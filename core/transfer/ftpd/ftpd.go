// Package ftpd serves what is staged by FTP to one user with a password made for this one time, and takes uploads for
// which a step has opened a slot. It is the part of the protocol that devices use, written from RFC 959 (the protocol),
// RFC 1123 section 4.1 (what it left open), RFC 2428 (EPRT, EPSV), RFC 2389 (FEAT) and RFC 3659 (SIZE, MDTM, REST,
// MLST).
//
// control.go reads commands and writes replies; session.go is the state of one device and what each command does to it;
// data.go moves files.
package ftpd

import (
	"context"
	"crypto/rand"
	"crypto/subtle"
	"fmt"
	"net/netip"
	"sync/atomic"

	"pilotrix/core/offer"
	"pilotrix/core/transfer/places"
)

// Server serves what is staged, and nothing else.
type Server struct {
	opt      offer.Serving
	listener *places.Listener
	at       netip.AddrPort
	user     string
	password string
	count    atomic.Int64
}

// Listen binds a server.
func Listen(at netip.AddrPort, opt offer.Serving) (*Server, error) {
	opt = opt.Watched()
	listener, err := places.Listen("FTP", at, opt)
	if err != nil {
		return nil, fmt.Errorf("FTP server at %s: %w", at, err)
	}
	s := &Server{opt: opt, listener: listener, user: "once", password: rand.Text()[:12]}
	s.at, err = netip.ParseAddrPort(listener.Addr().String())
	return s, err
}

// Addr is where the server listens.
func (s *Server) Addr() netip.AddrPort { return s.at }

// Login is the user and the password that are good while the server lives.
func (s *Server) Login() (user, password string) { return s.user, s.password }

func (s *Server) isLogin(user, password string) bool {
	return user == s.user && subtle.ConstantTimeCompare([]byte(password), []byte(s.password)) == 1
}

// Serve answers until ctx ends, and every connection with it.
func (s *Server) Serve(ctx context.Context) error { return s.listener.Each(ctx, s.talk) }
