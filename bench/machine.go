package bench

import (
	"context"
	"fmt"
	"net"
	"os"
	"path/filepath"
	"sync"
	"time"

	"pilotrix/core/clock"
	"pilotrix/core/line"
)

// Device is what a family implements. PowerOn runs from the moment it gets power until ctx ends,
// which is when it loses it; what it keeps, it keeps in itself.
type Device interface {
	// Baud is what its line is set to when it gets power.
	Baud() int
	PowerOn(ctx context.Context, w *Wire)
}

// Machine is a device with its power and its cable.
type Machine struct {
	Name   string
	device Device
	clock  clock.Clock
	memory bool

	mu     sync.Mutex
	host   Host
	wire   *Wire
	cancel context.CancelFunc
	off    chan struct{}
	cable  context.CancelFunc
	quirks *quirks

	sessions *sessionHost // where it is reached by sessions instead of a console
	listener net.Listener
	console  bool // beside sessions
	extra    Host
}

// Be makes the device and its line awkward, before it is started; the seed decides what happens when.
func (m *Machine) Be(a Awkward, seed uint64) { m.quirks = newQuirks(a, seed) }

// New makes a machine without power. In memory, its line stays inside the process.
func New(name string, device Device, c clock.Clock, memory bool) *Machine {
	return &Machine{Name: name, device: device, clock: c, memory: memory}
}

// Sticks is what a device with a port for a memory stick has besides.
type Sticks interface{ PlugStick(files ...File) error }

// Stick puts the files of a folder into the device's port, on a stick.
func (m *Machine) Stick(folder string) error {
	device, has := m.device.(Sticks)
	if !has {
		return fmt.Errorf("%s has no port for a stick", m.Name)
	}
	entries, err := os.ReadDir(folder)
	if err != nil {
		return fmt.Errorf("the stick: %w", err)
	}
	var files []File
	for _, entry := range entries {
		if !entry.Type().IsRegular() {
			continue
		}
		data, err := os.ReadFile(filepath.Join(folder, entry.Name()))
		if err != nil {
			return fmt.Errorf("the stick: %w", err)
		}
		files = append(files, File{Name: entry.Name(), Data: data})
	}
	return device.PlugStick(files...)
}

// Buttons is what a device with a button has besides. It is looked at when the power comes, and let go of by the hand
// that sees the light blink.
type Buttons interface{ Hold(pressed bool) }

// HasButton reports whether there is one.
func (m *Machine) HasButton() bool {
	_, has := m.device.(Buttons)
	return has
}

// PressButton takes the power away, holds the button, and gives power.
func (m *Machine) PressButton() {
	if device, has := m.device.(Buttons); has {
		m.PowerOff()
		device.Hold(true)
		m.PowerOn()
	}
}

// Baud is the speed of its console.
func (m *Machine) Baud() int { return m.device.Baud() }

// Path is the file that a program opens to reach the machine's line.
func (m *Machine) Path() string {
	return filepath.Join(os.TempDir(), fmt.Sprintf("pilotrix-bench-%d", os.Getpid()), m.Name)
}

// Start plugs the cable in and gives power. A device that has been running for long is up when it returns.
func (m *Machine) Start() error {
	if err := m.Plug(); err != nil {
		return err
	}
	device, has := m.device.(interface{ IsWarm() bool })
	waits := has && device.IsWarm() && m.sessions != nil
	m.PowerOn()
	if waits {
		m.answersWarm()
	}
	return nil
}

// Plug connects the cable.
func (m *Machine) Plug() error {
	m.mu.Lock()
	defer m.mu.Unlock()
	if m.host != nil {
		return nil
	}
	if err := m.listens(); err != nil {
		return err
	}
	switch {
	case m.sessions != nil:
		m.host = m.sessions
	case m.memory:
		m.host = newMemoryHost()
	default:
		host, err := newPtyHost(m.Path())
		if err != nil {
			return err
		}
		m.host = host
	}
	ctx, cancel := context.WithCancel(context.Background())
	m.cable = cancel
	if m.wire == nil {
		m.wire = newWire(m.host, m.device.Baud(), m.clock)
		m.wire.setQuirks(m.quirks)
		if m.sessions != nil {
			m.wire.baud, m.wire.fixed = sessionBaud, true
			m.sessions.came = m.wire.knock
		}
	} else {
		m.wire.setHost(m.host)
	}
	go m.wire.listen(ctx, m.host)
	return m.plugConsole(ctx)
}

// Unplug pulls the cable; the device stays on.
func (m *Machine) Unplug() {
	m.mu.Lock()
	defer m.mu.Unlock()
	if m.host == nil {
		return
	}
	m.cable()
	m.unplugConsole()
	_ = m.host.Close()
	m.wire.setHost(nil)
	m.host = nil
}

// PowerOn gives power.
func (m *Machine) PowerOn() {
	m.mu.Lock()
	defer m.mu.Unlock()
	if m.cancel != nil {
		return
	}
	ctx, cancel := context.WithCancel(context.Background())
	off := make(chan struct{})
	m.cancel, m.off = cancel, off
	m.wire.Retune(m.device.Baud())
	m.wire.Forget()
	go func() {
		defer close(off)
		m.device.PowerOn(ctx, m.wire)
	}()
}

// PowerOff takes power away and returns when the device is dead.
func (m *Machine) PowerOff() {
	m.mu.Lock()
	cancel, off := m.cancel, m.off
	m.cancel = nil
	m.mu.Unlock()
	if cancel != nil {
		cancel()
		<-off
	}
}

// PowerCut takes power away for that long. It does not wait.
func (m *Machine) PowerCut(length time.Duration) {
	go func() {
		m.PowerOff()
		_ = m.clock.Wait(context.Background(), length)
		m.PowerOn()
	}()
}

// Wire is the device's end of the line, to put faults on.
func (m *Machine) Wire() *Wire { return m.wire }

// Stop ends everything.
func (m *Machine) Stop() {
	m.PowerOff()
	m.Unplug()
	if m.listener != nil {
		_ = m.listener.Close()
	}
	if !m.memory {
		_ = os.Remove(filepath.Dir(m.Path()))
	}
}

// Open is the program's side: through the pseudo-terminal like any serial port, or in memory.
func (m *Machine) Open(ctx context.Context, opener *line.Opener, t line.Target) (line.Line, error) {
	m.mu.Lock()
	host := m.host
	m.mu.Unlock()
	if memory, ok := host.(*memoryHost); ok {
		return memory.open(t, m.clock), nil
	}
	if _, only := m.device.(ShellOnly); only && host != nil {
		return m.openShell(ctx, t, m.clock)
	}
	if host == nil {
		return nil, &line.Error{Target: t, Reason: line.ErrNoSuch, Remedy: "its cable is unplugged"}
	}
	t.Kind, t.Address = line.Serial, m.Path()
	return opener.Open(ctx, t)
}
