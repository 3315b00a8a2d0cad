package line

import (
	"context"
	"errors"
	"fmt"
	"sync"
	"time"

	"pilotrix/core/clock"
	"pilotrix/core/line/telnet"
)

// comPort is a Line on a port of a console server, over com-port control (RFC 2217).
type comPort struct {
	telnetLine
	clock clock.Clock

	setting sync.Mutex // one setting at a time
	answers chan telnet.PortSays

	mu          sync.Mutex
	speed       int
	modem, line byte // as the server reported last, and what it reported of since it was asked
	heard       bool // of the modem's signals
}

var _ Resizer = (*comPort)(nil)

// portTimeout is how long a console server may take to answer.
const portTimeout = 5 * time.Second

func openComPort(ctx context.Context, t Target, c clock.Clock) (Line, error) {
	t = t.WithDefaults(0)
	framing, err := ParseFraming(t.Framing)
	if err != nil {
		return nil, &Error{Target: t, Cause: err}
	}
	wire, err := dialTelnet(ctx, t, telnet.Options{ComPort: true, Binary: true})
	if err != nil {
		return nil, err
	}
	l := &comPort{clock: c, answers: make(chan telnet.PortSays, 32)}
	wire.reported = l.reported
	l.telnetLine = telnetLine{newTelnetStream(t, wire, c), wire}
	limited, cancel := context.WithTimeout(ctx, portTimeout)
	defer cancel()
	if err := l.begin(limited, t, framing); err != nil {
		_ = l.Close()
		if errors.Is(err, context.DeadlineExceeded) && ctx.Err() == nil {
			err = &Error{
				Target: t,
				Reason: ErrCannot,
				Remedy: "it does not answer to com-port control; telnet://" + t.Address + " opens it without",
			}
		}
		return nil, err
	}
	return l, nil
}

// begin agrees on com-port control and sets the port.
func (l *comPort) begin(ctx context.Context, t Target, framing Framing) error {
	err := l.wire.await(ctx,
		func(m *telnet.Machine) bool { return m.Ours(telnet.ComPort) || m.Refused(telnet.ComPort) })
	if err != nil {
		return err
	}
	refused := false
	_ = l.wire.await(ctx, func(m *telnet.Machine) bool { refused = !m.Ours(telnet.ComPort); return true })
	if refused {
		return &Error{
			Target: t,
			Reason: ErrCannot,
			Remedy: "it has no com-port control; telnet://" + t.Address + " opens it without",
		}
	}
	for _, set := range append(telnet.Framing(framing.DataBits, framing.Parity, framing.StopBits),
		telnet.Flow(t.Flow)) {
		if err := l.set(ctx, set); err != nil {
			return err
		}
	}
	for _, watch := range telnet.Watch(0xff, 0x1e) { // every signal; overruns, errors of parity and framing, breaks
		l.wire.reply(watch.Request()) // what a server does not say is not known, and no harm
	}
	was := l.speedNow(ctx)
	if err := l.setSpeed(ctx, t.Speed); err != nil {
		return err
	}
	if was != t.Speed {
		l.drop(ctx)
	}
	return nil
}

// speedNow is what the port stands at, 0 where the server does not say.
func (l *comPort) speedNow(ctx context.Context) int {
	ctx, cancel := context.WithTimeout(ctx, portTimeout/4)
	defer cancel()
	speed, err := l.ask(ctx, telnet.Baud(0)) // RFC 2217, section 3: 0 asks
	if err != nil {
		return 0
	}
	return speed
}

const (
	staleFor  = 50 * time.Millisecond  // nothing came for so long: all of what the server kept is here
	staleMost = 500 * time.Millisecond // a device that never stops talking is listened to after this
)

// drop forgets what the console server read at another speed than ours: a prompt in it would say that the speed is
// right.
func (l *comPort) drop(ctx context.Context) {
	ctx, cancel := context.WithTimeout(ctx, staleMost)
	defer cancel()
	for {
		select {
		case _, open := <-l.Chunks():
			if !open {
				return
			}
		case <-time.After(staleFor):
			return
		case <-ctx.Done():
			return
		}
	}
}

