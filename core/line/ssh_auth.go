package line

import (
	"context"
	"errors"
	"fmt"
	"net"
	"os"
	"strings"

	"golang.org/x/crypto/ssh"
	"golang.org/x/crypto/ssh/agent"
	"pilotrix/core/units"
)

// prover proves who we are: by the agent's keys, by those in files, by what is asked, by a password.
type prover struct {
	*dialer
	host     sshHost
	agent    net.Conn
	tried    []string
	used     map[string]string // what was asked for this time
	failed   error
	deadline func(running bool)
}

// mostPasswords is how often a person may mistype.
const mostPasswords = 3

func (p *prover) methods(ctx context.Context) []ssh.AuthMethod {
	p.used = map[string]string{}
	return []ssh.AuthMethod{
		ssh.PublicKeysCallback(func() ([]ssh.Signer, error) { return p.keys(ctx), nil }),
		ssh.RetryableAuthMethod(ssh.KeyboardInteractive(func(name, instruction string, questions []string, echos []bool) ([]string, error) {
			return p.challenge(ctx, name, instruction, questions, echos)
		}), mostPasswords),
		ssh.RetryableAuthMethod(ssh.PasswordCallback(func() (string, error) { return p.password(ctx) }), mostPasswords),
	}
}

func (p *prover) close() {
	if p.agent != nil {
		_ = p.agent.Close()
	}
}

func (p *prover) try(what string) {
	if len(p.tried) == 0 || p.tried[len(p.tried)-1] != what {
		p.tried = append(p.tried, what)
	}
}

func (p *prover) triedWords() string {
	if len(p.tried) == 0 {
		return "it offers no way that we know"
	}
	return strings.Join(p.tried, ", ")
}

// keys are those that may be shown: the agent's, then those in files.
func (p *prover) keys(ctx context.Context) (signers []ssh.Signer) {
	if p.with.Agent != "" {
		if conn, err := net.Dial("unix", p.with.Agent); err == nil {
			p.agent = conn
			if held, err := agent.NewClient(conn).Signers(); err == nil && len(held) > 0 {
				signers = append(signers, held...)
				p.try(fmt.Sprintf("%s of the agent", units.Many(len(held), "key")))
			}
		}
	}
	for _, path := range p.host.keys {
		signer, err := p.key(ctx, path)
		switch {
		case err == nil:
			p.try("the key " + path)
			signers = append(signers, signer)
		case p.host.ownKeys || !errors.Is(err, os.ErrNotExist):
			p.try(fmt.Sprintf("not the key %s (%v)", path, err))
		}
	}
	return signers
}

// key reads a key from a file, asking for its passphrase where it has one.
func (p *prover) key(ctx context.Context, path string) (ssh.Signer, error) {
	data, err := os.ReadFile(path)
	if err != nil {
		return nil, err
	}
	signer, err := ssh.ParsePrivateKey(data)
	var locked *ssh.PassphraseMissingError
	if !errors.As(err, &locked) {
		return signer, err
	}
	phrase, err := p.ask(ctx, "key "+path, "passphrase of the key "+path, true)
	if err != nil {
		return nil, err
	}
	signer, err = ssh.ParsePrivateKeyWithPassphrase(data, []byte(phrase))
	if err != nil {
		delete(p.used, "key "+path)
	}
	return signer, err
}

func (p *prover) password(ctx context.Context) (string, error) {
	p.try("a password")
	return p.ask(ctx, p.account("password"), fmt.Sprintf("password of %s at %s", p.host.user, p.host.name), true)
}

func (p *prover) account(what string) string { return what + " " + p.host.user + "@" + p.host.address }

// challenge answers what the host asks, RFC 4256.
func (p *prover) challenge(ctx context.Context, name, instruction string, questions []string, echos []bool) ([]string, error) {
	answers := make([]string, len(questions))
	for i, question := range questions {
		p.try("what it asks")
		text := strings.TrimSpace(strings.Join([]string{name, instruction, question}, " "))
		answer, err := p.ask(ctx, p.account(question), text, !echos[i])
		if err != nil {
			return nil, err
		}
		answers[i] = answer
	}
	return answers, nil
}

// ask gets something that only a person knows: what was given and right before, or else it is asked.
func (p *prover) ask(ctx context.Context, name, text string, secret bool) (string, error) {
	value, known := p.with.known(name, secret && !strings.HasPrefix(name, "key "))
	if _, already := p.used[name]; known && !already {
		p.used[name] = value
		return value, nil
	}
	ask := p.with.asker()
	if ask == nil {
		p.failed = p.fail(ErrDenied, nil, fmt.Sprintf("the %s is needed, and nobody is here to give it; tried so far: %s", text, p.triedWords()))
		return "", p.failed
	}
	if _, already := p.used[name]; already {
		text = "that was not right; " + text
	}
	p.deadline(false)
	defer p.deadline(true)
	value, err := ask(ctx, Question{Target: p.target, Text: text, Secret: secret})
	if err != nil {
		p.failed = err
		return "", err
	}
	p.used[name] = value
	return value, nil
}

// known is what was given before: for this very question, or as the password beforehand.
func (s *Shells) known(name string, password bool) (value string, known bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if value, known = s.given[name]; !known && password && s.password != "" {
		return s.password, true
	}
	return value, known
}

// keep remembers what was right, for the next time that the line is opened: after a restart, say.
func (p *prover) keep() {
	p.with.mu.Lock()
	defer p.with.mu.Unlock()
	if p.with.given == nil {
		p.with.given = map[string]string{}
	}
	for name, value := range p.used {
		p.with.given[name] = value
	}
}

// forget drops what was given before and is not right any more.
func (p *prover) forget() {
	p.with.mu.Lock()
	defer p.with.mu.Unlock()
	for name := range p.used {
		delete(p.with.given, name)
	}
}

// SetAsk says who is asked from here on; nobody where it is nil.
func (s *Shells) SetAsk(ask Asker) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.ask = ask
}

func (s *Shells) asker() Asker {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.ask
}

// Give says beforehand what would be asked for: the password of the one session that is opened.
func (s *Shells) Give(password string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.password = password
}

// Secrets are what was given so far: they are in no event.
func (s *Shells) Secrets() (all []string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, value := range s.given {
		all = append(all, value)
	}
	if s.password != "" {
		all = append(all, s.password)
	}
	return all
}
