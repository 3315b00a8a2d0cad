package cormel

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"net/netip"

	"github.com/pkg/sftp"
	"golang.org/x/crypto/ssh"
)

// haulSFTP is the download by SFTP. The server's key is shown before anything is told to the server.
func (l *lark) haulSFTP(ctx context.Context, rest []string) error {
	if len(rest) != 2 {
		return errors.New("haul sftp ADDRESS NAME")
	}
	at, err := serverAt(rest[0], 22)
	if err != nil {
		return err
	}
	key, err := l.hostKey(ctx, at)
	if err != nil {
		return err
	}
	if answer, err := l.Ask(ctx, fmt.Sprintf("  key there %s, take it? (y/n) ", ssh.FingerprintSHA256(key))); err != nil || answer != "y" {
		return errors.Join(err, errors.New("its key was not taken"))
	}
	user, word, err := l.accountThere(ctx)
	if err != nil {
		return err
	}
	return l.began(ctx, rest[1], l.bySFTP(at, rest[1], user, word, key), nil)
}

// hostKey asks a server for its key, and for nothing else.
func (g *Gateway) hostKey(ctx context.Context, at netip.AddrPort) (key ssh.PublicKey, err error) {
	seen := errors.New("seen")
	_, err = g.shell(ctx, at, ssh.ClientConfig{HostKeyCallback: func(_ string, _ net.Addr, k ssh.PublicKey) error {
		key = k
		return seen
	}})
	if key == nil {
		return nil, fmt.Errorf("no answer from %s: %w", at.Addr(), err)
	}
	return key, nil
}

func (g *Gateway) shell(ctx context.Context, at netip.AddrPort, config ssh.ClientConfig) (*ssh.Client, error) {
	conn, err := g.host.Dial(ctx, at)
	if err != nil {
		return nil, err
	}
	c, channels, requests, err := ssh.NewClientConn(conn, at.String(), &config)
	if err != nil {
		return nil, errors.Join(err, conn.Close())
	}
	return ssh.NewClient(c, channels, requests), nil
}

func (g *Gateway) bySFTP(at netip.AddrPort, name, user, word string, key ssh.PublicKey) fetch {
	return func(ctx context.Context, to io.Writer, size func(int)) error {
		client, err := g.shell(ctx, at, ssh.ClientConfig{User: user, Auth: []ssh.AuthMethod{ssh.Password(word)}, HostKeyCallback: ssh.FixedHostKey(key)})
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
			return errors.New("the server says: " + err.Error())
		}
		if info, err := file.Stat(); err == nil {
			size(int(info.Size()))
		}
		_, err = io.Copy(to, file)
		return errors.Join(err, file.Close())
	}
}
