// Package sshd serves what is staged over SSH: by SFTP (draft-ietf-secsh-filexfer-02, which is what is spoken
// everywhere) and by the scp protocol, as devices have the one or the other. There is one user, with a password and a
// key made for this one time; nothing can be run, and no name leads to the disk. Uploads go into slots that a step
// has opened.
package sshd

import (
	"context"
	"crypto/ed25519"
	"crypto/rand"
	"crypto/rsa"
	"crypto/subtle"
	"encoding/pem"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"sync"
	"sync/atomic"
	"time"

	"golang.org/x/crypto/ssh"

	"pilotrix/core/offer"
	"pilotrix/core/transfer/places"
)

// Port is SSH's usual port.
const Port = 22

// Server serves what is staged, and nothing else.
type Server struct {
	opt      offer.Serving
	listener *places.Listener
	at       netip.AddrPort
	config   *ssh.ServerConfig
	user     string
	password string
	key      []byte // the private one that may log in, in PEM
	host     string // fingerprint of the host key
	count    atomic.Int64
}

const (
	greetTime = 30 * time.Second // until the login has succeeded
	idleTime  = 10 * time.Minute // for anything at all after it
	// rsaBits is for devices that know no newer kind of host key.
	rsaBits = 2048
)

// Listen binds a server.
func Listen(at netip.AddrPort, opt offer.Serving) (*Server, error) {
	opt = opt.Watched()
	s := &Server{opt: opt, user: "once", password: rand.Text()[:12]}
	if err := s.makeKeys(); err != nil {
		return nil, err
	}
	if opt.Old {
		s.allowOld()
	}
	listener, err := places.Listen("SSH", at, opt)
	if err != nil {
		return nil, fmt.Errorf("SSH server at %s: %w", at, err)
	}
	s.listener = listener
	s.at, err = netip.ParseAddrPort(listener.Addr().String())
	return s, err
}

// makeKeys makes the host's keys and the one that may log in.
func (s *Server) makeKeys() error {
	_, login, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		return err
	}
	block, err := ssh.MarshalPrivateKey(login, "one time")
	if err != nil {
		return err
	}
	s.key = pem.EncodeToMemory(block)
	allowed, err := ssh.NewPublicKey(login.Public())
	if err != nil {
		return err
	}
	s.config = &ssh.ServerConfig{
		ServerVersion:    "SSH-2.0-staged-files-only",
		MaxAuthTries:     6,
		PasswordCallback: s.letIn,
		// Some devices answer questions only (RFC 4256), and are asked the same one.
		KeyboardInteractiveCallback: func(c ssh.ConnMetadata, ask ssh.KeyboardInteractiveChallenge) (*ssh.Permissions, error) {
			answers, err := ask("", "", []string{"Password: "}, []bool{false})
			if err != nil || len(answers) != 1 {
				return nil, errors.New("the question was not answered")
			}
			return s.letIn(c, []byte(answers[0]))
		},
		PublicKeyCallback: func(c ssh.ConnMetadata, key ssh.PublicKey) (*ssh.Permissions, error) {
			if c.User() == s.user && string(key.Marshal()) == string(allowed.Marshal()) {
				return nil, nil
			}
			return nil, errors.New("another key")
		},
	}
	_, host, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		return err
	}
	old, err := rsa.GenerateKey(rand.Reader, rsaBits)
	if err != nil {
		return err
	}
	for _, key := range []any{host, old} {
		signer, err := ssh.NewSignerFromKey(key)
		if err != nil {
			return err
		}
		if s.host == "" {
			s.host = ssh.FingerprintSHA256(signer.PublicKey())
		}
		s.config.AddHostKey(signer)
	}
	return nil
}

// allowOld adds the algorithms that old clients need and that are not safe any more.
func (s *Server) allowOld() {
	good, old := ssh.SupportedAlgorithms(), ssh.InsecureAlgorithms()
	s.config.KeyExchanges = append(good.KeyExchanges, old.KeyExchanges...)
	s.config.Ciphers = append(good.Ciphers, old.Ciphers...)
	s.config.MACs = append(good.MACs, old.MACs...)
}

// noSession says in words why a client was not let in.
func (s *Server) noSession(err error) string {
	var nothing *ssh.AlgorithmNegotiationError
	if errors.As(err, &nothing) && !s.opt.Old {
		return "it only knows old algorithms; " + s.opt.OldBy + " allows them (" + err.Error() + ")"
	}
	return err.Error()
}

