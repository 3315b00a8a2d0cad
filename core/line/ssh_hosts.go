package line

import (
	"context"
	"errors"
	"fmt"
	"net"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"golang.org/x/crypto/ssh"
	"golang.org/x/crypto/ssh/knownhosts"

	"pilotrix/core/line/sshsettings"
)

// knownHosts holds a host to the key that it had before, or to the authority that signs such keys. One that is met for
// the first time is shown to the person in charge, unless the settings say what is done then; one with another key is
// refused.
type knownHosts struct {
	*dialer
	host     sshHost
	files    []string // the user's own; a new key goes into the first
	known    knownKeys
	failed   error
	deadline func(running bool)
}

func (d *dialer) knownHosts(h sshHost) (*knownHosts, error) {
	own, global := h.KnownHosts()
	known, err := readKnown(slices.Concat(own, global))
	if err != nil {
		return nil, d.fail(ErrCannot, err, "a file of known hosts cannot be read")
	}
	return &knownHosts{dialer: d, host: h, files: own, known: known}, nil
}

// name is what a host is kept as; bare is it without its port, empty where that says nothing.
func (k *knownHosts) name() (name, bare string) {
	if alias := k.host.Get("hostkeyalias"); alias != "" {
		return alias, ""
	}
	name, bare = knownhosts.Normalize(k.host.address), hostOf(k.host.address)
	if name == bare {
		bare = ""
	}
	return name, bare
}

// Answers to a key that is met for the first time.
const (
	KeyIsRight = "yes"
	KeyIsWrong = "no"
)

func (k *knownHosts) check(ctx context.Context) ssh.HostKeyCallback {
	return func(_ string, _ net.Addr, key ssh.PublicKey) error {
		k.failed = k.judge(ctx, key)
		return k.failed
	}
}

func (k *knownHosts) judge(ctx context.Context, key ssh.PublicKey) error {
	name, bare := k.name()
	if err := k.revoked(name, key); err != nil {
		return err
	}
	if cert, ok := key.(*ssh.Certificate); ok {
		for _, authority := range k.known.of(name, "cert-authority") {
			if sameKey(authority.key, cert.SignatureKey) {
				return k.signed(cert, authority)
			}
		}
		key = cert.Key // nobody answers for who signed it: it is a key as any other
	}
	known := k.known.of(name, "")
	if len(known) == 0 && bare != "" { // known without a port, as OpenSSH takes it, too
		for _, one := range k.known.of(bare, "") {
			if sameKey(one.key, key) {
				return nil
			}
		}
	}
	for _, one := range known {
		if sameKey(one.key, key) {
			return nil
		}
	}
	if len(known) > 0 {
		want := known[0]
		return k.fail(ErrOtherKey, nil,
			fmt.Sprintf("it shows %s %s, and %s, has %s %s. Somebody may stand in between, or the device was exchanged or got a new key: find out which, and only then take that line away",
				key.Type(), ssh.FingerprintSHA256(key), want.place(), want.key.Type(), ssh.FingerprintSHA256(want.key)))
	}
	return k.first(ctx, name, key)
}

// revoked refuses a key, and what is signed by one, that must not be used any more.
func (k *knownHosts) revoked(name string, key ssh.PublicKey) error {
	keys := []ssh.PublicKey{key}
	if cert, ok := key.(*ssh.Certificate); ok {
		keys = []ssh.PublicKey{cert.Key, cert.SignatureKey}
	}
	for _, one := range k.known.of(name, "revoked") {
		for _, key := range keys {
			if sameKey(one.key, key) {
				return k.fail(ErrOtherKey, nil, "its key is revoked in "+one.place())
			}
		}
	}
	return nil
}

// signed holds a certificate to the host, the time and its kind.
func (k *knownHosts) signed(cert *ssh.Certificate, by knownKey) error {
	principal := hostOf(k.host.address)
	if alias := k.host.Get("hostkeyalias"); alias != "" {
		principal = alias
	}
	err := (&ssh.CertChecker{}).CheckCert(principal, cert)
	if err == nil && cert.CertType != ssh.HostCert {
		err = errors.New("it is a user's and not a host's")
	}
	if err == nil && len(cert.ValidPrincipals) == 0 {
		err = errors.New("it names no host")
	}
	if err != nil {
		return k.fail(ErrOtherKey, err,
			fmt.Sprintf("its certificate is signed by the authority of %s, and not good for %s", by.place(), principal))
	}
	return nil
}

// first asks about a key that was not met before, and keeps it.
func (k *knownHosts) first(ctx context.Context, host string, key ssh.PublicKey) error {
	fingerprint := key.Type() + " " + ssh.FingerprintSHA256(key)
	odd := ""
	if len(k.known.odd) > 0 {
		odd = "; not understood, and passed over: " + strings.Join(k.known.odd[:min(3, len(k.known.odd))], "; ")
	}
	switch k.host.Strict() {
	case sshsettings.TakeNew:
		return k.keep(host, key)
	case sshsettings.Refuse:
		return k.fail(ErrDenied, nil,
			fmt.Sprintf("%s is met for the first time, with the key %s, and %s says that such a host is refused (StrictHostKeyChecking)%s",
				host, fingerprint, k.host.Place("stricthostkeychecking"), odd))
	}
	ask := k.with.asker()
	if ask == nil {
		return k.fail(ErrDenied, nil,
			fmt.Sprintf("%s is met for the first time, with the key %s, and nobody is here to say whether that is right; open it once by hand%s",
				host, fingerprint, odd))
	}
	k.deadline(false)
	defer k.deadline(true)
	answer, err := ask(ctx, Question{
		Target: k.target,
		Choice: []string{KeyIsRight, KeyIsWrong},
		Text: fmt.Sprintf("%s is met for the first time. It shows the key %s%s. Is that its own?", host, fingerprint,
			odd),
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
	if len(k.files) == 0 {
		return nil
	}
	path, as := k.files[0], host
	if k.host.Is("hashknownhosts", false) {
		as = knownhosts.HashHostname(host)
	}
	err := os.MkdirAll(filepath.Dir(path), 0o700)
	if err == nil {
		var file *os.File
		if file, err = os.OpenFile(path, os.O_APPEND|os.O_CREATE|os.O_WRONLY, 0o600); err == nil {
			_, err = fmt.Fprintln(file, as+" "+strings.TrimSpace(string(ssh.MarshalAuthorizedKey(key))))
			err = errors.Join(err, file.Close())
		}
	}
	if err != nil {
		return k.fail(ErrCannot, err, "its key could not be kept in "+path)
	}
	return nil
}

// algorithms puts the kinds of key first that the host is known by: asked for another kind it would look like another
// host. Where an authority answers for it, its certificate comes before these.
func (k *knownHosts) algorithms() (all []string) {
	name, bare := k.name()
	known := k.known.of(name, "")
	if len(known) == 0 && bare != "" {
		known = k.known.of(bare, "")
	}
	signs := len(k.known.of(name, "cert-authority")) > 0
	if len(known) == 0 && !signs {
		return nil
	}
	if signs {
		for _, algorithm := range ssh.SupportedAlgorithms().HostKeys {
			if strings.Contains(algorithm, "-cert-v01@") {
				all = append(all, algorithm)
			}
		}
		if len(known) == 0 {
			return append(all, plainOnly(ssh.SupportedAlgorithms().HostKeys)...)
		}
	}
	for _, want := range known {
		kind := want.key.Type()
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

func plainOnly(algorithms []string) []string {
	return slices.DeleteFunc(slices.Clone(algorithms),
		func(algorithm string) bool { return strings.Contains(algorithm, "-cert-v01@") })
}
