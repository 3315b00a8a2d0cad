package bench

import (
	"context"
	"errors"
)

// A device that is reached by sessions may have its console in reach as well. It shows there what it writes while
// nobody is in a session (its start, its login), and takes there what is typed then; a session that is open has the
// device to itself.

// ConsoleExtra has the machine's console at its Path beside its sessions. It is called before the machine is started.
func (m *Machine) ConsoleExtra() { m.console = true }

// plugConsole connects the console beside the sessions. The caller holds mu.
func (m *Machine) plugConsole(ctx context.Context) error {
	if !m.console || m.sessions == nil {
		return nil
	}
	host, err := newPtyHost(m.Path())
	if err != nil {
		return err
	}
	m.extra = host
	m.wire.setExtra(host, m.device.Baud())
	go m.wire.listenExtra(ctx, host)
	return nil
}

func (m *Machine) unplugConsole() {
	if m.extra != nil {
		m.wire.setExtra(nil, 0)
		_ = m.extra.Close()
		m.extra = nil
	}
}

func (w *Wire) setExtra(host Host, baud int) {
	w.mu.Lock()
	w.beside, w.extraBaud = host, baud
	w.mu.Unlock()
}

// inSession reports whether somebody is in a session.
func (w *Wire) inSession() bool {
	h, ok := w.currentHost().(*sessionHost)
	if !ok {
		return false
	}
	h.mu.Lock()
	defer h.mu.Unlock()
	return h.conn != nil
}

// emitExtra shows on the console what no session sees.
func (w *Wire) emitExtra(piece []byte) {
	w.mu.Lock()
	host, baud := w.beside, w.extraBaud
	w.mu.Unlock()
	if host != nil && !w.inSession() {
		_, _ = host.Write(resample(append([]byte(nil), piece...), baud, host.Speed()))
	}
}

// listenExtra brings what is typed on the console to the device while nobody is in a session.
func (w *Wire) listenExtra(ctx context.Context, host Host) {
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
			baud := w.extraBaud
			w.mu.Unlock()
			w.deliver(ctx, resample(append([]byte(nil), buffer[:n]...), host.Speed(), baud))
		}
	}
}
