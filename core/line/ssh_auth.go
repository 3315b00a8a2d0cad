package line

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"net"
	"os"
	"regexp"
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
	offered  bool // the password that was given beforehand
	deadline func(running bool)
}

// methods are the ways to prove it that the settings leave, in the order that they say.
func (p *prover) methods(ctx context.Context) (all []ssh.AuthMethod) {
	p.used = map[string]string{}
	prompts := p.host.Prompts()
	ways := map[string]ssh.AuthMethod{
		"publickey": ssh.PublicKeysCallback(func() ([]ssh.Signer, error) { return p.keys(ctx), nil }),
		"keyboard-interactive": ssh.RetryableAuthMethod(
			ssh.KeyboardInteractive(func(name, instruction string, questions []string, echos []bool) ([]string, error) {
				return p.challenge(ctx, name, instruction, questions, echos)
			}),
			prompts,
		),
		"password": ssh.RetryableAuthMethod(ssh.PasswordCallback(func() (string, error) { return p.password(ctx) }),
			prompts),
	}
	left := map[string]bool{
		"publickey": p.host.Is("pubkeyauthentication", true),
		"keyboard-interactive": p.host.Is("kbdinteractiveauthentication",
			p.host.Is("challengeresponseauthentication", true)) &&
			!p.host.Is("batchmode", false),
		"password": p.host.Is("passwordauthentication", true) && !p.host.Is("batchmode", false),
	}
	order := cmp.Or(p.host.Get("preferredauthentications"), "publickey,keyboard-interactive,password")
	for way := range strings.SplitSeq(order, ",") {
		if left[way] {
			all = append(all, ways[way])
			left[way] = false
		}
	}
	return all
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

func (p *prover) triedText() string {
	if len(p.tried) == 0 {
		return "it offers no way that we know"
	}
	return strings.Join(p.tried, ", ")
}

// keys are those that may be shown, in the order of OpenSSH: the agent's that are named, the agent's others unless only
// named ones may be shown, those in files; each behind a certificate of it.
func (p *prover) keys(ctx context.Context) (signers []ssh.Signer) {
	files, named := p.host.Keys()
	held := p.held()
	taken := map[string]bool{}
	take := func(signer ssh.Signer) {
		if mark := string(signer.PublicKey().Marshal()); !taken[mark] {
			taken[mark] = true
			signers = append(signers, p.certified(signer, files)...)
		}
	}
	fromAgent := 0
	for _, path := range files {
		public := publicOf(path)
		for _, signer := range held {
			if public != nil && sameKey(signer.PublicKey(), public) {
				take(signer)
				fromAgent++
			}
		}
	}
	if !p.host.Is("identitiesonly", false) {
		for _, signer := range held {
			take(signer)
		}
		fromAgent = len(held)
	}
	if fromAgent > 0 {
		p.try(fmt.Sprintf("%s of the agent", units.Many(fromAgent, "key")))
	}
	for _, path := range files {
		if public := publicOf(path); public != nil && taken[string(public.Marshal())] {
			continue
		}
		signer, err := p.key(ctx, path)
		switch {
		case err == nil:
			p.try("the key " + path)
			take(signer)
		case named || !errors.Is(err, os.ErrNotExist):
			p.try(fmt.Sprintf("not the key %s (%v)", path, err))
		}
	}
	return signers
}

// held are the agent's.
func (p *prover) held() []ssh.Signer {
	socket := p.with.Agent
	switch said := p.host.Get("identityagent"); {
	case strings.EqualFold(said, "none"):
		socket = ""
	case strings.HasPrefix(said, "$") && !strings.HasPrefix(said, "${"):
		socket = os.Getenv(said[1:])
	case said != "" && said != "SSH_AUTH_SOCK":
		socket = p.host.Path(said)
	}
	if socket == "" {
		return nil
	}
	conn, err := net.Dial("unix", socket)
	if err != nil {
		return nil
	}
	p.agent = conn
	held, _ := agent.NewClient(conn).Signers()
	return held
}

// publicOf is the public half of a key's file, nil where it is not there.
func publicOf(path string) ssh.PublicKey {
	for _, file := range []string{path + ".pub", path} { // a public key alone may be named, too
		data, err := os.ReadFile(file)
		if err != nil {
			continue
		}
		if public, _, _, _, err := ssh.ParseAuthorizedKey(data); err == nil {
			return public
		}
	}
	return nil
}

// certified is a key behind the certificates of it that are named, or lie beside it.
func (p *prover) certified(signer ssh.Signer, files []string) (all []ssh.Signer) {
	var paths []string
	for _, path := range p.host.List("certificatefile") {
		paths = append(paths, p.host.Path(path))
	}
	for _, path := range files {
		paths = append(paths, path+"-cert.pub")
	}
	for _, path := range paths {
		data, err := os.ReadFile(path)
		if err != nil {
			continue
		}
		public, _, _, _, err := ssh.ParseAuthorizedKey(data)
		cert, ok := public.(*ssh.Certificate)
		if err != nil || !ok || !sameKey(cert.Key, signer.PublicKey()) {
			continue
		}
		if with, err := ssh.NewCertSigner(cert, signer); err == nil {
			p.try("the certificate " + path)
			all = append(all, with)
		}
	}
	return append(all, signer)
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
func (p *prover) challenge(
	ctx context.Context, name, instruction string, questions []string, echos []bool,
) ([]string, error) {
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
	value, known := p.with.known(name)
	if !known && secret && p.host.final && !p.offered && isPassword(name, text) { // to the host that it is for, once
		if value, known = p.with.beforehand(); known {
			p.offered = true
		}
	}
	if _, already := p.used[name]; known && !already {
		p.used[name] = value
		return value, nil
	}
	ask := p.with.asker()
	if ask == nil {
		p.failed = p.fail(ErrDenied, nil,
			fmt.Sprintf("the %s is needed, and nobody is here to give it; tried so far: %s", text, p.triedText()))
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

// isPassword reports whether what is asked is the password of the account, and not a code, a new one or a key's
// passphrase: nothing else is answered with it.
func isPassword(name, text string) bool {
	return !strings.HasPrefix(name, "key ") && passwordText.MatchString(text) && !otherText.MatchString(text)
}

var (
	passwordText = regexp.MustCompile(`(?i)password|passwort|kennwort|mot de passe|contraseña|wachtwoord|lösenord`)
	otherText    = regexp.MustCompile(
		`(?i)\bnew\b|again|retype|repeat|confirm|one[- ]?time|\botp\b|token|verification|code\b|\bpin\b|expired`)
)

// known is what was given before for this very question.
func (s *Shells) known(name string) (value string, known bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	value, known = s.given[name]
	return value, known
}

// beforehand is the password that was given before anything was asked.
func (s *Shells) beforehand() (value string, known bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.password, s.password != ""
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
	if p.offered { // it is not shown to the host once more
		p.with.spent, p.with.password = append(p.with.spent, p.with.password), ""
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
	return append(all, s.spent...)
}