// reported takes in what the server says. It is called by the reader.
func (l *comPort) reported(message telnet.Message) {
	says, err := telnet.ParsePort(message.Data)
	if message.Option != telnet.ComPort || err != nil {
		return
	}
	l.mu.Lock()
	if says.IsModem {
		l.modem, l.heard = says.Modem, true
	}
	if says.IsLine {
		l.line |= says.Line
	}
	l.mu.Unlock()
	switch {
	case says.Suspend, says.Resume:
		l.wire.suspend(says.Suspend)
	case says.Is:
		select {
		case l.answers <- says:
		default: // nobody waits for so many
		}
	}
}

// set asks for a setting and holds the server to its answer.
func (l *comPort) set(ctx context.Context, set telnet.PortSet) error {
	value, err := l.ask(ctx, set)
	if err == nil && value != set.Value() {
		err = &Error{
			Target: l.target,
			Reason: ErrCannot,
			Remedy: fmt.Sprintf("the console server did not take %s", set),
		}
	}
	return err
}

func (l *comPort) ask(ctx context.Context, set telnet.PortSet) (value int, err error) {
	l.setting.Lock()
	defer l.setting.Unlock()
	for len(l.answers) > 0 {
		<-l.answers
	}
	l.wire.reply(set.Request())
	limited, cancel := context.WithTimeout(ctx, portTimeout)
	defer cancel()
	for {
		select {
		case says := <-l.answers:
			if value, ok := set.Answers(says); ok {
				return value, nil
			}
		case <-limited.Done():
			if ctx.Err() != nil {
				return 0, ctx.Err()
			}
			return 0, &Error{
				Target: l.target,
				Cause:  limited.Err(),
				Remedy: fmt.Sprintf("the console server did not answer to %s within %s", set, portTimeout),
			}
		case <-l.wire.ended:
			return 0, &Error{Target: l.target, Reason: ErrClosed}
		}
	}
}

func (l *comPort) setSpeed(ctx context.Context, baud int) error {
	value, err := l.ask(ctx, telnet.Baud(baud))
	if err != nil {
		return err
	}
	l.mu.Lock()
	l.speed = value
	l.mu.Unlock()
	if value != baud {
		return &Error{
			Target: l.target,
			Reason: ErrCannot,
			Remedy: fmt.Sprintf("the console server set %d baud instead of %d", value, baud),
		}
	}
	return nil
}

// Speed implements Speeder.
func (l *comPort) Speed() int {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.speed
}

// SetSpeed implements Speeder.
func (l *comPort) SetSpeed(ctx context.Context, baud int) error { return l.setSpeed(ctx, baud) }

// SendBreak implements Breaker.
func (l *comPort) SendBreak(ctx context.Context) error {
	if err := l.set(ctx, telnet.PortBreak(true)); err != nil {
		return err
	}
	waited := l.clock.Wait(ctx, breakLength)
	if err := l.set(context.WithoutCancel(ctx), telnet.PortBreak(false)); err != nil {
		return err
	}
	return waited
}

// SetDTR implements ModemControl.
func (l *comPort) SetDTR(on bool) error { return l.set(context.Background(), telnet.DTR(on)) }

// SetRTS implements ModemControl.
func (l *comPort) SetRTS(on bool) error { return l.set(context.Background(), telnet.RTS(on)) }

// Purge drops what the server holds and has not sent.
func (l *comPort) Purge(ctx context.Context) error { return l.set(ctx, telnet.Purge()) }

// Signals implements Signaller.
func (l *comPort) Signals() (s Signals, known bool) {
	l.mu.Lock()
	defer l.mu.Unlock()
	return signalsOf(l.modem), l.heard
}

// Troubles implements Troubled.
func (l *comPort) Troubles() []string {
	l.mu.Lock()
	defer l.mu.Unlock()
	since := l.line
	l.line = 0
	return troublesOf(since)
}
