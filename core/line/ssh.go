package line

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"golang.org/x/crypto/ssh"

	"pilotrix/core/clock"
	"pilotrix/core/line/sshsettings"
)

// A shell session over SSH (RFC 4251 to 4254), by golang.org/x/crypto/ssh: this file opens it and carries it,
// ssh_auth.go proves who we are, ssh_hosts.go who the other side is, ssh_config.go reads what the user's own settings
// say.

const (
	sshPort       = "22"
	sshHandshake  = 30 * time.Second // for a host to come as far as asking who we are
	keepAlive     = 15 * time.Second
	maxUnanswered = 3
)

// Question is something that only a person knows, asked while a line is opened.
type Question struct {
	Target Target
	Text   string
	Secret bool     // what is typed is shown and recorded nowhere
	Choice []string // what may be answered; anything where it is empty
}

// Asker asks a person. Nobody is there where it is nil.
type Asker func(ctx context.Context, q Question) (string, error)

// Shells is what shell sessions need besides their target. It may be used by several goroutines.
type Shells struct {
	Home  string // the user's own folder, with .ssh in it
	Agent string // the socket of the agent that holds keys; empty for none

	mu       sync.Mutex
	ask      Asker
	password string            // given beforehand
	spent    []string          // that were, and were not right
	given    map[string]string // what was asked and was right, for the next time; never written anywhere
}

// ErrDenied and ErrOtherKey are reasons of a shell session.
var (
	ErrDenied   = errors.New("did not let us in")
	ErrOtherKey = errors.New("has another key than it had")
)

// shell is a Line on a shell session.
type shell struct {
	*stream
	session *ssh.Session
	client  *ssh.Client
	old     string
}

// Client is the connection that the session goes over, for what else goes over it, such as a file.
func (l *shell) Client() *ssh.Client { return l.client }

// Old are the algorithms that were agreed although they are not safe any more; empty where that was not allowed.
func (l *shell) Old() string { return l.old }

func openShell(ctx context.Context, t Target, c clock.Clock, with *Shells) (Line, error) {
	d := &dialer{target: t, with: with}
	h, err := d.host(t.Host(), t.User())
	if err != nil {
		return nil, err
	}
	h.final = true
	client, err := d.dial(ctx, h, 0)
	if err != nil {
		d.close()
		return nil, err
	}
	wire, err := newShellWire(client, t, d)
	if err != nil {
		d.close()
		return nil, err
	}
	s := newStream(t, wire, c, wire.lost)
	return &shell{s, wire.session, client, d.old}, nil
}

// Resize implements Resizer, RFC 4254 section 6.7.
func (l *shell) Resize(cols, rows int) error { return l.session.WindowChange(rows, cols) }

// SendBreak implements Breaker, RFC 4335.
func (l *shell) SendBreak(context.Context) error {
	_, err := l.session.SendRequest("break", false,
		ssh.Marshal(struct{ Length uint32 }{uint32(breakLength.Milliseconds())}))
	return err
}

// dialer makes the connections that lead to a host.
type dialer struct {
	target  Target
	with    *Shells
	banner  strings.Builder
	clients []*ssh.Client
	old     string // the old algorithms that were agreed, where they were asked for
}

func (d *dialer) close() {
	for i := len(d.clients) - 1; i >= 0; i-- {
		_ = d.clients[i].Close()
	}
}

// maxJumps bounds a way through other hosts, which may lead in a circle.
const maxJumps = 8

// dial connects to a host, through those that lead there.
func (d *dialer) dial(ctx context.Context, h sshHost, jumps int) (*ssh.Client, error) {
	if jumps > maxJumps {
		return nil, d.fail(nil, nil,
			fmt.Sprintf("ProxyJump leads through more than %d hosts; look for a circle in %s", maxJumps,
				sshsettings.Files(d.with.Home)[0]))
	}
	conn, err := d.connect(ctx, h, jumps)
	if err != nil {
		return nil, err
	}
	client, err := d.greet(ctx, conn, h)
	if err != nil {
		_ = conn.Close()
		if by, ok := conn.(*proxy); ok && by.says.last() != "" {
			err = fmt.Errorf("%w; the ProxyCommand of %s says: %s", err, h.Place("proxycommand"), by.says.last())
		}
		return nil, err
	}
	d.clients = append(d.clients, client)
	return client, nil
}

