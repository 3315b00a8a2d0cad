package bench

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/netip"
	"strings"
	"time"

	"github.com/jlaffaye/ftp"
	"github.com/pkg/sftp"
	"golang.org/x/crypto/ssh"

	"pilotrix/core/clock"
	"pilotrix/core/transfer/tftp"
)

// How devices get files from a server, by any protocol, and leave them there. The clients are the real ones.

// Client is what a device has for that.
type Client struct {
	Host    LANHost
	Clock   clock.Clock
	Options tftp.Client // the block size and window that it asks for by TFTP
}

// Fetch gets a file; size is told where the server says it.
type Fetch func(ctx context.Context, to io.Writer, size func(int)) error

// ServerLogin of a device at a server.
type ServerLogin struct{ User, Word string }

func serverAt(text string, port uint16) (netip.AddrPort, error) {
	addr, err := netip.ParseAddr(text)
	if err != nil {
		return netip.AddrPort{}, fmt.Errorf("%s is no address", text)
	}
	return netip.AddrPortFrom(addr, port), nil
}

// By is how a file is fetched by a protocol; login is asked for where the protocol wants one. For SFTP the server's key
// was taken before.
func (c Client) By(protocol, address, name string, login ServerLogin, key ssh.PublicKey) (Fetch, error) {
	ways := map[string]struct {
		port uint16
		get  func(at netip.AddrPort) Fetch
	}{
		"tftp": {tftp.Port, func(at netip.AddrPort) Fetch { return c.tftp(at, name) }},
		"http": {80, func(at netip.AddrPort) Fetch { return c.HTTP(at, name) }},
		"ftp":  {21, func(at netip.AddrPort) Fetch { return c.ftp(at, name, login) }},
		"sftp": {22, func(at netip.AddrPort) Fetch { return c.sftp(at, name, login, key) }},
	}
	way := ways[protocol]
	at, err := serverAt(address, way.port)
	if err != nil {
		return nil, err
	}
	return way.get(at), nil
}

func noAnswer(at netip.AddrPort) error { return fmt.Errorf("no answer from %s", at.Addr()) }

func says(err error) error { return errors.New("the server says: " + err.Error()) }

func (c Client) tftp(at netip.AddrPort, name string) Fetch {
	return func(ctx context.Context, to io.Writer, size func(int)) error {
		client := c.Options
		client.Network, client.Clock, client.Retries = c.Host, c.Clock, 5
		client.Agreed = func(t tftp.Terms) { size(int(t.Size)) }
		_, err := client.Get(ctx, at, name, to)
		var refused *tftp.Refused
		switch {
		case errors.As(err, &refused):
			return errors.New("the server says: " + refused.Message)
		case errors.Is(err, tftp.ErrNoAnswer):
			return noAnswer(at)
		case err != nil && !errors.Is(err, ErrFull):
			return fmt.Errorf("broken off: %w", err)
		}
		return err
	}
}

// HTTP is how a file is fetched by HTTP.
func (c Client) HTTP(at netip.AddrPort, path string) Fetch {
	return func(ctx context.Context, to io.Writer, size func(int)) error {
		client := http.Client{Transport: &http.Transport{
			DisableKeepAlives: true,
			DialContext:       func(ctx context.Context, _, _ string) (net.Conn, error) { return c.Host.Dial(ctx, at) },
		}}
		request, err := http.NewRequestWithContext(ctx, http.MethodGet, "http://"+at.Addr().String()+path, nil)
		if err != nil {
			return err
		}
		response, err := client.Do(request)
		if err != nil {
			return noAnswer(at)
		}
		defer response.Body.Close()
		if response.StatusCode != http.StatusOK {
			return errors.New("the server says: " + response.Status)
		}
		size(int(response.ContentLength))
		_, err = io.Copy(to, response.Body)
		return err
	}
}

func (c Client) ftp(at netip.AddrPort, name string, login ServerLogin) Fetch {
	return func(ctx context.Context, to io.Writer, size func(int)) error {
		conn, err := ftp.Dial(
			at.String(),
			ftp.DialWithContext(ctx),
			ftp.DialWithDialFunc(func(_, address string) (net.Conn, error) {
				to, err := netip.ParseAddrPort(address)
				if err != nil {
					return nil, err
				}
				return c.Host.Dial(ctx, to)
			}),
		)
		if err != nil {
			return noAnswer(at)
		}
		defer func() { _ = conn.Quit() }()
		if err := conn.Login(login.User, login.Word); err != nil {
			return says(err)
		}
		if n, err := conn.FileSize(name); err == nil {
			size(int(n))
		}
		data, err := conn.Retr(name)
		if err != nil {
			return says(err)
		}
		_, err = io.Copy(to, data)
		return errors.Join(err, data.Close())
	}
}

