package line

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"go.bug.st/serial"

	"pilotrix/core/clock"
)

// breakLength is how long a break is held: longer than one character at 50 baud.
const breakLength = 300 * time.Millisecond

// drainLimit is how long a change of speed waits for what was written before.
const drainLimit = 3 * time.Second

var parities = map[byte]serial.Parity{
	'N': serial.NoParity,
	'E': serial.EvenParity,
	'O': serial.OddParity,
	'M': serial.MarkParity,
	'S': serial.SpaceParity,
}

var stopBits = map[int]serial.StopBits{1: serial.OneStopBit, 2: serial.TwoStopBits}

// serialLine is a Line on a serial port.
type serialLine struct {
	*stream
	port serial.Port

	about     Port
	restoring sync.Once
	restore   func()

	mu   sync.Mutex
	mode serial.Mode
}

func openSerial(_ context.Context, t Target, c clock.Clock) (Line, error) {
	t = t.WithDefaults(0)
	framing, err := ParseFraming(t.Framing)
	if err != nil {
		return nil, &Error{Target: t, Cause: err}
	}
	if err := inUse(t); err != nil {
		return nil, err
	}
	mode := serial.Mode{
		BaudRate: t.Speed,
		DataBits: framing.DataBits,
		Parity:   parities[framing.Parity],
		StopBits: stopBits[framing.StopBits],
	}
	about := Port{Path: t.Address}
	if real, err := filepath.EvalSymlinks(t.Address); err == nil {
		about.Path = real
	}
	describe(&about)
	port, restore, err := openPort(t, &mode)
	if err != nil {
		return nil, serialError(t, err)
	}
	return &serialLine{
		about: about, restore: restore,
		stream: newStream(t, port, c, func(err error) error {
			return &Error{
				Target: t,
				Reason: ErrUnplugged,
				Cause:  err,
				Remedy: "check the cable and the adapter; the line is tried again until it is back",
			}
		}),
		port: port, mode: mode,
	}, nil
}

// openPort opens the port and sets what the serial package leaves alone: flow control, and the adapter's
// latency. Restore puts the latter back.
func openPort(t Target, mode *serial.Mode) (port serial.Port, restore func(), err error) {
	set, restore, err := prepare(t)
	if err != nil {
		return nil, nil, err
	}
	port, err = serial.Open(t.Address, mode)
	if err == nil {
		if err = set(); err != nil {
			_ = port.Close()
		}
	}
	if err != nil {
		restore()
		return nil, nil, err
	}
	return port, restore, nil
}

// Close implements Line.
func (l *serialLine) Close() error {
	l.restoring.Do(l.restore)
	return l.stream.Close()
}

// Port implements Finder.
func (l *serialLine) Port() Port { return l.about }

// Latency implements Latent.
func (l *serialLine) Latency() time.Duration { return latencyOf(l.about.Path) }

func (l *serialLine) Speed() int {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.mode.BaudRate
}

// SetSpeed lets what was written before leave at the old speed, then changes it.
func (l *serialLine) SetSpeed(ctx context.Context, baud int) error {
	drained := make(chan error, 1)
	go func() { drained <- l.port.Drain() }()
	limit := time.NewTimer(drainLimit)
	defer limit.Stop()
	select {
	case <-drained:
	case <-limit.C:
	case <-ctx.Done():
		return ctx.Err()
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	mode := l.mode
	mode.BaudRate = baud
	if err := l.port.SetMode(&mode); err != nil {
		return &Error{Target: l.target, Cause: err, Remedy: fmt.Sprintf("this port does not take %d baud", baud)}
	}
	l.mode = mode
	return nil
}

func (l *serialLine) SendBreak(ctx context.Context) error {
	sent := make(chan error, 1)
	go func() { sent <- l.port.Break(breakLength) }()
	select {
	case err := <-sent:
		return err
	case <-ctx.Done():
		return ctx.Err()
	}
}

// Signals implements Signaller. A pseudo-terminal has none.
func (l *serialLine) Signals() (s Signals, known bool) {
	bits, err := l.port.GetModemStatusBits()
	if err != nil {
		return s, false
	}
	return Signals{CTS: bits.CTS, DSR: bits.DSR, DCD: bits.DCD, RI: bits.RI}, true
}

func (l *serialLine) SetDTR(on bool) error { return l.port.SetDTR(on) }
func (l *serialLine) SetRTS(on bool) error { return l.port.SetRTS(on) }

// serialError says in words why a port did not open.
func serialError(t Target, err error) error {
	e := &Error{Target: t, Cause: err}
	var port *serial.PortError
	code := serial.PortErrorCode(-1)
	if errors.As(err, &port) {
		code = port.Code()
	}
	switch {
	case code == serial.PortNotFound, errors.Is(err, os.ErrNotExist):
		e.Reason, e.Remedy = ErrNoSuch, portsRemedy()
	case code == serial.PermissionDenied, errors.Is(err, os.ErrPermission):
		e.Reason, e.Remedy = ErrPermission, permissionRemedy(t.Address)
	case code == serial.PortBusy:
		e.Reason, e.Remedy = ErrInUse, "by a process that this user may not see; close the other program, or look as root with fuser "+t.Address
	case code == serial.InvalidSerialPort:
		e.Remedy = "this is not a serial port, or its driver does not take the setting " + t.Framing
	case code == serial.InvalidSpeed:
		e.Remedy = fmt.Sprintf("this port does not take %d baud", t.Speed)
	}
	return e
}

func portsRemedy() string {
	ports, err := Ports()
	if err != nil || len(ports) == 0 {
		return "there is no serial port on this machine; is the adapter plugged in?"
	}
	names := make([]string, len(ports))
	for i, p := range ports {
		names[i] = p.String()
	}
	return "there are " + strings.Join(names, ", ")
}
