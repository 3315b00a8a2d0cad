package bench

import (
	"context"
	"errors"
)

// A device that is reached by sessions may have its console in reach as well. It shows there what it writes while nobody is
// in a session (its start, its login), and takes there what is typed then; a session that is open has the device to itself.

// ConsoleBeside has the machine's console at its Path beside its sessions. It is called before the machine is started.
func (m *Machine) ConsoleBeside() { m.console = true }

// plugConsole connects the console beside the sessions. The caller holds mu.
func (m *Machine) plugConsole(ctx context.Context) error {
	if !m.console || m.sessions == nil {
		return nil
	}
	host, err := newPtyHost(m.Path())
	if err != nil {
		return err
	}
	m.beside = host
	m.wire.setBeside(host, m.device.Baud())
	go m.wire.listenBeside(ctx, host)
	return nil
}

func (m *Machine) unplugConsole() {
	if m.beside != nil {
		m.wire.setBeside(nil, 0)
		_ = m.beside.Close()
		m.beside = nil
	}
}

func (w *Wire) setBeside(host Host, baud int) {
	w.mu.Lock()
	w.beside, w.besideBaud = host, baud
	w.mu.Unlock()
}

// inSession reports whether somebody is in a session.
func (w *Wire) inSession() bool {
	h, is := w.currentHost().(*sessionHost)
	if !is {
		return false
	}
	h.mu.Lock()
	defer h.mu.Unlock()
	return h.conn != nil
}

// emitBeside shows on the console what no session sees.
func (w *Wire) emitBeside(piece []byte) {
	w.mu.Lock()
	host, baud := w.beside, w.besideBaud
	w.mu.Unlock()
	if host != nil && !w.inSession() {
		_, _ = host.Write(resample(append([]byte(nil), piece...), baud, host.Speed()))
	}
}

// listenBeside brings what is typed on the console to the device while nobody is in a session.
func (w *Wire) listenBeside(ctx context.Context, host Host) {
	buffer := make([]byte, 256)
	for ctx.Err() == nil {
		n, err := host.Read(buffer)
		if errors.Is(err, errNobody) {
			_ = w.clock.Wait(ctx, w.clockTime(nobodyEvery))
			continue
		}
		if err != nil {
			return
		}
		if !w.inSession() {
			w.mu.Lock()
			baud := w.besideBaud
			w.mu.Unlock()
			w.deliver(ctx, resample(append([]byte(nil), buffer[:n]...), host.Speed(), baud))
		}
	}
}