// HostKey asks a server for its key, and for nothing else.
func (c Client) HostKey(ctx context.Context, address string) (key ssh.PublicKey, err error) {
	at, err := serverAt(address, 22)
	if err != nil {
		return nil, err
	}
	seen := errors.New("seen")
	_, err = c.shell(ctx, at, ssh.ClientConfig{HostKeyCallback: func(_ string, _ net.Addr, k ssh.PublicKey) error {
		key = k
		return seen
	}})
	if key == nil {
		return nil, fmt.Errorf("no answer from %s: %w", at.Addr(), err)
	}
	return key, nil
}

func (c Client) shell(ctx context.Context, at netip.AddrPort, config ssh.ClientConfig) (*ssh.Client, error) {
	conn, err := c.Host.Dial(ctx, at)
	if err != nil {
		return nil, err
	}
	client, channels, requests, err := ssh.NewClientConn(conn, at.String(), &config)
	if err != nil {
		return nil, errors.Join(err, conn.Close())
	}
	return ssh.NewClient(client, channels, requests), nil
}

func (c Client) sftp(at netip.AddrPort, name string, login ServerLogin, key ssh.PublicKey) Fetch {
	return func(ctx context.Context, to io.Writer, size func(int)) error {
		client, err := c.shell(ctx, at, ssh.ClientConfig{
			User:            login.User,
			Auth:            []ssh.AuthMethod{ssh.Password(login.Word)},
			HostKeyCallback: ssh.FixedHostKey(key),
		})
		if err != nil {
			return fmt.Errorf("not let in at %s", at.Addr())
		}
		defer client.Close()
		stop := context.AfterFunc(ctx, func() { _ = client.Close() })
		defer stop()
		files, err := sftp.NewClient(client)
		if err != nil {
			return err
		}
		file, err := files.Open(name)
		if err != nil {
			return says(err)
		}
		if info, err := file.Stat(); err == nil {
			size(int(info.Size()))
		}
		_, err = io.Copy(to, file)
		return errors.Join(err, file.Close())
	}
}

// Now gets a small file by TFTP.
func (c Client) Now(ctx context.Context, address, name string) ([]byte, error) {
	from, err := c.By("tftp", address, name, ServerLogin{}, nil)
	if err != nil {
		return nil, err
	}
	var data bytes.Buffer
	err = from(ctx, &data, func(int) {})
	return data.Bytes(), err
}

// Leave puts a file on a server by TFTP.
func (c Client) Leave(ctx context.Context, address, name string, data []byte) error {
	at, err := serverAt(address, tftp.Port)
	if err != nil {
		return err
	}
	_, err = tftp.Client{
		Network: c.Host,
		Clock:   c.Clock,
		Retries: 5,
	}.Put(ctx, at, name, bytes.NewReader(data), int64(len(data)))
	return err
}

// Asking is how a device asks for what a protocol wants to know besides address and name.
type Asking struct{ User, Word, Key string }

// Getting asks for that in a conversation, and is how the file is fetched then.
func (s *Shell) Getting(c Client, protocol, address, name string, ask Asking) (Fetch, error) {
	var key ssh.PublicKey
	var login ServerLogin
	if protocol == "sftp" {
		var err error
		if key, err = c.HostKey(s.ctx, address); err != nil {
			return nil, err
		}
		if !s.Yes(fmt.Sprintf(ask.Key, ssh.FingerprintSHA256(key))) {
			return nil, errors.New("its key was not taken")
		}
	}
	if protocol == "sftp" || protocol == "ftp" {
		login.User = s.Ask(ask.User)
		login.Word = s.Secret(ask.Word)
	}
	if s.err != nil {
		return nil, s.err
	}
	return c.By(protocol, address, name, login, key)
}

// Page is a device's web page, until ctx ends; text is asked for each time.
func Page(ctx context.Context, host LANHost, at netip.Addr, text func() string) (served func()) {
	listener, err := host.Listen(netip.AddrPortFrom(at, 80))
	if err != nil {
		return func() {}
	}
	server := &http.Server{
		ReadHeaderTimeout: 10 * time.Second,
		Handler: http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
			_, _ = io.WriteString(w, strings.TrimRight(text(), "\n")+"\n")
		}),
	}
	stop := context.AfterFunc(ctx, func() { _ = server.Close() })
	return func() {
		defer stop()
		_ = server.Serve(listener)
	}
}

// Copy gets a file that is at hand, such as from a stick.
func Copy(file File) Fetch {
	return func(_ context.Context, to io.Writer, size func(int)) error {
		size(len(file.Data))
		const block = 32 << 10
		for at := 0; at < len(file.Data); at += block {
			if _, err := to.Write(file.Data[at:min(at+block, len(file.Data))]); err != nil {
				return err
			}
		}
		return nil
	}
}