// letIn holds a user and a password against those of this one time.
func (s *Server) letIn(c ssh.ConnMetadata, password []byte) (*ssh.Permissions, error) {
	if c.User() == s.user && subtle.ConstantTimeCompare(password, []byte(s.password)) == 1 {
		return nil, nil
	}
	s.say(c.RemoteAddr(), true, "refused", "a wrong user or password")
	return nil, errors.New("a wrong user or password")
}

// Addr is where the server listens.
func (s *Server) Addr() netip.AddrPort { return s.at }

// Login is the user and the password that are good while the server lives.
func (s *Server) Login() (user, password string) { return s.user, s.password }

// Key is the private key that may log in besides, in OpenSSH's form.
func (s *Server) Key() []byte { return s.key }

// Fingerprint is that of the host key, as clients show it.
func (s *Server) Fingerprint() string { return s.host }

// Serve answers until ctx ends, and every connection with it.
func (s *Server) Serve(ctx context.Context) error { return s.listener.Each(ctx, s.talk) }

// talk serves one connection.
func (s *Server) talk(ctx context.Context, conn *places.Conn) {
	defer conn.Close()
	_ = conn.SetDeadline(time.Now().Add(greetTime))
	server, channels, requests, err := ssh.NewServerConn(conn, s.config)
	if err != nil {
		if ctx.Err() == nil {
			s.say(conn.RemoteAddr(), true, "refused", "no session: "+s.noSession(err))
		}
		return
	}
	conn.Settled()
	conn.IdleAfter(idleTime)
	defer server.Close()
	go ssh.DiscardRequests(requests)
	var open sync.WaitGroup
	defer open.Wait()
	for asked := range channels {
		if asked.ChannelType() != "session" {
			_ = asked.Reject(ssh.UnknownChannelType, "only files are served here")
			continue
		}
		channel, requests, err := asked.Accept()
		if err != nil {
			return
		}
		open.Go(func() { s.session(conn.RemoteAddr(), channel, requests) })
	}
}

// session waits for what a channel is to be (RFC 4254, section 6.5), and serves that.
func (s *Server) session(from net.Addr, channel ssh.Channel, requests <-chan *ssh.Request) {
	defer channel.Close()
	for request := range requests {
		var asked struct{ Text string }
		known := ssh.Unmarshal(request.Payload, &asked) == nil
		var run func(peer) error
		switch {
		case request.Type == "subsystem" && known && asked.Text == "sftp":
			run = s.serveSFTP
		case request.Type == "exec" && known:
			if order, ok := parseSCP(asked.Text); ok {
				run = func(p peer) error { return s.serveSCP(p, order) }
			}
		case request.Type == "env":
			_ = request.Reply(false, nil)
			continue
		}
		if run == nil {
			_ = request.Reply(false, nil)
			if request.Type == "exec" || request.Type == "shell" || request.Type == "subsystem" {
				s.say(from, true, "refused", "only sftp and scp are served here, not "+request.Type)
				return
			}
			continue
		}
		_ = request.Reply(true, nil)
		go ssh.DiscardRequests(requests)
		status := struct{ Code uint32 }{}
		if run(peer{channel, from}) != nil {
			status.Code = 1
		}
		_, _ = channel.SendRequest("exit-status", false, ssh.Marshal(status)) // RFC 4254, section 6.10
		return
	}
}

// peer is a channel and who is at its other end.
type peer struct {
	ssh.Channel
	from net.Addr
}

func (s *Server) say(from net.Addr, fromPeer bool, kind, text string) {
	s.report("SSH", from, fromPeer, kind, text)
}

func (s *Server) report(protocol string, from net.Addr, fromPeer bool, kind, text string) {
	s.opt.Watcher.Said(offer.Rung{Protocol: protocol, Peer: addrOf(from), FromPeer: fromPeer, Kind: kind, Text: text})
}

func addrOf(from net.Addr) netip.AddrPort {
	at, _ := netip.ParseAddrPort(from.String())
	return netip.AddrPortFrom(at.Addr().Unmap(), at.Port())
}

// find finds a staged file as a device has asked for it.
func (s *Server) find(protocol string, from net.Addr, name string) (offer.File, error) {
	file, remark, err := s.opt.Stage.Find(name)
	if err != nil {
		s.report(protocol, from, true, "refused", err.Error())
		return file, err
	}
	if remark != "" {
		s.report(protocol, from, true, "remark", file.Name+" was "+remark)
	}
	return file, nil
}