func (d *dialer) connect(ctx context.Context, h sshHost, jumps int) (net.Conn, error) {
	switch {
	case h.Command() != "":
		conn, err := runProxy(ctx, h)
		if err != nil {
			return nil, d.fail(ErrCannot, err,
				fmt.Sprintf("the ProxyCommand of %s could not be started", h.Place("proxycommand")))
		}
		return conn, nil
	case h.jump == "":
		conn, err := dialHost(ctx, h)
		if err != nil {
			return nil, socketError(d.target, err)
		}
		return conn, nil
	}
	next, rest, more := cutLast(h.jump)
	via, err := d.host(joined(next), next.user)
	if err != nil {
		return nil, err
	}
	if more {
		via.jump = rest
	}
	client, err := d.dial(ctx, via, jumps+1)
	if err != nil {
		return nil, err
	}
	conn, err := client.DialContext(ctx, "tcp", h.address)
	if err != nil {
		return nil, d.fail(ErrRefused, err, fmt.Sprintf("%s does not get through to %s", via.address, h.address))
	}
	return conn, nil
}

// dialHost connects as the settings say: from which address, over which network, within which time.
func dialHost(ctx context.Context, h sshHost) (net.Conn, error) {
	dialer := dialerWithin(muteFor)
	if from := h.Get("bindaddress"); from != "" {
		dialer.LocalAddr = &net.TCPAddr{IP: net.ParseIP(from)}
	}
	if seconds, err := strconv.Atoi(h.Get("connecttimeout")); err == nil && seconds > 0 {
		dialer.Timeout = time.Duration(seconds) * time.Second
	}
	network := map[string]string{"inet": "tcp4", "inet6": "tcp6"}[strings.ToLower(h.Get("addressfamily"))]
	return dialer.DialContext(ctx, cmp.Or(network, "tcp"), h.address)
}

// joined is a jump host as an address.
func joined(j jumpHost) string {
	if j.port == "" {
		return j.host
	}
	return net.JoinHostPort(j.host, j.port)
}

// greet shakes hands: it holds the host to its key, and proves who we are.
func (d *dialer) greet(ctx context.Context, conn net.Conn, h sshHost) (*ssh.Client, error) {
	hosts, err := d.knownHosts(h)
	if err != nil {
		return nil, err
	}
	auth := &prover{dialer: d, host: h}
	defer auth.close()
	config := &ssh.ClientConfig{
		User: h.user, Auth: auth.methods(ctx), HostKeyCallback: hosts.check(ctx), HostKeyAlgorithms: hosts.algorithms(),
		BannerCallback: func(text string) error { d.banner.WriteString(text); return nil },
	}
	if d.target.Legacy {
		allowOld(config)
	}
	if err := limitTo(config, h); err != nil {
		return nil, d.fail(ErrCannot, err, "mend the setting")
	}
	stop := context.AfterFunc(ctx, func() { _ = conn.Close() })
	defer stop()
	// The time that a person takes to answer is no part of the handshake's: that is for the host alone. A connection
	// through another host knows no deadlines, so it is closed.
	var late atomic.Bool
	limit := time.AfterFunc(sshHandshake, func() { late.Store(true); _ = conn.Close() })
	defer limit.Stop()
	auth.deadline = func(running bool) {
		if limit.Stop(); running {
			limit.Reset(sshHandshake)
		}
	}
	hosts.deadline = auth.deadline
	made, channels, requests, err := ssh.NewClientConn(conn, h.address, config)
	if err != nil && late.Load() {
		return nil, d.fail(ErrUnplugged, err,
			fmt.Sprintf("it did not come as far as letting anybody in within %s", sshHandshake))
	}
	if err != nil {
		return nil, d.greeting(ctx, err, auth, hosts)
	}
	auth.keep()
	if d.target.Legacy {
		d.old = oldText(made)
	}
	return ssh.NewClient(made, channels, requests), nil
}

// greeting puts what went wrong in a handshake into words.
func (d *dialer) greeting(ctx context.Context, err error, auth *prover, hosts *knownHosts) error {
	var nothing *ssh.AlgorithmNegotiationError
	switch {
	case ctx.Err() != nil:
		return ctx.Err()
	case hosts.failed != nil:
		return hosts.failed
	case auth.failed != nil:
		return auth.failed
	case errors.As(err, &nothing) && !d.target.Legacy:
		return d.fail(ErrCannot, err,
			"it only knows old algorithms; ?legacy=yes behind the target allows them, for as long as that one is open")
	case strings.Contains(err.Error(), "unable to authenticate"):
		auth.forget()
		return d.fail(ErrDenied, err, "tried as "+auth.host.user+": "+auth.triedText())
	}
	return d.fail(ErrUnplugged, err, "it ended the connection before anybody was let in")
}

func (d *dialer) fail(reason, cause error, remedy string) error {
	return &Error{Target: d.target, Reason: reason, Cause: cause, Remedy: remedy}
}

// allowOld adds the algorithms that old devices need and that are not safe any more.
func allowOld(config *ssh.ClientConfig) {
	good, old := ssh.SupportedAlgorithms(), ssh.InsecureAlgorithms()
	config.KeyExchanges = append(good.KeyExchanges, old.KeyExchanges...)
	config.Ciphers = append(good.Ciphers, old.Ciphers...)
	config.MACs = append(good.MACs, old.MACs...)
	if len(config.HostKeyAlgorithms) == 0 {
		config.HostKeyAlgorithms = append(good.HostKeys, old.HostKeys...)
	}
}

