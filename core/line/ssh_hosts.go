package line

import (
	"context"
	"errors"
	"fmt"
	"net"
	"os"
	"path/filepath"
	"slices"

	"golang.org/x/crypto/ssh"
	"golang.org/x/crypto/ssh/knownhosts"
)

// knownHosts holds a host to the key that it had before. One that is met for the first time is shown to the person in
// charge; one with another key is refused.
type knownHosts struct {
	*dialer
	files    []string
	known    ssh.HostKeyCallback
	failed   error
	deadline func(running bool)
}

func (d *dialer) knownHosts(h sshHost) (*knownHosts, error) {
	k := &knownHosts{dialer: d, files: h.knownHosts}
	there := slices.DeleteFunc(slices.Clone(k.files), func(path string) bool {
		_, err := os.Stat(path)
		return errors.Is(err, os.ErrNotExist)
	})
	known, err := knownhosts.New(there...)
	if err != nil {
		return nil, d.fail(ErrCannot, err, "a file of known hosts cannot be read; mend the line that is named")
	}
	k.known = known
	return k, nil
}

// Answers to a key that is met for the first time.
const (
	KeyIsRight = "yes"
	KeyIsWrong = "no"
)

func (k *knownHosts) check(ctx context.Context) ssh.HostKeyCallback {
	return func(host string, remote net.Addr, key ssh.PublicKey) error {
		k.failed = k.judge(ctx, host, remote, key)
		return k.failed
	}
}

func (k *knownHosts) judge(ctx context.Context, host string, remote net.Addr, key ssh.PublicKey) error {
	err := k.known(host, remote, key)
	var other *knownhosts.KeyError
	var revoked *knownhosts.RevokedError
	switch {
	case err == nil:
		return nil
	case errors.As(err, &revoked):
		return k.fail(ErrOtherKey, err, fmt.Sprintf("its key is revoked in %s, line %d", revoked.Revoked.Filename, revoked.Revoked.Line))
	case !errors.As(err, &other):
		return k.fail(ErrOtherKey, err, "its key cannot be judged")
	case len(other.Want) > 0:
		want := other.Want[0]
		return k.fail(ErrOtherKey, err, fmt.Sprintf("it shows %s %s, and %s, line %d, has %s %s. Somebody may stand in between, or the device was exchanged or got a new key: find out which, and only then take that line away",
			key.Type(), ssh.FingerprintSHA256(key), want.Filename, want.Line, want.Key.Type(), ssh.FingerprintSHA256(want.Key)))
	}
	return k.first(ctx, host, key)
}

// first asks about a key that was not met before, and keeps it.
func (k *knownHosts) first(ctx context.Context, host string, key ssh.PublicKey) error {
	fingerprint := key.Type() + " " + ssh.FingerprintSHA256(key)
	ask := k.with.asker()
	if ask == nil {
		return k.fail(ErrDenied, nil, fmt.Sprintf("%s is met for the first time, with the key %s, and nobody is here to say whether that is right; open it once by hand", host, fingerprint))
	}
	k.deadline(false)
	defer k.deadline(true)
	answer, err := ask(ctx, Question{
		Target: k.target, Choice: []string{KeyIsRight, KeyIsWrong},
		Text: fmt.Sprintf("%s is met for the first time. It shows the key %s. Is that its own?", host, fingerprint),
	})
	if err != nil {
		return err
	}
	if answer != KeyIsRight {
		return k.fail(ErrDenied, nil, "its key was not taken for its own")
	}
	return k.keep(host, key)
}

// keep writes a key into the first file of known hosts.
func (k *knownHosts) keep(host string, key ssh.PublicKey) error {
	path := k.files[0]
	err := os.MkdirAll(filepath.Dir(path), 0o700)
	if err == nil {
		var file *os.File
		if file, err = os.OpenFile(path, os.O_APPEND|os.O_CREATE|os.O_WRONLY, 0o600); err == nil {
			_, err = fmt.Fprintln(file, knownhosts.Line([]string{knownhosts.Normalize(host)}, key))
			err = errors.Join(err, file.Close())
		}
	}
	if err != nil {
		return k.fail(ErrCannot, err, "its key could not be kept in "+path)
	}
	return nil
}

// algorithms puts the kinds of key first that the host is known by: asked for another kind it would look like another
// host.
func (k *knownHosts) algorithms(conn net.Conn, h sshHost) (all []string) {
	var other *knownhosts.KeyError
	if !errors.As(k.known(h.address, conn.RemoteAddr(), noKey{}), &other) {
		return nil
	}
	for _, want := range other.Want {
		kind := want.Key.Type()
		if kind == ssh.KeyAlgoRSA {
			all = append(all, ssh.KeyAlgoRSASHA512, ssh.KeyAlgoRSASHA256)
			if !k.target.Legacy {
				continue
			}
		}
		all = append(all, kind)
	}
	return all
}

// noKey is a key that no host has.
type noKey struct{}

func (noKey) Type() string                        { return "none" }
func (noKey) Marshal() []byte                     { return []byte("none") }
func (noKey) Verify([]byte, *ssh.Signature) error { return errors.ErrUnsupported }