// oldText are the old algorithms that were agreed.
func oldText(made ssh.Conn) string {
	if with, can := made.(ssh.AlgorithmsConnMetadata); can {
		a := with.Algorithms()
		return strings.Join([]string{a.KeyExchange, a.HostKey, a.Write.Cipher}, ", ")
	}
	return ""
}

// shellWire is the session's two streams as one.
type shellWire struct {
	session *ssh.Session
	client  *ssh.Client
	dialer  *dialer
	in      io.WriteCloser
	out     io.Reader

	ended  chan struct{}
	ending sync.Once
	silent atomic.Bool // it did not answer to what keeps it alive

	losing sync.Once // it is reported once why it ended, whoever asks
	why    error
}

func newShellWire(client *ssh.Client, t Target, d *dialer) (*shellWire, error) {
	session, err := client.NewSession()
	if err != nil {
		return nil, d.fail(ErrCannot, err, "it lets us in and opens no session")
	}
	w := &shellWire{session: session, client: client, dialer: d, ended: make(chan struct{})}
	cols, rows, _ := ParseSize(t.Size)
	modes := ssh.TerminalModes{ssh.ECHO: 1, ssh.TTY_OP_ISPEED: 115200, ssh.TTY_OP_OSPEED: 115200}
	if err = session.RequestPty(terminalType, cmp.Or(rows, usualRows), cmp.Or(cols, usualCols), modes); err == nil {
		w.in, err = session.StdinPipe()
	}
	if err == nil {
		w.out, err = session.StdoutPipe()
	}
	if err == nil {
		err = session.Shell()
	}
	if err != nil {
		return nil, d.fail(ErrCannot, err, "it opens no shell")
	}
	banner := strings.ReplaceAll(strings.ReplaceAll(d.banner.String(), "\r\n", "\n"), "\n", "\r\n")
	w.out = io.MultiReader(strings.NewReader(banner), w.out)
	go w.live()
	return w, nil
}

// Read implements io.Reader.
func (w *shellWire) Read(p []byte) (int, error) { return w.out.Read(p) }

// Write implements io.Writer.
func (w *shellWire) Write(p []byte) (int, error) { return w.in.Write(p) }

// Close implements io.Closer.
func (w *shellWire) Close() error {
	w.ending.Do(func() { close(w.ended) })
	_ = w.session.Close()
	w.dialer.close()
	return nil
}

// live asks the other side for a sign of life: a device that has restarted says nothing of it.
func (w *shellWire) live() {
	tick := time.NewTicker(keepAlive)
	defer tick.Stop()
	answered := make(chan struct{}, 1)
	for unanswered := 0; ; {
		select {
		case <-w.ended:
			return
		case <-answered:
			unanswered = 0
		case <-tick.C:
			if unanswered++; unanswered > maxUnanswered {
				w.silent.Store(true)
				w.dialer.close()
				return
			}
			go func() {
				if _, _, err := w.client.SendRequest("keepalive@openssh.com", true, nil); err == nil {
					select {
					case answered <- struct{}{}:
					default:
					}
				}
			}()
		}
	}
}

// lost says why the session has ended.
func (w *shellWire) lost(err error) error {
	w.losing.Do(func() { w.why = w.reason(err) })
	return w.why
}

// lastWord is how long a host may take to say how a shell ended that has said all.
const lastWord = 3 * time.Second

func (w *shellWire) reason(err error) error {
	said := make(chan error, 1)
	go func() { said <- w.session.Wait() }()
	limit := time.AfterFunc(lastWord, w.dialer.close)
	defer limit.Stop()
	waited := <-said
	e := &Error{Target: w.dialer.target, Reason: ErrUnplugged, Cause: err}
	var exit *ssh.ExitError
	switch {
	case w.silent.Load():
		e.Remedy = fmt.Sprintf("it gave no sign of life for %s", keepAlive*(maxUnanswered+1))
	case waited == nil:
		e.Remedy = "the shell ended, with status 0"
	case errors.As(waited, &exit) && exit.Signal() != "":
		e.Remedy = "the shell was ended by signal " + exit.Signal()
	case errors.As(waited, &exit):
		e.Remedy = fmt.Sprintf("the shell ended, with status %d", exit.ExitStatus())
	default:
		e.Remedy = "the connection ended" + disconnectText(w.client.Wait())
	}
	return e
}

// disconnectText is the reason that the other side gave, RFC 4253 section 11.1.
func disconnectText(err error) string {
	if err == nil || errors.Is(err, io.EOF) {
		return " without a word"
	}
	return ": " + strings.TrimPrefix(err.Error(), "ssh: ")
}
